package reconcile

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"twinning/internal/core/charter"
	"twinning/internal/core/naming"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// differ holds one attribute of an account against what it should hold: what comes of it is
// an edit, a name to ask for, a finding, or nothing. An attribute that is not read is not
// known to differ; see unreadAttributes.
func (w *walker) differ(r *rule, p, a int) {
	if r.target == nil {
		return
	}
	now := r.target.Cell(a)
	halfway := r.named && standsBetween(now)
	if halfway && r.Rule == charter.Once {
		w.leadOut(r, p, a, now, nil)
		return
	}
	if r.Rule == charter.Once && (r.named || r.fixed != "") || r.mark && w.Charter.Intent == "add" {
		return
	}
	x := w.want(r, p, a, now)
	if x.open != "" { // what is not read of anybody is told once, see unread
		w.several(r.Attribute, r.reads, p, a)
		return
	}
	if halfway {
		w.leadOut(r, p, a, now, w.usable(r, p, a, x))
		return
	}
	if !r.kind.Multi() && w.severalIn(r.Attribute, a) { // also where the first of them is the wanted one
		return
	}
	if r.refers && x.fault != "" || w.settled(r, p, a, x, now) {
		return
	}
	if r.named {
		if x.names = w.usable(r, p, a, x); len(x.names) == 0 {
			return
		}
		x.cell = x.names[0]
	}
	if !r.kind.Multi() && w.several(r.Attribute, r.reads, p, a) {
		return
	}
	if x.cell == "" && (!r.Clear || r.Rule != charter.Own) {
		if r.Required {
			w.note("required-missing", p, a, r.Attribute, "%s can't be computed for this person", r.Attribute)
		}
		return
	}
	if r.Rule == charter.Upstream {
		w.note("locked-attribute", p, a, r.Attribute, "%s is %q, and %q where it is mastered; it is never written here", r.called(), record.PlainList(now), record.PlainList(x.cell))
		return
	}
	if r.Rule == charter.Watch {
		w.note("drift", p, a, r.Attribute, "%s is %q, should be %q (watched, never written)", r.called(), record.PlainList(now), record.PlainList(x.cell))
		return
	}
	if r.Rule == charter.Once || r.Rule == charter.Fill && now != "" || w.Charter.Intent == "add" {
		return
	}
	if r.mark && now != "" {
		w.note("mark-foreign", p, a, "", "%s holds %q, ours would be %q; it is never overwritten", r.Attribute, now, x.cell)
		return
	}
	if w.tooLong(r, p, a, x.cell) {
		return
	}
	if how := record.Damaged(x.cell, now); how != "" && !r.kind.Multi() && r.Attribute != "email" {
		w.note("value-damaged", p, a, r.Attribute, "%s is %q, and %q looks like the same with something lost (%s); it is not written", r.Attribute, record.PlainList(now), record.PlainList(x.cell), how)
		return
	}
	if r.mark && w.markHeld(planning.Mark, p, a) || !w.kept(r.kind, p, a, r.Attribute, x.cell, now) {
		return
	}
	w.write(r, p, a, x, now)
}

// tooLong tells of a value, or of one of a list, that the downstream would not take whole.
func (w *walker) tooLong(r *rule, p, a int, cell string) (long bool) {
	if r.Longest == 0 {
		return false
	}
	record.EachValue(cell, func(v string) {
		if n := utf8.RuneCountInString(v); n > r.Longest && !long {
			long = true
			w.note("value-too-long", p, a, r.Attribute, "%q has %d letters, %s takes %d; it is not written", v, n, r.Attribute, r.Longest)
		}
	})
	return long
}

// settled: the account holds what it should, or may hold something else.
func (w *walker) settled(r *rule, p, a int, x want, now string) bool {
	if !r.named {
		return x.cell == now || r.mark && x.cell == "" || w.same(r.kind, x.cell, now)
	}
	isSo := slices.ContainsFunc(x.names, func(c string) bool { return w.same(r.kind, c, now) })
	isSo = isSo || r.Rule == charter.Fill && now != ""
	if isSo && now != "" && r.name == naming.Primary && !w.class.Emails.MayBePrimary(now) {
		w.note("domain-foreign", p, a, "email", "the primary address %q is in a domain that takes none here", now)
	}
	return isSo
}

