package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"sync"
	"time"

	"twinning/internal/connector"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// pending is what stands in upload files and no roster shows yet: a row of such
// a file says the whole record, so the next one must say all of it again.
type pending struct {
	mu      sync.Mutex
	values  map[string]map[string][]string // account -> native -> what was asked for
	creates map[string]int64               // person -> the run that asked for an account
}

// pendingOf collects what was asked for since the newest roster of a system.
// What an older one did not come about by then is asked for anew.
func (s *Service) pendingOf(ctx context.Context, x store.System) (*pending, error) {
	p := &pending{values: map[string]map[string][]string{}, creates: map[string]int64{}}
	newest, err := s.Store.NewestRoster(ctx, x.ID)
	if err != nil {
		return p, err
	}
	waiting, err := s.Store.Waiting(ctx, x.ID)
	for _, r := range waiting {
		switch {
		case r.Ended == nil || r.Ended.Before(newest.Started):
		case r.Verb == planning.Create:
			p.creates[r.Person] = r.RunID
		default:
			p.note(r.Account, r.Sent.V)
		}
	}
	return p, err
}

func (p *pending) note(account string, sent map[string][]string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.values[account] == nil {
		p.values[account] = map[string][]string{}
	}
	maps.Copy(p.values[account], sent)
}

func (p *pending) over(r connector.Record) connector.Record {
	p.mu.Lock()
	defer p.mu.Unlock()
	r.Values = maps.Clone(r.Values)
	maps.Copy(r.Values, p.values[r.ID])
	return r
}

// account reads an account before it is changed: from the system where it can
// be asked, else from the newest roster and what was asked for since.
func (e *execution) account(ctx context.Context, id string) (connector.Record, error) {
	if !e.declared.Deferred {
		return e.conn.One(ctx, id)
	}
	newest, err := e.s.Store.NewestRoster(ctx, e.system.ID)
	if err != nil {
		return connector.Record{}, err
	}
	r, err := e.s.Store.RecordAt(ctx, e.system.ID, newest.ID, id)
	if errors.Is(err, store.ErrNotFound) {
		return connector.Record{}, &connector.Error{Kind: connector.NotFound, Doing: "find " + id, Target: "the newest roster", Reason: "it is not there"}
	}
	return e.pending.over(connector.Record{ID: r.ID, Values: r.Values.V}), err
}

// settleWaiting looks, once a roster was taken, which of the changes that were
// waiting for it have come about. The others go on waiting.
func (s *Service) settleWaiting(ctx context.Context, x store.System, roster int64) error {
	waiting, err := s.Store.Waiting(ctx, x.ID)
	if err != nil || len(waiting) == 0 {
		return err
	}
	c, err := s.connect(x, reach{})
	if err != nil {
		return err
	}
	finds := c.Declare().Finds
	closed(c)
	shape, err := s.shapeOf(x, "")
	if err != nil {
		return err
	}
	byRun := map[int64][]store.Receipt{}
	var runs []int64
	for _, r := range waiting {
		if byRun[r.RunID] == nil {
			runs = append(runs, r.RunID)
		}
		byRun[r.RunID] = append(byRun[r.RunID], r)
	}
	for _, id := range runs {
		if err := s.settleRun(ctx, x, shape, finds, roster, id, byRun[id]); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) settleRun(ctx context.Context, x store.System, shape record.Shape, finds string, roster, id int64, receipts []store.Receipt) error {
	run, err := s.Store.Run(ctx, id)
	if err != nil {
		return err
	}
	plan, err := s.Store.Plan(ctx, run.Plan)
	if err != nil {
		return err
	}
	order, err := s.Store.AllChanges(ctx, run.Plan)
	if err != nil {
		return err
	}
	changes := map[int]store.Change{}
	for _, c := range order {
		changes[c.Number] = c
	}
	return s.Store.InTx(ctx, func(tx *store.Store) error {
		var shown []store.Receipt
		for _, r := range receipts {
			c := changes[r.Number]
			rec, err := s.rosterRecord(ctx, tx, x, r, c, finds)
			if err != nil {
				return err
			}
			if rec.ID == "" || !asWanted(shape, rec, c) {
				continue
			}
			r.Account, r.Outcome, r.After.V, r.Detail = rec.ID, "done", sentOf(r, rec), fmt.Sprintf("roster %d shows it", roster)
			if err := tx.Shown(ctx, r); err != nil {
				return err
			}
			if c.Verb == planning.Create {
				if err := tx.AddBond(ctx, plan.LaneID, c.Person, r.Account, fmt.Sprintf("run %d", id)); err != nil {
					return err
				}
			}
			shown = append(shown, r)
		}
		if len(shown) == 0 {
			return nil
		}
		today := s.Now().Format(time.DateOnly)
		return tx.ChangeMemory(ctx, plan.LaneID, func(m *reconcile.Memory) { remember(m, shown, changes, today) })
	})
}

// rosterRecord finds what a waiting change was about; empty when it does not
// show.
func (s *Service) rosterRecord(ctx context.Context, tx *store.Store, x store.System, r store.Receipt, c store.Change, finds string) (store.Record, error) {
	if c.Verb != planning.Create {
		newest, err := tx.NewestRoster(ctx, x.ID)
		if err != nil {
			return store.Record{}, err
		}
		rec, err := tx.RecordAt(ctx, x.ID, newest.ID, r.Account)
		if errors.Is(err, store.ErrNotFound) {
			return store.Record{}, nil
		}
		return rec, err
	}
	mark := r.Sent.V[finds]
	if finds == "" || len(mark) != 1 || mark[0] == "" {
		return store.Record{}, nil
	}
	list, err := tx.RecordsWith(ctx, x.ID, finds, mark[0])
	if err != nil || len(list) != 1 { // two accounts with one mark: a human decides
		return store.Record{}, err
	}
	return list[0], nil
}

func asWanted(shape record.Shape, rec store.Record, c store.Change) bool {
	for _, x := range c.Body.V.Edits {
		now, err := shape.NewReader([]string{x.Attribute}).Cell(0, rec.Values.V[shape.Attributes[x.Attribute].Native])
		if err != nil || !record.Same(record.KindOf(x.Attribute), now, x.New) {
			return false
		}
	}
	return true
}

// sentOf keeps of a record what was sent.
func sentOf(r store.Receipt, rec store.Record) map[string][]string {
	kept := map[string][]string{}
	for native := range r.Sent.V {
		kept[native] = append([]string{}, rec.Values.V[native]...)
	}
	return kept
}
