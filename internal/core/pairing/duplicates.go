package pairing

import (
	"fmt"
	"math"
	"slices"

	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/record"
)

// How many accounts are expected to be a second one of somebody who has one,
// and how many people to be listed twice, as shares of their list.
const (
	secondAccounts = 0.005
	listedTwice    = 0.002
)

// alike is a record that is left over, and one that is paired already and may
// be the same human's.
type alike struct {
	left, taken int // rows
	bits        float64
	pattern     evidence.Pattern
}

// duplicates compares what is still left over with those who have a twin, and
// with each other, where they share a value that few carry.
func (w *weigher) duplicates() {
	for side, people := range []bool{true, false} {
		list := w.secondOnes(side)
		expected := map[bool]float64{true: listedTwice, false: secondAccounts}[people]
		prior := expected / float64(len(w.faces[side])+1)
		for from := 0; from < len(list); {
			to, sum, best := from, 0.0, from
			for ; to < len(list) && list[to].left == list[from].left; to++ {
				sum += prior * math.Exp2(list[to].bits)
				if list[to].bits > list[best].bits {
					best = to
				}
			}
			x := list[best]
			w.second(people, x, prior*math.Exp2(x.bits)/(1+sum))
			from = to
		}
	}
	w.twice()
}

// secondOnes compares the open records of a side that have met paired ones.
func (w *weigher) secondOnes(side int) (list []alike) {
	rows, states := w.people, w.PersonState
	if side == 1 {
		rows, states = w.accounts, w.AccountState
	}
	var other []record.Row
	var met []evidence.Encounter
	for _, m := range w.counts.Met(w.telling[side], w.met[side]) {
		if states[rows[m.Face]] == Undecided {
			met, other = append(met, m), append(other, m.Row)
		}
	}
	faces := w.read(side, other)
	list = make([]alike, len(met))
	w.inChunks(len(met), func(from, to int) {
		for i := from; i < to; i++ {
			w.counts.Fill(faces[i])
			x := alike{left: int(rows[met[i].Face]), taken: int(met[i].Row)}
			if side == 0 {
				x.pattern = evidence.WithinOneList(faces[i], w.faces[side][met[i].Face])
			} else { // an account that carries another number is another's
				x.pattern = evidence.Compare(faces[i], w.faces[side][met[i].Face])
			}
			x.bits = w.weights.Bits(&x.pattern)
			list[i], faces[i] = x, nil
		}
	})
	if len(w.different) == 0 {
		return list
	}
	return slices.DeleteFunc(list, func(x alike) bool { // a human has said no
		if side == 1 {
			return w.different[edge{w.AccountTwin[x.taken], record.Row(x.left)}]
		}
		return w.different[edge{record.Row(x.left), w.PersonTwin[x.taken]}]
	})
}

// second concludes about a record that may be a second one.
func (w *weigher) second(people bool, x alike, probability float64) {
	if probability < w.in.Evidence.Review {
		return
	}
	words := w.weights.Sentence(&x.pattern)
	if people {
		// never without asking: whoever is taken for somebody else stays without
		// account, and a father and a son may share all that is listed of them
		a := int(w.PersonTwin[x.taken])
		why := fmt.Sprintf("may be person %q listed again (%s)", w.in.People.ID(x.taken), words)
		w.contestPerson(x.left, why)
		w.Proposals = append(w.Proposals, Proposal{Code: "duplicate-person", Person: x.left, Account: a, Reason: why, Probability: float32(probability)})
		w.issue("duplicate-person", x.left, a, "%s", why)
		return
	}
	p := int(w.AccountTwin[x.taken])
	keep, why := w.keep(p, x.taken, x.left)
	advice := fmt.Sprintf("keep %q: %s", w.in.Accounts.ID(keep), why)
	copy := w.shown.copied(w.in.People, p, w.in.Accounts, x.left)
	if copy != "" { // closing it would take from somebody what is meant to be there
		words, advice = words+"; "+copy, "rule leave-alone if it is meant to be there; else "+advice
	}
	if _, ownerGone := w.Vanished[x.left]; !ownerGone && copy == "" && probability >= w.in.Evidence.Accept {
		w.AccountState[x.left], w.AccountTwin[x.left] = Duplicate, record.Row(p)
		w.AccountNote[x.left] = fmt.Sprintf("a second account beside %q (%s); %s", w.in.Accounts.ID(x.taken), words, advice)
		w.issue("duplicate-account", p, x.left, "%s", w.AccountNote[x.left])
		return
	}
	reason := fmt.Sprintf("may be a second account beside %q (%s)", w.in.Accounts.ID(x.taken), words)
	w.contestAccount(x.left, reason)
	w.Proposals = append(w.Proposals, Proposal{Code: "duplicate-account", Person: p, Account: x.left, Reason: reason, Probability: float32(probability)})
	w.issue("duplicate-account", p, x.left, "%s; %s", reason, advice)
}

