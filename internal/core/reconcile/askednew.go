package reconcile

import (
	"cmp"
	"fmt"
	"slices"

	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// hasAccount: the person is here, and twinned.
func (x *asker) hasAccount(person string) bool {
	row, there := x.People.Find(person)
	return there && x.out.Pairing.PersonState[row] == pairing.Twinned
}

// create drafts the account that the charter would make for a person, with some values of it
// given by hand.
func (x *asker) create(n int, i *planning.Intent) {
	row, there := x.People.Find(i.Person)
	switch {
	case !there:
		x.answer(n, "", Refused, fmt.Sprintf("nobody of the id %q is in the newest roster", i.Person), "")
		return
	case x.out.Pairing.PersonState[row] == pairing.Twinned:
		x.answer(n, "", Already, "", "")
		return
	case x.out.Pairing.PersonState[row] != pairing.Missing:
		x.answer(n, "", Refused, fmt.Sprintf("the person is %s: %s", x.out.Pairing.PersonState[row], cmp.Or(x.out.Pairing.PersonNote[row], "see their verdict")), "")
		return
	case x.twice(-1-row, "id"):
		x.answer(n, "", Refused, "an account is asked for twice for this person", "")
		return
	}
	x.class = x.common()
	drafts, withheld, found := len(x.drafts), len(x.withheld), len(x.findings)
	x.missing(row)
	at := slices.IndexFunc(x.drafts[drafts:], func(d *draft) bool { return d.Verb == planning.Create })
	if at < 0 {
		why := "the charter makes none for them"
		if len(x.withheld) > withheld {
			why = x.withheld[withheld].Reason
		} else if len(x.findings) > found {
			why = x.findings[len(x.findings)-1].Detail
		}
		x.drafts = x.drafts[:drafts]
		x.answer(n, "", Refused, why, "")
		return
	}
	d := x.drafts[drafts+at]
	for _, later := range x.drafts[drafts:] {
		if x.made[later.ID] = later; later.Wave < 0 {
			later.Wave = len(x.Charter.Waves) - 1
		}
	}
	x.answer(n, "", Drafted, "", d.ID)
	for _, v := range i.Values {
		kind := record.KindOf(v.Attribute)
		if kind.Multi() {
			v.New = listWith(kind, "", v)
		}
		why := ""
		switch {
		case unwritten[v.Attribute] != "":
			why = unwritten[v.Attribute]
		case x.Accounts.Column(v.Attribute) == nil:
			why = fmt.Sprintf("%s is not read of the accounts; name it in the shape of %s", v.Attribute, x.Charter.In)
		default:
			if why = x.ruledBy(row, -1, v, ""); why == "" {
				why = unfit(v, kind, "")
			}
		}
		if why == "" && !x.give(d, v, i.Reason) {
			why = "it is given once the account is there"
		}
		if why != "" {
			x.answer(n, v.Attribute, Refused, why, "")
		}
	}
}

// give has a new account begin with a value; false where the account must be there before.
func (x *asker) give(d *draft, v planning.Wanted, reason string) bool {
	for n, target := range d.targets {
		if target == v.Attribute && v.New != "" {
			d.names[n].Candidates, d.names[n].Folded, d.reasons[n] = []string{v.New}, x.Charter.Alike.FoldAll([]string{v.New}), reason
			return true
		}
	}
	if v.Attribute == "groups" || v.Attribute == "aliases" {
		return false
	}
	d.Edits = slices.DeleteFunc(d.Edits, func(e planning.Edit) bool { return e.Attribute == v.Attribute })
	if v.New != "" {
		d.Edits = append(d.Edits, planning.Edit{Attribute: v.Attribute, New: v.New, Reason: reason})
	}
	return true
}
