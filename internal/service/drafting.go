package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"twinning/internal/access"
	"twinning/internal/core/charter"
	"twinning/internal/core/planning"
	"twinning/internal/fault"
	"twinning/internal/store"
	"twinning/internal/work"
)

// drafting is what a plan is to be made of: all changes of the lane's newest result, or what
// a selection names.
type drafting struct {
	Reconciliation int64 `json:"reconciliation"`
	Selection
	Asked *Asked `json:"asked,omitempty"` // what somebody asks for beside the result; nil: nothing
}

// Selection names some changes: those that each of its parts names, where it has any.
type Selection struct {
	People   []string `json:"people,omitempty"`
	Waves    []string `json:"waves,omitempty"`
	Findings []string `json:"findings,omitempty"` // of whoever findings of these codes are about: their remedy, where a change is one
}

// all reports that nothing is left out.
func (x Selection) all() bool { return len(x.People)+len(x.Waves)+len(x.Findings) == 0 }

// Draft makes a plan of the newest result: all of it, or what is selected. What rests on something that is no longer so is left out, with
// all that needs it.
func (s *Service) Draft(ctx context.Context, who access.Caller, lane string, which Selection) (PlanView, error) {
	l, r, err := s.latest(ctx, lane)
	if err != nil {
		return PlanView{}, err
	}
	return s.draftNow(ctx, who, l, r, drafting{Reconciliation: r.ID, Selection: which})
}

func (s *Service) draftNow(ctx context.Context, who access.Caller, l store.Lane, r store.Reconciliation, wanted drafting) (PlanView, error) {
	id, fallen, err := s.draft(ctx, who.Name, l, r, wanted, drafter{})
	if err != nil {
		return PlanView{}, err
	}
	v, err := s.Plan(ctx, id)
	v.Fallen = fallen
	return v, err
}

// StartDraft is Draft where nobody should wait for it: a newest result of many changes is
// drafted by a task, which is given instead of the plan.
func (s *Service) StartDraft(ctx context.Context, who access.Caller, lane string, which Selection) (v PlanView, t *store.Task, err error) {
	l, r, err := s.latest(ctx, lane)
	if err != nil {
		return v, nil, err
	}
	all, err := changesOf(r)
	if err != nil {
		return v, nil, err
	}
	wanted := drafting{Reconciliation: r.ID, Selection: which}
	if all < s.DraftOver {
		v, err = s.draftNow(ctx, who, l, r, wanted)
		return v, nil, err
	}
	if err := s.notRunning(ctx, l); err != nil {
		return v, nil, err
	}
	t, err = s.queueDraft(ctx, who, l, wanted)
	return v, t, err
}

// changesOf is how many changes a result has.
func changesOf(r store.Reconciliation) (n int, err error) {
	var verbs map[string]int
	err = json.Unmarshal(r.Changes, &verbs)
	for _, of := range verbs {
		n += of
	}
	return n, err
}

func (s *Service) queueDraft(ctx context.Context, who access.Caller, l store.Lane, wanted drafting) (t *store.Task, err error) {
	err = s.Store.InTx(ctx, func(tx *store.Store) error {
		queued, err := queue(ctx, tx, "draft", "draft a plan of "+l.Name, who, wanted)
		t = &queued
		return err
	})
	s.nudge()
	return t, err
}

