package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"twinning/internal/access"
	"twinning/internal/connector"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// RunView is a run with its counts.
type RunView struct {
	store.Run
	Lane     string         `json:"lane"`
	Total    int            `json:"total"`
	Outcomes map[string]int `json:"outcomes"`
	Verified map[string]int `json:"verified"`
}

type runParams struct {
	Plan int64  `json:"plan"`
	Run  int64  `json:"run"`
	Wave string `json:"wave,omitempty"`
}

// StartRun queues the execution of a sealed plan, whole or one wave.
func (s *Service) StartRun(ctx context.Context, who access.Caller, id int64, hash, wave string) (RunView, error) {
	p, err := s.Plan(ctx, id)
	if err != nil {
		return RunView{}, err
	}
	freeze, err := s.Store.Freeze(ctx)
	if err != nil {
		return RunView{}, err
	}
	var waves []WaveTotal
	if err := json.Unmarshal(p.Waves, &waves); err != nil {
		return RunView{}, err
	}
	known := wave == ""
	for _, w := range waves {
		known = known || w.Name == wave
	}
	switch {
	case p.State != "sealed" && p.State != "halted":
		return RunView{}, fault(Conflict, fmt.Sprintf("plan %d is %s, only a sealed plan can be run", id, p.State), "", "seal it first")
	case hash != p.Hash:
		return RunView{}, fault(Conflict, "the hash is not this plan's", "", "show the plan again and run that")
	case freeze.On:
		return RunView{}, fault(Stopped, "all writing is frozen", fmt.Sprintf("by %s: %s", freeze.By, freeze.Reason), "twinning freeze --off, by somebody with the right overrule")
	case len(p.Obstacles) > 0:
		return RunView{}, fault(Stopped, fmt.Sprintf("plan %d can't be run", id), fmt.Sprint(p.Obstacles), "")
	case !known:
		return RunView{}, &Error{Kind: Invalid, Title: fmt.Sprintf("plan %d has no wave %q", id, wave), Field: "wave"}
	}
	var run int64
	err = s.Store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.MovePlan(ctx, id, []string{"sealed", "halted"}, "running"); err != nil {
			return about(err, "plan", fmt.Sprint(id))
		}
		t, err := tx.AddTask(ctx, "run", fmt.Sprintf("run plan %d of %s", id, p.Lane), who.Name, struct{}{})
		if err != nil {
			return err
		}
		if run, err = tx.AddRun(ctx, id, t.ID, wave, who.Name); err != nil {
			return err
		}
		if err := tx.SetTaskParams(ctx, t.ID, runParams{Plan: id, Run: run, Wave: wave}); err != nil {
			return err
		}
		if err := tx.LinkTask(ctx, t.ID, 0, 0, id, run); err != nil {
			return err
		}
		return tx.Audit(ctx, who.Name, "plan.run", fmt.Sprintf("plan %d", id), map[string]string{"run": fmt.Sprint(run), "wave": wave})
	})
	if err != nil {
		return RunView{}, err
	}
	s.nudge()
	return s.Run(ctx, run)
}

// Run finds one with its counts.
func (s *Service) Run(ctx context.Context, id int64) (v RunView, err error) {
	if v.Run, err = s.Store.Run(ctx, id); err != nil {
		return v, about(err, "run", fmt.Sprint(id))
	}
	p, err := s.Plan(ctx, v.Plan)
	if err != nil {
		return v, err
	}
	v.Lane, v.Total = p.Lane, p.Total
	if v.Wave != "" {
		var waves []WaveTotal
		if err := json.Unmarshal(p.Waves, &waves); err != nil {
			return v, err
		}
		v.Total = 0
		for _, w := range waves {
			if w.Name == v.Wave {
				v.Total += w.Changes
			}
		}
	}
	if v.Outcomes, err = s.Store.Counts(ctx, id, "outcome"); err != nil {
		return v, err
	}
	v.Verified, err = s.Store.Counts(ctx, id, "verified")
	return v, err
}

