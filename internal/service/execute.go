package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/store"
)

// run carries a sealed plan out. Every change goes the same way: what it needs
// must be done, the person and the account must be as they were when the plan
// was made, the intent is recorded, it is sent, the answer is read and
// recorded. A run that was cut off goes on behind its last receipt; what was
// sent without an answer is looked up before anything is sent again.
func (s *Service) run(ctx context.Context, w *work) error {
	var p runParams
	if err := json.Unmarshal(w.Params, &p); err != nil {
		return err
	}
	e, err := s.newExecution(ctx, w, p)
	if err != nil {
		return errors.Join(err, s.Store.MovePlan(context.WithoutCancel(ctx), p.Plan, []string{"running"}, "halted"))
	}
	defer closed(e.conn)
	q, err := e.queue(ctx)
	if err != nil {
		return err
	}
	stopped := q.work(ctx)
	if ctx.Err() != nil || w.fenced.Load() {
		return ctx.Err() // another node goes on from here
	}
	if err := e.end(ctx, q, stopped); err != nil {
		return err
	}
	if stopped != "" {
		w.say("%s", stopped)
		return errHalted
	}
	return nil
}

// end closes a run: memory, bonds and the plan's state change together, once.
func (e *execution) end(ctx context.Context, q *queue, stopped string) error {
	return e.s.Store.InTx(ctx, func(tx *store.Store) error {
		state := "finished"
		switch {
		case stopped != "":
			state = "halted"
		case e.params.Wave != "" && q.beyond > 0:
			state = "sealed" // other waves are left to run
		}
		if err := tx.MovePlan(ctx, e.plan.ID, []string{"running"}, state); err != nil {
			return nil // an earlier holder of this task ended it already
		}
		receipts, err := tx.AllReceipts(ctx, e.params.Run)
		if err != nil {
			return err
		}
		by := fmt.Sprintf("run %d", e.params.Run)
		for _, r := range receipts {
			c := e.changes[r.Number]
			if (r.Outcome == "done" || r.Outcome == "unchanged") && c.Verb == planning.Create {
				if err := tx.AddBond(ctx, e.lane.ID, c.Person, r.Account, by); err != nil {
					return err
				}
			}
		}
		if err := tx.AddBondsOf(ctx, e.lane.ID, e.result.ID, by); err != nil {
			return err
		}
		today := e.s.Now().Format(time.DateOnly)
		return tx.ChangeMemory(ctx, e.lane.ID, func(m *reconcile.Memory) { remember(m, receipts, e.changes, today) })
	})
}

// change carries one change out and returns its receipt with an outcome.
func (e *execution) change(ctx context.Context, q *queue, c store.Change) store.Receipt {
	r := store.Receipt{RunID: e.params.Run, Number: c.Number, Change: c.ID, Account: c.Account}
	prior, intended := q.prior[c.Number]
	if intended {
		r = prior
	}
	settle := func(outcome, format string, args ...any) store.Receipt {
		r.Outcome, r.Detail = outcome, fmt.Sprintf(format, args...)
		return r
	}
	if why := q.unmet(c); why != "" {
		return settle("passed-over", "%s", why)
	}
	if why := e.personChanged(ctx, c); why != "" && !intended {
		return settle("stale", "%s", why)
	}
	sender := &sender{e: e, ctx: ctx, c: c, r: &r, q: q}
	if intended {
		if c.Verb == planning.Create { // it is found again by what it was given
			edits, err := e.edits(c, nil)
			if err != nil {
				return settle("in-doubt", "sent without an answer, and can't be looked up: %v", err)
			}
			sender.edits = edits
		}
		if !sender.lookUp(prior.Intended) {
			return r
		}
	}
	return sender.deliver()
}

// personChanged holds the person against the newest roster: somebody who
// changed since the plan was made is not acted upon.
func (e *execution) personChanged(ctx context.Context, c store.Change) string {
	if c.Person == "" || e.newest.ID == e.result.PeopleRoster {
		return ""
	}
	before, err1 := e.s.Store.RecordAt(ctx, e.lane.AuthorityID, e.result.PeopleRoster, c.Person)
	now, err2 := e.s.Store.RecordAt(ctx, e.lane.AuthorityID, e.newest.ID, c.Person)
	switch {
	case err1 != nil || err2 != nil:
		return "the person is not in the newest roster any more"
	case before.Since != now.Since:
		return "the person's record changed since the plan was made"
	}
	return ""
}
