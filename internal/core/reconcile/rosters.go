package reconcile

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"twinning/internal/core/calendar"
	"twinning/internal/core/finding"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// checkRosters compares both rosters with the last ones, and says what may not
// be concluded from them.
func (r *run) checkRosters() {
	next := &r.out.Memory
	next.Counts, next.Filled = maps.Clone(r.Memory.Counts), maps.Clone(r.Memory.Filled)
	if next.Counts == nil {
		next.Counts, next.Filled = map[string]int{}, map[string]float64{}
		r.out.Notes = append(r.out.Notes, "no former roster is known: a shrunken roster or an emptied column can't be told")
	}
	for _, side := range []string{"people", "accounts"} {
		roster := map[string]*record.Roster{"people": r.People, "accounts": r.Accounts}[side]
		r.checkShrunk(side, roster)
		r.checkCoverage(side, roster)
		r.rejections(side, roster)
	}
	r.askGaps()
	r.ages()
}

// soon is for how many days before it runs out a secret is told.
const soon = 30

// ages tells of what is old, and of what will not work for long.
func (r *run) ages() {
	for _, side := range []string{"people", "accounts"} {
		at, known := r.Taken[side]
		if !known {
			continue
		}
		day := calendar.Day(at, r.Charter.Zone)
		if days, ok := calendar.Between(day, r.today); ok && days > r.Charter.Age {
			r.report("roster-old", -1, -1, side, "the roster of the %s is of %s, %d days ago; %d are allowed", side, day, days, r.Charter.Age)
		}
	}
	for _, system := range slices.Sorted(maps.Keys(r.Secrets)) {
		switch until := r.Secrets[system]; {
		case until < r.today:
			r.report("secret-expiring", -1, -1, system, "the secret of %s ran out on %s", system, until)
		case until <= calendar.Add(r.today, soon):
			r.report("secret-expiring", -1, -1, system, "the secret of %s runs out on %s", system, until)
		}
	}
}

// askGaps asks what the rosters do not know, once, for all that is concluded from
// an absence.
func (r *run) askGaps() {
	twinnedPerson := func(row int) bool { return r.out.Pairing.PersonState[row] == pairing.Twinned }
	twinnedAccount := func(row int) bool { return r.out.Pairing.AccountState[row] == pairing.Twinned }
	always := func(int) bool { return true }
	// what may be anybody on one side may be what decides about the other: the
	// twin of an orphan, or who tells a newcomer from somebody listed twice
	r.noAbsent = cmp.Or(r.People.Doubt("people", twinnedPerson), r.Accounts.Doubt("accounts", always))
	r.noCreate = cmp.Or(r.Accounts.Doubt("accounts", twinnedAccount), r.People.Doubt("people", always), r.unseenDeletions(), r.noKeys)
	r.noLetters = r.People.Doubt("people", named(r.People))
	r.noNames = cmp.Or(r.unreadNames(), r.Accounts.Doubt("accounts", named(r.Accounts)), r.sharedDoubt())
}

// named tells of a roster's rows that could not be read whether all their names are known.
func named(x *record.Roster) func(row int) bool {
	return func(row int) bool {
		rej, unread := x.Unread(row)
		return unread && rej.Named
	}
}

// sharedDoubt says why names of the systems that share theirs are not all known.
func (r *run) sharedDoubt() string {
	for _, x := range r.Shared {
		if why := x.Accounts.Doubt("accounts", named(x.Accounts)); why != "" {
			return fmt.Sprintf("%s shares its names, and %s there", x.System, why)
		}
	}
	return r.Unshared
}

// presumed is how long somebody is taken to be still there whose deletion the
// system would not show.
const presumed = 24 * time.Hour

func (r *run) unseenDeletions() string {
	since, err := time.Parse(time.RFC3339, r.People.DeletionsUnseen())
	if err != nil || r.Now.Sub(since) <= presumed {
		return ""
	}
	return fmt.Sprintf("people who were deleted since %s can't be seen in a reading of changes; take a whole roster", since.In(r.Charter.Zone).Format(time.DateTime))
}

func (r *run) checkShrunk(side string, roster *record.Roster) {
	before, now := r.Memory.Counts[side], roster.Len()
	allowed := int(r.Charter.Drop * float64(before))
	if before-now <= allowed {
		r.out.Memory.Counts[side] = now
		return
	}
	f := r.find("roster-shrunk", -1, -1, fmt.Sprintf("%s %d", side, now), "%d %s where there were %d: %d fewer, %d allowed", now, side, before, before-now, allowed)
	r.out.Findings = append(r.out.Findings, f)
	if f.Accepted {
		r.out.Memory.Counts[side] = now
		return
	}
	r.out.Guards = append(r.out.Guards, planning.Reading{Verb: "roster-drop", Count: before - now, Allowed: allowed, Denominator: before, Of: side, Tripped: true, Message: f.Detail + "; " + r.wholeOrAccept(f)})
}

