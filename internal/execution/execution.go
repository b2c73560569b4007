// Package execution carries a sealed plan out and turns it into receipts.
//
// Every change goes the same way: what it needs must be done; it waits for its
// turn, since one run writes to a system at a time; everything it rests on is
// looked at, and the intent recorded, in one transaction; it is sent; the answer
// is read and recorded together with all that follows from it (the twin's bond,
// what we suspended, what we wrote). So whenever this node dies, whoever goes on
// finds either nothing, an intent to look up, or a receipt.
//
// A run ends in one place, whatever ended it: there its plan is moved on, and
// everything else stands in its receipts already.
package execution

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strconv"
	"time"

	"twinning/internal/connector"
	"twinning/internal/core/charter"
	"twinning/internal/core/lifecycle"
	"twinning/internal/core/limits"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/reach"
	"twinning/internal/store"
	"twinning/internal/work"
)

// Params say what a run, or its verification, is about.
type Params struct {
	Plan int64  `json:"plan"`
	Run  int64  `json:"run"`
	Wave string `json:"wave,omitempty"`
	// AnyTime is that the charter's windows are not waited for.
	AnyTime bool `json:"anyTime,omitempty"`
}

// Config of an engine.
type Config struct {
	Store *store.Store
	Reach *reach.Reach
	// Parse reads a charter that was kept.
	Parse func(ctx context.Context, source string) (*charter.Charter, error)
	// Same says which part of a plan is another now than when it was sealed, ""
	// when none is.
	Same func(ctx context.Context, l store.Lane, p store.Plan, r store.Reconciliation, changes []store.Change) (string, error)
	// Limits counts what is scarce in a lane's downstream, with all that was done to it since its
	// newest roster; nil where nothing is.
	Limits func(ctx context.Context, l store.Lane, rules *charter.Charter) (*limits.State, error)
	Post   Post
	Now    func() time.Time
	Log    *slog.Logger
}

// Engine carries runs out.
type Engine struct{ Config }

// New makes one.
func New(cfg Config) *Engine { return &Engine{cfg} }

// Run carries a run's task out. However it ends, its plan can be gone on with.
func (e *Engine) Run(ctx context.Context, w *work.Work) (err error) {
	var p Params
	if err := json.Unmarshal(w.Params, &p); err != nil {
		return err
	}
	event, stopped, paused := lifecycle.Stop, "", ""
	defer func() { // errors and panics included
		if panicked := recover(); panicked != nil {
			err = fmt.Errorf("%w; what was sent stands in its receipts, and it can be started again", fault.Mistake(e.Log, fmt.Sprintf("run %d", p.Run), panicked))
		}
		if w.Lost() || ctx.Err() != nil || store.Away(err) {
			return // another node goes on from here, or this one
		}
		err = errors.Join(err, e.end(ctx, w, p.Plan, event, paused))
	}()
	if w.Deaths >= MaxDeaths {
		w.Say("%s", Exhausted)
		return work.ErrHalted
	}
	x, err := e.open(ctx, w, p)
	if err != nil {
		return err
	}
	defer reach.Closed(x.conn)
	if other, err := e.Same(ctx, x.lane, x.plan, x.result, x.order); err != nil {
		return err
	} else if other != "" { // also at a take-over: what was sealed is what is run
		return fmt.Errorf("%s is not what was sealed any more; void the plan, reconcile and draft anew", other)
	}
	q, err := x.newQueue(ctx)
	if err != nil {
		return err
	}
	stopped, paused = q.work(ctx), q.passes()
	switch {
	case ctx.Err() != nil || w.Lost():
		return ctx.Err()
	case q.away != nil:
		return q.away
	case stopped != "":
		w.Say("%s", stopped)
		return work.ErrHalted
	case q.beyond > 0:
		event = lifecycle.Pause
		if q.stopsAfter != "" {
			w.Say("wave %s is through; changes that wait for a go-ahead: %d. Look at what it did, then run the plan again", q.stopsAfter, q.beyond)
		}
	default:
		event = lifecycle.Complete
	}
	return nil
}

// MaxDeaths is how many processes may end over a task without getting further.
const MaxDeaths = 3

// Exhausted is why such a task is halted.
const Exhausted = "the service ended three times over it without getting further; look at the log of these times, then start it again by hand"

