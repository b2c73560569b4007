package service

import (
	"context"
	"errors"
	"fmt"

	"twinning/internal/access"
	"twinning/internal/core/pairing"
	"twinning/internal/core/reconcile"
	"twinning/internal/fault"
	"twinning/internal/store"
	"twinning/internal/work"
)

// Try queues a trial of a lane's evidence on its newest rosters.
func (s *Service) Try(ctx context.Context, who access.Caller, lane string, keep bool) (store.Task, error) {
	return s.passOver(ctx, who, lane, "trial", laneParams{Keep: keep}, map[string]string{"keep": fmt.Sprint(keep)})
}

// Trial finds the last one of a lane.
func (s *Service) Trial(ctx context.Context, lane string) (t store.Trial, err error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return t, err
	}
	if t, err = s.Store.LastTrial(ctx, l.ID); errors.Is(err, store.ErrNotFound) {
		return t, fault.New(fault.NotFound, fmt.Sprintf("no trial of lane %q has been made yet", lane), "", "make one: twinning twin trial "+lane)
	}
	return t, err
}

// KeepTrial has a lane go by its last trial, if that is still the one that was looked at.
func (s *Service) KeepTrial(ctx context.Context, who access.Caller, lane string, id int64) (t store.Trial, err error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return t, err
	}
	err = s.act(ctx, who, "keep trial", lane, map[string]string{"trial": fmt.Sprint(id)}, func(tx *store.Store) error {
		if t, err = tx.LastTrial(ctx, l.ID); err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err != nil || t.ID != id {
			return fault.New(fault.Conflict, fmt.Sprintf("trial %d is not the last one of lane %q", id, lane), "", "look at the last one first: twinning twin trial "+lane+" --last")
		}
		t, err = tx.KeepTrial(ctx, t, who.Name)
		return err
	})
	return t, err
}

// tryOut makes a trial. It reads what a reconciliation reads, and changes nothing of it.
func (s *Service) tryOut(ctx context.Context, w *work.Work) error {
	computing, cancel := w.Until(ctx)
	defer cancel()
	p, in, all, err := s.pass(computing, w)
	if err != nil {
		return err
	}
	found, err := computed(computing, s, in.Input, "trying the evidence", func(in reconcile.Input) (*pairing.Trial, error) {
		t, err := reconcile.Trial(in)
		if err != nil {
			return nil, fault.New(fault.Conflict, "there is nothing to make a trial with", err.Error(), "")
		}
		return t, nil
	})
	if err != nil {
		if w.Halted() {
			w.Say("halted as asked; nothing of it was kept")
			return work.ErrHalted
		}
		return err
	}
	err = s.Store.InTx(ctx, func(tx *store.Store) error {
		t, err := tx.AddTrial(ctx, store.Trial{
			LaneID: in.lane.ID, CharterVersion: in.charter.Version, PeopleRoster: in.people.ID, AccountsRoster: in.accounts.ID, Report: asJSON(found),
			Digest: found.Weights.Version(), Weights: asJSON(found.Weights), LearntFrom: int64(found.Known), By: w.By,
		})
		if err == nil && p.Keep {
			t, err = tx.KeepTrial(ctx, t, w.By)
			if err == nil {
				w.Say("kept as weights %d", *t.Kept)
			}
		}
		return err
	})
	if err != nil {
		return err
	}
	w.Say("%d of %d known twins held back", found.Held, found.Known)
	return w.Progress(all, all, all, 0)
}
