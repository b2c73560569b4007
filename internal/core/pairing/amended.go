package pairing

import "slices"

// amended takes back what was said of records about which more is known since. What was said is
// found by person, for the lists are long; what is taken back leaves them when all is amended.
type amended struct {
	*matcher
	issues, proposals   map[int][]int // by person, their places in the lists
	proposed            map[int][]int // by account, as well
	gone                struct{ issues, proposals map[int]bool }
	bondedPeople, bonds map[string]bool // ids of people and of accounts that bonds name
}

func (m *matcher) amended() *amended {
	x := &amended{matcher: m, issues: map[int][]int{}, proposals: map[int][]int{}, proposed: map[int][]int{}, bondedPeople: map[string]bool{}, bonds: map[string]bool{}}
	x.gone.issues, x.gone.proposals = map[int]bool{}, map[int]bool{}
	for i := range m.Issues {
		x.issues[m.Issues[i].Person] = append(x.issues[m.Issues[i].Person], i)
	}
	for i := range m.Proposals {
		x.proposals[m.Proposals[i].Person] = append(x.proposals[m.Proposals[i].Person], i)
		x.proposed[m.Proposals[i].Account] = append(x.proposed[m.Proposals[i].Account], i)
	}
	for _, b := range m.in.Bonds {
		x.bondedPeople[b.Person], x.bonds[b.Account] = true, true
	}
	return x
}

// withdrawIssues takes back the issues about a person for which it holds.
func (x *amended) withdrawIssues(person int, holds func(i *Issue) bool) {
	for _, at := range x.issues[person] {
		if holds(&x.Issues[at]) {
			x.gone.issues[at] = true
		}
	}
}

// withdrawPair takes back all that was said of the person alone, or with the account.
func (x *amended) withdrawPair(person, account int) {
	x.withdrawIssues(person, func(i *Issue) bool { return i.Account == account || i.Account < 0 })
	for _, at := range x.proposals[person] {
		if a := x.Proposals[at].Account; a == account || a < 0 {
			x.gone.proposals[at] = true
		}
	}
}

// concerned: the account, or one of two people, is in doubt with somebody else as well, or bonded.
func (x *amended) concerned(a, p, q int) bool {
	people := x.in.People
	if _, vanished := x.Vanished[a]; vanished || x.bonds[x.in.Accounts.ID(a)] || x.bondedPeople[people.ID(p)] || x.bondedPeople[people.ID(q)] {
		return true
	}
	other := func(at int) bool {
		c := &x.Proposals[at]
		return !x.gone.proposals[at] && (c.Account == a) != (c.Person == p || c.Person == q)
	}
	return slices.ContainsFunc(x.proposed[a], other) || slices.ContainsFunc(x.proposals[p], other) || slices.ContainsFunc(x.proposals[q], other)
}

// done leaves out what was taken back. What was added since stays.
func (x *amended) done() {
	x.Issues = without(x.Issues, x.gone.issues)
	x.Proposals = without(x.Proposals, x.gone.proposals)
}

func without[T any](list []T, gone map[int]bool) []T {
	if len(gone) == 0 {
		return list
	}
	kept := list[:0]
	for i := range list {
		if !gone[i] {
			kept = append(kept, list[i])
		}
	}
	clear(list[len(kept):])
	return kept
}
