package reconcile

import (
	"cmp"
	"fmt"
	"slices"

	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// What else somebody who has left hands over passes on as it stands: the values of lists, such
// as the groups that an account owns, and its place in what others refer to. It is given
// before it is taken away: nothing is nobody's.

// bequest is what else a leaver hands over to somebody, whose day has come.
type bequest struct {
	gone
	heir      heir
	intention planning.Intention
}

// holdsMore: an account has something else to hand over.
func (w *walker) holdsMore(a int) bool {
	for _, name := range w.handOver.Lists {
		if w.Accounts.Column(name).Cell(a) != "" {
			return true
		}
	}
	id := w.Accounts.ID(a)
	return slices.ContainsFunc(w.handOver.References, func(name string) bool { return len(w.referrers(name, id)) > 0 })
}

// referrers are the rows of the accounts of people of the lane that refer to one, and can be
// read.
func (d *desirer) referrers(attribute, id string) (rows []int) {
	for _, a := range d.handOver.refer[attribute][id] {
		if _, unread := d.Accounts.Present(a); !unread && d.out.Pairing.AccountState[a] == pairing.Twinned && d.Accounts.ID(a) != id {
			rows = append(rows, a)
		}
	}
	return rows
}

// passOn drafts what leavers hand over beside their addresses.
func (r *run) passOn(bequests []bequest) (drafts []*draft) {
	if len(bequests) == 0 {
		return nil
	}
	w := r.desirer().walker(&piece{})
	for _, name := range w.handOver.Lists {
		w.passOnList(name, bequests)
	}
	for _, name := range w.handOver.References {
		w.passOnReference(name, bequests)
	}
	r.out.Withheld = append(r.out.Withheld, w.withheld...)
	return w.drafts
}

// handed drafts a change of one attribute by a hand-over, apart from what else is written. It
// is of the unit of all that is handed over to somebody, and rests on them.
func (w *walker) handed(name string, p, a int, b bequest, e planning.Edit) *draft {
	d := w.draft(planning.Set, p, a, e)
	d.ID, d.Unit, d.HandsOver = planning.ChangeID(planning.Set+" "+name+" handed over", d.Person, d.Account), w.handOverUnit(b.heir), true
	w.bequeathed(d, b)
	return d
}

// bequeathed notes that a draft rests on a hand-over: that nobody has dropped it, what the
// charter says of it, and that its successor is who they were.
func (w *walker) bequeathed(d *draft, b bequest) {
	if w.Input.Premises {
		d.premise(planning.NotCancelled, b.intention.ID, "")
	}
	w.rest(d, b.p, b.a, w.handOver.to)
	w.restOn(d, w.personID(b.heir.p), "active")
	if b.p >= 0 {
		w.restOn(d, w.personID(b.p))
	}
}

func (w *walker) passOnList(name string, bequests []bequest) {
	column := w.Accounts.Column(name)
	given := map[int]*draft{} // by the account of who takes over
	for _, b := range bequests {
		had, to := column.Cell(b.a), b.heir.a
		if had == "" {
			continue
		}
		now := column.Cell(to)
		has := map[string]bool{}
		record.EachValue(now, func(v string) { has[record.Normal(record.List, v)] = true })
		more := slices.DeleteFunc(record.SplitList(had), func(v string) bool { return has[record.Normal(record.List, v)] })
		d := given[to]
		if d == nil && len(more) > 0 {
			d = w.handed(name, b.heir.p, to, b, planning.Edit{Attribute: name, Old: now, New: now, Reason: fmt.Sprintf("handed over by %s (%s)", w.calledAs(b.a), b.intention.Reason)})
			if active := w.active.Cell(to); active != "" {
				d.RestsOn = append(d.RestsOn, planning.Edit{Attribute: "active", Old: active, Reason: "who takes over can sign in"})
			}
			given[to], d.Inherits = d, true
			if d.Wave < 0 {
				w.withhold(planning.Set, b.p, b.a, fmt.Sprintf("no wave takes account %q, which takes over", w.accountID(to)))
			}
		}
		if d != nil && d.Wave < 0 {
			continue
		}
		if d != nil {
			w.bequeathed(d, b)
		}
		for _, v := range more {
			list := record.SplitList(d.Edits[0].New)
			if !slices.ContainsFunc(list, func(o string) bool { return record.Normal(record.List, o) == record.Normal(record.List, v) }) {
				d.Edits[0].New = record.JoinList(append(list, v))
			}
		}
		from := w.handed(name, b.p, b.a, b, planning.Edit{Attribute: name, Old: had, Reason: fmt.Sprintf("handed over to %s (%s)", w.calledAs(to), b.intention.Reason)})
		from.intention = b.intention.ID
		if d != nil && !w.Deferred { // a row of an upload says it all at once
			from.need(d.ID)
		}
	}
}

func (w *walker) passOnReference(name string, bequests []bequest) {
	for _, b := range bequests {
		id := w.accountID(b.a)
		for _, a := range w.referrers(name, id) {
			to := w.accountID(b.heir.a)
			if others := w.Accounts.Several(a, name); len(others) > 0 {
				w.withhold(planning.Set, int(w.out.Pairing.AccountTwin[a]), a, fmt.Sprintf("%s is %q, and also %s: which of them is handed over can't be told", name, w.Accounts.Column(name).Cell(a), quoted(others)))
				continue
			}
			if a == b.heir.a { // nobody refers to themselves: they follow whom the leaver did
				if to = w.Accounts.Column(name).Cell(b.a); to == w.accountID(a) {
					to = ""
				}
			}
			d := w.handed(name, int(w.out.Pairing.AccountTwin[a]), a, b, planning.Edit{Attribute: name, Old: id, New: to, Reason: fmt.Sprintf("%s has left, %s takes over (%s)", w.calledAs(b.a), w.calledAs(b.heir.a), b.intention.Reason)})
			d.Inherits = true
		}
	}
}

// calledAs is what people call an account.
func (w *walker) calledAs(a int) string {
	return cmp.Or(w.Accounts.Column("userName").Cell(a), w.accountID(a))
}