// end moves a plan on once. That it is not running any more was the end by an
// earlier holder of this task.
// Where it is paused, that is after a wave.
func (e *Engine) end(ctx context.Context, w *work.Work, plan int64, event lifecycle.Event, after string) error {
	ours, err := e.Store.Owns(ctx, w.Task)
	if err != nil || !ours {
		return errors.Join(err, store.ErrFenced)
	}
	if event == lifecycle.Pause && after != "" {
		err = e.Store.PausePlan(ctx, plan, event, after)
	} else {
		err = e.Store.MovePlan(ctx, plan, event)
	}
	if errors.Is(err, store.ErrChanged) {
		return nil
	}
	return err
}

// run is one run, or its verification, in the hands of a node.
type run struct {
	*Engine
	w        *work.Work
	params   Params
	lane     store.Lane
	ground   store.Ground
	system   store.System
	conn     connector.Connector
	declared connector.Declaration
	shape    record.Shape
	plan     store.Plan
	result   store.Reconciliation
	charter  *charter.Charter
	changes  map[int]store.Change
	order    []store.Change
	answer   time.Duration // how long an answer may take
	pending  *pending      // of a system that shows writes only in a later roster
	groups   groups        // of the system
	scarce   *scarce       // what the downstream can't do without, and has no more of
	since    *newer        // what came since the rosters that were reconciled
	script   *script       // where changes are put down instead of carried out
}

func (e *Engine) open(ctx context.Context, w *work.Work, p Params) (x *run, err error) {
	x = &run{Engine: e, w: w, params: p, changes: map[int]store.Change{}}
	if x.plan, err = e.Store.Plan(ctx, p.Plan); err != nil {
		return nil, err
	}
	if x.lane, err = e.Store.LaneByID(ctx, x.plan.LaneID); err != nil {
		return nil, err
	}
	if x.system, err = e.Store.SystemByID(ctx, x.lane.DownstreamID); err != nil {
		return nil, err
	}
	if x.result, err = e.Store.Reconciliation(ctx, x.plan.Reconciliation); err != nil {
		return nil, err
	}
	version, err := e.Store.Charter(ctx, x.lane.ID, x.result.CharterVersion)
	if err != nil {
		return nil, err
	}
	if x.charter, err = e.Parse(ctx, version.Source); err != nil {
		return nil, err
	}
	if x.shape, err = e.Reach.NewestShape(ctx, x.system); err != nil {
		return nil, err
	}
	x.shape = x.shape.In(x.charter.Zone)
	if x.order, err = e.Store.AllChanges(ctx, p.Plan); err != nil {
		return nil, err
	}
	for _, c := range x.order {
		x.changes[c.Number] = c
	}
	x.ground = store.Ground{Lane: x.lane.ID, Authority: x.lane.AuthorityID, Downstream: x.lane.DownstreamID, PeopleRoster: x.result.PeopleRoster}
	x.since, x.scarce = &newer{run: x}, &scarce{run: x}
	x.answer = x.seconds("timeout", 10)
	if x.conn, err = e.Reach.Connect(x.system, reach.For{Batch: fmt.Sprintf("run-%d", p.Run)}); err != nil {
		return nil, err
	}
	x.declared = x.conn.Declare()
	if x.declared.Deferred {
		x.pending, err = x.pendingOf(ctx)
	}
	return x, err
}

func (x *run) seconds(name string, fallback int) time.Duration {
	n, err := strconv.Atoi(x.system.Settings.V[name])
	if err != nil || n < 1 {
		n = fallback
	}
	return time.Duration(n) * time.Second
}

// defaultWorkers carry out changes of a system for which nobody set a limit.
const defaultWorkers = 4

// opens is when the run may write by the charter's windows, from an instant on.
func (x *run) opens(now time.Time) time.Time {
	if x.params.AnyTime {
		return now
	}
	return x.charter.Opens(now)
}

// workers is how many changes are in hand at a time: some more than the system may be asked for
// at once, so that it is asked while others are being noted down.
func (x *run) workers() int {
	if n := x.system.AtOnce; n > 0 {
		return n + n/2
	}
	return defaultWorkers
}

// cell is the canonical value of a record's attribute.
func (x *run) cell(r connector.Record, attribute string) (string, error) {
	src, ok := x.shape.Attributes[attribute]
	if !ok {
		return "", fmt.Errorf("the shape of %s names no attribute for %s", x.system.Name, attribute)
	}
	return x.shape.NewReader([]string{attribute}).Cell(0, r.Values[src.Native])
}
