// Package service holds the use cases: take a roster, reconcile, draft, seal,
// run, verify. They are the same for every door. Whatever takes long is queued
// as a task and performed by a worker of any node.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"twinning/internal/access"
	"twinning/internal/connector"
	"twinning/internal/connector/outbound"
	"twinning/internal/core/document"
	"twinning/internal/crypt"
	"twinning/internal/store"
)

// Kind of an error, which doors turn into a status of their own.
type Kind string

const (
	Invalid   Kind = "invalid"    // the request can't be understood or done as it stands
	NotFound  Kind = "not-found"  // what it names does not exist
	Conflict  Kind = "conflict"   // somebody or something else was there first
	Denied    Kind = "denied"     // the caller lacks a right
	NotSigned Kind = "not-signed" // nobody knows who is asking
	Slow      Kind = "slow-down"  // too many attempts
	Stopped   Kind = "stopped"    // a guard, a freeze or an obstacle stands in the way
)

// Error is told to whoever asked: what was attempted, what is wrong, what to do.
type Error struct {
	Kind     Kind
	Title    string
	Detail   string
	Field    string
	Next     string
	Problems document.Problems
}

func (e *Error) Error() string {
	s := e.Title
	if e.Detail != "" {
		s += ": " + e.Detail
	}
	if e.Next != "" {
		s += "; " + e.Next
	}
	return s
}

func fault(kind Kind, title, detail, next string) *Error {
	return &Error{Kind: kind, Title: title, Detail: detail, Next: next}
}

// about turns the store's sentinels into words about a thing.
func about(err error, what, name string) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, store.ErrNotFound):
		return fault(NotFound, fmt.Sprintf("there is no %s %q", what, name), "", "list what there is, and check the spelling")
	case errors.Is(err, store.ErrTaken):
		return fault(Conflict, fmt.Sprintf("%s %q exists already", what, name), "", "choose another name")
	case errors.Is(err, store.ErrInUse):
		return fault(Conflict, fmt.Sprintf("%s %q is in use", what, name), "", "remove what uses it first")
	case errors.Is(err, store.ErrChanged):
		return fault(Conflict, fmt.Sprintf("%s %q was changed by somebody else meanwhile", what, name), "", "read it again and repeat your change")
	}
	return err
}

// Config of a service; zero values take the defaults named.
type Config struct {
	Store      *store.Store
	Keeper     *crypt.Keeper
	Connectors map[string]connector.Factory
	Node       string           // identity of this data folder; only one process uses it at a time
	DataDir    string           // for files sent with a roster
	Files      []string         // folders besides DataDir/files that files of systems may be in
	Outbound   *outbound.Policy // where connections may go; nil is the default policy
	Lease      time.Duration    // how long a silent node keeps its work (default 25 s)
	SealFor    time.Duration    // how long a seal is good (default 24 h)
	RosterAge  time.Duration    // how old a plan's rosters may be when it is sealed or run (default 24 h)
	Now        func() time.Time
	Log        *slog.Logger
}

func (c Config) withDefaults() Config {
	if c.Lease == 0 {
		c.Lease = 25 * time.Second
	}
	if c.SealFor == 0 {
		c.SealFor = 24 * time.Hour
	}
	if c.RosterAge == 0 {
		c.RosterAge = 24 * time.Hour
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	return c
}

// Service performs the use cases.
type Service struct {
	Config
	wake  chan struct{}
	mu    sync.Mutex
	held  map[int64]bool  // tasks that this process is at
	paces map[int64]paced // by system
}

// New makes a service.
func New(cfg Config) *Service {
	return &Service{Config: cfg.withDefaults(), wake: make(chan struct{}, 1), held: map[int64]bool{}, paces: map[int64]paced{}}
}

// Wake tells when new work was queued on this node.
func (s *Service) Wake() <-chan struct{} { return s.wake }

func (s *Service) nudge() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// Ready tells whether the service can work.
func (s *Service) Ready(ctx context.Context) error { return s.Store.Ping(ctx) }

func (s *Service) audit(ctx context.Context, who access.Caller, action, subject string, detail map[string]string) error {
	return s.Store.Audit(ctx, who.Name, action, subject, detail)
}

// What doors need of the rooms behind the service, under its name.
type (
	Caller         = access.Caller
	Right          = access.Right
	Page           = store.Page
	System         = store.System
	Ruling         = store.Ruling
	QuestionFilter = store.QuestionFilter
)
