// Package service holds the use cases with their rights: take a roster,
// reconcile, draft, seal, run, verify. They are the same for every door, and thin:
// what they do is done in rooms of its own (intake, execution, explain). Whatever
// takes long is queued as a task and performed by a worker of any node.
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
	"twinning/internal/core/budget"
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
	Store        *store.Store
	Keeper       *crypt.Keeper
	Connectors   map[string]connector.Factory
	Settings     map[string]connector.Settings // that kinds of systems declare
	Node         string                        // identity of this data folder; only one process uses it at a time
	DataDir      string                        // for files sent with a roster
	Files        []string                      // folders besides DataDir/files that files of systems may be in
	Outbound     *outbound.Policy              // where connections may go; nil is the default policy
	Lease        time.Duration                 // how long a silent node keeps its work (default 25 s)
	SealFor      time.Duration                 // how long a seal is good (default 24 h)
	RosterAge    time.Duration                 // how old a plan's rosters may be when it is sealed or run (default 24 h)
	MostCompared int                           // records of both rosters on which two charters are compared while somebody waits (default: 100,000)
	DraftOver    int                           // a plan of so many changes is drafted by a task (default: a long list)
	Post         execution.Post                // how letters leave; nil: they can't
	Now          func() time.Time
	Log          *slog.Logger
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
	if c.MostCompared == 0 {
		c.MostCompared = 100000
	}
	if c.DraftOver == 0 {
		c.DraftOver = store.LongList
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
	computing chan struct{} // one place for each reconciliation at a time
	hashes    chan struct{} // and for each password that is checked
	signIns   chan struct{} // and for each attempt to sign in that is counted
	previews  chan struct{} // and for each preview
	shares    sync.Map      // and for each request, by the name of who asks
	exports   chan struct{} // and for each file that is given out
	tallies   sync.Map      // by run: the *tally of one that is going on
	boot      string        // this process
	mu        sync.Mutex
	held      map[int64]bool    // tasks that this process is at
	proposed  map[int64]askedOf // by reconciliation, what asked counts
}

// New makes a service.
func New(cfg Config) *Service {
	s := &Service{Config: cfg.withDefaults(), wake: make(chan struct{}, 1), held: map[int64]bool{}, proposed: map[int64]askedOf{}, computing: make(chan struct{}, 2), hashes: newHashes(), signIns: make(chan struct{}, 2), previews: make(chan struct{}, budget.Previews.Int()), exports: make(chan struct{}, budget.Exports.Int()), boot: crypt.NewID()}
	s.reach = reach.New(reach.Config{Store: s.Store, Keeper: s.Keeper, Connectors: s.Connectors, Outbound: s.Outbound, DataDir: s.DataDir, Files: s.Files})
	s.engine = execution.New(execution.Config{Store: s.Store, Reach: s.reach, Parse: s.parse, Same: s.otherPart, Limits: s.limitsOf, Post: s.post, Now: s.Now, Log: s.Log})
	s.intake = intake.New(intake.Config{Store: s.Store, Reach: s.reach, Now: s.Now, Log: s.Log, Taken: s.engine.RosterTaken})
	s.explainer = explain.New(explain.Config{Store: s.Store, Reach: s.reach, Parse: s.parse})
	return s
}

