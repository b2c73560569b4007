package reconcile

import (
	"slices"
	"strings"

	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// premises lists what a change rests on. Versions that only a store knows (of
// records, rulings, receipts, rosters) are left for it to fill in.
func (r *run) premises(d *draft) []planning.Premise {
	out := []planning.Premise{{Kind: planning.Rulings, Key: planning.PairKey(d.Person, d.Account)}}
	if d.p >= 0 {
		out = append(out, planning.Premise{Kind: planning.PersonAsRead, Key: d.Person, Version: r.People.Version(d.p)})
	}
	if d.a >= 0 {
		out = append(out, planning.Premise{Kind: planning.Unclaimed, Key: d.Account})
	}
	switch {
	case d.p >= 0 && d.a >= 0:
		out = append(out,
			planning.Premise{Kind: planning.BondOf, Key: d.Account, Version: planning.Unless(r.bondOf[d.Account], d.Person)},
			planning.Premise{Kind: planning.BondedTo, Key: d.Person, Version: planning.Unless(r.bondedTo[d.Person], d.Account)})
		if b := r.out.Pairing.Basis[d.p]; b == pairing.Keyed || b == pairing.Weighed {
			out = r.alone(out, d.p, d.a)
		}
		if r.out.Pairing.Basis[d.p] == pairing.Weighed {
			out = append(out, planning.Premise{Kind: planning.WeightsUsed})
		}
	case d.p >= 0 && d.Verb != planning.Create: // the account is made by a change that it needs
	case d.p >= 0:
		out = r.alone(append(out, planning.Premise{Kind: planning.BondedTo, Key: d.Person, Version: r.bondedTo[d.Person]}), d.p, -1)
	default:
		gone := r.out.Pairing.Vanished[d.a]
		out = append(out, planning.Premise{Kind: planning.BondOf, Key: d.Account, Version: gone}, planning.Premise{Kind: planning.AbsenceKnown, Key: "people"})
		if gone != "" {
			out = append(out, planning.Premise{Kind: planning.PersonAbsent, Key: gone})
		} else {
			out = append(out, planning.Premise{Kind: planning.NobodyNew, Key: "people"}, planning.Premise{Kind: planning.Nowhere, Key: d.Account})
		}
	}
	if d.Verb == planning.Create {
		out = append(out, planning.Premise{Kind: planning.NoneHidden, Key: "accounts"})
	}
	if len(d.names) > 0 {
		out = append(out, planning.Premise{Kind: planning.NamesKnown, Key: "accounts"})
	}
	if d.intention != "" {
		out = append(out, planning.Premise{Kind: planning.NotCancelled, Key: d.intention})
	}
	if d.Delivers != nil && d.Delivers.To != "" {
		out = append(out, planning.Premise{Kind: planning.NamesKnown, Key: "people"}, planning.Premise{Kind: planning.NamesKnown, Key: "accounts"},
			planning.Premise{Kind: planning.MailAlone, Key: planning.KeyOf(record.Normal(record.Email, d.Delivers.To), planning.PairKey(d.Person, d.Account))})
	}
	if d.Verb == planning.Reinstate {
		out = append(out, planning.Premise{Kind: planning.OurSuspend, Key: d.Account})
	}
	return out
}

// alone adds that nobody else carries the key values of the two.
func (r *run) alone(out []planning.Premise, p, a int) []planning.Premise {
	for _, key := range r.keys {
		var met []string
		add := func(v string) {
			if !slices.Contains(met, v) {
				met = append(met, v)
				out = append(out, planning.Premise{Kind: planning.KeyAlone, Key: planning.KeyOf(key.Name, strings.Clone(v))})
			}
		}
		record.EachValue(key.People.Cell(p), add)
		if a >= 0 {
			record.EachValue(key.Accounts.Cell(a), add)
		}
	}
	return out
}
