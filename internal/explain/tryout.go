package explain

import (
	"context"
	"fmt"
	"time"

	"twinning/internal/core/charter"
	"twinning/internal/core/reconcile"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// TryOut is a charter tried on somebody.
type TryOut struct {
	Person  Facing  `json:"person"`
	Account *Facing `json:"account,omitempty"`
	*reconcile.TriedOut
}

// OfLane: a charter that is tried is about the lane's systems.
func OfLane(rules *charter.Charter, l store.Lane) error {
	switch {
	case rules.Lane != l.Name:
		return &fault.Error{Kind: fault.Invalid, Title: "the charter is another lane's", Detail: "it says lane: " + rules.Lane + ", and is tried on " + l.Name, Field: "source"}
	case rules.From == l.Authority && rules.In == l.Downstream:
		return nil
	}
	return &fault.Error{Kind: fault.Invalid, Title: "the charter is not about this lane's systems", Detail: fmt.Sprintf("it reads %s into %s, and lane %s reads %s into %s", rules.From, rules.In, l.Name, l.Authority, l.Downstream), Field: "source"}
}

// Try computes a charter for a person, with the account that is their twin in the newest
// result or the one that is named. It reads these two records alone.
func (s *Explainer) Try(ctx context.Context, l store.Lane, r store.Reconciliation, rules *charter.Charter, person, account string, now time.Time) (*TryOut, error) {
	if err := OfLane(rules, l); err != nil {
		return nil, err
	}
	verdict, err := s.Store.VerdictOf(ctx, r.ID, "people", person)
	if err != nil {
		return nil, fault.About(err, "person", person)
	}
	if account == "" {
		account = verdict.Twin
	}
	x := &facingEachOther{Explainer: s, lane: l, of: r, rules: rules}
	if err := x.load(ctx, person, account); err != nil {
		return nil, err
	}
	if x.people.row < 0 {
		return nil, fault.New(fault.Conflict, fmt.Sprintf("person %q could not be read in the newest roster", person), "", "mend the record and take the roster again")
	}
	t := &TryOut{Person: Facing{person, verdict.Label, verdict.State}}
	if account != "" {
		if t.Account, err = s.facing(ctx, r.ID, "accounts", account); err != nil {
			return nil, err
		}
		if x.accounts.row < 0 {
			return nil, fault.New(fault.Conflict, fmt.Sprintf("account %q could not be read in the newest roster", account), "", "mend the record and take the roster again")
		}
	}
	in := reconcile.Input{Charter: rules, People: x.people.roster, Accounts: x.accounts.roster, Now: now, Mark: x.accounts.shape.Mark}
	t.TriedOut = reconcile.TryOut(in, x.people.row, x.accounts.row)
	return t, nil
}
