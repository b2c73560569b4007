package service

import (
	"context"
	"encoding/json"

	"twinning/internal/store"
	"twinning/internal/work"
)

// furnishing names what is given the indexes that make long lists quick to sort and to
// search; one of the three.
type furnishing struct {
	Reconciliation int64 `json:"reconciliation,omitempty"`
	System         int64 `json:"system,omitempty"`
	Changes        bool  `json:"changes,omitempty"`
}

// furnishLater queues it: what a list shows is there before, and nobody waits for it.
func (s *Service) furnishLater(ctx context.Context, by, of string, what furnishing) error {
	if _, err := s.Store.AddTask(ctx, "index", "index "+of, by, what); err != nil {
		return err
	}
	s.nudge()
	return nil
}

func (s *Service) furnish(ctx context.Context, w *work.Work) error {
	var p furnishing
	if err := json.Unmarshal(w.Params, &p); err != nil {
		return err
	}
	switch {
	case p.System > 0:
		return s.Store.FurnishRecords(ctx, p.System)
	case p.Changes:
		return s.Store.FurnishChanges(ctx)
	}
	return s.Store.Furnish(ctx, p.Reconciliation)
}

// take reads a roster, and has the records furnished when they are many.
func (s *Service) take(ctx context.Context, w *work.Work) error {
	if err := s.intake.Take(ctx, w); err != nil {
		return err
	}
	t, err := s.Store.Task(ctx, w.ID)
	if err != nil || t.Roster == nil {
		return err
	}
	r, err := s.Store.Roster(ctx, *t.Roster)
	if err != nil || !store.Long(r.Records) {
		return err
	}
	if bare, err := s.Store.Bare(ctx, r.SystemID); err != nil || !bare {
		return err
	}
	x, err := s.Store.SystemByID(ctx, r.SystemID)
	if err != nil {
		return err
	}
	return s.furnishLater(ctx, w.By, x.Name, furnishing{System: r.SystemID})
}
