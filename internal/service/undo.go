package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"twinning/internal/access"
	"twinning/internal/core/lifecycle"
	"twinning/internal/core/planning"
	"twinning/internal/fault"
	"twinning/internal/reach"
	"twinning/internal/store"
)

// Undoing says what of a run is undone.
type Undoing struct {
	Wave   string   // "": all
	People []string // nil: everybody
	Reason string
	Until  string // day until which the charter does not do it again; "": thirty days, where it was the charter that did it
}

// StartUndo drafts what gives back the state before a run, where the accounts still hold what
// it wrote; what can't be undone is told beforehand.
func (s *Service) StartUndo(ctx context.Context, who access.Caller, run int64, u Undoing) (v PlanView, t *store.Task, err error) {
	if u.Reason = strings.TrimSpace(u.Reason); u.Reason == "" {
		return v, nil, &fault.Error{Kind: fault.Invalid, Title: "why is it undone?", Detail: "the reason stands beside each change, and beside the day until which it is not done again", Field: "reason"}
	}
	x, err := s.Run(ctx, run)
	if err != nil {
		return v, nil, err
	}
	if !lifecycle.Tasks.IsEnd(x.State) {
		return v, nil, fault.New(fault.Conflict, fmt.Sprintf("run %d is still going on", run), "", fmt.Sprintf("halt it first: twinning run halt %d", run)).Because("busy")
	}
	l, r, err := s.latest(ctx, x.Lane)
	if err != nil {
		return v, nil, err
	}
	if err := s.shownSince(ctx, l, r, x); err != nil {
		return v, nil, err
	}
	p, err := s.Store.Plan(ctx, x.Plan)
	if err != nil {
		return v, nil, err
	}
	asked := Asked{Origin: store.Origin{Kind: store.OfUndo, Run: run, Reason: u.Reason}}
	// what the charter never asked for it does not do again, and what was kept by it is not kept any longer
	if asked.Origin.Until, err = s.until(l, u.Until, !p.Origin.V.Own()); err != nil {
		return v, nil, err
	}
	done, open, err := s.doneBy(ctx, x, u)
	if err != nil {
		return v, nil, err
	}
	seen, err := s.shownOf(ctx, l, x, done)
	if err != nil {
		return v, nil, err
	}
	intents, lasting := planning.Undo(done, fmt.Sprintf("undo of run %d: %s (asked by %s)", run, u.Reason, who.Name), asked.Origin.Until, seen)
	asked.Intents, asked.Beforehand = intents, open
	for _, o := range lasting {
		asked.Beforehand = append(asked.Beforehand, store.Refusal{Person: o.Person, Account: o.Account, Attribute: o.Verb, Reason: o.Reason})
	}
	if len(intents) == 0 {
		return v, nil, nothingDrafted(l, 0, asked.Beforehand)
	}
	return s.startAsked(ctx, who, l, r, asked)
}

// shownOf tells what readings since a run have shown the accounts to hold that it changed. What
// shows late is not gone by until it must show.
func (s *Service) shownOf(ctx context.Context, l store.Lane, x RunView, done []planning.Done) (planning.Seen, error) {
	system, err := s.Store.SystemByID(ctx, l.DownstreamID)
	if err != nil {
		return nil, err
	}
	conn, err := s.reach.Connect(system, reach.For{})
	if err != nil {
		return nil, err
	}
	declared := conn.Declare()
	reach.Closed(conn)
	shape, err := s.reach.NewestShape(ctx, system)
	if err != nil {
		return nil, err
	}
	var accounts, attributes []string
	for _, d := range done {
		accounts = append(accounts, d.Account)
		for _, e := range d.Writes() {
			attributes = append(attributes, e.Attribute)
		}
	}
	type place struct{ account, attribute string }
	cells := map[place][]string{}
	reader := shape.In(l.Location())
	slices.Sort(attributes)
	attributes = slices.Compact(attributes)
	err = s.Store.VersionsSince(ctx, system.ID, accounts, x.Ended.Add(declared.Lag), func(id string, native map[string][]string) error {
		load := reader.NewLoader(attributes)
		if err := load.AddStored(id, native, nil); err != nil {
			return err
		}
		one, err := load.Roster()
		if err != nil {
			return err
		}
		if _, unread := one.Present(0); unread {
			return nil
		}
		for _, name := range attributes {
			if one.Column(name) != nil && shape.Attributes[name].Refers == "" { // a reference is not resolved by its record alone
				cells[place{id, name}] = append(cells[place{id, name}], strings.Clone(one.Column(name).Cell(0)))
			}
		}
		return nil
	})
	return func(account, attribute string) []string { return cells[place{account, attribute}] }, err
}