// Halt asks a run to stop after the change it is at.
func (s *Service) Halt(ctx context.Context, who access.Caller, id int64) (RunView, error) {
	r, err := s.Run(ctx, id)
	if err != nil {
		return r, err
	}
	if err := s.Store.AskHalt(ctx, r.Task); err != nil {
		return r, fault(Conflict, fmt.Sprintf("run %d has ended", id), "", "")
	}
	if err := s.audit(ctx, who, "run.halt", fmt.Sprintf("run %d", id), nil); err != nil {
		return r, err
	}
	return s.Run(ctx, id)
}

// Receipts lists what a run did, change by change.
func (s *Service) Receipts(ctx context.Context, run int64, outcome string, p store.Page) ([]store.Receipt, string, error) {
	if _, err := s.Store.Run(ctx, run); err != nil {
		return nil, "", about(err, "run", fmt.Sprint(run))
	}
	return s.Store.Receipts(ctx, run, outcome, p)
}

// Verify queues reading every account of a run again.
func (s *Service) Verify(ctx context.Context, who access.Caller, run int64) (store.Task, error) {
	r, err := s.Run(ctx, run)
	if err != nil {
		return store.Task{}, err
	}
	if r.State == "queued" || r.State == "running" {
		return store.Task{}, fault(Conflict, fmt.Sprintf("run %d is still going on", run), "", "wait for its end")
	}
	t, err := s.Store.AddTask(ctx, "verify", fmt.Sprintf("verify run %d of %s", run, r.Lane), who.Name, runParams{Plan: r.Plan, Run: run})
	if err != nil {
		return t, err
	}
	if err := s.Store.LinkTask(ctx, t.ID, 0, 0, r.Plan, run); err != nil {
		return t, err
	}
	s.nudge()
	return t, s.audit(ctx, who, "run.verify", fmt.Sprintf("run %d", run), nil)
}

// verify reads again and says of each account: confirmed, not yet visible or
// different.
func (s *Service) verify(ctx context.Context, w *work) error {
	var p runParams
	if err := json.Unmarshal(w.Params, &p); err != nil {
		return err
	}
	e, err := s.newExecution(ctx, w, p)
	if err != nil {
		return err
	}
	defer closed(e.conn)
	receipts, err := s.Store.AllReceipts(ctx, p.Run)
	if err != nil {
		return err
	}
	good, bad := 0, 0
	for i, r := range receipts {
		if r.Outcome != "done" && r.Outcome != "unchanged" {
			continue
		}
		if w.halt.Load() {
			return errHalted
		}
		verdict, detail := e.check(ctx, e.changes[r.Number], r)
		if verdict == "confirmed" {
			good++
		} else {
			bad++
			if err := s.Store.Log(ctx, w.ID, "warning", r.Account, fmt.Sprintf("%s %s: %s %s", r.Verb, r.Label, verdict, detail)); err != nil {
				return err
			}
		}
		if err := s.Store.SetVerified(ctx, p.Run, r.Number, verdict); err != nil {
			return err
		}
		if err := w.progress(i+1, len(receipts), good, bad); err != nil {
			return err
		}
	}
	w.say("%d confirmed, %d not", good, bad)
	return w.progress(len(receipts), len(receipts), good, bad)
}

// check compares an account as it is now with what its change wanted. What a
// later change of the same run wrote over is no difference.
func (e *execution) check(ctx context.Context, c store.Change, r store.Receipt) (verdict, detail string) {
	rec, err := e.conn.One(ctx, r.Account)
	if connector.KindOf(err) == connector.NotFound && err != nil {
		return "different", "the account is gone"
	}
	if err != nil {
		return "not-yet-visible", err.Error()
	}
	for _, x := range c.Body.V.Edits {
		now, bad := e.cell(rec, x.Attribute)
		if bad != nil {
			return "different", bad.Error()
		}
		if record.Same(record.KindOf(x.Attribute), now, x.New) {
			continue
		}
		if record.Same(record.KindOf(x.Attribute), now, x.Old) && e.declared.Lag > 0 && r.Ended != nil && time.Since(*r.Ended) < e.declared.Lag {
			return "not-yet-visible", x.Attribute
		}
		return "different", fmt.Sprintf("%s is %q", x.Attribute, plainList(now))
	}
	return "confirmed", ""
}

