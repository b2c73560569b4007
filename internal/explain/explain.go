// Package explain tells why records stand where they do: two of them face to face,
// key by key and in bits of evidence, who else came close, and what would change
// it. It only reads.
package explain

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/pairing"
	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/reach"
	"twinning/internal/store"
)

// Config of an explainer.
type Config struct {
	Store *store.Store
	Reach *reach.Reach
	// Input is everything that a lane's next reconciliation would look at.
	Input func(ctx context.Context, lane int64) (reconcile.Input, error)
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
	Proposals  []ProposalView         `json:"proposals"`
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

// KeyEvidence is one key on both records, and who else carries the value.
type KeyEvidence struct {
	Key            string   `json:"key"`
	Person         string   `json:"person"`
	Account        string   `json:"account"`
	Verdict        string   `json:"verdict"`
	SharedPeople   []string `json:"sharedPeople"`
	SharedAccounts []string `json:"sharedAccounts"`
}

// ProposalView is a pair to judge, with names.
type ProposalView struct {
	store.Proposal
	PersonLabel  string `json:"personLabel"`
	AccountLabel string `json:"accountLabel"`
}

// Why explains a person's or an account's place. Either id may be empty; with
// both, the two are compared whatever their state.
func (s *Explainer) Why(ctx context.Context, l store.Lane, r store.Reconciliation, person, account string) (*Why, error) {
	if person == "" && account == "" {
		return nil, &fault.Error{Kind: fault.Invalid, Title: "why about whom?", Detail: "name a person or an account", Field: "person"}
	}
	w := &Why{Keys: []KeyEvidence{}, Attributes: []reconcile.Comparison{}, Proposals: []ProposalView{}, Rulings: []store.Ruling{}, Next: []string{}}
	asked := "people"
	if person == "" {
		asked = "accounts"
	}
	verdict, err := s.Store.VerdictOf(ctx, r.ID, asked, map[string]string{"people": person, "accounts": account}[asked])
	if err != nil {
		return nil, fault.About(err, "record", person+account)
	}
	w.State, w.Basis, w.Note = verdict.State, verdict.Basis, verdict.Note
	if w.Proposals, err = s.proposals(ctx, r.ID, person, account); err != nil {
		return nil, err
	}
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
	in, err := s.Input(ctx, l.ID)
	if err != nil {
		return nil, err
	}
	if w.Person, err = s.facing(ctx, r.ID, "people", person); err != nil {
		return nil, err
	}
	if w.Account, err = s.facing(ctx, r.ID, "accounts", account); err != nil {
		return nil, err
	}
	compare(w, in, person, account)
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
		if w.Evidence, err = s.evidence(ctx, in, r, w.Proposals, person, account); err != nil {
			return nil, err
		}
		if v := verdict.Probability; v > 0 && w.Evidence != nil && w.Evidence.Probability == 0 {
			w.Evidence.Probability = v
		}
	}
	w.Next = nextSteps(w, l.Name, r.At)
	return w, nil
}

