package reconcile

import (
	"fmt"

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
