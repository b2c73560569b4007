package pairing

import (
	"fmt"
	"math"
	"slices"

	"twinning/internal/core/pairing/assignment"
	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/record"
)

// assigned gives each pair's probability among all ways to join everybody.
func (w *weigher) assigned() []float64 {
	edges := make([]assignment.Edge, len(w.pairs))
	w.inChunks(len(w.pairs), func(from, to int) {
		for i := from; i < to; i++ {
			x := &w.pairs[i]
			edges[i] = assignment.Edge{Person: int(x.Person), Account: int(x.Account), Odds: w.odds(i)}
		}
	})
	return assignment.Probabilities(edges, len(w.people), len(w.accounts), w.in.Cores)
}

// decide joins, asks about or leaves every open record.
func (w *weigher) decide() {
	said := w.assigned()
	p := w.told(said)
	if !w.in.Evidence.Asks {
		w.Probability = make([]float32, len(w.PersonState))
		w.note(p)
	}
	sumP, sumA := make([]float64, len(w.people)), make([]float64, len(w.accounts))
	for i := range w.pairs {
		x := &w.pairs[i]
		person, account := int(w.people[x.Person]), int(w.accounts[x.Account])
		if !w.in.Evidence.Asks && w.joins(x, said[i], p[i]) && w.mayJoin(person, account) && !(w.faced[person] && w.agreements(person, account) > 0) {
			w.join(person, account, Weighed)
			delete(w.PersonNote, person)
			delete(w.AccountNote, account)
			w.Probability[person], w.Guessed[person] = float32(p[i]), true
			continue
		}
		sumP[x.Person] += p[i]
		sumA[x.Account] += p[i]
	}
	w.dropAnswered()
	lastSharers := w.lastSharers()
	for i := range w.pairs {
		x := &w.pairs[i]
		person, account := int(w.people[x.Person]), int(w.accounts[x.Account])
		if w.PersonState[person] == Twinned || w.AccountState[account] == Twinned {
			continue
		}
		code := "contested-match"
		sum := max(sumP[x.Person], sumA[x.Account])
		if x.pattern.Rehired() {
			// a new number and a suspended account are what a rehire looks like:
			// they speak for asking, and not against it
			odds := w.Prior * math.Exp2(w.weights.Bits(x.pattern.Regardless()))
			sum = odds / (1 + odds) // whoever else comes close is asked about for themselves
			code = "rehire"
		}
		if x.copy != "" { // alone with it: whoever knows says whether it is the human's own after all
			odds := w.Prior * x.likely
			sum = odds / (1 + odds)
		}
		if code == "rehire" || x.copy != "" {
			p[i] = max(p[i], unlikely)
		}
		if (p[i] < unlikely || sum < w.in.Evidence.Review) && !lastSharers[i] {
			continue
		}
		h := w.hesitates(x)
		why := h.why
		switch {
		case why != "" && (h != littleSaid || !w.in.Evidence.Asks && p[i] >= w.in.Evidence.Accept):
		case w.in.Evidence.Asks:
			why = "alike, and left over on either side"
		default:
			why = "alike, but not surely one"
		}
		if _, gone := w.Vanished[account]; gone {
			code = "bond-broken"
		}
		w.wonder(code, person, account, p[i], why, w.weights.Sentence(&x.pattern))
	}
}

// Candidate is a pair of open records that evidence speaks for.
type Candidate struct {
	Person, Account     record.Row // rows
	Before, Probability float32    // against the other candidates of both; among all ways to join everybody
	Bits                float32
	Pattern             evidence.Pattern
}

// worthTelling is the probability from which a candidate is kept in the result.
const worthTelling = 0.01

// note keeps the candidates that anybody might ask about, by person, the best
// first.
func (w *weigher) note(p []float64) {
	before := w.alone()
	for i := range w.pairs {
		if x := &w.pairs[i]; max(p[i], before[i]) >= worthTelling || x.pattern.Rehired() {
			w.Candidates = append(w.Candidates, Candidate{w.people[x.Person], w.accounts[x.Account], float32(before[i]), float32(p[i]), float32(x.bits), x.pattern})
		}
	}
}

