package reconcile

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"twinning/internal/core/pairing"
)

// Ruling is a decision of a human, as one keeps it without a service.
type Ruling struct {
	Kind            string // same, different or leave-alone
	Person, Account string // both, or for leave-alone one of them
	Reason          string
	Until           string // last day of leave-alone; "" for ever
	At              time.Time
}

// Rule keeps a ruling. One that another contradicts is refused, and nothing is kept.
func (m *Memory) Rule(r Ruling) error {
	pair := pairing.Pair{Person: r.Person, Account: r.Account}
	both := r.Person != "" && r.Account != ""
	switch {
	case r.Kind == "leave-alone" && both || r.Kind == "leave-alone" && r.Person+r.Account == "":
		return errors.New("leave-alone rules on one person or one account")
	case r.Kind != "leave-alone" && !both:
		return fmt.Errorf("%s rules on a person and an account; name both", r.Kind)
	}
	switch r.Kind {
	case "same":
		for _, o := range m.Same {
			if o != pair && (o.Person == pair.Person || o.Account == pair.Account) {
				return fmt.Errorf("another ruling says otherwise: %s and %s are the same", o.Person, o.Account)
			}
		}
		if slices.Contains(m.Different, pair) {
			return fmt.Errorf("another ruling says otherwise: %s and %s are different", pair.Person, pair.Account)
		}
		if !slices.Contains(m.Same, pair) {
			m.Same = append(m.Same, pair)
		}
	case "different":
		if slices.Contains(m.Same, pair) {
			return fmt.Errorf("another ruling says otherwise: %s and %s are the same", pair.Person, pair.Account)
		}
		if !slices.Contains(m.Different, pair) {
			m.Different = append(m.Different, pair)
		}
		m.Bonds = slices.DeleteFunc(slices.Clone(m.Bonds), func(b pairing.Bond) bool { return b.Person == pair.Person && b.Account == pair.Account })
	case "leave-alone":
		into, id := &m.LeftPeople, r.Person
		if id == "" {
			into, id = &m.LeftAccounts, r.Account
		}
		if *into == nil {
			*into = map[string]Leave{}
		}
		(*into)[id] = Leave{Reason: r.Reason, Until: r.Until}
	default:
		return fmt.Errorf("%q is no ruling; expected same, different or leave-alone", r.Kind)
	}
	if both {
		m.Reasons = append(m.Reasons, Reason{pair, r.Reason, r.At})
	}
	return nil
}

// Unrule takes a ruling on a pair back, and says whether there was one.
func (m *Memory) Unrule(person, account string) bool {
	pair := pairing.Pair{Person: person, Account: account}
	before := len(m.Same) + len(m.Different)
	is := func(o pairing.Pair) bool { return o == pair }
	m.Same, m.Different = slices.DeleteFunc(slices.Clone(m.Same), is), slices.DeleteFunc(slices.Clone(m.Different), is)
	m.Reasons = slices.DeleteFunc(slices.Clone(m.Reasons), func(r Reason) bool { return r.Pair == pair })
	return len(m.Same)+len(m.Different) < before
}

// Clear takes any ruling back.
func (m *Memory) Clear(r Ruling) {
	if r.Kind != "leave-alone" {
		m.Unrule(r.Person, r.Account)
		return
	}
	delete(m.LeftPeople, r.Person)
	delete(m.LeftAccounts, r.Account)
}

// Rulings are those that are kept.
func (m *Memory) Rulings() (list []Ruling) {
	last := map[pairing.Pair]Reason{} // that was given for a ruling on a pair
	for _, r := range m.Reasons {
		last[r.Pair] = r
	}
	for _, kept := range []struct {
		kind  string
		pairs []pairing.Pair
	}{{"same", m.Same}, {"different", m.Different}} {
		for _, p := range kept.pairs {
			list = append(list, Ruling{Kind: kept.kind, Person: p.Person, Account: p.Account, Reason: last[p].Reason, At: last[p].At})
		}
	}
	for side, leaves := range []map[string]Leave{m.LeftPeople, m.LeftAccounts} {
		for _, id := range slices.Sorted(maps.Keys(leaves)) {
			r := Ruling{Kind: "leave-alone", Person: id, Reason: leaves[id].Reason, Until: leaves[id].Until}
			if side == 1 {
				r.Person, r.Account = "", id
			}
			list = append(list, r)
		}
	}
	return list
}
