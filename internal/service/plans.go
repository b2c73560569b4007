package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"twinning/internal/access"
	"twinning/internal/core/lifecycle"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// PlanView is a plan with what stands in its way.
type PlanView struct {
	store.Plan
	Lane      string     `json:"lane"`
	Stopped   bool       `json:"stopped"`   // by a guard; whoever may overrule can seal it
	Obstacles []string   `json:"obstacles"` // nobody can seal or run it while these stand
	Fallen    []Fallen   `json:"fallen"`    // changes that were left out, or stand in the way, for what they rest on
	Run       *int64     `json:"run,omitempty"`
	Total     int        `json:"total"`
	Refused   int        `json:"refused"`                  // asked for, and not in it
	Agreement *Agreement `json:"agreement,omitempty"`      // of a draft: who may seal it
	Weights   *int64     `json:"weightsVersion,omitempty"` // by which evidence was weighed; nil: keys alone
}

// Fallen is a change that rests on what is no longer so.
type Fallen struct {
	Change string `json:"change"`
	Verb   string `json:"verb"`
	Label  string `json:"label"`
	Reason string `json:"reason"`
}

// WaveTotal counts a wave.
type WaveTotal struct {
	Name    string `json:"name"`
	Changes int    `json:"changes"`
}

// ChangeView is a change as doors show it.
type ChangeView struct {
	ID       string     `json:"id"`
	Number   int        `json:"number"`
	Wave     string     `json:"wave"`
	Verb     string     `json:"verb"`
	Person   string     `json:"person,omitempty"`
	Account  string     `json:"account,omitempty"`
	Label    string     `json:"label"`
	Edits    []EditView `json:"edits"`
	Needs    []string   `json:"needs"`
	Unit     string     `json:"unit,omitempty"` // what is done with it, or not at all
	Class    string     `json:"class,omitempty"`
	Of       string     `json:"department,omitempty"`
	SetAside string     `json:"setAside,omitempty"` // why a human did that
	Outcome  string     `json:"outcome,omitempty"`
	Detail   string     `json:"detail,omitempty"`
	Verified string     `json:"verified,omitempty"`
}

// EditView shows one attribute, old beside new.
type EditView struct {
	Attribute string   `json:"attribute"`
	Old       []string `json:"old"`
	New       []string `json:"new"`
	Reason    string   `json:"reason"`
}

// Plan finds one.
func (s *Service) Plan(ctx context.Context, id int64) (PlanView, error) {
	p, err := s.Store.Plan(ctx, id)
	if err != nil {
		return PlanView{}, fault.About(err, "plan", fmt.Sprint(id))
	}
	return s.planView(ctx, p)
}

// Plans lists a lane's, newest first.
func (s *Service) Plans(ctx context.Context, lane string, page store.Page) ([]PlanView, string, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return nil, "", err
	}
	list, next, err := s.Store.Plans(ctx, l.ID, page)
	views := make([]PlanView, 0, len(list))
	for _, p := range list {
		v, err := s.planView(ctx, p)
		if err != nil {
			return nil, "", err
		}
		views = append(views, v)
	}
	return views, next, err
}

