package explain

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/pairing"
	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/record"
	"twinning/internal/fault"
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

// evidence explains the two by the weights that the reconciliation went by; nil where its
// charter weighs none.
func (x *facingEachOther) evidence(ctx context.Context, proposals []store.Proposal) (*Evidence, error) {
	if x.rules.Evidence == nil || x.of.Prior <= 0 {
		return nil, nil
	}
	kept, err := x.Store.WeightsOf(ctx, x.of.LaneID, *x.of.WeightsVersion)
	if err != nil {
		return nil, err
	}
	weights := &evidence.Weights{}
	if err := weights.UnmarshalJSON(kept.Weights); err != nil {
		return nil, err
	}
	asked := pairing.Asked{Pair: pairing.Pair{Person: x.people.id, Account: x.accounts.id}, Weights: weights.Declaring(x.rules.Evidence.Declared), Prior: x.of.Prior, Accept: x.rules.Evidence.Accept}
	if asked.Patterns, err = x.patterns(ctx, asked); err != nil {
		return nil, err
	}
	told := pairing.Explain(asked)
	e := &Evidence{Needed: told.Needed, WeightsVersion: kept.Version, Said: []Said{}, Others: []RunnerUp{}, Change: append([]string{}, told.Change...)}
	if told.Asked != nil {
		e.Bits = told.Asked.Bits
		for _, said := range told.Asked.Said {
			left, right := evidence.Looked(said.Comparator)
			e.Said = append(e.Said, Said{said, x.people.looked(left), x.accounts.looked(right)})
		}
	}
	for _, p := range proposals {
		if p.Person == x.people.id && p.Account == x.accounts.id {
			e.Probability = p.Probability
		}
	}
	for _, o := range told.Others {
		p, err := x.Store.VerdictOf(ctx, x.of.ID, "people", o.Person)
		if err != nil {
			return nil, fault.About(err, "record", o.Person)
		}
		a, err := x.Store.VerdictOf(ctx, x.of.ID, "accounts", o.Account)
		if err != nil {
			return nil, fault.About(err, "record", o.Account)
		}
		e.Others = append(e.Others, RunnerUp{Person: o.Person, Account: o.Account, PersonLabel: p.Label, AccountLabel: a.Label, Bits: o.Bits, Why: lost(p, a, told, o)})
	}
	return e, nil
}

// patterns are what comparing found of the pairs that name either of the two. The two
// themselves, where evidence had no need to compare them, are compared now.
func (x *facingEachOther) patterns(ctx context.Context, asked pairing.Asked) (map[pairing.Pair]evidence.Pattern, error) {
	found := map[pairing.Pair]evidence.Pattern{}
	compared, err := x.Store.ComparedWith(ctx, x.of.ID, asked.Person, asked.Account)
	if err != nil {
		return nil, err
	}
	for _, c := range compared {
		pattern, err := evidence.PatternOf(c.Pattern)
		if err != nil {
			return nil, err
		}
		found[pairing.Pair{Person: c.Person, Account: c.Account}] = pattern
	}
	if _, known := found[asked.Pair]; known {
		return found, nil
	}
	person, account := pairing.LonePerson(x.people.roster, asked.Weights), pairing.LoneAccount(x.accounts.roster, asked.Weights)
	if person == nil || account == nil {
		return found, nil
	}
	records, words, err := x.common(ctx, append(person.Words, account.Words...))
	if err != nil {
		return nil, err
	}
	found[asked.Pair] = person.Compare(account, records, words)
	return found, nil
}

// common tells how many of how many records carry these words.
func (x *facingEachOther) common(ctx context.Context, words []uint64) (records int, carried map[uint64]int32, err error) {
	for _, roster := range []int64{x.of.PeopleRoster, x.of.AccountsRoster} {
		r, err := x.Store.Roster(ctx, roster)
		if err != nil {
			return 0, nil, err
		}
		records += r.Records
	}
	asked := make([]int64, len(words))
	for i, w := range words {
		asked[i] = int64(w) // as they are kept
	}
	list, err := x.Store.CommonAmong(ctx, x.of.ID, asked)
	carried = map[uint64]int32{}
	for _, w := range list {
		carried[uint64(w.Word)] = w.Records
	}
	return records, carried, err
}

// lost says why a runner-up is not the twin.
func lost(p, a store.Verdict, x *pairing.Explanation, o pairing.Explained) string {
	switch {
	case p.Twin == o.Account:
		return "it is the twin"
	case p.State == "twinned" && (x.Asked == nil || x.Asked.Person != o.Person):
		return fmt.Sprintf("person %s is the twin of %s (%s)", o.Person, p.Twin, p.Basis)
	case a.State == "twinned" && (x.Asked == nil || x.Asked.Account != o.Account):
		return fmt.Sprintf("account %s is the twin of %s (%s)", o.Account, a.Twin, a.Basis)
	case a.State == "exempt":
		return "the account is exempt: " + a.Note
	case x.Asked != nil && o.Bits < x.Asked.Bits:
		return fmt.Sprintf("it has %.1f bits less", x.Asked.Bits-o.Bits)
	case o.Bits < x.Needed:
		return fmt.Sprintf("%.1f bits are lacking", x.Needed-o.Bits)
	}
	return "it comes as close: that is why somebody is asked"
}

// looked joins the values that a comparator looked at.
func (one loneRecord) looked(attributes []string) string {
	var values []string
	for _, name := range attributes {
		if one.row < 0 {
			continue
		}
		if v := record.PlainList(one.roster.Column(name).Cell(one.row)); v != "" && !slices.Contains(values, v) {
			values = append(values, v)
		}
	}
	return strings.Join(values, "; ")
}
