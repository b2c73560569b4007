package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync/atomic"
	"time"

	"twinning/internal/store"
)

// work is one task in the hands of this node.
type work struct {
	store.Task
	s       *Service
	message string
	halt    atomic.Bool   // somebody asked to stop
	asked   chan struct{} // closed then
	fenced  atomic.Bool   // another node has it now
}

func (w *work) progress(done, total, good, bad int) error {
	return w.s.Store.Progress(context.Background(), w.Task, done, total, good, bad)
}

func (w *work) say(format string, args ...any) { w.message = fmt.Sprintf(format, args...) }

// errHalted ends a task that was asked to stop.
var errHalted = errors.New("halted")

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
	w := &work{Task: t, s: s, asked: make(chan struct{})}
	if t.Halt { // asked before anybody began
		w.halt.Store(true)
		close(w.asked)
	}
	working, cancel := context.WithCancel(ctx)
	defer cancel()
	go s.keepLease(working, cancel, w)
	s.Log.Info("task begins", "task", t.ID, "kind", t.Kind, "fence", t.Fence)
	err = s.dispatch(working, w)
	if w.fenced.Load() || errors.Is(err, store.ErrFenced) {
		s.Log.Warn("task lost to another node", "task", t.ID)
		return true, nil
	}
	if ctx.Err() != nil { // this node is stopping: the lease runs out and another goes on
		return true, nil
	}
	state, message := "finished", w.message
	switch {
	case errors.Is(err, errHalted):
		state = "halted"
	case err != nil:
		state, message = "failed", err.Error()
		if err := s.Store.Log(ctx, t.ID, "error", t.Name, message); err != nil {
			return true, err
		}
	}
	s.Log.Info("task ends", "task", t.ID, "kind", t.Kind, "state", state)
	if err := s.Store.EndTask(ctx, t, state, message); err != nil && !errors.Is(err, store.ErrFenced) {
		return true, err
	}
	return true, nil
}

// claim takes a task that this process is not at already. What an earlier
// process of this node left behind is taken over at once.
func (s *Service) claim(ctx context.Context) (store.Task, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	t, err := s.Store.ClaimTask(ctx, s.Node, s.Lease, append([]int64{}, slices.Collect(maps.Keys(s.held))...))
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

func (s *Service) dispatch(ctx context.Context, w *work) (err error) {
	defer func() {
		if p := recover(); p != nil {
			s.Log.Error("task panicked", "task", w.ID, "panic", fmt.Sprint(p))
			err = errors.New("an internal error ended it; the service's log has more")
		}
	}()
	switch w.Kind {
	case "roster":
		return s.takeRoster(ctx, w)
	case "reconcile":
		return s.reconcile(ctx, w)
	case "run":
		return s.run(ctx, w)
	case "verify":
		return s.verify(ctx, w)
	}
	return fmt.Errorf("no worker knows tasks of kind %q", w.Kind)
}

// keepLease renews the lease five times within its length, and stops the work
// when it is lost.
func (s *Service) keepLease(ctx context.Context, cancel context.CancelFunc, w *work) {
	tick := time.NewTicker(s.Lease / 5)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			halt, err := s.Store.RenewLease(ctx, w.Task, s.Lease)
			if errors.Is(err, store.ErrFenced) {
				w.fenced.Store(true)
				cancel()
				return
			}
			if halt && w.halt.CompareAndSwap(false, true) {
				close(w.asked)
			}
		}
	}
}