// post opens a letter.
func (s *Service) post(ctx context.Context, to string) (execution.Letter, error) {
	if s.Post == nil {
		return nil, errors.New("no mail server is set; start the service with --mail smtp://USER@HOST --mail-from ADDRESS")
	}
	return s.Post(ctx, to)
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

// act does something together with its entry in the audit trail: both commit, or
// neither does.
func (s *Service) act(ctx context.Context, who access.Caller, action, subject string, detail map[string]string, do func(tx *store.Store) error) error {
	return s.Store.InTx(ctx, func(tx *store.Store) error {
		if err := do(tx); err != nil {
			return err
		}
		return tx.Audit(ctx, who.Name, action, subject, detail)
	})
}

// onlyTold is the act of something that leaves no trace but its entry.
func onlyTold(*store.Store) error { return nil }

// What doors need of the rooms behind the service, under its name.
type (
	Caller         = access.Caller
	Right          = access.Right
	Page           = store.Page
	System         = store.System
	Ruling         = store.Ruling
	User           = store.User
	Answered       = store.Answered
	QuestionFilter = store.QuestionFilter
	FindingFilter  = store.FindingFilter
	Error          = fault.Error
	Kind           = fault.Kind
)

// Kinds of errors, which doors turn into a status of their own.
const (
	Invalid   = fault.Invalid
	NotFound  = fault.NotFound
	Conflict  = fault.Conflict
	Changed   = fault.Changed
	Denied    = fault.Denied
	NotSigned = fault.NotSigned
	Slow      = fault.Slow
	Malformed = fault.Malformed
	Media     = fault.Media
	Internal  = fault.Internal
	Stopped   = fault.Stopped
)

// Unreadable reports whether an error is that a value can't be kept or looked for.
func Unreadable(err error) bool { return errors.Is(err, store.ErrMalformed) }

// OfAnotherList reports whether an error is that a cursor was given for another list,
// or for the same of what it was of before.
func OfAnotherList(err error) bool { return errors.Is(err, store.ErrOtherList) }

// Mistake logs a mistake of ours and makes the error by which it is told.
func (s *Service) Mistake(doing string, what any) *Error { return fault.Mistake(s.Log, doing, what) }

// DoneBefore reports whether an error is that a request of the same name was carried
// out before.
func DoneBefore(err error) bool { return errors.Is(err, store.ErrDone) }

// Request finds out whether a request that names itself was carried out before;
// done then has its answer. It is done under WithRequest.
func (s *Service) Request(ctx context.Context, who access.Caller, key string, digest func() ([]byte, error)) (request store.Request, done store.Answered, err error) {
	request = store.Request{Caller: fmt.Sprint(who.ID), Key: key, Digest: digest, Nonce: crypt.NewID()}
	done, err = s.Store.FindRequest(ctx, request)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return request, store.Answered{}, nil
	case errors.Is(err, store.ErrOther):
		return request, done, &fault.Error{Cause: "key-reused", Kind: fault.Invalid, Title: "another request was sent under this Idempotency-Key", Field: "Idempotency-Key", Next: "take a new key for each request"}
	case err == nil && done.Status == nil:
		err = fault.New(fault.Conflict, "this request was carried out before", "its Idempotency-Key is the same, and no answer is kept", "look at what is there now")
	}
	return request, done, err
}

// WithRequest lets what is done be done under the name of a request.
func WithRequest(ctx context.Context, r store.Request) context.Context {
	return store.WithRequest(ctx, r)
}

// KeepAnswer keeps what a request was answered.
func (s *Service) KeepAnswer(ctx context.Context, r store.Request, status int, answer []byte) error {
	return s.Store.KeepAnswer(ctx, r, status, answer)
}

// Away reports whether an error is that PostgreSQL was not there to answer.
func Away(err error) bool { return store.Away(err) }

// Share waits for one of the places that each user has, so that nobody's requests
// keep everybody else's waiting; leave gives it back. What streams lasts as long as
// somebody sends or takes, and has places of its own.
func (s *Service) Share(ctx context.Context, who access.Caller, streams bool) (leave func(), err error) {
	most := budget.Requests
	if streams {
		most = budget.Streams
	}
	places, _ := s.shares.LoadOrStore(most.Name+" "+who.Name, make(chan struct{}, most.Int()))
	return s.place(ctx, places.(chan struct{}), most.Name+" of "+who.Name)
}

// placePatience is how long a request waits for one of few places.
const placePatience = 10 * time.Second

// place waits for one of few places; leave gives it back.
func (s *Service) place(ctx context.Context, places chan struct{}, what string) (leave func(), err error) {
	wait, cancel := context.WithTimeout(ctx, placePatience)
	defer cancel()
	select {
	case places <- struct{}{}:
		return func() { <-places }, nil
	case <-wait.Done():
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &fault.Error{Kind: fault.Slow, Title: fmt.Sprintf("%d %s are under way already", cap(places), what), Next: "try again when one of them has ended", Wait: placePatience}
	}
}
