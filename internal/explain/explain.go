// Package explain tells why records stand where they do: two of them face to face,
// key by key and in bits of evidence, who else came close, and what would change
// it. It only reads, and only what is told of the two: it is as quick at a million as at
// ten.
package explain

import (
	"context"
	"fmt"
	"slices"
	"time"

	"twinning/internal/core/charter"
	"twinning/internal/core/reconcile"
	"twinning/internal/fault"
	"twinning/internal/reach"
	"twinning/internal/store"
)

// Config of an explainer.
type Config struct {
	Store *store.Store
	Reach *reach.Reach
	Parse func(ctx context.Context, source string) (*charter.Charter, error)
}

// Explainer tells why.
type Explainer struct{ Config }

// New makes one.
func New(cfg Config) *Explainer { return &Explainer{cfg} }

// Why tells all that made a record stand where it does.
type Why struct {
	Person     *Facing                `json:"person,omitempty"`
	Account    *Facing                `json:"account,omitempty"`
	State      string                 `json:"state"`
	Basis      string                 `json:"basis,omitempty"`
	Note       string                 `json:"note,omitempty"`
	Keys       []KeyEvidence          `json:"keys"`
	Attributes []reconcile.Comparison `json:"attributes"`
	Proposals  []store.Proposal       `json:"proposals"`
	Findings   []store.Finding        `json:"findings"`
	Rulings    []store.Ruling         `json:"rulings"`
	Next       []string               `json:"next"`
	Evidence   *Evidence              `json:"evidence,omitempty"`
}

// Facing is one of two records that face each other.
type Facing struct {
	ID    string `json:"id"`
	Label string `json:"label"`
	State string `json:"state"`
}

// Why explains a person's or an account's place. Either id may be empty; with
// both, the two are compared whatever their state.
func (s *Explainer) Why(ctx context.Context, l store.Lane, r store.Reconciliation, person, account string) (*Why, error) {
	if person == "" && account == "" {
		return nil, &fault.Error{Kind: fault.Invalid, Title: "why about whom?", Detail: "name a person or an account", Field: "person"}
	}
	w := &Why{Keys: []KeyEvidence{}, Attributes: []reconcile.Comparison{}, Proposals: []store.Proposal{}, Rulings: []store.Ruling{}, Next: []string{}}
	asked := "people"
	if person == "" {
		asked = "accounts"
	}
	verdict, err := s.Store.VerdictOf(ctx, r.ID, asked, map[string]string{"people": person, "accounts": account}[asked])
	if err != nil {
		return nil, fault.About(err, "record", person+account)
	}
	w.State, w.Basis, w.Note = verdict.State, verdict.Basis, verdict.Note
	proposals, err := s.Store.ProposalsFor(ctx, r.ID, person, account)
	if err != nil {
		return nil, err
	}
	w.Proposals = append(w.Proposals, proposals...)
	// face the twin, else the first candidate
	if asked == "people" && account == "" {
		if account = verdict.Twin; account == "" && len(w.Proposals) > 0 {
			account = w.Proposals[0].Account
		}
	} else if asked == "accounts" {
		if person = verdict.Twin; person == "" && len(w.Proposals) > 0 {
			person = w.Proposals[0].Person
		}
	}
	if w.Person, err = s.facing(ctx, r.ID, "people", person); err != nil {
		return nil, err
	}
	if w.Account, err = s.facing(ctx, r.ID, "accounts", account); err != nil {
		return nil, err
	}
	kept, err := s.Store.Charter(ctx, l.ID, r.CharterVersion)
	if err != nil {
		return nil, err
	}
	rules, err := s.Parse(ctx, kept.Source)
	if err != nil {
		return nil, err
	}
	x := &facingEachOther{Explainer: s, lane: l, of: r, rules: rules}
	if err := x.load(ctx, person, account); err != nil {
		return nil, err
	}
	if w.Keys, err = x.keys(ctx); err != nil {
		return nil, err
	}
	w.Attributes = reconcile.SideBySide(x.people.roster, x.accounts.roster, x.people.row, x.accounts.row)
	if w.Findings, err = s.Store.FindingsAbout(ctx, r.ID, person, account); err != nil {
		return nil, err
	}
	rulings, err := s.Store.Rulings(ctx, l.ID)
	if err != nil {
		return nil, err
	}
	for _, x := range rulings {
		if person != "" && x.Person == person || account != "" && x.Account == account {
			w.Rulings = append(w.Rulings, x)
		}
	}
	if r.WeightsVersion != nil {
		if w.Evidence, err = x.evidence(ctx, w.Proposals); err != nil {
			return nil, err
		}
		if v := verdict.Probability; v > 0 && w.Evidence != nil && w.Evidence.Probability == 0 {
			w.Evidence.Probability = v
		}
	}
	w.Next = nextSteps(w, l.Name, r.At)
	return w, nil
}

func (s *Explainer) facing(ctx context.Context, reconciliation int64, side, id string) (*Facing, error) {
	if id == "" {
		return nil, nil
	}
	v, err := s.Store.VerdictOf(ctx, reconciliation, side, id)
	if err != nil {
		return nil, fault.About(err, "record", id)
	}
	return &Facing{ID: id, Label: v.Label, State: v.State}, nil
}

// nextSteps tells what a human can do. What was ruled since the reconciliation is
// not in what it says.
func nextSteps(w *Why, lane string, reconciled time.Time) (steps []string) {
	steps = []string{}
	if slices.ContainsFunc(w.Rulings, func(r store.Ruling) bool { return r.At.After(reconciled) }) {
		return []string{"a human ruled since: twinning reconcile " + lane}
	}
	if w.State == "contested" && w.Person != nil && w.Account != nil {
		steps = append(steps,
			fmt.Sprintf("if they are one human: twinning twin rule %s same --person %s --account %s --reason …", lane, w.Person.ID, w.Account.ID),
			fmt.Sprintf("if they are not: twinning twin rule %s different --person %s --account %s --reason …", lane, w.Person.ID, w.Account.ID))
	}
	for _, f := range w.Findings {
		if len(steps) > 0 && f.Code == "contested-match" {
			continue // the steps say it of this very pair
		}
		if !slices.Contains(steps, f.Remedy) {
			steps = append(steps, f.Remedy)
		}
	}
	return steps
}