// called is what people call the attribute.
func (r *rule) called() string { return called(r.Attribute) }

func called(attribute string) string {
	if attribute == "email" {
		return "the primary address"
	}
	return attribute
}

// write drafts that the attribute is given what it should hold.
func (w *walker) write(r *rule, p, a int, x want, now string) {
	verb := planning.Mark
	if !r.mark {
		verb = planning.VerbOf(r.Attribute, x.cell)
	}
	if verb == planning.Rename && w.guess(p, a, "renamed") {
		return
	}
	if r.named {
		d := w.begun(verb, p, a)
		w.restOnValue(d, r, p, a, x)
		w.ask(d, r.Attribute, r.reason, naming.Request{Owner: d.owner(), Account: a, Candidates: x.names, Attribute: r.name, Frees: now})
		return
	}
	w.edit(verb, p, a, planning.Edit{Attribute: r.Attribute, Old: now, New: x.cell, Reason: r.reason})
	w.restOnValue(w.drafted(verb, p, a), r, p, a, x)
}

// restOnValue notes what a value that is written was computed from.
func (w *walker) restOnValue(d *draft, r *rule, p, a int, x want) {
	w.rest(d, p, a, r.values...)
	if r.refers && x.cell != "" && x.refers != "" {
		w.restOn(d, x.refers)
	}
}

// edit adds to the draft of a verb that was begun for the account, or begins one.
func (w *walker) edit(verb string, p, a int, e planning.Edit) {
	d := w.begun(verb, p, a)
	d.Edits = append(d.Edits, e)
}

// begun is the account's draft of a verb, which is begun where there is none.
func (w *walker) begun(verb string, p, a int) *draft {
	if d := w.drafted(verb, p, a); d != nil {
		return d
	}
	return w.draft(verb, p, a)
}

// MaxRounds is how often a value is written that the downstream alters.
const MaxRounds = 2

// kept reports whether writing the value again makes sense: after two rounds
// in which the downstream altered it we stop.
func (w *walker) kept(kind record.Kind, p, a int, attribute, want, now string) bool {
	sent, ok := w.Memory.Written[w.Accounts.ID(a)][attribute]
	if !ok || !w.same(kind, sent.Value, want) {
		return true
	}
	if sent.Rounds >= MaxRounds {
		w.note("not-kept", p, a, attribute, "%s was written %d times as %q, the downstream shows %q", attribute, sent.Rounds, record.PlainList(want), record.PlainList(now))
		return false
	}
	w.note("drift", p, a, attribute, "%s was written as %q and is now %q", attribute, record.PlainList(want), record.PlainList(now))
	return true
}

// several tells of values beside those that a rule would look at; what they are
// is not written.
func (w *walker) several(attribute string, reads []string, p, a int) bool {
	for _, name := range reads {
		if others := w.People.Several(p, name); len(others) > 0 {
			w.note("several-values", p, -1, name, "%s is %q, and also %s", name, w.People.Column(name).Cell(p), quoted(others))
			return true
		}
	}
	return a >= 0 && w.severalIn(attribute, a)
}

// severalIn tells of several values of an account's attribute that should have one.
func (w *walker) severalIn(attribute string, a int) bool {
	if others := w.Accounts.Several(a, attribute); len(others) > 0 {
		w.note("several-values", -1, a, attribute, "%s is %q, and also %s", attribute, w.Accounts.Column(attribute).Cell(a), quoted(others))
		return true
	}
	return false
}

func quoted(list []string) string {
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = fmt.Sprintf("%q", v)
	}
	return strings.Join(out, " and ")
}

// same compares two cells of a kind in normalised form.
func (w *walker) same(kind record.Kind, x, y string) bool {
	if x == y {
		return true
	}
	if kind.Multi() {
		return record.Same(kind, x, y)
	}
	w.left, w.right = record.AppendNormal(w.left[:0], kind, x), record.AppendNormal(w.right[:0], kind, y)
	return string(w.left) == string(w.right)
}