func (s *Service) planView(ctx context.Context, p store.Plan) (PlanView, error) {
	v := PlanView{Plan: p, Obstacles: []string{}, Fallen: []Fallen{}}
	l, err := s.Store.LaneByID(ctx, p.LaneID)
	if err != nil {
		return v, err
	}
	v.Lane = l.Name
	var guards []planning.Reading
	var verbs map[string]int
	if err := errors.Join(json.Unmarshal(p.Guards, &guards), json.Unmarshal(p.Verbs, &verbs)); err != nil {
		return v, err
	}
	v.Stopped = len(p.Lowered.V) > 0
	for _, g := range guards {
		v.Stopped = v.Stopped || g.Tripped
	}
	for _, n := range verbs {
		v.Total += n
	}
	if run, err := s.Store.LatestRun(ctx, p.ID); err == nil {
		v.Run = &run.ID
	} else if !errors.Is(err, store.ErrNotFound) {
		return v, err
	}
	if v.Refused, err = s.Store.RefusalCount(ctx, p.ID); err != nil {
		return v, err
	}
	r, err := s.Store.Reconciliation(ctx, p.Reconciliation)
	if err != nil {
		return v, err
	}
	v.Weights = r.WeightsVersion
	if lifecycle.Plans.Allows(p.State, lifecycle.Seal) || lifecycle.Plans.Allows(p.State, lifecycle.Start) {
		if v.Obstacles, err = s.obstacles(ctx, l, p); err != nil {
			return v, err
		}
	}
	if p.State == lifecycle.Draft {
		rules, err := s.charterOf(ctx, l, r)
		if err != nil {
			return v, err
		}
		a, err := s.agreement(ctx, p, rules)
		v.Agreement = &a
		return v, err
	}
	return v, nil
}

// Changes lists a plan's changes in order.
func (s *Service) Changes(ctx context.Context, plan int64, verb, outcome string, p store.Page) ([]ChangeView, string, int, error) {
	of, err := s.Store.Plan(ctx, plan)
	if err != nil {
		return nil, "", 0, fault.About(err, "plan", fmt.Sprint(plan))
	}
	known, asked := 0, p
	if outcome == "" {
		var verbs map[string]int
		if err := json.Unmarshal(of.Verbs, &verbs); err != nil {
			return nil, "", 0, err
		}
		for v, n := range verbs {
			if verb == "" || v == verb {
				known += n
			}
		}
		if of.SetAside == 0 { // else what is set aside is counted too
			asked = uncounted(p)
		}
	}
	list, next, total, err := s.Store.Changes(ctx, plan, verb, outcome, asked)
	if outcome == "" && of.SetAside == 0 {
		total = counted(p, total, known)
	}
	views := make([]ChangeView, len(list))
	for i, c := range list {
		views[i] = changeView(c)
	}
	return views, next, total, err
}

func changeView(c store.Change) ChangeView {
	v := ChangeView{ID: c.ID, Number: c.Number, Wave: c.Wave, Verb: c.Verb, Person: c.Person, Account: c.Account, Label: c.Label, Needs: append([]string{}, c.Body.V.Needs...), Unit: c.Body.V.Unit, Class: c.Class, Of: c.Department, SetAside: c.SetAside, Outcome: c.Outcome, Detail: c.Detail, Verified: c.Checked, Edits: []EditView{}}
	for _, e := range c.Body.V.Edits {
		v.Edits = append(v.Edits, EditView{Attribute: e.Attribute, Old: append([]string{}, record.SplitList(e.Old)...), New: append([]string{}, record.SplitList(e.New)...), Reason: e.Reason})
	}
	return v
}

// Void discards a plan, where it still has the hash; "": any.
func (s *Service) Void(ctx context.Context, who access.Caller, id int64, hash string) (PlanView, error) {
	p, err := s.Plan(ctx, id)
	if err != nil {
		return PlanView{}, err
	}
	if hash != "" && hash != p.Hash {
		return PlanView{}, hashDiffers("what you looked at is not what would be discarded")
	}
	err = s.Store.InTx(ctx, func(tx *store.Store) error {
		if _, err := tx.StopStray(ctx, id); err != nil {
			return err
		}
		if err := tx.MovePlan(ctx, id, lifecycle.Abandon); errors.Is(err, store.ErrChanged) {
			return fault.New(fault.Conflict, fmt.Sprintf("plan %d is running, finished or void already", id), "", "halt its run first, if it is running").Because("plan-state")
		} else if err != nil {
			return err
		}
		if err := tx.DoubtIntents(ctx, id, "sent, and the plan was given up before it was known whether it was done: the next roster shows it"); err != nil {
			return err
		}
		return tx.Audit(ctx, who.Name, "plan.void", fmt.Sprintf("plan %d", id), nil)
	})
	if err != nil {
		return PlanView{}, err
	}
	return s.Plan(ctx, id)
}
