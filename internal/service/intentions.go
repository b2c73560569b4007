package service

import (
	"context"
	"errors"
	"fmt"

	"twinning/internal/access"
	"twinning/internal/core/calendar"
	"twinning/internal/core/planning"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// IntentionDays are the days on which something is to be done.
type IntentionDays struct {
	Today string               `json:"today"` // in the lane's zone
	First string               `json:"first,omitempty"`
	Last  string               `json:"last,omitempty"`
	Items []store.IntentionDay `json:"items"`
}

// IntentionDays counts what is to be done in a lane by day, from a day to another; "" is no bound.
func (s *Service) IntentionDays(ctx context.Context, lane, from, to string) (v IntentionDays, err error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return v, err
	}
	v.Today = calendar.Day(s.Now(), l.Location())
	if v.First, v.Last, err = s.Store.IntentionSpan(ctx, l.ID); err != nil {
		return v, err
	}
	list, err := s.Store.IntentionDays(ctx, l.ID, from, to)
	v.Items = append([]store.IntentionDay{}, list...)
	return v, err
}

// Intentions lists what is to be done in a lane on its day, with what humans dropped of it.
func (s *Service) Intentions(ctx context.Context, lane, verb, due string, p store.Page) ([]store.Intention, string, int, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return nil, "", 0, err
	}
	list, next, total, err := s.Store.Intentions(ctx, l.ID, verb, due, p.Within(l.ID))
	today := calendar.Day(s.Now(), l.Location())
	for i := range list {
		x := &list[i]
		x.Comes = planning.Intention{Due: x.Due, Waits: x.Waits, Cancelled: x.Cancelled}.Comes(today)
	}
	return list, next, total, err
}

// CancelIntention drops one: it is not drafted any more, and a sealed change that carries it
// out goes stale. Whoever comes back and leaves again is another intention.
func (s *Service) CancelIntention(ctx context.Context, who access.Caller, lane, id, reason string) error {
	if reason == "" {
		return fault.New(fault.Invalid, "an intention is cancelled with a reason", "whoever looks later should know why", "say it: --reason \"...\"")
	}
	return s.changeIntention(ctx, who, "intention.cancel", lane, id, reason)
}

// RestoreIntention takes that back.
func (s *Service) RestoreIntention(ctx context.Context, who access.Caller, lane, id string) error {
	return s.changeIntention(ctx, who, "intention.restore", lane, id, "")
}

func (s *Service) changeIntention(ctx context.Context, who access.Caller, act, lane, id, reason string) error {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return err
	}
	return s.act(ctx, who, act, lane+" "+id, map[string]string{"reason": reason}, func(tx *store.Store) error {
		if err := tx.HoldLane(ctx, l.ID); err != nil { // nothing of it is being sent meanwhile
			return err
		}
		err := tx.CancelIntention(ctx, l.ID, id, reason, who.Name)
		if errors.Is(err, store.ErrNotFound) {
			return fault.New(fault.NotFound, fmt.Sprintf("lane %s has no intention %q", lane, id), "", "their ids stand in the list: twinning intention list "+lane)
		}
		return err
	})
}
