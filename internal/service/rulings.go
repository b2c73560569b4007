package service

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"twinning/internal/access"
	"twinning/internal/store"
)

// Accept marks a finding as known until a day, Unaccept takes that back.
func (s *Service) Accept(ctx context.Context, who access.Caller, lane, id string, until *string, reason string) error {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return err
	}
	if err := s.Store.Accept(ctx, l.ID, id, until, reason, who.Name); err != nil {
		return err
	}
	return s.audit(ctx, who, "finding.accept", lane+" "+id, map[string]string{"reason": reason})
}

// Unaccept takes an acceptance back.
func (s *Service) Unaccept(ctx context.Context, who access.Caller, lane, id string) error {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return err
	}
	if err := s.Store.Unaccept(ctx, l.ID, id); err != nil {
		return about(err, "acceptance of", id)
	}
	return s.audit(ctx, who, "finding.unaccept", lane+" "+id, nil)
}

// Rule keeps a human decision. A `same` ruling bonds the two.
func (s *Service) Rule(ctx context.Context, who access.Caller, lane string, r store.Ruling) (store.Ruling, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return r, err
	}
	switch pair := r.Person != "" && r.Account != ""; {
	case r.Kind != "leave-alone" && !pair:
		return r, &Error{Kind: Invalid, Title: r.Kind + " rules on a person and an account", Detail: "name both", Field: "person"}
	case r.Kind == "leave-alone" && (pair || r.Person == "" && r.Account == ""):
		return r, &Error{Kind: Invalid, Title: "leave-alone rules on one person or one account", Field: "person"}
	case strings.TrimSpace(r.Reason) == "":
		return r, &Error{Kind: Invalid, Title: "a ruling needs a reason", Detail: "somebody will ask for it in a year", Field: "reason"}
	}
	for side, id := range map[int64]string{l.AuthorityID: r.Person, l.DownstreamID: r.Account} {
		if err := s.known(ctx, side, id); err != nil {
			return r, err
		}
	}
	standing, err := s.Store.Rulings(ctx, l.ID)
	if err != nil {
		return r, err
	}
	for _, o := range standing {
		contradicts := r.Kind == "same" && o.Kind == "same" && (o.Person == r.Person) != (o.Account == r.Account) ||
			r.Kind != o.Kind && r.Kind != "leave-alone" && o.Kind != "leave-alone" && o.Person == r.Person && o.Account == r.Account
		if contradicts {
			return r, fault(Conflict, "another ruling says otherwise", fmt.Sprintf("ruling %d of %s: %s and %s are %s (%s)", o.ID, o.By, o.Person, o.Account, o.Kind, o.Reason), "clear it first if it is wrong")
		}
	}
	r.LaneID, r.By = l.ID, who.Name
	err = s.Store.InTx(ctx, func(tx *store.Store) (err error) {
		if r, err = tx.AddRuling(ctx, r); err != nil {
			return err
		}
		switch r.Kind {
		case "same":
			err = tx.AddBond(ctx, l.ID, r.Person, r.Account, fmt.Sprintf("ruling %d", r.ID))
		case "different":
			err = tx.RemoveBond(ctx, l.ID, r.Person, r.Account)
		}
		return errors.Join(err, tx.Audit(ctx, who.Name, "ruling.add", lane, map[string]string{"kind": r.Kind, "person": r.Person, "account": r.Account, "reason": r.Reason}))
	})
	return r, err
}

func (s *Service) known(ctx context.Context, system int64, id string) error {
	if id == "" {
		return nil
	}
	r, err := s.Store.NewestRoster(ctx, system)
	if err == nil {
		_, err = s.Store.RecordAt(ctx, system, r.ID, id)
	}
	if errors.Is(err, store.ErrNotFound) {
		x, err := s.Store.SystemByID(ctx, system)
		if err != nil {
			return err
		}
		return fault(NotFound, fmt.Sprintf("there is no record %q in the newest roster of %s", id, x.Name), "", "twinning twin list shows the ids")
	}
	return err
}

// ClearRuling takes a ruling back; its bond, if any, stays until a run or
// another ruling says otherwise.
func (s *Service) ClearRuling(ctx context.Context, who access.Caller, lane string, id int64) error {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return err
	}
	if err := s.Store.ClearRuling(ctx, l.ID, id); err != nil {
		return about(err, "ruling", fmt.Sprint(id))
	}
	return s.audit(ctx, who, "ruling.clear", lane, map[string]string{"ruling": fmt.Sprint(id)})
}

// Rulings lists those in force.
func (s *Service) Rulings(ctx context.Context, lane string) ([]store.Ruling, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return nil, err
	}
	return s.Store.Rulings(ctx, l.ID)
}