// draftLater performs a draft that nobody waits for.
func (s *Service) draftLater(ctx context.Context, w *work.Work) (err error) {
	drafted := false
	defer func() {
		if err != nil && w.Halted() && !drafted { // wherever it was
			w.Say("halted as asked; no plan was drafted")
			err = work.ErrHalted
		}
	}()
	if w.Plan != nil { // somebody's who died before saying so
		return nil
	}
	var wanted drafting
	if err := json.Unmarshal(w.Params, &wanted); err != nil {
		return err
	}
	ctx, cancel := w.Until(ctx)
	defer cancel()
	r, err := s.Store.Reconciliation(ctx, wanted.Reconciliation)
	if err != nil {
		return err
	}
	l, err := s.Store.LaneByID(ctx, r.LaneID)
	if err != nil {
		return err
	}
	if _, newest, err := s.latest(ctx, l.Name); err != nil {
		return err
	} else if newest.ID != r.ID {
		return reconciledSince(l)
	}
	id, fallen, err := s.draft(ctx, w.By, l, r, wanted, drafter{w})
	drafted = id > 0 // whoever asks it to stop from then on is too late
	if err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	p, err := s.Plan(ctx, id)
	if err != nil {
		return err
	}
	if err := w.Progress(p.Total+len(fallen), p.Total+len(fallen), p.Total, len(fallen)); err != nil {
		return err
	}
	lines := make([]store.LogLine, len(fallen))
	for i, f := range fallen {
		lines[i] = store.LogLine{Level: "warning", Subject: f.Label, Message: "left out: " + f.Verb + ": " + f.Reason}
	}
	w.Say("plan %d of %d changes", id, p.Total)
	return s.Store.LogAll(ctx, w.ID, lines)
}

func reconciledSince(l store.Lane) error {
	return fault.New(fault.Conflict, fmt.Sprintf("lane %q was reconciled since the draft was asked for", l.Name), "", "draft it again, of the newest result").Because("premises-fell")
}

// drafter is the task that drafts, if one does.
type drafter struct{ *work.Work }

func (d drafter) progress(done, all int) error {
	if d.Work == nil {
		return nil
	}
	return d.Progress(done, all, done, 0)
}

func (d drafter) link(ctx context.Context, tx *store.Store, plan int64) error {
	if d.Work == nil {
		return nil
	}
	if err := tx.StillOurs(ctx, d.Task); err != nil {
		return err
	}
	return tx.LinkTask(ctx, d.ID, 0, 0, plan, 0)
}

