package execution

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"twinning/internal/connector"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/reach"
	"twinning/internal/store"
)

// ErrNoScript is a system whose changes can't be put down.
var ErrNoScript = errors.New("only changes of a directory can be put down as LDIF")

// PutDown is a change as it would be sent: as records, or why it can't be told.
type PutDown struct {
	Change  store.Change
	Records []connector.ChangeRecord
	Why     string // there are none
}

// script is how accounts would be in the course of a plan that is put down: as the rosters it
// rests on show them, and with what is put down already.
type script struct {
	*run
	scripter connector.Scripter
	accounts map[string]connector.Record // by id, or by the change that makes it
	making   map[string]string           // of changes of an account that is made here: the one that makes it
	left     map[string]int              // numbers of the changes that can't be put down, by their ids
	coming   map[string]string           // ids of the groups that would be made, by normalised name
}

// Script puts down what is left to be done of a plan, in the order of its changes, without
// writing anything. It rests on the rosters that the plan rests on; where groups are, their
// directory is asked.
func (e *Engine) Script(ctx context.Context, plan int64, each func(PutDown) error) error {
	x, err := e.open(ctx, nil, Params{Plan: plan})
	if err != nil {
		return err
	}
	defer reach.Closed(x.conn)
	scripter, ok := connector.ScripterOf(x.conn)
	if !ok {
		return ErrNoScript
	}
	broken := map[string]PutDown{} // units, by the change of theirs that can't be put down: none is
	var list []PutDown
	for whole := false; !whole; {
		if list, whole, err = x.putDown(ctx, scripter, broken); err != nil {
			return err
		}
	}
	for _, p := range list {
		if err := each(p); err != nil {
			return err
		}
	}
	return nil
}

// putDown puts a plan down without the units that are broken. It is not the whole of it where
// it finds another: what stands already may rest on that.
func (x *run) putDown(ctx context.Context, scripter connector.Scripter, broken map[string]PutDown) (list []PutDown, whole bool, err error) {
	s := &script{run: x, scripter: scripter, accounts: map[string]connector.Record{}, making: map[string]string{}, left: map[string]int{}, coming: map[string]string{}}
	x.script, whole = s, true
	for _, c := range x.order {
		if planning.IsFinal(c.Outcome) {
			continue
		}
		unit := c.Body.V.Unit
		p := PutDown{Change: c}
		switch first, is := broken[unit]; {
		case is && first.Change.Number == c.Number:
			err = errors.New(first.Why)
		case is:
			err = fmt.Errorf("change %d, with which it is done together or not at all, is not here", first.Change.Number)
		default:
			p.Records, err = s.put(ctx, c)
		}
		if slices.Contains(silent, connector.KindOf(err)) || store.Away(err) || ctx.Err() != nil {
			return nil, false, cmp.Or(err, ctx.Err())
		}
		if err != nil {
			p.Records, p.Why, s.left[c.ID] = nil, err.Error(), c.Number
			if _, is := broken[unit]; unit != "" && !is {
				broken[unit], whole = p, false
			}
		}
		list = append(list, p)
	}
	return list, whole, nil
}

// silent are the kinds of error by which a system says nothing about any change.
var silent = []connector.Kind{connector.Unreachable, connector.Denied, connector.Throttled, connector.Unanswered}

// account is an account as it would be by now.
func (s *script) account(ctx context.Context, id string) (connector.Record, error) {
	if known, ok := s.accounts[id]; ok {
		return known, nil
	}
	r, err := s.Store.RecordAt(ctx, s.system.ID, s.result.AccountsRoster, id)
	if errors.Is(err, store.ErrNotFound) {
		return connector.Record{}, fmt.Errorf("roster %d of %s does not show account %q", s.result.AccountsRoster, s.system.Name, id)
	}
	if err != nil || len(r.Values.V["dn"]) == 1 {
		return connector.Record{ID: r.ID, Values: r.Values.V}, err
	}
	now, err := s.one(ctx, id) // the shape does not ask for its name, which everything here needs
	if err != nil {
		return connector.Record{}, err
	}
	values := maps.Clone(r.Values.V)
	values["dn"] = now.Values["dn"]
	return connector.Record{ID: r.ID, Values: values}, nil
}

// about is the place among the accounts of the one that a change is about.
func (s *script) about(c store.Change) (string, error) {
	switch {
	case c.Account != "":
		return c.Account, nil
	case c.Verb == planning.Create:
		s.making[c.ID] = c.ID
		return c.ID, nil
	}
	for _, need := range c.Body.V.Needs {
		if create := s.making[need]; create != "" {
			s.making[c.ID] = create
			return create, nil
		}
	}
	return "", errors.New("its account was made by an earlier run: the next plan goes on from there")
}

func (s *script) put(ctx context.Context, c store.Change) ([]connector.ChangeRecord, error) {
	for _, need := range c.Body.V.Needs {
		if number, left := s.left[need]; left {
			return nil, fmt.Errorf("change %d, which it needs done first, is not here", number)
		}
	}
	if c.Body.V.Delivers != nil {
		return nil, errors.New("secrets and letters are handed over by a run alone, and never stand in a file of changes")
	}
	account, err := s.about(c)
	if err != nil {
		return nil, err
	}
	var w connector.Write
	if c.Verb != planning.Create {
		rec, err := s.account(ctx, account)
		if err != nil {
			return nil, err
		}
		w.Record = &rec
	}
	if c.Verb == planning.Delete {
		gone, err := s.scripter.ScriptDelete(*w.Record)
		return []connector.ChangeRecord{gone}, err
	}
	if s.byGroups(c) {
		return s.memberships(ctx, c, *w.Record)
	}
	if w.Edits, err = s.nativeEditsOf(ctx, c, w.Record); err != nil {
		return nil, err
	}
	list, after, err := s.scripter.Script(w)
	if err != nil {
		return nil, err
	}
	s.accounts[account] = after
	return list, nil
}

func (s *script) memberships(ctx context.Context, c store.Change, who connector.Record) (list []connector.ChangeRecord, err error) {
	s.groups.mu.Lock()
	defer s.groups.mu.Unlock()
	for _, p := range s.passages(c) {
		key := record.Normal(record.Text, p.group)
		id, made := s.coming[key]
		if !made {
			if id, err = s.groupID(ctx, p.group); err != nil {
				return nil, err
			}
		}
		if id == "" && !p.in {
			continue // a group that is not there is left already
		}
		var rec connector.ChangeRecord
		if id == "" {
			s.coming[key], rec, err = s.scripter.ScriptGroup(p.group, who)
		} else {
			rec, err = s.scripter.ScriptMember(ctx, who, connector.Passage{Group: id, Made: made, In: p.in, Owns: p.owns})
		}
		if err != nil {
			return nil, err
		}
		list = append(list, rec)
	}
	return list, nil
}
