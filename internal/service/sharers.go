package service

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"twinning/internal/core/charter"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// A downstream that several lanes share is one place: what is an account of another lane's
// people, or may be, is nobody's orphan here.

// ruledLane is a lane with its newest charter.
type ruledLane struct {
	store.Lane
	rules   *charter.Charter
	version int64 // of the charter
}

// ruledLanes are the lanes, of those wanted, that have a charter.
func (s *Service) ruledLanes(ctx context.Context, wanted func(store.Lane) bool) (list []ruledLane, err error) {
	lanes, err := s.Store.Lanes(ctx)
	if err != nil {
		return nil, err
	}
	for _, l := range lanes {
		if !wanted(l) {
			continue
		}
		version, err := s.Store.Charter(ctx, l.ID, 0)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		rules, err := s.parse(ctx, version.Source)
		if err != nil {
			return nil, err
		}
		list = append(list, ruledLane{l, rules, version.Version})
	}
	return list, nil
}

// besides wants the other lanes of a lane's downstream.
func besides(l store.Lane) func(store.Lane) bool {
	return func(o store.Lane) bool { return o.DownstreamID == l.DownstreamID && o.ID != l.ID }
}

// sharer is another lane of the same downstream.
type sharer struct {
	ruledLane
	result store.Reconciliation
	// outdated says why its newest result is not what it would find today, "" where it is
	outdated string
}

// sharers are the other lanes of a lane's downstream that have a charter, with their newest results.
func (s *Service) sharers(ctx context.Context, l store.Lane) (list []sharer, err error) {
	lanes, err := s.ruledLanes(ctx, besides(l))
	if err != nil {
		return nil, err
	}
	for _, o := range lanes {
		x := sharer{ruledLane: o}
		x.result, err = s.Store.LatestReconciliation(ctx, o.ID)
		switch {
		case errors.Is(err, store.ErrNotFound):
			x.outdated = "has not been reconciled"
		case err != nil:
			return nil, err
		case x.result.CharterVersion != o.version:
			x.outdated = "was not reconciled since its charter changed"
		default:
			moved, err := s.Store.PeopleMoved(ctx, o.AuthorityID, x.result.PeopleRoster)
			if err != nil {
				return nil, err
			}
			if moved {
				x.outdated = "was not reconciled since its people changed"
			}
		}
		list = append(list, x)
	}
	return list, nil
}

// elsewhereOwned notes which accounts other lanes twin or contest, and which they have not
// looked at.
func (s *Service) elsewhereOwned(ctx context.Context, in *laneInput, sharers []sharer) error {
	in.Memory.Elsewhere, in.Memory.Twinned = map[string]string{}, map[string][]reconcile.Owner{}
	for _, x := range sharers {
		next := "; reconcile it first: twinning reconcile " + x.Name
		if x.result.ID > 0 {
			if err := s.Store.EachVerdict(ctx, x.result.ID, []string{"twinned", "contested"}, func(account, state, twin string) {
				if state == "contested" {
					in.Memory.Elsewhere[account] = "contested in lane " + x.Name
					in.Memory.Twinned[account] = append(in.Memory.Twinned[account], reconcile.Owner{Lane: x.Name, Contested: true})
					return
				}
				if x.AuthorityID != in.lane.AuthorityID {
					twin = "" // an id says nothing of other people
				}
				in.Memory.Twinned[account] = append(in.Memory.Twinned[account], reconcile.Owner{Lane: x.Name, Person: twin})
			}); err != nil {
				return err
			}
			came, err := s.Store.Moved(ctx, in.lane.DownstreamID, x.result.AccountsRoster)
			if err != nil {
				return err
			}
			for _, account := range came {
				if in.Memory.Elsewhere[account] == "" {
					in.Memory.Elsewhere[account] = fmt.Sprintf("lane %s was not reconciled since the account came or changed%s", x.Name, next)
				}
			}
		}
		if x.outdated == "" {
			continue
		}
		in.eachInScope(x.rules, func(account string) {
			if in.Memory.Elsewhere[account] == "" {
				in.Memory.Elsewhere[account] = fmt.Sprintf("it is in the scope of lane %s, which %s%s", x.Name, x.outdated, next)
			}
		})
	}
	return nil
}

// eachInScope visits the accounts that are, or may be, in the scope of another charter.
func (in *laneInput) eachInScope(rules *charter.Charter, fn func(account string)) {
	where := rules.Accounts.Bind(charter.Scope{People: &record.Roster{}, Accounts: in.Accounts})
	for a := range in.Accounts.Len() {
		if where != nil {
			if holds, known := where.Eval(-1, a).True(); known && !holds {
				continue
			}
		}
		fn(in.Accounts.ID(a))
	}
}

// restOf is for how many days a name of a system's namespace rests: by whichever charter of the
// lanes that give names there says most.
func (s *Service) restOf(ctx context.Context, rules *charter.Charter, systems []int64) (days int, err error) {
	lanes, err := s.ruledLanes(ctx, func(l store.Lane) bool { return slices.Contains(systems, l.DownstreamID) })
	days = restBy(rules)
	for _, l := range lanes {
		days = max(days, restBy(l.rules))
	}
	return days, err
}

func restBy(rules *charter.Charter) int {
	if rules.Emails == nil {
		return 0
	}
	return rules.Emails.Rest
}