// wholeOrAccept is what can be done about a list that looks cut short.
func (r *run) wholeOrAccept(f finding.Finding) string {
	return fmt.Sprintf("take the list again when it is whole, or, if it is: twinning finding accept %s %s", r.Charter.Lane, f.ID)
}

// fewRecords is the size below which a share of blank cells says nothing.
const fewRecords = 10

func (r *run) checkCoverage(side string, roster *record.Roster) {
	people, accounts := r.Charter.Needs()
	wanted := map[string][]string{"people": people, "accounts": accounts}[side]
	for _, name := range wanted {
		column := roster.Column(name)
		key := side + "." + name
		before, known := r.Memory.Filled[key]
		if column == nil && !known || name == "emails" {
			continue
		}
		filled := 0
		for i := range roster.Len() {
			if column.Cell(i) != "" {
				filled++
			}
		}
		now := float64(filled) / float64(max(roster.Len(), 1))
		// those who carried it before and are still here: who came since empties no
		// cell, and who left is another guard's to count
		formerly, gone := r.Memory.Counts[side], max(0, r.Memory.Counts[side]-roster.Len())
		carried := math.Round(before * float64(formerly))
		emptied := (carried - float64(filled) - float64(gone)) / max(carried, 1)
		if roster.Len() < fewRecords || before == 0 || emptied <= r.Charter.Coverage {
			r.out.Memory.Filled[key] = now
			continue
		}
		f := r.find("coverage-drop", -1, -1, fmt.Sprintf("%s %.0f %%", key, 100*now), "%s is filled on %.0f %% of %s, where it was %.0f %%", name, 100*now, side, 100*before)
		r.out.Findings = append(r.out.Findings, f)
		if f.Accepted {
			r.out.Memory.Filled[key] = now
			continue
		}
		r.out.Guards = append(r.out.Guards, planning.Reading{Verb: "coverage-drop", Count: int(100 * emptied), Allowed: int(100 * r.Charter.Coverage), Denominator: 100, Of: "percent of " + key, Tripped: true, Message: f.Detail + "; " + r.wholeOrAccept(f)})
	}
}

// rejections reports every unreadable record, and what was left out and may hide
// somebody.
func (r *run) rejections(side string, roster *record.Roster) {
	for _, rej := range roster.Rejected {
		where := ""
		if rej.Line > 0 {
			where = fmt.Sprintf("line %d", rej.Line)
		}
		if rej.Column != "" {
			where += ", column " + rej.Column
		}
		detail := strings.TrimPrefix(where+": "+rej.Reason, ": ")
		switch {
		case rej.Swallows:
			detail += " (so nobody is created, no name is given out and nothing is concluded from an absence)"
		case rej.ID == "":
			detail += " (no id either, so nobody is created, no name is given out and nothing is concluded from an absence)"
		}
		person, account := rej.ID, ""
		if side == "accounts" {
			person, account = "", rej.ID
		}
		subject := side
		if rej.ID == "" { // nothing else tells it from others
			subject = fmt.Sprintf("%s line %d: %s", side, rej.Line, rej.Reason)
		}
		f := finding.New("row-rejected", person, account, subject, side+" "+detail)
		f.Accepted = r.Memory.accepts(f.ID, r.today)
		r.out.Findings = append(r.out.Findings, f)
	}
	for _, b := range roster.Broken() {
		person, detail := "", fmt.Sprintf("%s: %s refers by %s, which no record carries", side, b.Attribute, b.Value)
		if b.Row >= 0 {
			person, detail = roster.ID(int(b.Row)), fmt.Sprintf("%s refers to %q, which is no record of the %s", b.Attribute, b.Value, side)
		}
		account := ""
		if side == "accounts" {
			person, account = "", person
		}
		f := finding.New("reference-broken", person, account, side+" "+b.Attribute, detail)
		f.Accepted = r.Memory.accepts(f.ID, r.today)
		r.out.Findings = append(r.out.Findings, f)
	}
	met := map[string]bool{}
	for _, g := range roster.Gaps() {
		if !g.Hides() || g.ID != "" || met[g.Reason] {
			continue
		}
		met[g.Reason] = true
		f := finding.New("not-shown", "", "", side+" "+g.Reason, side+": "+strings.TrimSpace(g.What+" "+g.Reason)+" (so nobody is created, no name is given out and nothing is concluded from an absence)")
		f.Accepted = r.Memory.accepts(f.ID, r.today)
		r.out.Findings = append(r.out.Findings, f)
	}
}