// execution is one run, or its verification, in the hands of a node.
type execution struct {
	s        *Service
	w        *work
	params   runParams
	lane     store.Lane
	system   store.System
	conn     connector.Connector
	declared connector.Declaration
	shape    record.Shape
	plan     store.Plan
	result   store.Reconciliation
	changes  map[int]store.Change
	order    []store.Change
	newest   store.Roster // of the people, now
	answer   time.Duration
	pending  *pending // of a system that shows writes only in a later roster
}

func (s *Service) newExecution(ctx context.Context, w *work, p runParams) (*execution, error) {
	e := &execution{s: s, w: w, params: p, changes: map[int]store.Change{}}
	var err error
	if e.plan, err = s.Store.Plan(ctx, p.Plan); err != nil {
		return nil, err
	}
	if e.lane, err = s.Store.LaneByID(ctx, e.plan.LaneID); err != nil {
		return nil, err
	}
	if e.system, err = s.Store.SystemByID(ctx, e.lane.DownstreamID); err != nil {
		return nil, err
	}
	if e.conn, err = s.connect(e.system, reach{batch: fmt.Sprintf("run-%d", p.Run)}); err != nil {
		return nil, err
	}
	e.declared = e.conn.Declare()
	if e.shape, err = s.shapeOf(e.system, ""); err != nil {
		return nil, err
	}
	if e.result, err = s.Store.Reconciliation(ctx, e.plan.Reconciliation); err != nil {
		return nil, err
	}
	if e.order, err = s.Store.AllChanges(ctx, p.Plan); err != nil {
		return nil, err
	}
	for _, c := range e.order {
		e.changes[c.Number] = c
	}
	e.newest, err = s.Store.NewestRoster(ctx, e.lane.AuthorityID)
	e.answer = e.setting("timeout", 10)
	if err == nil && e.declared.Deferred {
		e.pending, err = s.pendingOf(ctx, e.system)
	}
	return e, err
}

func (e *execution) setting(name string, fallback int) time.Duration {
	n, err := strconv.Atoi(e.system.Settings.V[name])
	if err != nil || n < 1 {
		n = fallback
	}
	return time.Duration(n) * time.Second
}

// defaultWorkers carry out changes of a system for which nobody set a limit.
const defaultWorkers = 4

// workers is how many changes are carried out at a time: no more than the
// system may be asked for.
func (e *execution) workers() int {
	if e.system.AtOnce > 0 {
		return e.system.AtOnce
	}
	return defaultWorkers
}

// cell is the canonical value of a record's attribute.
func (e *execution) cell(r connector.Record, attribute string) (string, error) {
	src, ok := e.shape.Attributes[attribute]
	if !ok {
		return "", fmt.Errorf("the shape of %s names no attribute for %s", e.system.Name, attribute)
	}
	reader := e.shape.NewReader([]string{attribute})
	return reader.Cell(0, r.Values[src.Native])
}

var errNoNative = errors.New("the shape names no native attribute")

// edits turns canonical edits into native ones, given the record as it is now
// (nil for a new one). Attributes that share a native one are edited together,
// and what the shape does not speak of stays.
func (e *execution) edits(c store.Change, rec *connector.Record) ([]connector.Edit, error) {
	out := make([]connector.Edit, 0, len(c.Body.V.Edits))
	for _, x := range c.Body.V.Edits {
		src, ok := e.shape.Attributes[x.Attribute]
		switch {
		case !ok || src.Native == "":
			return nil, fmt.Errorf("%w for %s", errNoNative, x.Attribute)
		case src.Refers != "":
			return nil, fmt.Errorf("%s is a reference by %s, which is read but can't be written yet", x.Attribute, src.Refers)
		}
		i := slices.IndexFunc(out, func(o connector.Edit) bool { return o.Native == src.Native })
		if i < 0 {
			edit := connector.Edit{Native: src.Native}
			if rec != nil {
				edit.Old = rec.Values[src.Native]
			}
			edit.New = edit.Old
			i, out = len(out), append(out, edit)
		}
		encoded, err := src.Encode(record.KindOf(x.Attribute), record.SplitList(x.New), out[i].New)
		if err != nil {
			return nil, err
		}
		out[i].New = encoded
	}
	return out, nil
}