// shownSince refuses while the lane's newest result does not know what the run did.
func (s *Service) shownSince(ctx context.Context, l store.Lane, r store.Reconciliation, x RunView) error {
	roster, err := s.Store.Roster(ctx, r.AccountsRoster)
	if err != nil {
		return err
	}
	if x.Ended == nil || roster.Started.After(*x.Ended) {
		return nil
	}
	return fault.New(fault.Conflict, fmt.Sprintf("the newest result of lane %q is from before run %d", l.Name, x.ID), "an undo touches only what is still as the run has written it: it must be seen", fmt.Sprintf("twinning roster take %s, then twinning reconcile %s, then undo it", l.Downstream, l.Name)).Because("no-roster")
}

// doneBy are the changes that a run carried out, in their order, and those of which it is not
// known. A unit is undone as a whole, whichever runs of the plan have done it: the state before one
// of them may be that of a name in between.
func (s *Service) doneBy(ctx context.Context, x RunView, u Undoing) (done []planning.Done, open []store.Refusal, err error) {
	changes, err := s.Store.AllChanges(ctx, x.Plan)
	if err != nil {
		return nil, nil, err
	}
	receipts, err := s.Store.AllReceipts(ctx, x.ID)
	if err != nil {
		return nil, nil, err
	}
	by := map[int]store.Receipt{}
	for _, r := range receipts {
		by[r.Number] = r
	}
	meant := func(c store.Change) bool {
		return (u.Wave == "" || c.Wave == u.Wave) && (len(u.People) == 0 || slices.Contains(u.People, c.Person) || slices.Contains(u.People, c.Account))
	}
	units := map[string]bool{}
	for _, c := range changes {
		_, sent := by[c.Number]
		units[c.Body.V.Unit] = units[c.Body.V.Unit] || c.Body.V.Unit != "" && sent && meant(c)
	}
	if slices.ContainsFunc(changes, func(c store.Change) bool { return units[c.Body.V.Unit] }) {
		receipts, err := s.Store.StandingReceipts(ctx, x.Plan)
		if err != nil {
			return nil, nil, err
		}
		whole := map[int]store.Receipt{}
		for _, r := range receipts {
			whole[r.Number] = r
		}
		for _, c := range changes {
			if r, sent := whole[c.Number]; sent && units[c.Body.V.Unit] {
				by[c.Number] = r
			}
		}
	}
	for _, c := range changes {
		r, sent := by[c.Number]
		if !sent || !meant(c) && !units[c.Body.V.Unit] {
			continue
		}
		switch r.Outcome {
		case "done", "different":
			d := planning.Done{Change: c.Body.V, Account: cmp.Or(r.Account, c.Account)}
			done = append(done, d)
		case "waiting", "in-doubt":
			open = append(open, store.Refusal{Person: c.Person, Account: cmp.Or(r.Account, c.Account), Label: c.Label, Attribute: c.Verb, Reason: fmt.Sprintf("it is not known whether it was done (%s): twinning run settle %d %d", r.Outcome, r.RunID, c.Number)})
		}
	}
	if len(done)+len(open) == 0 {
		return nil, nil, fault.New(fault.Conflict, fmt.Sprintf("run %d has done nothing of that", x.ID), "", fmt.Sprintf("see what it did: twinning run receipts %d", x.ID)).Because("nothing-to-do")
	}
	return done, open, nil
}
