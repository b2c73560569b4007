// Package service holds the use cases with their rights: take a roster,
// reconcile, draft, seal, run, verify. They are the same for every door, and thin:
// what they do is done in rooms of its own (intake, execution, explain). Whatever
// takes long is queued as a task and performed by a worker of any node.
package service

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"twinning/internal/access"
	"twinning/internal/connector"
	"twinning/internal/connector/outbound"
	"twinning/internal/core/reconcile"
	"twinning/internal/crypt"
	"twinning/internal/execution"
	"twinning/internal/explain"
	"twinning/internal/fault"
	"twinning/internal/intake"
	"twinning/internal/reach"
	"twinning/internal/store"
)

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
	reach     *reach.Reach
	intake    *intake.Intake
	engine    *execution.Engine
	explainer *explain.Explainer
	wake      chan struct{}
	mu        sync.Mutex
	held      map[int64]bool // tasks that this process is at
}

// New makes a service.
func New(cfg Config) *Service {
	s := &Service{Config: cfg.withDefaults(), wake: make(chan struct{}, 1), held: map[int64]bool{}}
	s.reach = reach.New(reach.Config{Store: s.Store, Keeper: s.Keeper, Connectors: s.Connectors, Outbound: s.Outbound, DataDir: s.DataDir, Files: s.Files})
	s.engine = execution.New(execution.Config{Store: s.Store, Reach: s.reach, Parse: s.parse, Same: s.otherPart, Now: s.Now, Log: s.Log})
	s.intake = intake.New(intake.Config{Store: s.Store, Reach: s.reach, Now: s.Now, Taken: s.engine.RosterTaken})
	s.explainer = explain.New(explain.Config{Store: s.Store, Reach: s.reach, Input: func(ctx context.Context, lane int64) (reconcile.Input, error) {
		in, err := s.laneInput(ctx, lane)
		return in.Input, err
	}})
	return s
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
	Error          = fault.Error
	Kind           = fault.Kind
)

// Kinds of errors, which doors turn into a status of their own.
const (
	Invalid   = fault.Invalid
	NotFound  = fault.NotFound
	Conflict  = fault.Conflict
	Denied    = fault.Denied
	NotSigned = fault.NotSigned
	Slow      = fault.Slow
	Stopped   = fault.Stopped
)

// Away reports whether an error is that PostgreSQL was not there to answer.
func Away(err error) bool { return store.Away(err) }
