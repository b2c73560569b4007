package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"strings"
	"sync"
	"time"

	"twinning/internal/access"
	"twinning/internal/core/lifecycle"
	"twinning/internal/execution"
	"twinning/internal/fault"
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

// RunOrder is what of a plan is run, and when.
type RunOrder struct {
	Wave    string // "": all
	AnyTime string // why it does not wait for the charter's windows; "": it does
}

// StartRun queues the execution of a sealed plan, whole or one wave. The hash is
// computed anew, and guards are counted anew, with what was done and sealed since.
func (s *Service) StartRun(ctx context.Context, who access.Caller, id int64, hash string, order RunOrder) (RunView, error) {
	p, err := s.Plan(ctx, id)
	if err != nil {
		return RunView{}, err
	}
	l, err := s.Store.LaneByID(ctx, p.LaneID)
	if err != nil {
		return RunView{}, err
	}
	switch {
	case order.AnyTime != "" && !who.MayIn(access.Overrule, l.Name):
		return RunView{}, fault.New(fault.Denied, "writing outside the windows needs the right overrule", "", "ask somebody who has it, or let the run wait for its window").Because("right-missing")
	case (!p.Ordinary || p.PausedAfter != "") && !who.MayIn(access.Seal, l.Name): // what the charter has sealed is run as it is asked for, but for what waits for a human's word
		return RunView{}, fault.New(fault.Denied, "running a plan that humans have sealed needs the right seal", "", "ask somebody who has it").Because("right-missing")
	}
	var run int64
	err = s.Store.InTx(ctx, func(tx *store.Store) error {
		if err := holds(ctx, tx, l); err != nil {
			return err
		}
		if _, err := s.Store.StopStray(ctx, id); err != nil {
			return err
		}
		if err := s.mayStart(ctx, l, id, hash, order.Wave); err != nil {
			return err
		}
		if err := tx.MovePlan(ctx, id, lifecycle.Start); err != nil {
			return fault.About(err, "plan", fmt.Sprint(id))
		}
		t, err := queue(ctx, tx, "run", fmt.Sprintf("run plan %d of %s", id, l.Name), who, struct{}{})
		if err != nil {
			return err
		}
		if run, err = tx.AddRun(ctx, id, t.ID, order.Wave, who.Name); err != nil {
			return err
		}
		if err := tx.SetTaskParams(ctx, t.ID, execution.Params{Plan: id, Run: run, Wave: order.Wave, AnyTime: order.AnyTime != ""}); err != nil {
			return err
		}
		if err := tx.Writes(ctx, t.ID, l.DownstreamID, p.Total); err != nil {
			return err
		}
		if err := tx.LinkTask(ctx, t.ID, 0, 0, id, run); err != nil {
			return err
		}
		return tx.Audit(ctx, who.Name, "plan.run", fmt.Sprintf("plan %d", id), map[string]string{"run": fmt.Sprint(run), "wave": order.Wave, "any time": order.AnyTime})
	})
	if err != nil {
		return RunView{}, err
	}
	s.nudge()
	return s.Run(ctx, run)
}

