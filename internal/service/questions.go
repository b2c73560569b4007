package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/pairing"
	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// Evidence is what two records say of each other, in bits.
type Evidence struct {
	Bits           float64    `json:"bits"`
	Needed         float64    `json:"needed"` // from which two are joined without asking, if nobody else comes close
	Probability    float32    `json:"probability,omitempty"`
	WeightsVersion int64      `json:"weightsVersion"`
	Said           []Said     `json:"said"`
	Others         []RunnerUp `json:"others"`
	Change         []string   `json:"change"`
}

// Said is what one comparator says, with the values it looked at.
type Said struct {
	evidence.Said
	Person  string `json:"person,omitempty"`
	Account string `json:"account,omitempty"`
}

// RunnerUp is another pair that one of the two could be of.
type RunnerUp struct {
	Person       string  `json:"person"`
	Account      string  `json:"account"`
	PersonLabel  string  `json:"personLabel"`
	AccountLabel string  `json:"accountLabel"`
	Bits         float64 `json:"bits"`
	Why          string  `json:"why"`
}

// evidence explains a pair by the weights that the reconciliation went by.
func (s *Service) evidence(ctx context.Context, in laneInput, r store.Reconciliation, proposals []ProposalView, person, account string) (*Evidence, error) {
	kept, err := s.Store.WeightsOf(ctx, r.LaneID, *r.WeightsVersion)
	if err != nil {
		return nil, err
	}
	weights := &evidence.Weights{}
	if err := weights.UnmarshalJSON(kept.Weights); err != nil {
		return nil, err
	}
	in.Memory.Weights = weights
	x := reconcile.Explain(in.Input, r.Prior, person, account)
	if x == nil {
		return nil, nil
	}
	e := &Evidence{Needed: x.Needed, WeightsVersion: kept.Version, Said: []Said{}, Others: []RunnerUp{}, Change: append([]string{}, x.Change...)}
	if x.Asked != nil {
		e.Bits = x.Asked.Bits
		for _, said := range x.Asked.Said {
			left, right := evidence.Looked(said.Comparator)
			e.Said = append(e.Said, Said{said, looked(in.People, x.Asked.Person, left), looked(in.Accounts, x.Asked.Account, right)})
		}
	}
	for _, p := range proposals {
		if p.Person == person && p.Account == account {
			e.Probability = p.Probability
		}
	}
	for _, o := range x.Others {
		v := RunnerUp{Person: in.People.ID(o.Person), Account: in.Accounts.ID(o.Account), PersonLabel: label(in.People, o.Person), AccountLabel: label(in.Accounts, o.Account), Bits: o.Bits}
		v.Why, err = s.lost(ctx, r.ID, v, x, o)
		if err != nil {
			return nil, err
		}
		e.Others = append(e.Others, v)
	}
	return e, nil
}

// lost says why a runner-up is not the twin.
func (s *Service) lost(ctx context.Context, reconciliation int64, v RunnerUp, x *pairing.Explanation, o pairing.Explained) (string, error) {
	p, err := s.Store.VerdictOf(ctx, reconciliation, "people", v.Person)
	if err != nil {
		return "", about(err, "record", v.Person)
	}
	a, err := s.Store.VerdictOf(ctx, reconciliation, "accounts", v.Account)
	if err != nil {
		return "", about(err, "record", v.Account)
	}
	switch {
	case p.Twin == v.Account:
		return "it is the twin", nil
	case p.State == "twinned" && (x.Asked == nil || x.Asked.Person != o.Person):
		return fmt.Sprintf("person %s is the twin of %s (%s)", v.Person, p.Twin, p.Basis), nil
	case a.State == "twinned" && (x.Asked == nil || x.Asked.Account != o.Account):
		return fmt.Sprintf("account %s is the twin of %s (%s)", v.Account, a.Twin, a.Basis), nil
	case a.State == "exempt":
		return "the account is exempt: " + a.Note, nil
	case x.Asked != nil && o.Bits < x.Asked.Bits:
		return fmt.Sprintf("it has %.1f bits less", x.Asked.Bits-o.Bits), nil
	case o.Bits < x.Needed:
		return fmt.Sprintf("%.1f bits are lacking", x.Needed-o.Bits), nil
	}
	return "it comes as close: that is why somebody is asked", nil
}

