package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"twinning/internal/access"
	"twinning/internal/core/lifecycle"
	"twinning/internal/core/naming"
	"twinning/internal/core/planning"
	"twinning/internal/execution"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// parts are what a plan's hash is made of: everything that decided it, where it
// goes, and every change of it.
func (s *Service) parts(ctx context.Context, l store.Lane, r store.Reconciliation, origin store.Origin, changes []store.Change) ([]store.Part, error) {
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
	for i := range changes {
		c := &changes[i]
		h.Write(asJSON([]any{c.ID, c.Wave, c.Verb, c.Person, c.Account, c.Label, c.Class, c.Department, c.Digest()})) // all that is executed, shown or counted
	}
	return append(list,
		part("the charter", version.Version, version.Source),
		part("what was reconciled", r.ID, r.PeopleRoster, r.AccountsRoster, r.Inputs),
		part("the weights of evidence", weights),
		part("what was asked for", origin),
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
func (s *Service) otherPart(ctx context.Context, l store.Lane, p store.Plan, r store.Reconciliation, changes []store.Change) (string, error) {
	now, err := s.parts(ctx, l, r, p.Origin.V, changes)
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
		out = append(out, fmt.Sprintf("the charter has changed since (version %d, was %d); reconcile and draft a new plan", newest.Version, r.CharterVersion))
	} else if why, err := s.unposted(ctx, p, newest.Source); err != nil {
		return nil, err
	} else if why != "" {
		out = append(out, why)
	}
	if parts, err := s.systemParts(ctx, l); err != nil {
		return nil, err
	} else if other := differing(p.Parts.V, parts); other != "" {
		out = append(out, other+" has changed since; void the plan, take rosters, reconcile and draft a new one")
	}
	if string(p.Waves) == "[]" && p.SetAside > 0 {
		out = append(out, "all its changes are set aside; include some of them again (twinning plan include), or give it up")
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

// hashDiffers refuses an act on a plan that is not what was looked at.
func hashDiffers(detail string) error {
	return fault.New(fault.Conflict, "the hash is not this plan's", detail, "show the plan again, then decide").Because("hash-differs")
}

// Seal approves exactly the content with the hash. A tripped guard, or one that
// allows more than it did, is only overruled by somebody who may, with a
// reason. Everything is looked at once more while nobody can rule, seal or change
// the charter of the lane.
func (s *Service) Seal(ctx context.Context, who access.Caller, id int64, hash, overrule string) (PlanView, error) {
	return s.seal(ctx, who, id, hash, sealing{by: who.Name, overrule: overrule})
}

// sealing is how a plan is sealed.
type sealing struct {
	by       string
	overrule string // why a guard is; "": it is not
	ordinary bool   // by the charter, and no human has looked
}

func (s *Service) seal(ctx context.Context, who access.Caller, id int64, hash string, how sealing) (PlanView, error) {
	overrule := how.overrule
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
			return fault.New(fault.Conflict, fmt.Sprintf("plan %d is %s, only a draft can be sealed", id, p.State), "", "draft a new plan").Because("plan-state")
		}
		if hash != p.Hash {
			return hashDiffers("what you looked at is not what would be sealed")
		}
		if len(p.Obstacles) > 0 {
			return fault.New(fault.Stopped, fmt.Sprintf("plan %d can't be sealed", id), strings.Join(p.Obstacles, "; "), "").Because("obstacle")
		}
		changes, err := s.Store.AllChanges(ctx, id)
		if err != nil {
			return err
		}
		guards, fell, err := s.lookAgain(ctx, l, p.Plan, changes)
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
			return fault.New(fault.Stopped, fmt.Sprintf("a guard stops plan %d", id), tripped, "look at the changes it counts; whoever has the right overrule can seal it with a reason").Because("guard-exceeded")
		case !who.MayIn(access.Overrule, l.Name):
			return fault.New(fault.Denied, "overruling a guard needs the right overrule", tripped, "ask somebody who has it").Because("right-missing")
		}
		reconciled, err := s.Store.Reconciliation(ctx, p.Reconciliation)
		if err != nil {
			return err
		}
		rules, err := s.charterOf(ctx, l, reconciled)
		if err != nil {
			return err
		}
		if err := s.maySeal(ctx, who, p.Plan, rules); err != nil {
			return err
		}
		if how.ordinary { // as it stands now, with nobody in between
			if a, err := s.agreement(ctx, p.Plan, rules); err != nil || !a.Ordinary {
				return cmp.Or(err, error(fault.New(fault.Stopped, fmt.Sprintf("plan %d is not ordinary any more", id), strings.Join(a.Beyond, "; "), "a human looks at it").Because("not-ordinary")))
			}
		}
		reserved := namesOf(changes, rules.Alike)
		err = tx.SealPlan(ctx, p.Plan, l, store.Seal{By: how.by, Ordinary: how.ordinary, Overruled: overrule, Expires: s.Now().Add(s.SealFor)}, reserved)
		if errors.Is(err, store.ErrTaken) {
			r, err := s.Store.ReservedBy(ctx, l.DownstreamID, l.AuthorityID, reserved)
			if err != nil {
				return fault.About(err, "plan", fmt.Sprint(id))
			}
			return fault.New(fault.Conflict, "another sealed plan has reserved one of its names", fmt.Sprintf("plan %d of lane %s gives out %q", r.Plan, r.Lane, r.Name), fmt.Sprintf("run that plan or give it up (twinning plan void %d), then reconcile and draft again", r.Plan)).Because("name-reserved")
		}
		if err != nil {
			return fault.About(err, "plan", fmt.Sprint(id))
		}
		return tx.Audit(ctx, who.Name, "plan.seal", fmt.Sprintf("plan %d", id), map[string]string{"hash": hash, "overruled": overrule, "guards": tripped, "sealed by": how.by})
	})
	if err != nil {
		return p, err
	}
	return s.Plan(ctx, id)
}

