package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"twinning/internal/core/pairing/evidence"
	"twinning/internal/explain"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// Why explains a person's or an account's place. Either id may be empty; with
// both, the two are compared whatever their state.
func (s *Service) Why(ctx context.Context, lane, person, account string) (*explain.Why, error) {
	l, r, err := s.latest(ctx, lane)
	if err != nil {
		return nil, err
	}
	return s.explainer.Why(ctx, l, r, person, account)
}

// Face compares two records of the latest reconciliation, reading these two
// alone: it is as quick at a million as at ten.
func (s *Service) Face(ctx context.Context, lane, person, account string) (explain.FaceToFace, error) {
	l, r, err := s.latest(ctx, lane)
	if err != nil {
		return explain.FaceToFace{}, err
	}
	return s.explainer.Face(ctx, l, r, person, account)
}

// QuestionPage is a page of what is open, with how far the work has got.
type QuestionPage struct {
	Items []store.Question `json:"items"`
	Next  string           `json:"cursor,omitempty"`
	Total int              `json:"total"` // open and matching
	Asked int              `json:"asked"` // pairs the latest reconciliation asked about
	Codes map[string]int   `json:"codes"`
	// Unasked are contested people for whom there is no pair to rule on: listed
	// twice, say.
	Unasked int `json:"unasked"`
	// Snapshot is another one when any pair that the filter holds has moved on; of very
	// many, when anything has in the lane.
	Snapshot string `json:"snapshot"`
}

// Questions lists the pairs that a human should judge and nobody has ruled on.
func (s *Service) Questions(ctx context.Context, lane string, f store.QuestionFilter, p store.Page) (v QuestionPage, err error) {
	l, r, err := s.latest(ctx, lane)
	if err != nil {
		return v, err
	}
	if v.Items, v.Next, v.Total, err = s.Store.Questions(ctx, l.ID, r.ID, f, p.Within(r.ID)); err != nil {
		return v, err
	}
	if v.Items == nil {
		v.Items = []store.Question{}
	}
	if v.Snapshot, err = s.Store.Snapshot(ctx, l.ID, r.ID, f, p.Text); err != nil {
		return v, err
	}
	made, err := s.asked(ctx, r.ID)
	if err != nil {
		return v, err
	}
	answered, err := s.Store.Answered(ctx, l.ID, r.ID)
	if err != nil {
		return v, err
	}
	v.Unasked, v.Codes = made.unasked, map[string]int{}
	for code, n := range made.codes {
		v.Asked += n
		if open := n - answered[code]; open > 0 {
			v.Codes[code] = open
		}
	}
	if p.Text == "" && !f.Narrow() {
		for code, n := range v.Codes {
			if f.Code == "" || f.Code == code {
				v.Total += n
			}
		}
	}
	return v, nil
}

// askedOf are the pairs that a reconciliation asked about, by what they are asked for, and
// the contested people whom no pair names.
type askedOf struct {
	codes   map[string]int
	unasked int
}

// asked counts them. A result doesn't change: each is counted once.
func (s *Service) asked(ctx context.Context, reconciliation int64) (a askedOf, err error) {
	s.mu.Lock()
	a, known := s.proposed[reconciliation]
	s.mu.Unlock()
	if known {
		return a, nil
	}
	if a.codes, err = s.Store.Proposed(ctx, reconciliation); err != nil {
		return a, err
	}
	if a.unasked, err = s.Store.Unasked(ctx, reconciliation); err != nil {
		return a, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.proposed) > mostProposed {
		clear(s.proposed)
	}
	s.proposed[reconciliation] = a
	return a, nil
}

// mostProposed bounds the results of which that is remembered.
const mostProposed = 1000

// WeightsView are weights with what stands beside the comparators.
type WeightsView struct {
	store.Weights
	Levels json.RawMessage `json:"weights"`
	Forms  evidence.Forms  `json:"forms,omitempty"` // short form -> names that it stands for in these lists
	Trial  *evidence.Curve `json:"trial,omitempty"` // by which probabilities are told
}

// Weights are what evidence is worth in a lane.
func (s *Service) Weights(ctx context.Context, lane string) (v WeightsView, err error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return v, err
	}
	v.Weights, err = s.Store.NewestWeights(ctx, l.ID)
	if errors.Is(err, store.ErrNotFound) {
		return v, fault.New(fault.NotFound, fmt.Sprintf("lane %q has no weights yet", lane), "its charter weighs no evidence, or it has not been reconciled", "give its charter `pairing: {evidence: {accept: 0.95, review: 0.60}}` and reconcile")
	}
	if err != nil {
		return v, err
	}
	w := &evidence.Weights{}
	if err := w.UnmarshalJSON(v.Weights.Weights); err != nil {
		return v, err
	}
	v.Forms, v.Trial = w.Forms(), w.Curve()
	v.Levels, err = w.WithForms(nil).WithCurve(nil).MarshalJSON()
	return v, err
}