// mayStart says what keeps a plan from being run.
func (s *Service) mayStart(ctx context.Context, l store.Lane, id int64, hash, wave string) error {
	p, err := s.Plan(ctx, id)
	if err != nil {
		return err
	}
	freeze, err := s.Store.Freeze(ctx)
	if err != nil {
		return err
	}
	var waves []WaveTotal
	if err := json.Unmarshal(p.Waves, &waves); err != nil {
		return err
	}
	named := wave == ""
	for _, w := range waves {
		named = named || w.Name == wave
	}
	switch {
	case !lifecycle.Plans.Allows(p.State, lifecycle.Start):
		return fault.New(fault.Conflict, fmt.Sprintf("plan %d is %s, only a sealed plan can be run", id, p.State), "", "seal it first").Because("plan-state")
	case hash != p.Hash:
		return fault.New(fault.Conflict, "the hash is not this plan's", "", "show the plan again and run that").Because("hash-differs")
	case freeze.On:
		return fault.New(fault.Stopped, "all writing is frozen", fmt.Sprintf("by %s: %s", freeze.By, freeze.Reason), "twinning freeze --off, by somebody with the right overrule").Because("frozen")
	case len(p.Obstacles) > 0:
		return fault.New(fault.Stopped, fmt.Sprintf("plan %d can't be run", id), strings.Join(p.Obstacles, "; "), "").Because("obstacle")
	case !named:
		return &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("plan %d has no wave %q", id, wave), Field: "wave"}
	}
	changes, err := s.Store.AllChanges(ctx, id)
	if err != nil {
		return err
	}
	if wave != "" {
		if err := s.behindGoAhead(ctx, l, p, wave, changes); err != nil {
			return err
		}
	}
	guards, fell, err := s.lookAgain(ctx, l, p.Plan, changes)
	if err != nil {
		return err
	}
	if tripped := trippedOf(guards); len(tripped) > 0 && p.Overruled == "" {
		return fault.New(fault.Stopped, fmt.Sprintf("a guard stops plan %d", id), strings.Join(tripped, "; "), "wait until the days it counts are over, or void the plan, draft it anew and have it sealed by somebody who may overrule").Because("guard-exceeded")
	}
	if len(fell) > 0 && len(fell) == len(leftOf(changes)) {
		return fault.New(fault.Stopped, fmt.Sprintf("nothing of plan %d can be done any more", id), fellWords(fell), "void it, reconcile and draft a new plan").Because("premises-fell")
	}
	return nil
}

// behindGoAhead refuses a wave that is to wait until a human has seen what an earlier one did.
func (s *Service) behindGoAhead(ctx context.Context, l store.Lane, p PlanView, wave string, changes []store.Change) error {
	r, err := s.Store.Reconciliation(ctx, p.Reconciliation)
	if err != nil {
		return err
	}
	rules, err := s.charterOf(ctx, l, r)
	if err != nil {
		return err
	}
	todo := map[string]bool{}
	for _, c := range leftOf(changes) {
		todo[c.Wave] = true
	}
	if stops := rules.StopsAfter(p.PausedAfter, func(w string) bool { return todo[w] }); stops != "" && rules.WaveAt(wave) > rules.WaveAt(stops) {
		return fault.New(fault.Conflict, fmt.Sprintf("wave %q comes after a go-ahead", wave), fmt.Sprintf("wave %q is not through yet, and a human looks at what it did", stops), fmt.Sprintf("run the plan as a whole: it stops after %s, and goes on when it is run again", stops)).Because("plan-state")
	}
	return nil
}

