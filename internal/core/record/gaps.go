package record

import (
	"fmt"
	"strings"
)

// GapKind says in what way something is not known.
type GapKind string

const (
	LeftOut   GapKind = "left-out"         // it is there and was not taken: present, not ours
	NoRecord  GapKind = "no-record"        // a row that stands for nobody: a total, the header once more
	Hidden    GapKind = "hidden"           // it is said or suspected to be there, and does not show
	Elsewhere GapKind = "elsewhere"        // a part of the scope that another server holds
	Deletions GapKind = "deletions-unseen" // who was deleted since a day can't be seen in this reading
)

// Gap is something that a roster does not know, beside the records that could
// not be read. ID is set where it is known whose record is meant.
type Gap struct {
	Kind   GapKind `json:"kind"`
	ID     string  `json:"id,omitempty"`
	Reason string  `json:"reason"`
	What   string  `json:"what,omitempty"` // an id, a DN, a line, a number of users
}

// Hides reports whether records may be behind the gap that nobody knows of.
func (g Gap) Hides() bool { return g.Kind != NoRecord && g.Kind != Deletions }

// Gaps lists what the roster does not know, beside Rejected.
func (r *Roster) Gaps() []Gap { return r.gaps }

// Doubt says why somebody who is not in the roster may be there all the same,
// "" when nobody can: it is asked before anything is concluded from an absence
// or a name is called free. Records that are known by their id alone hide
// nobody else once tied tells that their owner is certain.
// What is people or accounts.
func (r *Roster) Doubt(what string, tied func(row int) bool) string {
	faceless, loose, out := 0, 0, 0
	for _, rej := range r.Rejected {
		if rej.ID == "" || rej.Swallows {
			faceless++
		}
	}
	for row := range r.unread {
		if !tied(row) {
			loose++
		}
	}
	for row, g := range r.left {
		if g.Hides() && !tied(row) {
			out++
		}
	}
	var words []string
	say := func(n int, one, many string) {
		if n == 1 {
			words = append(words, one)
		} else if n > 1 {
			words = append(words, fmt.Sprintf("%d %s", n, many))
		}
	}
	one := map[string]string{"people": "a person", "accounts": "an account"}[what]
	say(faceless, "a row of the "+what+" could not be read, nor whose it is", "rows of the "+what+" could not be read, nor whose they are")
	say(loose, one+" could not be read", what+" could not be read")
	say(out, one+" was left out", what+" were left out")
	met := map[string]bool{}
	for _, g := range r.gaps {
		if g.ID == "" && g.Hides() && !met[g.Reason] {
			met[g.Reason] = true
			words = append(words, what+": "+strings.TrimSpace(g.What+" "+g.Reason))
		}
	}
	return strings.Join(words, "; ")
}

// DeletionsUnseen says since when deletions can't be seen, "" when they can.
func (r *Roster) DeletionsUnseen() string {
	for _, g := range r.gaps {
		if g.Kind == Deletions {
			return g.What
		}
	}
	return ""
}

// Present reports why row i is there and not understood: unreadable, or left
// out.
func (r *Roster) Present(i int) (reason string, unknown bool) {
	if rej, ok := r.Unread(i); ok {
		return rej.Reason, true
	}
	if g, ok := r.left[i]; ok {
		return g.Reason, true
	}
	return "", false
}

// Left tells of row i whether it was left out, and why.
func (r *Roster) Left(i int) (Gap, bool) {
	g, ok := r.left[i]
	return g, ok
}

// LeaveOut notes a gap. With an id it stays in the roster as a row without
// values: present, and not ours.
func (b *Builder) LeaveOut(g Gap) error {
	b.r.gaps = append(b.r.gaps, g)
	if g.ID == "" {
		return nil
	}
	b.r.left[b.r.n] = g
	return b.appendBlank(0, g.ID)
}
