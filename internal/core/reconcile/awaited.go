package reconcile

import (
	"fmt"

	"twinning/internal/core/calendar"
	"twinning/internal/core/planning"
)

// Some accounts come about by themselves: another system makes them, or their owners do when
// they sign in. Others are made only once their owner has one elsewhere. Whoever has none yet
// is an intention with the day from which it is told that it takes too long.

// awaited is what somebody without an account waits for; false when they get one now.
func (w *walker) awaited(p int) (i planning.Intention, waits bool) {
	c := w.Charter
	if c.Appear == nil && c.After == nil {
		return i, false
	}
	i = planning.Intention{Verb: planning.Create, Person: w.personID(p), First: w.today}
	i.ID = planning.IntentionID(i.Verb, i.Person, "")
	if before, told := w.run.intended[i.ID]; told {
		i.First, i.Cancelled = before.First, before.Cancelled
	}
	days := 0
	switch {
	case c.Appear != nil:
		days, i.Waits, i.Reason = c.Appear.Days, "until it appears in "+c.In, fmt.Sprintf("accounts: appear-within (charter line %d)", c.Appear.Line)
	default:
		days, i.Reason = c.After.Days, fmt.Sprintf("after: %s (charter line %d)", c.After.Lane, c.After.Line)
		switch there, known := w.Lanes[c.After.Lane]; {
		case !known:
			i.Waits = fmt.Sprintf("until it is known who has an account in lane %s", c.After.Lane)
		case !there.Has(i.Person):
			i.Waits = fmt.Sprintf("until the person has an account in lane %s", c.After.Lane)
		}
	}
	i.Due = calendar.Add(i.First, days)
	return i, i.Waits != "" || i.Cancelled != ""
}

// await tells of somebody without an account what it waits for, and that it takes too long.
func (w *walker) await(p int, i planning.Intention) {
	w.intended = append(w.intended, i)
	switch {
	case i.Cancelled != "":
		w.withhold(planning.Create, p, -1, "cancelled: "+i.Cancelled)
	case i.Due <= w.today:
		w.note("missing-account", p, -1, "", "in scope, and without account since %s; it waits %s", i.First, i.Waits)
	}
}