// Candidate finds what evidence says of a pair of rows.
func (r *Result) Candidate(p, a int) (*Candidate, bool) {
	r.finder.Do(func() {
		r.found = make(map[edge]int, len(r.Candidates))
		for i, c := range r.Candidates {
			r.found[edge{c.Person, c.Account}] = i
		}
	})
	i, ok := r.found[edge{record.Row(p), record.Row(a)}]
	if !ok {
		return nil, false
	}
	return &r.Candidates[i], true
}

// wonder contests a pair for its evidence.
func (w *weigher) wonder(code string, person, account int, probability float64, brief, said string) {
	why := brief + " (" + said + ")"
	if w.PersonState[person] == Undecided {
		w.contestPerson(person, why)
	}
	if w.AccountState[account] == Undecided {
		w.contestAccount(account, why)
	}
	w.Proposals = append(w.Proposals, Proposal{Code: code, Person: person, Account: account, Reason: why, Brief: brief, Probability: float32(probability)})
	w.issue(code, person, account, "%s", why)
}

// mayJoin: neither is contested for more than what keys say.
func (w *weigher) mayJoin(p, a int) bool {
	return (w.PersonState[p] == Undecided || w.PersonState[p] == Contested && w.unsureP[p]) && (w.AccountState[a] == Undecided || w.AccountState[a] == Contested && w.unsureA[a])
}

// lastSharers finds the pairs that are all that is left of those who share an
// address: a service account, perhaps, and perhaps the last one's own.
func (w *weigher) lastSharers() map[int]bool {
	people, accounts, last := map[evidence.Place]int{}, map[evidence.Place]int{}, map[int]bool{}
	for i := range w.pairs {
		if x := &w.pairs[i]; x.pattern.SharedAddress() {
			people[x.Person]++
			accounts[x.Account]++
			last[i] = true
		}
	}
	for i := range last {
		if x := &w.pairs[i]; people[x.Person] > 1 || accounts[x.Account] > 1 || w.PersonState[w.people[x.Person]] != Undecided || w.AccountState[w.accounts[x.Account]] != Undecided {
			delete(last, i)
		}
	}
	return last
}

// dropAnswered takes back what was asked about records that evidence has joined
// since. What their keys share with others is still told.
func (w *weigher) dropAnswered() {
	if len(w.unsureP) == 0 {
		return
	}
	joined := func(p, a int) bool {
		return p >= 0 && a >= 0 && w.PersonTwin[p] == record.Row(a) && w.Basis[p] == Weighed
	}
	w.Issues = slices.DeleteFunc(w.Issues, func(i Issue) bool { return joined(i.Person, i.Account) })
	w.Proposals = slices.DeleteFunc(w.Proposals, func(x Proposal) bool {
		return w.PersonState[x.Person] == Twinned && w.Basis[x.Person] == Weighed || w.AccountState[x.Account] == Twinned && w.Basis[w.AccountTwin[x.Account]] == Weighed
	})
}

// unlikely is the probability below which nobody is asked about a pair, even
// where it is one of several that must hold one twin.
const unlikely = 0.3

// told is what probabilities are worth by the trial, where one was made.
func (w *weigher) told(said []float64) []float64 {
	curve := w.weights.Curve()
	if curve == nil {
		return said
	}
	told := make([]float64, len(said))
	for i, p := range said {
		told[i] = curve.At(p)
	}
	return told
}

// joins: likely enough, the likeliest of those around it, and nothing else to fear.
func (w *weigher) joins(x *weighed, said, told float64) bool {
	if told < w.in.Evidence.Accept || said <= 0.5 {
		return false
	}
	h := w.hesitates(x)
	return h.why == "" || h.kind != "" && w.weights.Curve().Settles(h.kind)
}

// leastToJoin is what a pair has to be worth, in bits, to be joined unasked in a short list,
// however few records are left over: how common a name is, such a list does not say.
const (
	leastToJoin = 15.8
	shortList   = 1000 // records
)

// hesitation is why even a probable pair is asked about; the zero value is none. Those of
// a kind fear nothing but a wrong join, and a trial may find them to be worth nothing.
type hesitation struct{ kind, why string }

