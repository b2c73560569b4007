package reconcile

import (
	"strings"

	"twinning/internal/core/charter"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// What a decision read, its changes rest on. The person's own record is a premise as a whole, by
// its digest; of accounts, other people's records and other lanes it is what expressions read.

// rest notes that a draft rests on what some expressions came to for a person and an account.
// What they read of other accounts must stay as it was, and these must stay whose they were.
func (w *walker) rest(d *draft, p, a int, expressions ...*charter.Bound) {
	if !w.Input.Premises {
		return
	}
	for _, b := range expressions {
		if b == nil || !b.Expr.ReadsAccounts() {
			continue // the person's digest says it all
		}
		others, lanes := b.Expr.ReadsOthers()
		if len(others)+len(lanes) == 0 {
			d.premise(planning.Condition, planning.ConditionKey(b.Expr.Path, w.personID(p), w.accountID(a)), b.Eval(p, a).Outcome())
			continue
		}
		if _, own := b.Expr.Reads(); a >= 0 {
			for _, name := range own {
				d.premise(planning.AccountValue, planning.ValueKey("", w.accountID(a), name), valueOf(w.Accounts, a, name))
			}
		}
		for _, id := range b.Others(p, a) {
			w.restOn(d, id, others...)
		}
		for lane, names := range lanes {
			there, known := w.Lanes[lane]
			if !known || p < 0 || there.Of == nil {
				continue
			}
			if row := there.Of(w.personID(p)); row >= 0 {
				for _, name := range names {
					d.premise(planning.AccountValue, planning.ValueKey(lane, there.Accounts.ID(row), name), valueOf(there.Accounts, row, name))
				}
			}
		}
	}
}

// restOn notes that a draft rests on another person: on their record as it was read, on whose
// account is theirs, and on what that holds.
func (w *walker) restOn(d *draft, person string, attributes ...string) {
	row, here := w.People.Find(person)
	if !w.Input.Premises || !here {
		return
	}
	d.premise(planning.PersonAsRead, strings.Clone(person), w.People.Version(row))
	if w.out.Pairing.PersonState[row] != pairing.Twinned {
		return
	}
	a := int(w.out.Pairing.PersonTwin[row])
	account := strings.Clone(w.accountID(a))
	d.premise(planning.Rulings, planning.PairKey(person, account), "")
	d.premise(planning.BondOf, account, planning.Unless(w.bondOf[account], person))
	d.premise(planning.BondedTo, strings.Clone(person), planning.Unless(w.bondedTo[person], account))
	for _, name := range attributes {
		d.premise(planning.AccountValue, planning.ValueKey("", account, name), valueOf(w.Accounts, a, name))
	}
}

// premise adds one to those that a draft has anyway, once.
func (d *draft) premise(kind planning.PremiseKind, key, version string) {
	p := planning.Premise{Kind: kind, Key: key, Version: version}
	for _, o := range d.Premises {
		if o == p {
			return
		}
	}
	d.Premises = append(d.Premises, p)
}

// valueOf is what a record holds of an attribute, all values of it.
func valueOf(r *record.Roster, row int, attribute string) string {
	return strings.Clone(record.JoinList(r.All(row, attribute)))
}
