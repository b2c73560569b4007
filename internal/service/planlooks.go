package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/planning"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// MoveView is a name that changes hands in a plan, with the people's names.
type MoveView struct {
	Name string  `json:"name"`
	From *AtView `json:"from,omitempty"`
	To   *AtView `json:"to,omitempty"`
}

// AtView is where an account holds a name.
type AtView struct {
	planning.NameAt
	Label string `json:"label"`
}

// ChangesBy counts a plan's changes by a field: who, what or why most of them are about.
func (s *Service) ChangesBy(ctx context.Context, plan int64, by string, p store.Page) ([]store.Grouped, error) {
	if !slices.Contains(store.GroupedBy(), by) {
		return nil, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("changes can't be counted by %q", by), Detail: "expected one of " + strings.Join(store.GroupedBy(), ", "), Field: "by"}
	}
	if _, err := s.Store.Plan(ctx, plan); err != nil {
		return nil, fault.About(err, "plan", fmt.Sprint(plan))
	}
	return s.Store.ChangesBy(ctx, plan, by, p)
}

// Moves tells of the logins and addresses in a plan who gives what to whom.
func (s *Service) Moves(ctx context.Context, plan int64) ([]MoveView, error) {
	if _, err := s.Store.Plan(ctx, plan); err != nil {
		return nil, fault.About(err, "plan", fmt.Sprint(plan))
	}
	changes, err := s.Store.NamingChanges(ctx, plan)
	if err != nil {
		return nil, err
	}
	labels, bodies := map[string]string{}, make([]*planning.Change, len(changes))
	for i := range changes {
		c := &changes[i]
		labels[c.ID], bodies[i] = c.Label, &c.Body.V
	}
	at := func(n *planning.NameAt) *AtView {
		if n == nil {
			return nil
		}
		return &AtView{*n, labels[n.Change]}
	}
	list := []MoveView{}
	for _, m := range planning.Moves(bodies) {
		list = append(list, MoveView{m.Name, at(m.From), at(m.To)})
	}
	return list, nil
}

// ComparePlans lists the changes in which a plan differs from another of its lane.
func (s *Service) ComparePlans(ctx context.Context, plan, other int64, p store.Page) ([]store.Differing, string, int, error) {
	a, err := s.Store.Plan(ctx, plan)
	if err != nil {
		return nil, "", 0, fault.About(err, "plan", fmt.Sprint(plan))
	}
	b, err := s.Store.Plan(ctx, other)
	if err != nil {
		return nil, "", 0, fault.About(err, "plan", fmt.Sprint(other))
	}
	if a.LaneID != b.LaneID {
		return nil, "", 0, fault.New(fault.Invalid, fmt.Sprintf("plans %d and %d are of two lanes", plan, other), "they have no change in common", "compare two of one lane")
	}
	return s.Store.ComparePlans(ctx, plan, other, p)
}
