// Package work is one task in the hands of this node: what it reports, and how
// it hears that it is to stop.
package work

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"

	"twinning/internal/store"
)

// ErrHalted ends a task that was asked to stop.
var ErrHalted = errors.New("halted")

// Work is a task that this node has claimed.
type Work struct {
	store.Task
	Store   *store.Store
	Message string // what is told when it ends

	asked  chan struct{} // closed when somebody asks to stop
	once   sync.Once
	fenced atomic.Bool // another node has it now
}

// New takes a claimed task.
func New(s *store.Store, t store.Task) *Work {
	w := &Work{Task: t, Store: s, asked: make(chan struct{})}
	if t.Halt { // asked before anybody began
		w.Ask()
	}
	return w
}

// Ask notes that it is to stop.
func (w *Work) Ask() { w.once.Do(func() { close(w.asked) }) }

// Asked is closed when it is to stop.
func (w *Work) Asked() <-chan struct{} { return w.asked }

// Until is a context that ends when it is to stop, for whatever leaves nothing half
// done: neither a system that does not answer nor a long statement is waited for.
func (w *Work) Until(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		select {
		case <-ctx.Done():
		case <-w.asked:
			cancel()
		}
	}()
	return ctx, cancel
}

// Halted reports whether it is to stop.
func (w *Work) Halted() bool {
	select {
	case <-w.asked:
		return true
	default:
		return false
	}
}

// Lose notes that another node has it; Lost reports so.
func (w *Work) Lose() { w.fenced.Store(true) }

// Lost reports whether another node has it.
func (w *Work) Lost() bool { return w.fenced.Load() }

// Progress tells how far it is.
func (w *Work) Progress(done, total, good, bad int) error {
	return w.Store.Progress(context.Background(), w.Task, done, total, good, bad)
}

// Say sets what is told when it ends.
func (w *Work) Say(format string, args ...any) { w.Message = fmt.Sprintf(format, args...) }

// Tell says what it is at, or waits for, while it goes on.
func (w *Work) Tell(ctx context.Context, message string) error {
	return w.Store.Tell(ctx, w.Task, message)
}

// Log tells something about one record.
func (w *Work) Log(ctx context.Context, level, subject, message string) error {
	return w.Store.Log(ctx, w.ID, level, subject, message)
}
