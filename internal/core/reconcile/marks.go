package reconcile

import (
	"fmt"
	"slices"

	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// markValue is what somebody's account is known again by; open names the attribute by which
// that is undecided.
func (w *walker) markValue(p int) (value, open string) {
	if w.mark != nil {
		v := w.mark.Eval(p, -1)
		return v.Cell(), v.Undecided()
	}
	return w.personID(p), ""
}

// marked finds the account that carries a mark, -1 when none does. Two accounts of
// one mark could not be told apart when an answer is lost.
func (r *run) marked(value string) int {
	if value == "" || r.Input.Mark == "" {
		return -1
	}
	r.findMarks.Do(func() {
		r.marks = make(map[string]record.Row, r.Accounts.Len())
		for a := range r.Accounts.Len() {
			for _, cell := range r.Accounts.All(a, r.Input.Mark) {
				mark := record.Normal(record.Text, cell)
				if other, held := r.marks[mark]; !held || r.accountID(a) < r.accountID(int(other)) { // of two, always the same
					r.marks[mark] = record.Row(a)
				}
			}
		}
	})
	if a, ok := r.marks[record.Normal(record.Text, value)]; ok {
		return int(a)
	}
	return -1
}

// markHeld withholds what would give the person's mark to a second account: to
// their twin, or to a new one (-1), beside which the one that carries it is told.
func (w *walker) markHeld(verb string, p, twin int) bool {
	value, _ := w.markValue(p)
	holder := w.marked(value)
	if holder < 0 {
		return false
	}
	if twin < 0 {
		twin = holder
	}
	why := fmt.Sprintf("account %q carries the mark %q already; take it off there if the account is another human's", w.accountID(holder), value)
	w.withhold(verb, p, twin, why)
	w.note("mark-foreign", p, holder, "", "%s", why)
	return true
}

// markEdit is the mark that a draft gives.
func (d *draft) markEdit(attribute string) string {
	i := slices.IndexFunc(d.Edits, func(e planning.Edit) bool { return e.Attribute == attribute })
	return d.Edits[i].New
}

// heldBack are the marks that people will be given whose accounts are not changed for now: by
// mark, the person's row.
func (r *run) heldBack() map[string]int {
	held := map[string]int{}
	hold := func(p int) {
		a := -1
		if p >= 0 && r.out.Pairing.PersonState[p] == pairing.Twinned {
			a = int(r.out.Pairing.PersonTwin[p])
		}
		if a < 0 || r.Accounts.Column(r.Input.Mark).Cell(a) != "" {
			return
		}
		value := r.personID(p)
		if b := r.bind(r.Charter.Mark); b != nil {
			value = b.Eval(p, -1).Cell()
		}
		if mark := record.Normal(record.Text, value); mark != "" {
			held[mark] = p
		}
	}
	for p := range r.unclear {
		hold(p)
	}
	for a := range r.unclearAt {
		hold(int(r.out.Pairing.AccountTwin[a]))
	}
	return held
}

// oneMark withholds what would give one mark to several accounts in this plan: which of them is
// to have it is not ours to say, and an answer that is lost could not be looked up.
func (r *run) oneMark(drafts []*draft) []*draft {
	if r.Input.Mark == "" {
		return drafts
	}
	markOf := func(d *draft) string {
		if d.Verb != planning.Create && d.Verb != planning.Mark {
			return ""
		}
		i := slices.IndexFunc(d.Edits, func(e planning.Edit) bool { return e.Attribute == r.Input.Mark })
		if i < 0 {
			return ""
		}
		return record.Normal(record.Text, d.Edits[i].New)
	}
	wanted, again := map[string]*draft{}, map[string]bool{}
	for mark, p := range r.heldBack() {
		wanted[mark] = &draft{p: p, a: -1, Change: planning.Change{Person: r.personID(p), Edits: []planning.Edit{{Attribute: r.Input.Mark, New: mark}}}}
	}
	for _, d := range drafts {
		if mark := markOf(d); mark != "" {
			if first, met := wanted[mark]; met && first.owner() != d.owner() {
				again[mark] = true
			}
			wanted[mark] = d
		}
	}
	if len(again) == 0 {
		return drafts
	}
	left := map[string]bool{}
	for _, d := range drafts {
		if mark := markOf(d); again[mark] {
			left[d.ID] = true
			r.protect(d, "mark-foreign", "", fmt.Sprintf("several accounts would be given the mark %q, by which only one can be found again", wanted[mark].markEdit(r.Input.Mark)))
		}
	}
	return slices.DeleteFunc(drafts, func(d *draft) bool {
		return left[d.ID] || slices.ContainsFunc(d.Needs, func(need string) bool { return left[need] })
	})
}