// notRunning refuses while a plan of the lane is being run.
func (s *Service) notRunning(ctx context.Context, l store.Lane) error {
	running, err := s.Store.RunningPlan(ctx, l.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	if stopped, err := s.Store.StopStray(ctx, running.ID); err != nil || stopped {
		return err
	}
	return fault.New(fault.Conflict, fmt.Sprintf("plan %d of this lane is running", running.ID), "", "wait for it, or halt its run").Because("plan-state")
}

// chosen are the changes that a plan is to be made of, of the result or as they are asked for.
func (s *Service) chosen(ctx context.Context, l store.Lane, r store.Reconciliation, wanted drafting) (chosen []store.Change, refused []store.Refusal, origin store.Origin, err error) {
	if wanted.Asked != nil {
		chosen, refused, err = s.draftAsked(ctx, l, r, wanted.Asked)
		return chosen, refused, wanted.Asked.Origin, err
	}
	all, err := s.Store.DraftedChanges(ctx, r.ID)
	if err != nil {
		return nil, nil, origin, err
	}
	selected, err := s.selected(ctx, r, wanted.Selection)
	if err != nil {
		return nil, nil, origin, err
	}
	if selected != nil {
		origin.Kind = store.OfSelection
	}
	chosen = choose(all, selected)
	switch {
	case len(all) == 0:
		return nil, nil, origin, s.nothing(ctx, l, r)
	case len(chosen) == 0:
		return nil, nil, origin, fault.New(fault.Invalid, "this selects none of the changes", fmt.Sprintf("%d changes are there", len(all)), "check the ids of the people, the names of the waves and what the findings are about").Because("nothing-to-do")
	}
	return chosen, nil, origin, s.asideAsBefore(ctx, l, chosen)
}

func (s *Service) draft(ctx context.Context, by string, l store.Lane, r store.Reconciliation, wanted drafting, task drafter) (id int64, fallen []Fallen, err error) {
	all, err := changesOf(r)
	if err != nil {
		return 0, nil, err
	}
	if wanted.Asked == nil { // what is asked for may be in a hurry: what runs now makes way between two changes
		if err := s.notRunning(ctx, l); err != nil {
			return 0, nil, err
		}
	}
	whole := wanted.Asked == nil && wanted.Selection.all() && all > 0
	var d drafted
	if !whole {
		if d, err = s.drafts(ctx, by, l, r, wanted, task); err != nil {
			return 0, nil, err
		}
	}
	err = s.Store.InTx(ctx, func(tx *store.Store) (err error) {
		var laid *store.Laid
		if whole { // most of the time nothing has fallen: all is written while that is looked at, outside of the transaction
			laid = tx.LayPlan(ctx, l.ID, r.ID, by)
			defer laid.Drop()
			if d, err = s.drafts(ctx, by, l, r, wanted, task); err != nil {
				return err
			}
		}
		if id, err = tx.AddPlan(ctx, laid, d.plan, d.changes, d.refused); errors.Is(err, store.ErrChanged) {
			return reconciledSince(l)
		} else if err != nil {
			return err
		}
		if err := task.link(ctx, tx, id); err != nil {
			return err
		}
		origin := d.plan.Origin.V
		return tx.Audit(ctx, by, "plan.draft", fmt.Sprintf("plan %d", id), map[string]string{"lane": l.Name, "changes": fmt.Sprint(len(d.changes) - d.plan.SetAside), "left out": fmt.Sprint(len(d.fallen) + len(d.refused)), "asked": string(origin.Kind), "reason": origin.Reason})
	})
	if err != nil {
		return 0, nil, err
	}
	if store.Long(len(d.changes)) {
		err = s.furnishLater(context.WithoutCancel(ctx), by, fmt.Sprintf("plan %d", id), furnishing{Changes: true})
	}
	return id, d.fallen, err
}

// drafted is a plan that is yet to be kept.
type drafted struct {
	plan    store.Plan
	changes []store.Change
	refused []store.Refusal
	fallen  []Fallen
}

// drafts looks at the changes that are wanted, and makes a plan of those that stand.
func (s *Service) drafts(ctx context.Context, by string, l store.Lane, r store.Reconciliation, wanted drafting, task drafter) (d drafted, err error) {
	d.plan = store.Plan{LaneID: l.ID, Reconciliation: r.ID, By: by}
	chosen, refused, origin, err := s.chosen(ctx, l, r, wanted)
	if err != nil {
		return d, err
	}
	d.refused, d.plan.Origin.V = refused, origin
	rules, err := s.charterOf(ctx, l, r)
	if err != nil {
		return d, err
	}
	fell, err := s.engine.Fallen(ctx, l, store.Plan{}, r, rules, chosen, false, task.progress)
	if err != nil {
		return d, err
	}
	d.fallen = fallenOf(chosen, fell)
	if d.changes = standing(chosen, fell); len(d.changes) == 0 {
		first := d.fallen[0]
		return d, fault.New(fault.Conflict, "nothing is left to change", fmt.Sprintf("all %d changes rest on what is no longer so; %s of %s: %s", len(d.fallen), first.Verb, first.Label, first.Reason), "reconcile again: twinning reconcile "+l.Name).Because("nothing-to-do")
	}
	if d.plan.Lowered.V, err = s.lowered(ctx, l, r, rules); err != nil {
		return d, err
	}
	err = s.fill(ctx, l, r, rules, &d.plan, d.changes)
	return d, err
}

// plansCompared is of how many plans before what is usual is told.
const plansCompared = 10

// fill tells of a draft what its changes come to: those that a human has set aside are counted
// and are in nothing else.
func (s *Service) fill(ctx context.Context, l store.Lane, r store.Reconciliation, rules *charter.Charter, p *store.Plan, all []store.Change) (err error) {
	included := slices.DeleteFunc(slices.Clone(all), func(c store.Change) bool { return c.SetAside != "" })
	p.SetAside = len(all) - len(included)
	verbs, totals := map[string]int{}, []WaveTotal{}
	for _, c := range included {
		verbs[c.Verb]++
		if n := len(totals); n > 0 && totals[n-1].Name == c.Wave {
			totals[n-1].Changes++
		} else {
			totals = append(totals, WaveTotal{c.Wave, 1})
		}
	}
	guards, err := s.guards(ctx, l, r, rules, *p, included)
	if err != nil {
		return err
	}
	past, err := s.Store.SealedVerbs(ctx, l.ID, p.ID, plansCompared)
	if err != nil {
		return err
	}
	whose := make([]planning.Whose, len(included))
	for i, c := range included {
		whose[i] = planning.Whose{Verb: c.Verb, Class: c.Class, Department: c.Department}
	}
	p.Summary.V = planning.Summarise(whose, past)
	p.Verbs, p.Waves, p.Guards = asJSON(verbs), asJSON(totals), asJSON(guards)
	if p.Parts.V, err = s.parts(ctx, l, r, p.Origin.V, included); err != nil {
		return err
	}
	p.Hash = hashOf(p.Parts.V)
	return nil
}

// nothing says why a result has no changes.
func (s *Service) nothing(ctx context.Context, l store.Lane, r store.Reconciliation) error {
	_, _, withheld, err := s.Store.WithheldOf(ctx, r.ID, "", store.Page{Limit: 1, Count: true})
	switch {
	case err != nil:
		return err
	case withheld > 0:
		return fault.New(fault.Conflict, "there is nothing to change for now", fmt.Sprintf("withheld changes: %d", withheld), "see why: twinning lane withheld "+l.Name).Because("nothing-to-do")
	}
	return fault.New(fault.Conflict, "there is nothing to change", "the newest reconciliation found every account as it should be, or asks about it", "").Because("nothing-to-do")
}

// fallenOf names the changes whose premises fell.
func fallenOf(changes []store.Change, fell map[int]string) []Fallen {
	list := []Fallen{}
	if len(fell) == 0 {
		return list
	}
	for _, c := range changes {
		if why, ok := fell[c.Number]; ok {
			list = append(list, Fallen{c.ID, c.Verb, c.Label, why})
		}
	}
	return list
}

// standing leaves out what fell, and what needs it.
func standing(changes []store.Change, fell map[int]string) []store.Change {
	if len(fell) == 0 {
		return changes
	}
	out := along(changes, func(c store.Change) bool { return fell[c.Number] != "" }, true)
	return those(changes, out, false)
}

func (s *Service) charterOf(ctx context.Context, l store.Lane, r store.Reconciliation) (*charter.Charter, error) {
	version, err := s.Store.Charter(ctx, l.ID, r.CharterVersion)
	if err != nil {
		return nil, err
	}
	return s.parse(ctx, version.Source)
}

// selected says of a change whether it is selected; nil is that all are.
func (s *Service) selected(ctx context.Context, r store.Reconciliation, which Selection) (func(store.Change) bool, error) {
	if which.all() {
		return nil, nil
	}
	people, accounts := map[string]bool{}, map[string]bool{}
	if len(which.Findings) > 0 {
		about, err := s.Store.FoundOf(ctx, r.ID, which.Findings)
		if err != nil {
			return nil, err
		}
		for _, f := range about {
			if !f.Accepted {
				people[f.Person], accounts[f.Account] = f.Person != "", f.Account != ""
			}
		}
	}
	return func(c store.Change) bool {
		return (len(which.People) == 0 || slices.Contains(which.People, c.Person)) && (len(which.Waves) == 0 || slices.Contains(which.Waves, c.Wave)) &&
			(len(which.Findings) == 0 || people[c.Person] || accounts[c.Account])
	}, nil
}

// choose takes the changes that are selected with all they need.
func choose(all []store.Change, selected func(store.Change) bool) []store.Change {
	if selected == nil {
		return all
	}
	return those(all, along(all, selected, false), true)
}

// along are the places of some changes and of what goes with them: what they need, or, set
// aside, what needs them.
func along(changes []store.Change, from func(store.Change) bool, aside bool) []bool {
	return planning.Along(len(changes), func(i int) *planning.Change { return &changes[i].Body.V }, func(i int) bool { return from(changes[i]) }, aside)
}

// those are the changes at the places that are in, or at those that are not.
func those(changes []store.Change, in []bool, wanted bool) (list []store.Change) {
	for i := range changes {
		if in[i] == wanted {
			list = append(list, changes[i])
		}
	}
	return list
}
