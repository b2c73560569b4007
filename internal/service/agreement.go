package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"twinning/internal/access"
	"twinning/internal/core/charter"
	"twinning/internal/core/planning"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// Agreement is who may seal a plan, by the charter.
type Agreement struct {
	// Second is why whoever drafted it, or decided what is in it, may not seal it; "": they may.
	Second string   `json:"second,omitempty"`
	Makers []string `json:"makers"` // who that is; none where anybody may seal
	// Ordinary is that it can be sealed without a human; else Beyond says why not. Neither is
	// told where the charter calls no plan ordinary.
	Ordinary bool     `json:"ordinary"`
	Beyond   []string `json:"beyond"`
}

// bySealer is the name under which the charter seals.
const bySealer = "the charter"

// agreement is what the charter asks of whoever seals a plan. What stands in the way, whoever
// it is, is told elsewhere.
func (s *Service) agreement(ctx context.Context, p store.Plan, rules *charter.Charter) (a Agreement, err error) {
	var verbs map[string]int
	var guards []planning.Reading
	if err := errors.Join(json.Unmarshal(p.Verbs, &verbs), json.Unmarshal(p.Guards, &guards)); err != nil {
		return a, err
	}
	twins := 0
	for _, g := range guards {
		if g.Of == "twins" {
			twins = g.Denominator
		}
	}
	classes := map[string]int{}
	for _, c := range p.Summary.V.Classes {
		classes[c.Name] = c.Count
	}
	a.Second, a.Makers, a.Beyond = rules.Seals.Second.Needs(verbs, classes, twins), []string{}, []string{}
	if a.Second != "" {
		if a.Makers, err = s.makers(ctx, p); err != nil {
			return a, err
		}
	}
	if rules.Seals.Ordinary == nil {
		return a, nil
	}
	a.Beyond = rules.Seals.Beyond(verbs)
	if a.Second != "" {
		a.Beyond = append(a.Beyond, "it needs a second person: "+a.Second)
	}
	if p.Origin.V.Kind != store.OfResult {
		a.Beyond = append(a.Beyond, "a human has asked for it")
	}
	if len(p.Lowered.V) > 0 || slices.ContainsFunc(guards, func(g planning.Reading) bool { return g.Tripped }) {
		a.Beyond = append(a.Beyond, "a guard stops it")
	}
	moved, err := s.movedSince(ctx, p)
	if err != nil {
		return a, err
	}
	a.Beyond = append(a.Beyond, moved...)
	if len(a.Beyond) == 0 { // every change is looked at, and an ordinary plan has few
		if n, err := s.Store.WeighedChanges(ctx, p.ID); err != nil {
			return a, err
		} else if n > 0 {
			a.Beyond = append(a.Beyond, fmt.Sprintf("%d changes rest on twins by evidence alone", n))
		}
	}
	a.Ordinary = len(a.Beyond) == 0
	return a, nil
}

// makers are all who made a plan what it is: whoever drafted it or decided what stands in it, and
// since what a human has looked at last, whoever wrote the charter, ruled, or decided in a draft.
func (s *Service) makers(ctx context.Context, p store.Plan) ([]string, error) {
	last, err := s.Store.LastSealedByHuman(ctx, p.LaneID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	deciders, err := s.Store.Deciders(ctx, p.LaneID, last.ID)
	if err != nil {
		return nil, err
	}
	list := append([]string{p.By}, p.EditedBy.V...)
	for _, name := range deciders {
		if !slices.Contains(list, name) {
			list = append(list, name)
		}
	}
	return list, nil
}

// movedSince tells what of the ground of a plan is another than when a human has sealed one of
// the lane last.
func (s *Service) movedSince(ctx context.Context, p store.Plan) (list []string, err error) {
	last, err := s.Store.LastSealedByHuman(ctx, p.LaneID)
	if errors.Is(err, store.ErrNotFound) {
		return []string{"no human has sealed a plan of this lane yet"}, nil
	}
	for _, now := range p.Parts.V {
		if ground[now.What] && !slices.Contains(last.Parts.V, now) {
			list = append(list, fmt.Sprintf("%s has changed since %s sealed plan %d: a human seals first", now.What, last.SealedBy, last.ID))
		}
	}
	return list, err
}

// ground are the parts of a plan that are the same from one night to the next.
var ground = map[string]bool{"the authority (system, address, shape)": true, "the downstream (system, address, shape)": true, "the charter": true}

// maySeal refuses whoever the charter does not let seal the plan.
func (s *Service) maySeal(ctx context.Context, who access.Caller, p store.Plan, rules *charter.Charter) error {
	a, err := s.agreement(ctx, p, rules)
	if err != nil || a.Second == "" || !slices.Contains(a.Makers, who.Name) {
		return err
	}
	return fault.New(fault.Denied, fmt.Sprintf("plan %d is sealed by a second person", p.ID), fmt.Sprintf("%s; %s made it what it is", a.Second, strings.Join(a.Makers, " and ")), "ask somebody else who has the right seal").Because("second-person")
}

// SealOrdinary seals a plan that is within what the charter calls ordinary, without a human who
// has looked at it.
func (s *Service) SealOrdinary(ctx context.Context, who access.Caller, id int64, hash string) (PlanView, error) {
	p, err := s.Store.Plan(ctx, id)
	if err != nil {
		return PlanView{}, fault.About(err, "plan", fmt.Sprint(id))
	}
	l, err := s.Store.LaneByID(ctx, p.LaneID)
	if err != nil {
		return PlanView{}, err
	}
	r, err := s.Store.Reconciliation(ctx, p.Reconciliation)
	if err != nil {
		return PlanView{}, err
	}
	rules, err := s.charterOf(ctx, l, r)
	if err != nil {
		return PlanView{}, err
	}
	a, err := s.agreement(ctx, p, rules)
	switch {
	case err != nil:
		return PlanView{}, err
	case rules.Seals.Ordinary == nil:
		return PlanView{}, fault.New(fault.Stopped, "the charter calls no plan ordinary", "", "say which are: `seals: {ordinary: {set: 50}}`, or have it sealed by a human").Because("not-ordinary")
	case !a.Ordinary:
		return PlanView{}, fault.New(fault.Stopped, fmt.Sprintf("plan %d is not ordinary", id), strings.Join(a.Beyond, "; "), fmt.Sprintf("a human looks at it: twinning plan show %d", id)).Because("not-ordinary")
	}
	return s.seal(ctx, who, id, hash, sealing{by: bySealer, ordinary: true})
}
