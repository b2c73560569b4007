// Package job is the background worker: it claims tasks from the database and
// lets the service carry them out, so many at a time. Any number of nodes may
// run workers on one database.
package job

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"twinning/internal/service"
)

// Config of a worker; zero values take the defaults named.
type Config struct {
	Service *service.Service
	AtOnce  int           // tasks at a time (default 2)
	Poll    time.Duration // how often to look for work of other nodes (default 1 s)
	Log     *slog.Logger
}

// Worker carries tasks out until its context ends.
type Worker struct{ cfg Config }

// New makes a worker.
func New(cfg Config) *Worker {
	if cfg.AtOnce == 0 {
		cfg.AtOnce = 2
	}
	if cfg.Poll == 0 {
		cfg.Poll = time.Second
	}
	if cfg.Log == nil {
		cfg.Log = slog.New(slog.DiscardHandler)
	}
	return &Worker{cfg}
}

// Run works until the context ends.
func (w *Worker) Run(ctx context.Context) {
	var wg sync.WaitGroup
	for range w.cfg.AtOnce {
		wg.Go(func() { w.loop(ctx) })
	}
	wg.Wait()
}

func (w *Worker) loop(ctx context.Context) {
	for ctx.Err() == nil {
		if w.runOnce(ctx) {
			continue
		}
		select {
		case <-ctx.Done():
		case <-w.cfg.Service.Wake():
		case <-time.After(w.cfg.Poll):
		}
	}
}

// runOnce carries out one task if there is one.
func (w *Worker) runOnce(ctx context.Context) bool {
	did, err := w.cfg.Service.Perform(ctx)
	if err != nil && ctx.Err() == nil {
		w.cfg.Log.Error("the worker stumbled", "error", err.Error())
		return false
	}
	return did
}