// looked joins the values that a comparator looked at.
func looked(r *record.Roster, i int, attributes []string) string {
	var values []string
	for _, name := range attributes {
		if v := plainList(cellOf(r, name, i)); v != "" && !slices.Contains(values, v) {
			values = append(values, v)
		}
	}
	return strings.Join(values, "; ")
}

// QuestionPage is a page of what is open, with how far the work has got.
type QuestionPage struct {
	Items []store.Question `json:"items"`
	Next  string           `json:"next,omitempty"`
	Total int              `json:"total"` // open and matching
	Asked int              `json:"asked"` // pairs the latest reconciliation asked about
	Codes map[string]int   `json:"codes"`
	// Unasked are contested people for whom there is no pair to rule on: listed
	// twice, say.
	Unasked int `json:"unasked"`
}

// Questions lists the pairs that a human should judge and nobody has ruled on.
func (s *Service) Questions(ctx context.Context, lane string, f store.QuestionFilter, p store.Page) (v QuestionPage, err error) {
	l, r, err := s.latest(ctx, lane)
	if err != nil {
		return v, err
	}
	if v.Items, v.Next, v.Total, v.Asked, err = s.Store.Questions(ctx, l.ID, r.ID, f, p); err != nil {
		return v, err
	}
	if v.Items == nil {
		v.Items = []store.Question{}
	}
	if v.Unasked, err = s.Store.Unasked(ctx, r.ID); err != nil {
		return v, err
	}
	v.Codes, err = s.Store.QuestionCodes(ctx, l.ID, r.ID)
	return v, err
}

// FaceToFace is a person and an account, attribute by attribute.
type FaceToFace struct {
	Person     *Facing      `json:"person,omitempty"`
	Account    *Facing      `json:"account,omitempty"`
	Attributes []Comparison `json:"attributes"`
}

// Face compares two records of the latest reconciliation, reading these two
// alone: it is as quick at a million as at ten.
func (s *Service) Face(ctx context.Context, lane, person, account string) (v FaceToFace, err error) {
	l, r, err := s.latest(ctx, lane)
	if err != nil {
		return v, err
	}
	people, p, err := s.record(ctx, l.AuthorityID, r.PeopleRoster, person)
	if err != nil {
		return v, err
	}
	accounts, a, err := s.record(ctx, l.DownstreamID, r.AccountsRoster, account)
	if err != nil {
		return v, err
	}
	if v.Person, err = s.facing(ctx, r.ID, "people", person); err != nil {
		return v, err
	}
	if v.Account, err = s.facing(ctx, r.ID, "accounts", account); err != nil {
		return v, err
	}
	v.Attributes = sideBySide(people, accounts, p, a)
	return v, nil
}

// record reads one record into a roster of its own; row -1 when it is not there
// or could not be read.
func (s *Service) record(ctx context.Context, system, roster int64, id string) (*record.Roster, int, error) {
	x, err := s.Store.SystemByID(ctx, system)
	if err != nil {
		return nil, 0, err
	}
	taken, err := s.Store.Roster(ctx, roster)
	if err != nil {
		return nil, 0, err
	}
	shape, err := s.shapeOf(x, taken.Shape)
	if err != nil {
		return nil, 0, err
	}
	// what refers to other records can't be told from one alone
	b := record.NewBuilder(slices.DeleteFunc(record.CanonicalNames(), func(n string) bool { return shape.Attributes[n].Refers != "" }))
	row := -1
	kept, err := s.Store.RecordAt(ctx, system, roster, id)
	switch {
	case id == "" || errors.Is(err, store.ErrNotFound):
	case err != nil:
		return nil, 0, err
	default:
		cells := make([]string, len(b.Names()))
		if err := shape.NewReader(b.Names()).Row(kept.Values.V, cells); err == nil {
			cells[0], row = id, 0
			if err := b.Append(cells); err != nil {
				return nil, 0, err
			}
		}
	}
	r, err := b.Roster()
	return r, row, err
}

// Weights are what evidence is worth in a lane.
func (s *Service) Weights(ctx context.Context, lane string) (store.Weights, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return store.Weights{}, err
	}
	w, err := s.Store.NewestWeights(ctx, l.ID)
	if errors.Is(err, store.ErrNotFound) {
		return w, fault(NotFound, fmt.Sprintf("lane %q has no weights yet", lane), "its charter weighs no evidence, or it has not been reconciled", "give its charter `pairing: {evidence: {accept: 0.995, review: 0.60}}` and reconcile")
	}
	return w, err
}
