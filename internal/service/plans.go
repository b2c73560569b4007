package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"twinning/internal/access"
	"twinning/internal/core/naming"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// PlanView is a plan with what stands in its way.
type PlanView struct {
	store.Plan
	Lane      string   `json:"lane"`
	Stopped   bool     `json:"stopped"`   // by a guard; whoever may overrule can seal it
	Obstacles []string `json:"obstacles"` // nobody can seal or run it while these stand
	Run       *int64   `json:"run,omitempty"`
	Total     int      `json:"total"`
	Weights   *int64   `json:"weightsVersion,omitempty"` // by which evidence was weighed; nil: keys alone
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

// Draft makes a plan of the newest result: all of it, or what concerns some
// people or waves.
func (s *Service) Draft(ctx context.Context, who access.Caller, lane string, people, waves []string) (PlanView, error) {
	l, r, err := s.latest(ctx, lane)
	if err != nil {
		return PlanView{}, err
	}
	all, err := s.Store.DraftedChanges(ctx, r.ID)
	if err != nil {
		return PlanView{}, err
	}
	chosen := choose(all, people, waves)
	if len(chosen) == 0 {
		if len(all) == 0 {
			return PlanView{}, fault(Conflict, "there is nothing to change", "the newest reconciliation found every account as it should be", "")
		}
		return PlanView{}, fault(Invalid, "none of the changes is chosen", fmt.Sprintf("%d changes are there", len(all)), "check the ids of the people and the names of the waves")
	}
	if running, err := s.Store.LatestPlan(ctx, l.ID); err == nil && running.State == "running" {
		return PlanView{}, fault(Conflict, fmt.Sprintf("plan %d of this lane is running", running.ID), "", "wait for it, or halt its run")
	}
	p := store.Plan{LaneID: l.ID, Reconciliation: r.ID, By: who.Name}
	verbs, totals := map[string]int{}, []WaveTotal{}
	for _, c := range chosen {
		verbs[c.Verb]++
		if n := len(totals); n > 0 && totals[n-1].Name == c.Wave {
			totals[n-1].Changes++
		} else {
			totals = append(totals, WaveTotal{c.Wave, 1})
		}
	}
	guards, err := s.guards(ctx, l, r, chosen)
	if err != nil {
		return PlanView{}, err
	}
	p.Verbs, p.Waves, p.Guards = asJSON(verbs), asJSON(totals), asJSON(guards)
	p.Hash = planHash(r, chosen)
	id, err := s.Store.AddPlan(ctx, p, chosen)
	if err != nil {
		return PlanView{}, err
	}
	if err := s.audit(ctx, who, "plan.draft", fmt.Sprintf("plan %d", id), map[string]string{"lane": lane, "changes": fmt.Sprint(len(chosen))}); err != nil {
		return PlanView{}, err
	}
	return s.Plan(ctx, id)
}

// choose takes the changes of some people or waves with all they need.
func choose(all []store.Change, people, waves []string) []store.Change {
	if len(people)+len(waves) == 0 {
		return all
	}
	byID := map[string]store.Change{}
	for _, c := range all {
		byID[c.ID] = c
	}
	in := map[string]bool{}
	var add func(c store.Change)
	add = func(c store.Change) {
		if in[c.ID] {
			return
		}
		in[c.ID] = true
		for _, need := range c.Body.V.Needs {
			add(byID[need])
		}
	}
	for _, c := range all {
		if (len(people) == 0 || slices.Contains(people, c.Person)) && (len(waves) == 0 || slices.Contains(waves, c.Wave)) {
			add(c)
		}
	}
	return slices.DeleteFunc(slices.Clone(all), func(c store.Change) bool { return !in[c.ID] })
}

// guards holds the charter's guards against the chosen changes; what is wrong
// with a roster stands whatever is chosen.
func (s *Service) guards(ctx context.Context, l store.Lane, r store.Reconciliation, chosen []store.Change) ([]planning.Reading, error) {
	version, err := s.Store.Charter(ctx, l.ID, r.CharterVersion)
	if err != nil {
		return nil, err
	}
	rules, err := s.parse(ctx, version.Source)
	if err != nil {
		return nil, err
	}
	var all []planning.Reading
	if err := json.Unmarshal(r.Guards, &all); err != nil {
		return nil, err
	}
	var totals planning.Totals
	kept := []planning.Reading{}
	for _, g := range all {
		switch {
		case g.Message != "":
			kept = append(kept, g)
		case g.Of == "twins":
			totals.Twins = g.Denominator
		default:
			totals.People = g.Denominator
		}
	}
	bonds, err := s.Store.Bonds(ctx, l.ID)
	if err != nil {
		return nil, err
	}
	changes := make([]planning.Change, len(chosen))
	for i, c := range chosen {
		changes[i] = c.Body.V
	}
	recent := func(verb string, days int) int { return l.Memory.V.Recent(verb, s.Now().In(rules.Zone), days) }
	return append(kept, planning.Guards(rules.Guards, changes, totals, rules.First && len(bonds) == 0, recent)...), nil
}

// planHash covers everything that decided the plan, and every change of it.
func planHash(r store.Reconciliation, changes []store.Change) string {
	h := sha256.New()
	h.Write(r.Inputs)
	if r.WeightsVersion != nil { // learnt in that very reconciliation, perhaps
		fmt.Fprintf(h, "weights %d", *r.WeightsVersion)
	}
	for _, c := range changes {
		h.Write(asJSON([]any{c.ID, c.Wave, c.Body.V}))
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Plan finds one.
func (s *Service) Plan(ctx context.Context, id int64) (PlanView, error) {
	p, err := s.Store.Plan(ctx, id)
	if err != nil {
		return PlanView{}, about(err, "plan", fmt.Sprint(id))
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
	v := PlanView{Plan: p, Obstacles: []string{}}
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
	r, err := s.Store.Reconciliation(ctx, p.Reconciliation)
	if err != nil {
		return v, err
	}
	v.Weights = r.WeightsVersion
	if p.State == "draft" || p.State == "sealed" || p.State == "halted" {
		v.Obstacles, err = s.obstacles(ctx, l, p)
	}
	return v, err
}

// obstacles lists what keeps a plan from being sealed or run, whoever asks.
func (s *Service) obstacles(ctx context.Context, l store.Lane, p store.Plan) ([]string, error) {
	out := []string{}
	if l.Observing {
		out = append(out, "the lane only observes (twinning lane observe "+l.Name+" --off)")
	}
	x, err := s.Store.SystemByID(ctx, l.DownstreamID)
	if err != nil {
		return nil, err
	}
	if !x.Writable {
		out = append(out, fmt.Sprintf("system %s is read-only (twinning system open %s)", x.Name, x.Name))
	}
	r, err := s.Store.Reconciliation(ctx, p.Reconciliation)
	if err != nil {
		return nil, err
	}
	if p.State == "draft" {
		newest, err := s.Store.LatestReconciliation(ctx, l.ID)
		if err != nil {
			return nil, err
		}
		if newest.ID != r.ID {
			out = append(out, "the lane has been reconciled since; draft a new plan")
		}
	}
	for _, id := range []int64{r.PeopleRoster, r.AccountsRoster} {
		roster, err := s.Store.Roster(ctx, id)
		if err != nil {
			return nil, err
		}
		if roster.Ended != nil && s.Now().Sub(*roster.Ended) > s.RosterAge {
			out = append(out, fmt.Sprintf("the roster of %s is older than %s; take a new one and reconcile", roster.System, s.RosterAge))
		}
	}
	if p.State == "sealed" && p.Expires != nil && s.Now().After(*p.Expires) {
		out = append(out, "the seal has expired; draft and seal anew")
	}
	return out, nil
}

// Changes lists a plan's changes in order.
func (s *Service) Changes(ctx context.Context, plan int64, verb, outcome string, p store.Page) ([]ChangeView, string, int, error) {
	if _, err := s.Store.Plan(ctx, plan); err != nil {
		return nil, "", 0, about(err, "plan", fmt.Sprint(plan))
	}
	list, next, total, err := s.Store.Changes(ctx, plan, verb, outcome, p)
	views := make([]ChangeView, len(list))
	for i, c := range list {
		v := ChangeView{ID: c.ID, Number: c.Number, Wave: c.Wave, Verb: c.Verb, Person: c.Person, Account: c.Account, Label: c.Label, Needs: append([]string{}, c.Body.V.Needs...), Outcome: c.Outcome, Detail: c.Detail, Verified: c.Checked, Edits: []EditView{}}
		for _, e := range c.Body.V.Edits {
			v.Edits = append(v.Edits, EditView{Attribute: e.Attribute, Old: append([]string{}, record.SplitList(e.Old)...), New: append([]string{}, record.SplitList(e.New)...), Reason: e.Reason})
		}
		views[i] = v
	}
	return views, next, total, err
}

// Seal approves exactly the content with the hash. A tripped guard is only
// overruled by somebody who may, with a reason.
func (s *Service) Seal(ctx context.Context, who access.Caller, id int64, hash, overrule string) (PlanView, error) {
	p, err := s.Plan(ctx, id)
	if err != nil {
		return p, err
	}
	switch {
	case p.State != "draft":
		return p, fault(Conflict, fmt.Sprintf("plan %d is %s, only a draft can be sealed", id, p.State), "", "draft a new plan")
	case hash != p.Hash:
		return p, fault(Conflict, "the hash is not this plan's", "what you looked at is not what would be sealed", "show the plan again and seal that")
	case len(p.Obstacles) > 0:
		return p, fault(Stopped, fmt.Sprintf("plan %d can't be sealed", id), strings.Join(p.Obstacles, "; "), "")
	case p.Stopped && overrule == "":
		return p, fault(Stopped, fmt.Sprintf("a guard stops plan %d", id), guardsTripped(p.Guards), "look at the changes it counts; whoever has the right overrule can seal it with a reason")
	case p.Stopped && !who.May(access.Overrule):
		return p, fault(Denied, "overruling a guard needs the right overrule", guardsTripped(p.Guards), "ask somebody who has it")
	case !p.Stopped:
		overrule = ""
	}
	l, err := s.Store.LaneByID(ctx, p.LaneID)
	if err != nil {
		return p, err
	}
	reserved, err := s.namesOf(ctx, id)
	if err != nil {
		return p, err
	}
	err = s.Store.SealPlan(ctx, id, l.DownstreamID, who.Name, overrule, s.Now().Add(s.SealFor), reserved)
	if errors.Is(err, store.ErrTaken) {
		return p, fault(Conflict, "another sealed plan has reserved one of its names", "", "run or void that plan, then reconcile and draft again")
	}
	if err != nil {
		return p, about(err, "plan", fmt.Sprint(id))
	}
	if err := s.Store.ChangeMemory(ctx, l.ID, func(m *reconcile.Memory) { m.Parted = nil }); err != nil {
		return p, err
	}
	if err := s.audit(ctx, who, "plan.seal", fmt.Sprintf("plan %d", id), map[string]string{"hash": hash, "overruled": overrule}); err != nil {
		return p, err
	}
	return s.Plan(ctx, id)
}

func guardsTripped(raw json.RawMessage) string {
	var guards []planning.Reading
	_ = json.Unmarshal(raw, &guards)
	var out []string
	for _, g := range guards {
		switch {
		case !g.Tripped:
		case g.Message != "":
			out = append(out, g.Message)
		default:
			out = append(out, fmt.Sprintf("%d × %s, %d allowed of %d %s", g.Count+g.Recent, g.Verb, g.Allowed, g.Denominator, g.Of))
		}
	}
	return strings.Join(out, "; ")
}

// namesOf lists the logins and addresses that a plan gives out.
func (s *Service) namesOf(ctx context.Context, plan int64) (list []store.Name, err error) {
	changes, err := s.Store.AllChanges(ctx, plan)
	seen := map[string]bool{}
	for _, c := range changes {
		for _, e := range c.Body.V.Edits {
			if name := naming.Fold(e.New); (e.Attribute == "userName" || e.Attribute == "email") && !seen[name] {
				seen[name] = true
				list = append(list, store.Name{Name: name, Person: c.Person})
			}
		}
	}
	return list, err
}

// Void gives a plan up.
func (s *Service) Void(ctx context.Context, who access.Caller, id int64) (PlanView, error) {
	if _, err := s.Plan(ctx, id); err != nil {
		return PlanView{}, err
	}
	if err := s.Store.MovePlan(ctx, id, []string{"draft", "sealed", "halted"}, "void"); err != nil {
		return PlanView{}, fault(Conflict, fmt.Sprintf("plan %d is running, finished or void already", id), "", "")
	}
	if err := s.audit(ctx, who, "plan.void", fmt.Sprintf("plan %d", id), nil); err != nil {
		return PlanView{}, err
	}
	return s.Plan(ctx, id)
}
