package service

import (
	"context"
	"fmt"
	"slices"

	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/limits"
	"twinning/internal/store"
)

// limitsOf counts what is scarce in a lane's downstream, or must not be lost, by the charters of
// all its lanes: as its newest roster shows it, with what was done since; nil where no charter
// declares any of that.
func (s *Service) limitsOf(ctx context.Context, l store.Lane, rules *charter.Charter) (*limits.State, error) {
	others, err := s.ruledLanes(ctx, besides(l))
	if err != nil {
		return nil, err
	}
	charters := []*charter.Charter{rules}
	needs := limits.Needs(rules)
	for _, o := range others {
		charters, needs = append(charters, o.rules), append(needs, limits.Needs(o.rules)...)
	}
	if len(needs) == 0 {
		return nil, nil
	}
	slices.Sort(needs)
	newest, roster, _, err := s.newest(ctx, l.DownstreamID, slices.Compact(append(needs, "active")), rules.Zone)
	if err != nil {
		return nil, err
	}
	state := limits.New(charters, roster, calendar.Day(s.Now(), rules.Zone))
	err = s.Store.EachDone(ctx, l.DownstreamID, newest.Started, func(_ int64, c store.Change) { state.Apply(&c.Body.V, c.Account, limits.Done) })
	return state, err
}

// beyondLimits says which changes of a plan a downstream can't bear, beside what other plans have
// sealed, are doing and have done.
func (s *Service) beyondLimits(ctx context.Context, l store.Lane, rules *charter.Charter, p store.Plan, changes []store.Change) (map[int]string, error) {
	state, err := s.limitsOf(ctx, l, rules)
	if err != nil || state == nil {
		return nil, err
	}
	by := ""
	if err := s.Store.EachPending(ctx, l.DownstreamID, p.ID, func(plan int64, c store.Change) {
		state.Apply(&c.Body.V, c.Account, limits.Pending)
		by = fmt.Sprintf("; plan %d counts as well", plan)
	}); err != nil {
		return nil, err
	}
	beyond := map[int]string{}
	for _, c := range changes {
		why, undo := state.Apply(&c.Body.V, c.Account, limits.Done)
		if why != "" {
			beyond[c.Number] = why + by
			undo()
		}
	}
	return beyond, nil
}
