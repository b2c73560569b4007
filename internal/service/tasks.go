package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"twinning/internal/access"
	"twinning/internal/core/budget"
	"twinning/internal/core/lifecycle"
	"twinning/internal/execution"
	"twinning/internal/fault"
	"twinning/internal/store"
	"twinning/internal/work"
)

// Perform claims one task and carries it out. It reports whether there was
// one.
func (s *Service) Perform(ctx context.Context) (bool, error) {
	t, err := s.claim(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer s.release(t.ID)
	w := work.New(s.Store, t)
	working, cancel := context.WithCancel(ctx)
	defer cancel()
	go s.keepLease(working, cancel, w)
	s.Log.Info("task begins", "task", t.ID, "kind", t.Kind, "fence", t.Fence)
	err = s.dispatch(working, w)
	if w.Lost() || errors.Is(err, store.ErrFenced) {
		s.Log.Warn("task lost to another node", "task", t.ID)
		return true, nil
	}
	if ctx.Err() != nil { // this node is stopping: another goes on
		leaving, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		return true, s.Store.LeaveTask(leaving, t)
	}
	return true, s.ended(ctx, w, err)
}

// ended is the one place where a task ends on this node, whatever ended it.
func (s *Service) ended(ctx context.Context, w *work.Work, err error) error {
	event, message := lifecycle.End, w.Message
	switch {
	case store.Away(err):
		s.Log.Error("PostgreSQL went away; the task is gone on with when its lease has run out", "task", w.ID, "error", err.Error())
		return nil
	case errors.Is(err, work.ErrHalted):
		event = lifecycle.Cancel
	case err != nil:
		event, message = lifecycle.Fail, err.Error()
		if err := w.Log(ctx, "error", w.Name, message); err != nil {
			s.Log.Error("what ended a task could not be logged with it", "task", w.ID, "error", err.Error(), "ended", message)
		}
	}
	s.Log.Info("task ends", "task", w.ID, "kind", w.Kind, "event", string(event))
	if err := s.Store.EndTask(ctx, w.Task, event, message); err != nil && !errors.Is(err, store.ErrFenced) {
		return err // its lease runs out, and it is gone on with
	}
	return nil
}

// queue adds a task; nobody's tasks keep everybody else's waiting for ever.
func queue(ctx context.Context, tx *store.Store, kind, name string, who access.Caller, params any) (t store.Task, err error) {
	n, err := tx.Waiting(ctx, who.Name)
	if err == nil && n >= budget.Tasks.Value() {
		err = fault.New(fault.Slow, fmt.Sprintf("%s of your tasks wait already", budget.Tasks), "", "let some of them be done, or halt them (twinning task list)")
	}
	if err != nil {
		return t, err
	}
	return tx.AddTask(ctx, kind, name, who.Name, params)
}

// claim takes a task that this process is not at already. What an earlier
// process of this node left behind is taken over at once.
func (s *Service) claim(ctx context.Context) (store.Task, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	t, err := s.Store.ClaimTask(ctx, s.Node, s.boot, s.Lease, append([]int64{}, slices.Collect(maps.Keys(s.held))...))
	if err == nil {
		s.held[t.ID] = true
	}
	return t, err
}

func (s *Service) release(id int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.held, id)
}

func (s *Service) dispatch(ctx context.Context, w *work.Work) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fault.Mistake(s.Log, fmt.Sprintf("task %d", w.ID), p)
		}
		err = fault.Ours(s.Log, fmt.Sprintf("task %d", w.ID), err)
	}()
	if w.Deaths >= maxDeaths && w.Kind != "run" { // a run halts its plan as well
		return s.exhausted(ctx, w)
	}
	switch w.Kind {
	case "roster":
		return s.take(ctx, w)
	case "reconcile":
		return s.reconcile(ctx, w)
	case "draft":
		return s.draftLater(ctx, w)
	case "compare":
		return s.compareLater(ctx, w)
	case "trial":
		return s.tryOut(ctx, w)
	case "index":
		return s.furnish(ctx, w)
	case "run":
		return s.engine.Run(ctx, w)
	case "verify":
		return s.engine.Verify(ctx, w)
	}
	return fmt.Errorf("no worker knows tasks of kind %q", w.Kind)
}

// maxDeaths is how many processes may end over a task, one after the other
// without getting further, before it is halted.
const maxDeaths = execution.MaxDeaths

// exhausted halts a task that has ended too many processes.
func (s *Service) exhausted(ctx context.Context, w *work.Work) error {
	w.Say("%s", execution.Exhausted)
	if w.Roster != nil {
		if err := s.Store.FailRoster(ctx, *w.Roster, "halted", execution.Exhausted); err != nil {
			return err
		}
	}
	return work.ErrHalted
}

// keepLease renews the lease five times within its length, and at least every
// second, so that a request to halt is heard soon; it stops the work when the
// lease is lost.
func (s *Service) keepLease(ctx context.Context, cancel context.CancelFunc, w *work.Work) {
	tick := time.NewTicker(min(s.Lease/5, time.Second))
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			halt, err := s.Store.RenewLease(ctx, w.Task, s.Lease)
			if errors.Is(err, store.ErrFenced) {
				w.Lose()
				cancel()
				return
			}
			if halt {
				w.Ask()
			}
		}
	}
}