func (s *Explainer) proposals(ctx context.Context, reconciliation int64, person, account string) ([]ProposalView, error) {
	list, err := s.Store.ProposalsFor(ctx, reconciliation, person, account)
	views := make([]ProposalView, 0, len(list))
	for _, p := range list {
		v := ProposalView{Proposal: p}
		if x, err := s.Store.VerdictOf(ctx, reconciliation, "people", p.Person); err == nil {
			v.PersonLabel = x.Label
		}
		if x, err := s.Store.VerdictOf(ctx, reconciliation, "accounts", p.Account); err == nil {
			v.AccountLabel = x.Label
		}
		views = append(views, v)
	}
	return views, err
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

func compare(w *Why, in reconcile.Input, person, account string) {
	p, hasPerson := in.People.Find(person)
	a, hasAccount := in.Accounts.Find(account)
	if !hasPerson {
		p = -1
	}
	if !hasAccount {
		a = -1
	}
	scope := charter.Scope{People: in.People, Accounts: in.Accounts, Today: calendar.Day(in.Now, in.Charter.Zone)}
	for _, k := range in.Charter.Keys {
		w.Keys = append(w.Keys, keyEvidence(k, scope, p, a))
	}
	w.Attributes = reconcile.SideBySide(in.People, in.Accounts, p, a)
}

func keyEvidence(k charter.Key, scope charter.Scope, p, a int) KeyEvidence {
	person, account := k.Person.Bind(scope), k.Account.Bind(scope)
	e := KeyEvidence{Key: k.Name, SharedPeople: []string{}, SharedAccounts: []string{}}
	var left, right string
	if p >= 0 {
		left = person.Eval(p, -1).Cell()
	}
	if a >= 0 {
		right = account.Eval(-1, a).Cell()
	}
	e.Person, e.Account = record.PlainList(left), record.PlainList(right)
	switch {
	case left == "" && right == "":
		e.Verdict = "both-blank"
		return e
	case left == "":
		e.Verdict = "person-blank"
	case right == "":
		e.Verdict = "account-blank"
	case overlap(k.Kind, left, right):
		e.Verdict = "agree"
	default:
		e.Verdict = "differ"
	}
	const few = 5
	for i := 0; i < scope.People.Len() && len(e.SharedPeople) < few; i++ {
		if cell := person.Eval(i, -1).Cell(); i != p && cell != "" && (overlap(k.Kind, cell, left) || overlap(k.Kind, cell, right)) {
			e.SharedPeople = append(e.SharedPeople, scope.People.ID(i))
		}
	}
	for i := 0; i < scope.Accounts.Len() && len(e.SharedAccounts) < few; i++ {
		if cell := account.Eval(-1, i).Cell(); i != a && cell != "" && (overlap(k.Kind, cell, left) || overlap(k.Kind, cell, right)) {
			e.SharedAccounts = append(e.SharedAccounts, scope.Accounts.ID(i))
		}
	}
	return e
}

func overlap(kind record.Kind, x, y string) bool {
	values := record.SplitList(y)
	for i := range values {
		values[i] = record.Normal(kind, values[i])
	}
	for _, v := range record.SplitList(x) {
		if n := record.Normal(kind, v); n != "" && slices.Contains(values, n) {
			return true
		}
	}
	return false
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
func (s *Explainer) evidence(ctx context.Context, in reconcile.Input, r store.Reconciliation, proposals []ProposalView, person, account string) (*Evidence, error) {
	kept, err := s.Store.WeightsOf(ctx, r.LaneID, *r.WeightsVersion)
	if err != nil {
		return nil, err
	}
	weights := &evidence.Weights{}
	if err := weights.UnmarshalJSON(kept.Weights); err != nil {
		return nil, err
	}
	in.Memory.Weights = weights
	x := reconcile.Explain(in, r.Prior, person, account)
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
		v := RunnerUp{Person: in.People.ID(o.Person), Account: in.Accounts.ID(o.Account), PersonLabel: record.Label(in.People, o.Person), AccountLabel: record.Label(in.Accounts, o.Account), Bits: o.Bits}
		v.Why, err = s.lost(ctx, r.ID, v, x, o)
		if err != nil {
			return nil, err
		}
		e.Others = append(e.Others, v)
	}
	return e, nil
}

// lost says why a runner-up is not the twin.
func (s *Explainer) lost(ctx context.Context, reconciliation int64, v RunnerUp, x *pairing.Explanation, o pairing.Explained) (string, error) {
	p, err := s.Store.VerdictOf(ctx, reconciliation, "people", v.Person)
	if err != nil {
		return "", fault.About(err, "record", v.Person)
	}
	a, err := s.Store.VerdictOf(ctx, reconciliation, "accounts", v.Account)
	if err != nil {
		return "", fault.About(err, "record", v.Account)
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
		if v := record.PlainList(r.Column(name).Cell(i)); v != "" && !slices.Contains(values, v) {
			values = append(values, v)
		}
	}
	return strings.Join(values, "; ")
}

// FaceToFace is a person and an account, attribute by attribute.
type FaceToFace struct {
	Person     *Facing                `json:"person,omitempty"`
	Account    *Facing                `json:"account,omitempty"`
	Attributes []reconcile.Comparison `json:"attributes"`
	Version    string                 `json:"version"` // of both, and of what is decided about them
}

// Face compares two records of the latest reconciliation, reading these two
// alone: it is as quick at a million as at ten.
func (s *Explainer) Face(ctx context.Context, l store.Lane, r store.Reconciliation, person, account string) (v FaceToFace, err error) {
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
	v.Attributes = reconcile.SideBySide(people, accounts, p, a)
	v.Version, err = s.Store.PairVersion(ctx, l.ID, person, account)
	return v, err
}

// record reads one record into a roster of its own; row -1 when it is not there
// or could not be read.
func (s *Explainer) record(ctx context.Context, system, roster int64, id string) (*record.Roster, int, error) {
	x, err := s.Store.SystemByID(ctx, system)
	if err != nil {
		return nil, 0, err
	}
	taken, err := s.Store.Roster(ctx, roster)
	if err != nil {
		return nil, 0, err
	}
	shape, err := s.Reach.ShapeOf(x, taken.Shape)
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