func (w *weigher) hesitates(x *weighed) hesitation {
	switch {
	case x.pattern.Rehired():
		return hesitation{why: "a new number and a suspended account: hired again?"}
	case x.copy != "":
		return hesitation{why: x.copy}
	case x.pattern.SharedAddress():
		return hesitation{why: "they share an address that others share too, and nothing else says who the account is"}
	}
	if gone, ok := w.Vanished[int(w.accounts[x.Account])]; ok {
		return hesitation{why: fmt.Sprintf("the account is bonded with person %q, who is gone: the same human under a new id?", gone)}
	}
	if owner, is := w.addressee[w.accounts[x.Account]]; is && owner != w.people[x.Person] {
		return hesitation{"an address that is another's", fmt.Sprintf("an address of the account is person %q's", w.in.People.ID(int(owner)))}
	}
	switch {
	case x.pattern.Levels[evidence.Given] == evidence.Level(likeness.Differ):
		return hesitation{"given names differ", "much agrees, but the given names differ"}
	case x.pattern.Levels[evidence.Given] == evidence.Level(likeness.Begun):
		return hesitation{"given names begin alike", "much agrees, and the given names begin alike: a short form, or two humans?"}
	case x.pattern.Levels[evidence.Middle] == evidence.Level(likeness.Differ):
		return hesitation{"middle names differ", "much agrees, but the middle names differ: father and son?"}
	case w.weights.Namesakes(&x.pattern):
		return hesitation{"other digits in the address", "much agrees, but in one house their addresses have other digits: namesakes?"}
	case x.bits < leastToJoin && min(w.in.People.Len(), w.in.Accounts.Len()) < shortList:
		return littleSaid
	}
	return hesitation{}
}

var littleSaid = hesitation{"little is said", "likely in so short a list, but little more than a name agrees"}

// addressees finds whose address an account carries, alone of all accounts, though all else
// speaks against the two being one. Numbers outlive their owners, an address is read by
// whoever has it now.
func (w *weigher) addressees() {
	w.addressee = map[record.Row]record.Row{}
	for e, key := range w.recycledBy {
		if slices.ContainsFunc(w.in.Keys[key].Attributes, func(n string) bool { return slices.Contains(w.feedsOf(n), evidence.Email) }) {
			w.addressee[e.a] = e.p
		}
	}
}

// parted holds whom a human has just told from their bonded twin: neither is
// created anew nor shut before a plan has been sealed that shows it.
func (m *matcher) parted() {
	for _, pair := range m.in.Parted {
		why := fmt.Sprintf("ruled not to be one with %q, which it was bonded with: held from create and suspend until the next plan is sealed", pair.Account)
		if p, ok := m.in.People.Find(pair.Person); ok && m.PersonState[p] == Undecided {
			m.contestPerson(p, why)
			m.issue("contested-match", p, -1, "%s", why)
		}
		why = fmt.Sprintf("ruled not to be one with %q, whom it was bonded with: held from create and suspend until the next plan is sealed", pair.Person)
		if a, ok := m.in.Accounts.Find(pair.Account); ok && m.AccountState[a] == Undecided && m.takesPart(a) {
			m.contestAccount(a, why)
			m.issue("contested-match", -1, a, "%s", why)
		}
	}
}

// fallen asks about those whom evidence joined at the last reconciliation and
// no longer does: who once had a twin is not simply missing.
func (m *matcher) fallen() {
	for _, pair := range m.in.Weighed {
		p, ok1 := m.in.People.Find(pair.Person)
		a, ok2 := m.in.Accounts.Find(pair.Account)
		if !ok1 || !ok2 || m.different[edge{record.Row(p), record.Row(a)}] || m.PersonState[p] != Undecided || m.AccountState[a] != Undecided || !m.takesPart(a) {
			continue
		}
		why := "taken for one human by evidence before, and no longer sure"
		m.contestPerson(p, why)
		m.contestAccount(a, why)
		m.propose("contested-match", p, a, why)
		m.issue("contested-match", p, a, "%s", why)
	}
}
