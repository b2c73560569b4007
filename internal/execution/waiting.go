package execution

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"sync"

	"twinning/internal/connector"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/reach"
	"twinning/internal/store"
)

// pending is what stands in upload files and no roster shows yet: a row of such
// a file says the whole record, so the next one must say all of it again.
type pending struct {
	mu      sync.Mutex
	values  map[string]map[string][]string // account -> native -> what was asked for
	creates map[string]int64               // person -> the run that asked for an account
}

// pendingOf collects what a system was asked for and no roster shows yet.
func (x *run) pendingOf(ctx context.Context) (*pending, error) {
	p := &pending{values: map[string]map[string][]string{}, creates: map[string]int64{}}
	waiting, err := x.Store.Unsettled(ctx, x.system.ID)
	for _, r := range waiting {
		if r.Outcome != "waiting" {
			continue
		}
		if r.Verb == planning.Create {
			p.creates[r.Person] = r.RunID
		} else {
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

// asked reports whether a value of an account was asked for.
func (p *pending) asked(account, native string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	_, asked := p.values[account][native]
	return asked
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
func (x *run) account(ctx context.Context, id string) (connector.Record, error) {
	if x.script != nil {
		return x.script.account(ctx, id)
	}
	if !x.declared.Deferred {
		return x.one(ctx, id)
	}
	r, err := x.rostered(ctx, id)
	if err != nil {
		return r, err
	}
	return x.pending.over(r), nil
}

// rostered finds an account in the newest roster.
func (x *run) rostered(ctx context.Context, id string) (connector.Record, error) {
	newest, err := x.Store.NewestRoster(ctx, x.system.ID)
	if err != nil {
		return connector.Record{}, err
	}
	r, err := x.Store.RecordAt(ctx, x.system.ID, newest.ID, id)
	if errors.Is(err, store.ErrNotFound) {
		return connector.Record{}, &connector.Error{Kind: connector.NotFound, Doing: "find " + id, Target: "the newest roster", Reason: "it is not there"}
	}
	return connector.Record{ID: r.ID, Values: r.Values.V}, err
}

// RosterTaken looks what a new roster shows of what we did.
func (e *Engine) RosterTaken(ctx context.Context, x store.System, roster int64) error {
	return errors.Join(e.settleWaiting(ctx, x, roster), e.noteReopened(ctx, x, roster), e.noteListed(ctx, x, roster), e.noteRemoved(ctx, x, roster))
}

// noteReopened finds the accounts that we suspended and somebody opened since.
func (e *Engine) noteReopened(ctx context.Context, x store.System, roster int64) error {
	open, err := e.shownOtherwise(ctx, x, roster, "active", "false", e.Store.SuspendedShown)
	if err != nil || len(open) == 0 {
		return err
	}
	return e.Store.Reopened(ctx, x.ID, roster, open)
}

// noteListed finds the accounts that we hid and somebody listed again since.
func (e *Engine) noteListed(ctx context.Context, x store.System, roster int64) error {
	listed, err := e.shownOtherwise(ctx, x, roster, "hidden", "true", e.Store.HiddenShown)
	if err != nil || len(listed) == 0 {
		return err
	}
	return e.Store.Listed(ctx, x.ID, roster, listed)
}

// shownOtherwise are the accounts, of those that each visits, whose attribute a roster shows with
// another value than ours. What could not be read shows nothing.
func (e *Engine) shownOtherwise(ctx context.Context, x store.System, roster int64, attribute, ours string, each func(ctx context.Context, system, roster int64, fn func(id string, native map[string][]string, digest []byte) error) error) (ids []string, err error) {
	shape, err := e.Reach.NewestShape(ctx, x)
	if err != nil {
		return nil, err
	}
	load := shape.NewLoader([]string{attribute})
	if err := each(ctx, x.ID, roster, load.AddStored); err != nil {
		return nil, err
	}
	shown, err := load.Roster()
	if err != nil {
		return nil, err
	}
	for i := range shown.Len() {
		if _, unknown := shown.Present(i); !unknown && shown.Column(attribute).Cell(i) != ours {
			ids = append(ids, shown.ID(i))
		}
	}
	return ids, nil
}

// noteRemoved finds the values of lists that we added and somebody took away since.
func (e *Engine) noteRemoved(ctx context.Context, x store.System, roster int64) error {
	attributes, err := e.Store.AddedAttributes(ctx, x.ID)
	if err != nil || len(attributes) == 0 {
		return err
	}
	shape, err := e.Reach.NewestShape(ctx, x)
	if err != nil {
		return err
	}
	load := shape.NewLoader(attributes)
	if err := e.Store.AddedShown(ctx, x.ID, roster, load.AddStored); err != nil {
		return err
	}
	shown, err := load.Roster()
	if err != nil {
		return err
	}
	for i := range shown.Len() {
		if _, unknown := shown.Present(i); unknown {
			continue
		}
		for _, name := range attributes {
			values := append([]string{}, shown.Column(name).Values(i)...)
			if err := e.Store.StillAdded(ctx, x.ID, roster, shown.ID(i), name, values); err != nil {
				return err
			}
		}
	}
	return nil
}

// settleWaiting looks which of the changes that were waiting for a roster have
// come about. The others go on waiting.
func (e *Engine) settleWaiting(ctx context.Context, x store.System, roster int64) error {
	waiting, err := e.Store.Unsettled(ctx, x.ID)
	if err != nil || len(waiting) == 0 {
		return err
	}
	c, err := e.Reach.Connect(x, reach.For{})
	if err != nil {
		return err
	}
	finds := c.Declare().Finds
	reach.Closed(c)
	shape, err := e.Reach.ShapeOf(x, "")
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
		if err := e.settleRun(ctx, x, shape, finds, roster, id, byRun[id]); err != nil {
			return err
		}
	}
	return nil
}

func (e *Engine) settleRun(ctx context.Context, x store.System, shape record.Shape, finds string, roster, id int64, receipts []store.Receipt) error {
	run, err := e.Store.Run(ctx, id)
	if err != nil {
		return err
	}
	plan, err := e.Store.Plan(ctx, run.Plan)
	if err != nil {
		return err
	}
	lane, err := e.Store.LaneByID(ctx, plan.LaneID)
	if err != nil {
		return err
	}
	shape = shape.In(lane.Location())
	order, err := e.Store.AllChanges(ctx, run.Plan)
	if err != nil {
		return err
	}
	changes := map[int]store.Change{}
	for _, c := range order {
		changes[c.Number] = c
	}
	for _, r := range receipts {
		c := changes[r.Number]
		if c.Body.V.Delivers != nil { // no roster shows it
			continue
		}
		rec, err := e.rosterRecord(ctx, x, r, c, finds)
		if err != nil {
			return err
		}
		if c.Verb == planning.Delete {
			if rec, err = e.goneFrom(ctx, roster, r, rec); err != nil {
				return err
			}
		}
		if rec.ID == "" || !asWanted(shape, rec, c, r.Sent.V) {
			continue
		}
		if c.Verb == planning.Create {
			if known, err := e.Store.KnownAccount(ctx, x.ID, rec.ID, c.ID, r.Intended); err != nil || known != "" {
				if err != nil {
					return err
				}
				continue // somebody has put our mark on what was there: a human decides
			}
		}
		r.Account, r.Outcome, r.After.V, r.Detail, r.Verified = rec.ID, "done", sentOf(r, rec), fmt.Sprintf("roster %d shows it", roster), "confirmed"
		if err := e.Store.Decided(ctx, r, EffectsOf(plan.LaneID, c.Body.V, r)); err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := e.mendSince(ctx, x, r, rec); err != nil {
			return err
		}
	}
	return nil
}

// mendSince changes what still refers to an account by what it was before a rename
// of which nobody heard, and which a roster shows.
func (e *Engine) mendSince(ctx context.Context, x store.System, r store.Receipt, now store.Record) error {
	if r.Verb != planning.Rename || !x.Writable {
		return nil
	}
	c, err := e.Reach.Connect(x, reach.For{})
	if err != nil {
		return err
	}
	defer reach.Closed(c)
	mender, ok := c.(connector.Mender)
	if !ok {
		return nil
	}
	err = mender.Mend(ctx, connector.Record{ID: now.ID, Values: r.Before.V}, connector.Record{ID: now.ID, Values: now.Values.V})
	if err != nil {
		e.Log.Warn("what refers to a renamed account could not be changed", "account", now.ID, "error", err)
	}
	return nil // the roster stands whatever becomes of it
}

// rosterRecord finds what a waiting change was about; empty when it does not
// show.
func (e *Engine) rosterRecord(ctx context.Context, x store.System, r store.Receipt, c store.Change, finds string) (store.Record, error) {
	if c.Verb != planning.Create {
		newest, err := e.Store.NewestRoster(ctx, x.ID)
		if err != nil {
			return store.Record{}, err
		}
		rec, err := e.Store.RecordAt(ctx, x.ID, newest.ID, r.Account)
		if errors.Is(err, store.ErrNotFound) {
			return store.Record{}, nil
		}
		return rec, err
	}
	mark := r.Sent.V[finds]
	if finds == "" || len(mark) != 1 || mark[0] == "" {
		return store.Record{}, nil
	}
	list, err := e.Store.RecordsWith(ctx, x.ID, finds, mark[0])
	if err != nil || len(list) != 1 { // two accounts with one mark: a human decides
		return store.Record{}, err
	}
	return list[0], nil
}

// goneFrom is an account that was to be deleted, if a roster no longer holds it in any
// form; empty else.
func (e *Engine) goneFrom(ctx context.Context, roster int64, r store.Receipt, shown store.Record) (store.Record, error) {
	if shown.ID != "" {
		return store.Record{}, nil
	}
	unread, err := e.Store.MayHide(ctx, roster, r.Account)
	if err != nil || unread {
		return store.Record{}, err
	}
	return store.Record{ID: r.Account}, nil
}

func asWanted(shape record.Shape, rec store.Record, c store.Change, sent map[string][]string) bool {
	for _, x := range c.Body.V.Writes() {
		if src := shape.Attributes[x.Attribute]; src.Refers != "" {
			if !record.SameReferences(rec.Values.V[src.Native], sent[src.Native]) {
				return false
			}
			continue
		}
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