// lookAgain computes the hash of a plan with all its changes anew, reads the guards as
// they stand now, and says which changes rest on what is no longer so.
func (s *Service) lookAgain(ctx context.Context, l store.Lane, p store.Plan, changes []store.Change) ([]planning.Reading, []Fallen, error) {
	r, err := s.Store.Reconciliation(ctx, p.Reconciliation)
	if err != nil {
		return nil, nil, err
	}
	if other, err := s.otherPart(ctx, l, p, r, changes); err != nil {
		return nil, nil, err
	} else if other != "" {
		return nil, nil, fault.New(fault.Stopped, fmt.Sprintf("plan %d is not what it was", p.ID), other+" has changed since it was drafted", "void it, reconcile and draft a new one").Because("premises-fell")
	}
	rules, err := s.charterOf(ctx, l, r)
	if err != nil {
		return nil, nil, err
	}
	guards, err := s.guards(ctx, l, r, rules, p, changes)
	if err != nil {
		return nil, nil, err
	}
	left := leftOf(changes)
	fell, err := s.engine.Fallen(ctx, l, p, r, rules, left, p.State != lifecycle.Draft, execution.Unheard)
	if err != nil {
		return nil, nil, err
	}
	beyond, err := s.beyondLimits(ctx, l, rules, p, leftIn(left, fell))
	if err != nil {
		return nil, nil, err
	}
	maps.Copy(fell, beyond)
	return guards, fallenOf(left, fell), err
}

// leftIn are those of some changes that have not fallen, and are not set aside.
func leftIn(changes []store.Change, fell map[int]string) []store.Change {
	return slices.DeleteFunc(slices.Clone(changes), func(c store.Change) bool { return fell[c.Number] != "" || c.SetAside != "" })
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
		words = append(words, "a guard allows more than it did: "+l)
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

// leftOf are the changes that have no outcome that stays.
func leftOf(changes []store.Change) (left []store.Change) {
	for _, c := range changes {
		if !planning.IsFinal(c.Outcome) {
			left = append(left, c)
		}
	}
	return left
}

// namesOf lists the logins, addresses and aliases that changes give out, as they are and as
// the downstream holds them to be one with others.
func namesOf(changes []store.Change, alike naming.Alike) (list []store.Name) {
	seen := map[string]bool{}
	for _, c := range changes {
		for _, e := range c.Body.V.Edits {
			for _, name := range e.NewNames() {
				for _, form := range []string{naming.Fold(name), alike.Fold(name)} {
					if !seen[form] {
						seen[form] = true
						list = append(list, store.Name{Name: form, Person: c.Person})
					}
				}
			}
		}
	}
	return list
}
