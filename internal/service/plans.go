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
	"twinning/internal/core/charter"
	"twinning/internal/core/lifecycle"
	"twinning/internal/core/naming"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// PlanView is a plan with what stands in its way.
type PlanView struct {
	store.Plan
	Lane      string   `json:"lane"`
	Stopped   bool     `json:"stopped"`   // by a guard; whoever may overrule can seal it
	Obstacles []string `json:"obstacles"` // nobody can seal or run it while these stand
	Fallen    []Fallen `json:"fallen"`    // changes that were left out, or stand in the way, for what they rest on
	Run       *int64   `json:"run,omitempty"`
	Total     int      `json:"total"`
	Weights   *int64   `json:"weightsVersion,omitempty"` // by which evidence was weighed; nil: keys alone
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
// people or waves. What rests on something that is no longer so is left out, with
// all that needs it.
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
			return PlanView{}, fault.New(fault.Conflict, "there is nothing to change", "the newest reconciliation found every account as it should be", "")
		}
		return PlanView{}, fault.New(fault.Invalid, "none of the changes is chosen", fmt.Sprintf("%d changes are there", len(all)), "check the ids of the people and the names of the waves")
	}
	if running, err := s.Store.LatestPlan(ctx, l.ID); err == nil && running.State == lifecycle.Running {
		if stopped, err := s.Store.StopStray(ctx, running.ID); err != nil {
			return PlanView{}, err
		} else if !stopped {
			return PlanView{}, fault.New(fault.Conflict, fmt.Sprintf("plan %d of this lane is running", running.ID), "", "wait for it, or halt its run")
		}
	}
	rules, err := s.charterOf(ctx, l, r)
	if err != nil {
		return PlanView{}, err
	}
	fell, err := s.engine.Fallen(ctx, l, store.Plan{}, r, rules, chosen, false)
	if err != nil {
		return PlanView{}, err
	}
	fallen := fallenOf(chosen, fell)
	if chosen = standing(chosen, fell); len(chosen) == 0 {
		return PlanView{}, fault.New(fault.Conflict, "nothing is left to change", fmt.Sprintf("all %d changes rest on what is no longer so; %s of %s: %s", len(fallen), fallen[0].Verb, fallen[0].Label, fallen[0].Reason), "reconcile again: twinning reconcile "+lane)
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
	guards, err := s.guards(ctx, l, r, rules, p, chosen)
	if err != nil {
		return PlanView{}, err
	}
	if p.Lowered.V, err = s.lowered(ctx, l, rules); err != nil {
		return PlanView{}, err
	}
	p.Verbs, p.Waves, p.Guards = asJSON(verbs), asJSON(totals), asJSON(guards)
	if p.Parts.V, err = s.parts(ctx, l, r, chosen); err != nil {
		return PlanView{}, err
	}
	p.Hash = hashOf(p.Parts.V)
	id, err := s.Store.AddPlan(ctx, p, chosen)
	if err != nil {
		return PlanView{}, err
	}
	if err := s.audit(ctx, who, "plan.draft", fmt.Sprintf("plan %d", id), map[string]string{"lane": lane, "changes": fmt.Sprint(len(chosen)), "left out": fmt.Sprint(len(fallen))}); err != nil {
		return PlanView{}, err
	}
	v, err := s.Plan(ctx, id)
	v.Fallen = fallen
	return v, err
}

// fallenOf names the changes whose premises fell.
func fallenOf(changes []store.Change, fell map[int]string) []Fallen {
	list := []Fallen{}
	for _, c := range changes {
		if why, ok := fell[c.Number]; ok {
			list = append(list, Fallen{c.ID, c.Verb, c.Label, why})
		}
	}
	return list
}

// standing leaves out what fell, and what needs it.
func standing(changes []store.Change, fell map[int]string) []store.Change {
	out := map[string]bool{}
	for _, c := range changes {
		out[c.ID] = fell[c.Number] != ""
	}
	for moved := true; moved; {
		moved = false
		for _, c := range changes {
			if !out[c.ID] && slices.ContainsFunc(c.Body.V.Needs, func(need string) bool { return out[need] }) {
				out[c.ID], moved = true, true
			}
		}
	}
	return slices.DeleteFunc(slices.Clone(changes), func(c store.Change) bool { return out[c.ID] })
}