// Runs lists those of a plan with their counts, newest first.
func (s *Service) Runs(ctx context.Context, plan int64) ([]RunView, error) {
	if _, err := s.Plan(ctx, plan); err != nil {
		return nil, err
	}
	runs, err := s.Store.Runs(ctx, plan)
	if err != nil {
		return nil, err
	}
	list := make([]RunView, len(runs))
	for i, r := range runs {
		if list[i], err = s.Run(ctx, r.ID); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// Run finds one with its counts.
func (s *Service) Run(ctx context.Context, id int64) (v RunView, err error) {
	if v.Run, err = s.Store.Run(ctx, id); err != nil {
		return v, fault.About(err, "run", fmt.Sprint(id))
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
	v.Outcomes, v.Verified, err = s.tally(ctx, v.Run)
	return v, err
}

// tally is what a run that is going on has come to, as it was counted last.
type tally struct {
	mu                 sync.Mutex
	until              time.Time // it is counted anew from then on
	outcomes, verified map[string]int
}

// restsFor is how many times as long as a tally takes it is not taken again: however many look
// at a large run, counting its receipts takes next to nothing from it.
const restsFor = 100

// tally counts the receipts of a run by outcome and by what reading them back said: exactly
// when it has ended; while it goes on, all who look share one count.
func (s *Service) tally(ctx context.Context, r store.Run) (outcomes, verified map[string]int, err error) {
	count := func() error {
		if outcomes, err = s.Store.Counts(ctx, r.ID, "outcome"); err != nil {
			return err
		}
		verified, err = s.Store.Counts(ctx, r.ID, "verified")
		return err
	}
	if r.Ended != nil {
		s.tallies.Delete(r.ID)
		err = count()
		return outcomes, verified, err
	}
	kept, _ := s.tallies.LoadOrStore(r.ID, &tally{})
	t := kept.(*tally)
	t.mu.Lock()
	defer t.mu.Unlock()
	if start := time.Now(); !start.Before(t.until) {
		if err := count(); err != nil {
			return nil, nil, err
		}
		t.until = time.Now().Add(restsFor * time.Since(start))
		t.outcomes, t.verified = outcomes, verified
	}
	return maps.Clone(t.outcomes), maps.Clone(t.verified), nil
}

// Halt asks a run to stop after the change it is at.
func (s *Service) Halt(ctx context.Context, who access.Caller, id int64) (RunView, error) {
	r, err := s.Run(ctx, id)
	if err != nil {
		return r, err
	}
	err = s.act(ctx, who, "run.halt", fmt.Sprintf("run %d", id), nil, func(tx *store.Store) error {
		return ended(tx.AskHalt(ctx, r.Task), fmt.Sprintf("run %d has ended", id))
	})
	if err != nil {
		return r, err
	}
	return s.Run(ctx, id)
}

// Receipts lists what a run did, change by change, or to the one with a number.
func (s *Service) Receipts(ctx context.Context, run int64, outcome string, only *int, p store.Page) ([]store.Receipt, string, error) {
	if _, err := s.Store.Run(ctx, run); err != nil {
		return nil, "", fault.About(err, "run", fmt.Sprint(run))
	}
	return s.Store.Receipts(ctx, run, outcome, only, p)
}

// Settle keeps what a human found out about a change that is waiting or in doubt:
// that it was done, to which account, or that it was not.
func (s *Service) Settle(ctx context.Context, who access.Caller, run int64, number int, done bool, account, reason string) (store.Receipt, error) {
	o, err := s.Store.OpenOne(ctx, run, number)
	if err != nil {
		return store.Receipt{}, fault.About(err, "open change", fmt.Sprintf("%d of run %d", number, run))
	}
	if strings.TrimSpace(reason) == "" {
		return o.Receipt, &fault.Error{Kind: fault.Invalid, Title: "why is it so?", Detail: "somebody will ask in a year", Field: "reason"}
	}
	l, err := s.Store.LaneByID(ctx, o.Lane)
	if err != nil {
		return o.Receipt, err
	}
	r := o.Receipt
	if r.Outcome = map[bool]string{true: "done", false: "failed"}[done]; done {
		if r.Account = cmp.Or(r.Account, account); r.Account == "" || account != "" && account != r.Account {
			return o.Receipt, &fault.Error{Kind: fault.Invalid, Title: "which account was made?", Detail: "name it by its id", Field: "account"}
		}
		if err := s.recordExists(ctx, l.DownstreamID, r.Account); err != nil {
			return o.Receipt, err
		}
	}
	r.Detail = fmt.Sprintf("settled by %s: %s", who.Name, reason)
	effects := execution.EffectsOf(l.ID, o.Body.V, r)
	if effects.Bond != nil {
		effects.Bond.Basis = "ruled" // a human says whose the account is
	}
	err = s.act(ctx, who, "run.settle", fmt.Sprintf("run %d, %d", run, number), map[string]string{"outcome": r.Outcome, "reason": reason}, func(tx *store.Store) error {
		if err := tx.HoldLane(ctx, l.ID); err != nil {
			return err
		}
		return fault.About(tx.Decided(ctx, r, effects), "open change", fmt.Sprintf("%d of run %d", number, run))
	})
	if err != nil {
		return o.Receipt, err
	}
	return r, nil
}

// Verify queues reading every account of a run again.
func (s *Service) Verify(ctx context.Context, who access.Caller, run int64) (store.Task, error) {
	r, err := s.Run(ctx, run)
	if err != nil {
		return store.Task{}, err
	}
	if !lifecycle.Tasks.IsEnd(r.State) {
		return store.Task{}, fault.New(fault.Conflict, fmt.Sprintf("run %d is still going on", run), "", "wait for its end").Because("busy")
	}
	var t store.Task
	err = s.act(ctx, who, "run.verify", fmt.Sprintf("run %d", run), nil, func(tx *store.Store) error {
		if t, err = queue(ctx, tx, "verify", fmt.Sprintf("verify run %d of %s", run, r.Lane), who, execution.Params{Plan: r.Plan, Run: run}); err != nil {
			return err
		}
		return tx.LinkTask(ctx, t.ID, 0, 0, r.Plan, run)
	})
	if err == nil {
		s.nudge()
	}
	return t, err
}