// twice asks about people who are left over and look like one human listed
// twice: neither may be created before it is known.
func (w *weigher) twice() {
	var open []evidence.Meeting
	for i, row := range w.people {
		if w.PersonState[row] == Undecided {
			open = w.telling[0][i].Meetings(row, open)
		}
	}
	prior := listedTwice / float64(len(w.people)+1)
	at := map[record.Row]evidence.Place{}
	for i, row := range w.people {
		at[row] = evidence.Place(i)
	}
	for _, m := range w.counts.Met(w.telling[0], open) {
		p, q := int(w.people[m.Face]), int(m.Row)
		if at[m.Row] <= m.Face || w.PersonState[p] != Undecided && w.PersonState[p] != Contested || w.PersonState[q] != Undecided && w.PersonState[q] != Contested {
			continue
		}
		pattern := evidence.WithinOneList(w.faces[0][m.Face], w.faces[0][at[m.Row]])
		odds := prior * math.Exp2(w.weights.Bits(&pattern))
		if odds/(1+odds) < w.in.Evidence.Review {
			continue
		}
		words := w.weights.Sentence(&pattern)
		for _, x := range [][2]int{{p, q}, {q, p}} {
			why := fmt.Sprintf("person %q looks like the same human (%s); it is undecided which record to keep", w.in.People.ID(x[1]), words)
			w.contestPerson(x[0], why)
			w.issue("duplicate-person", x[0], -1, "%s", why)
		}
	}
}

// keep proposes which of two accounts of a person to keep, and says why: the
// one that carries the person's number, owns the address, or was used last.
func (m *matcher) keep(p, a, b int) (account int, why string) {
	people, accounts := m.in.People, m.in.Accounts
	number := people.Column("employeeNumber").Cell(p)
	id := people.ID(p)
	carries := func(x int) bool {
		mark := accounts.Column("externalId").Cell(x)
		return mark != "" && (mark == number || mark == id)
	}
	address := people.Column("email").Cell(p)
	owns := func(x int) bool {
		return address != "" && slices.Contains(accounts.Column("emails").Values(x), address)
	}
	for _, test := range []struct {
		holds func(x int) bool
		words string
	}{{carries, "it carries the person's number"}, {owns, "it owns the person's address"}} {
		if x, y := test.holds(a), test.holds(b); x != y {
			if y {
				a = b
			}
			return a, test.words
		}
	}
	if accounts.Column("lastSignIn").Cell(a) != accounts.Column("lastSignIn").Cell(b) {
		return m.later(a, b)
	}
	return a, "it is the twin already"
}

// later is the account that was used last, as far as that is known.
func (m *matcher) later(a, b int) (account int, why string) {
	x, y := m.in.Accounts.Column("lastSignIn").Cell(a), m.in.Accounts.Column("lastSignIn").Cell(b)
	switch {
	case y > x:
		return b, "it was used last, on " + y
	case x > y:
		return a, "it was used last, on " + x
	}
	return a, "nothing tells them apart, and it comes first"
}