func (s *Service) charterOf(ctx context.Context, l store.Lane, r store.Reconciliation) (*charter.Charter, error) {
	version, err := s.Store.Charter(ctx, l.ID, r.CharterVersion)
	if err != nil {
		return nil, err
	}
	return s.parse(ctx, version.Source)
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

// guards holds the charter's guards against changes, with what other plans did to
// the system, may be doing, and have sealed; what is wrong with a roster stands
// whatever is chosen. p is the plan that the changes are of, if they are of one.
func (s *Service) guards(ctx context.Context, l store.Lane, r store.Reconciliation, rules *charter.Charter, p store.Plan, changes []store.Change) ([]planning.Reading, error) {
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
	bonded, err := s.Store.BondedBefore(ctx, l.ID, p.ID)
	if err != nil {
		return nil, err
	}
	var m reconcile.Memory
	if m.Done, err = s.done(ctx, l, rules); err != nil {
		return nil, err
	}
	pending, err := s.Store.Pending(ctx, l.DownstreamID, p.ID)
	if err != nil {
		return nil, err
	}
	list := make([]planning.Change, 0, len(changes))
	for _, c := range changes {
		if c.Outcome != "done" && c.Outcome != "unchanged" {
			list = append(list, c.Body.V)
		}
	}
	past := planning.Past{
		Recent:  func(verb string, days int) int { return m.Recent(verb, s.Now().In(rules.Zone), days) },
		Pending: func(verb string) int { return pending[verb] },
	}
	return append(kept, planning.Guards(rules.Guards, list, totals, rules.First && !bonded, past)...), nil
}

// lowered names the guards that allow more than those by which the lane's last
// plan was sealed.
func (s *Service) lowered(ctx context.Context, l store.Lane, rules *charter.Charter) ([]string, error) {
	last, err := s.Store.LastSealed(ctx, l.ID)
	if errors.Is(err, store.ErrNotFound) {
		return []string{}, nil
	}
	if err != nil {
		return nil, err
	}
	r, err := s.Store.Reconciliation(ctx, last.Reconciliation)
	if err != nil {
		return nil, err
	}
	before, err := s.charterOf(ctx, l, r)
	if err != nil {
		return nil, err
	}
	return append([]string{}, rules.LooserThan(before)...), nil
}

// parts are what a plan's hash is made of: everything that decided it, where it
// goes, and every change of it.
func (s *Service) parts(ctx context.Context, l store.Lane, r store.Reconciliation, changes []store.Change) ([]store.Part, error) {
	list, err := s.systemParts(ctx, l)
	if err != nil {
		return nil, err
	}
	version, err := s.Store.Charter(ctx, l.ID, r.CharterVersion)
	if err != nil {
		return nil, err
	}
	weights := ""
	if r.WeightsVersion != nil { // learnt in that very reconciliation, perhaps
		w, err := s.Store.WeightsOf(ctx, l.ID, *r.WeightsVersion)
		if err != nil {
			return nil, err
		}
		weights = w.Digest
	}
	h := sha256.New()
	for _, c := range changes {
		h.Write(asJSON([]any{c.ID, c.Wave, c.Body.V}))
	}
	return append(list,
		part("the charter", version.Version, version.Source),
		part("what was reconciled", r.ID, r.PeopleRoster, r.AccountsRoster, r.Inputs),
		part("the weights of evidence", weights),
		store.Part{What: "the list of changes", Digest: hex.EncodeToString(h.Sum(nil))}), nil
}

// systemParts say which systems a plan is about, where they are and how they are
// understood.
func (s *Service) systemParts(ctx context.Context, l store.Lane) (list []store.Part, err error) {
	for _, side := range []struct {
		what   string
		system int64
	}{{"the authority", l.AuthorityID}, {"the downstream", l.DownstreamID}} {
		x, err := s.Store.SystemByID(ctx, side.system)
		if err != nil {
			return nil, err
		}
		origin, err := s.reach.Origin(x)
		if err != nil {
			return nil, err
		}
		shape, err := s.reach.NewestShape(ctx, x)
		if err != nil {
			return nil, err
		}
		list = append(list, part(side.what+" (system, address, shape)", x.ID, x.Name, x.Kind, origin, shape.YAML()))
	}
	return list, nil
}

func part(what string, about ...any) store.Part {
	sum := sha256.Sum256(asJSON(about))
	return store.Part{What: what, Digest: hex.EncodeToString(sum[:])}
}

func hashOf(parts []store.Part) string {
	sum := sha256.Sum256(asJSON(parts))
	return hex.EncodeToString(sum[:])
}

// otherPart computes a plan's hash anew from what is stored, and says which part
// of it is another than it was.
func (s *Service) otherPart(ctx context.Context, p store.Plan) (string, error) {
	l, err := s.Store.LaneByID(ctx, p.LaneID)
	if err != nil {
		return "", err
	}
	r, err := s.Store.Reconciliation(ctx, p.Reconciliation)
	if err != nil {
		return "", err
	}
	changes, err := s.Store.AllChanges(ctx, p.ID)
	if err != nil {
		return "", err
	}
	now, err := s.parts(ctx, l, r, changes)
	if err != nil {
		return "", err
	}
	if other := differing(p.Parts.V, now); other != "" || hashOf(now) == p.Hash {
		return other, nil
	}
	return "the plan itself", nil
}

func differing(before, now []store.Part) string {
	for _, n := range now {
		if !slices.Contains(before, n) {
			return n.What
		}
	}
	return ""
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
	r, err := s.Store.Reconciliation(ctx, p.Reconciliation)
	if err != nil {
		return v, err
	}
	v.Weights = r.WeightsVersion
	if lifecycle.Plans.Allows(p.State, lifecycle.Seal) || lifecycle.Plans.Allows(p.State, lifecycle.Start) {
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
	if newest, err := s.Store.Charter(ctx, l.ID, 0); err != nil {
		return nil, err
	} else if newest.Version != r.CharterVersion {
		out = append(out, fmt.Sprintf("the charter is another since (version %d, was %d); reconcile and draft a new plan", newest.Version, r.CharterVersion))
	}
	if parts, err := s.systemParts(ctx, l); err != nil {
		return nil, err
	} else if other := differing(p.Parts.V, parts); other != "" {
		out = append(out, other+" is another since; void the plan, take rosters, reconcile and draft a new one")
	}
	if p.State == lifecycle.Draft {
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
			out = append(out, fmt.Sprintf("the roster of %s is older than %g h; take a new one and reconcile", roster.System, s.RosterAge.Hours()))
		}
	}
	if p.State != lifecycle.Draft && p.Expires != nil && s.Now().After(*p.Expires) {
		out = append(out, "the seal has expired; draft and seal anew")
	}
	return out, nil
}

// Changes lists a plan's changes in order.
func (s *Service) Changes(ctx context.Context, plan int64, verb, outcome string, p store.Page) ([]ChangeView, string, int, error) {
	if _, err := s.Store.Plan(ctx, plan); err != nil {
		return nil, "", 0, fault.About(err, "plan", fmt.Sprint(plan))
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

// Seal approves exactly the content with the hash. A tripped guard, or one that
// was lowered since the last plan, is only overruled by somebody who may, with a
// reason. Everything is looked at once more while nobody can rule, seal or change
// the charter of the lane.
func (s *Service) Seal(ctx context.Context, who access.Caller, id int64, hash, overrule string) (PlanView, error) {
	p, err := s.Plan(ctx, id)
	if err != nil {
		return p, err
	}
	l, err := s.Store.LaneByID(ctx, p.LaneID)
	if err != nil {
		return p, err
	}
	err = s.Store.InTx(ctx, func(tx *store.Store) error {
		if err := holds(ctx, tx, l); err != nil {
			return err
		}
		if p, err = s.Plan(ctx, id); err != nil {
			return err
		}
		if !lifecycle.Plans.Allows(p.State, lifecycle.Seal) {
			return fault.New(fault.Conflict, fmt.Sprintf("plan %d is %s, only a draft can be sealed", id, p.State), "", "draft a new plan")
		}
		if hash != p.Hash {
			return fault.New(fault.Conflict, "the hash is not this plan's", "what you looked at is not what would be sealed", "show the plan again and seal that")
		}
		if len(p.Obstacles) > 0 {
			return fault.New(fault.Stopped, fmt.Sprintf("plan %d can't be sealed", id), strings.Join(p.Obstacles, "; "), "")
		}
		guards, fell, err := s.lookAgain(ctx, l, p.Plan)
		if err != nil {
			return err
		}
		if len(fell) > 0 {
			p.Fallen = fell
			return fault.New(fault.Stopped, fmt.Sprintf("plan %d can't be sealed", id), fellWords(fell), "reconcile and draft a new plan: twinning reconcile "+l.Name)
		}
		tripped := strings.Join(append(trippedOf(guards), loweredWords(p.Lowered.V)...), "; ")
		switch {
		case tripped == "":
			overrule = ""
		case overrule == "":
			return fault.New(fault.Stopped, fmt.Sprintf("a guard stops plan %d", id), tripped, "look at the changes it counts; whoever has the right overrule can seal it with a reason")
		case !who.May(access.Overrule):
			return fault.New(fault.Denied, "overruling a guard needs the right overrule", tripped, "ask somebody who has it")
		}
		reserved, err := s.namesOf(ctx, id)
		if err != nil {
			return err
		}
		err = tx.SealPlan(ctx, p.Plan, l.DownstreamID, who.Name, overrule, s.Now().Add(s.SealFor), reserved)
		if errors.Is(err, store.ErrTaken) {
			name, plan, lane, err := s.Store.ReservedBy(ctx, l.DownstreamID, reserved)
			if err != nil {
				return fault.About(err, "plan", fmt.Sprint(id))
			}
			return fault.New(fault.Conflict, "another sealed plan has reserved one of its names", fmt.Sprintf("plan %d of lane %s gives out %q", plan, lane, name), fmt.Sprintf("run that plan or give it up (twinning plan void %d), then reconcile and draft again", plan))
		}
		if err != nil {
			return fault.About(err, "plan", fmt.Sprint(id))
		}
		return tx.Audit(ctx, who.Name, "plan.seal", fmt.Sprintf("plan %d", id), map[string]string{"hash": hash, "overruled": overrule, "guards": tripped})
	})
	if err != nil {
		return p, err
	}
	return s.Plan(ctx, id)
}

// lookAgain computes the plan's hash anew, reads the guards as they stand now, and
// says which changes rest on what is no longer so.
func (s *Service) lookAgain(ctx context.Context, l store.Lane, p store.Plan) ([]planning.Reading, []Fallen, error) {
	if other, err := s.otherPart(ctx, p); err != nil {
		return nil, nil, err
	} else if other != "" {
		return nil, nil, fault.New(fault.Stopped, fmt.Sprintf("plan %d is not what it was", p.ID), other+" is another than when it was drafted", "void it, reconcile and draft a new one")
	}
	r, err := s.Store.Reconciliation(ctx, p.Reconciliation)
	if err != nil {
		return nil, nil, err
	}
	rules, err := s.charterOf(ctx, l, r)
	if err != nil {
		return nil, nil, err
	}
	changes, err := s.Store.AllChanges(ctx, p.ID)
	if err != nil {
		return nil, nil, err
	}
	guards, err := s.guards(ctx, l, r, rules, p, changes)
	if err != nil {
		return nil, nil, err
	}
	left := slices.DeleteFunc(changes, func(c store.Change) bool {
		return c.Outcome == "done" || c.Outcome == "unchanged" || c.Outcome == "waiting" || c.Outcome == "in-doubt"
	})
	fell, err := s.engine.Fallen(ctx, l, p, r, rules, left, p.State != lifecycle.Draft)
	return guards, fallenOf(left, fell), err
}

// fellWords tells what fell, the first few by name.
func fellWords(list []Fallen) string {
	const few = 3
	words := make([]string, 0, few+1)
	for i, f := range list {
		if i == few {
			words = append(words, fmt.Sprintf("and %d more", len(list)-few))
			break
		}
		words = append(words, fmt.Sprintf("%s of %s: %s", f.Verb, f.Label, f.Reason))
	}
	return strings.Join(words, "; ")
}

func loweredWords(list []string) (words []string) {
	for _, l := range list {
		words = append(words, "a guard was lowered since the last plan: "+l)
	}
	return words
}

// trippedOf tells which guards stand in the way.
func trippedOf(guards []planning.Reading) (words []string) {
	for _, g := range guards {
		switch {
		case !g.Tripped:
		case g.Message != "":
			words = append(words, g.Message)
		default:
			words = append(words, g.String())
		}
	}
	return words
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
	err := s.Store.InTx(ctx, func(tx *store.Store) error {
		if _, err := tx.StopStray(ctx, id); err != nil {
			return err
		}
		if err := tx.MovePlan(ctx, id, lifecycle.Abandon); errors.Is(err, store.ErrChanged) {
			return fault.New(fault.Conflict, fmt.Sprintf("plan %d is running, finished or void already", id), "", "halt its run first, if it is running")
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
