package pairing

import (
	"math"
	"slices"
	"sync"

	"twinning/internal/core/pairing/assignment"
	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/record"
)

// weigher looks for the twins of what rulings, bonds and keys leave over.
type weigher struct {
	*matcher
	readers          [2]func() *evidence.Reader // people, accounts
	people, accounts []int32                    // rows that are open, by id
	faces            [2][]*evidence.Face
	counts           *evidence.Counts
	weights          *evidence.Weights
	pairs            []weighed
	met              [2][]evidence.Meeting // who carries what the open records carry, by side
	prior            float64               // odds of a pair about which nothing is known
}

// weighed is a candidate pair with what comparing it found.
type weighed struct {
	evidence.Pair
	pattern evidence.Pattern
	bits    float64
}

// weigh pairs by evidence.
func (m *matcher) weigh() {
	if m.in.Evidence == nil {
		return
	}
	w := &weigher{matcher: m, readers: [2]func() *evidence.Reader{
		func() *evidence.Reader { return evidence.People(m.in.People) },
		func() *evidence.Reader { return evidence.Accounts(m.in.Accounts) },
	}}
	w.open()
	if len(w.people)+len(w.accounts) == 0 {
		return
	}
	w.prepare()
	w.candidates()
	w.learn()
	w.decide()
	w.duplicates()
}

// open lists who takes part: the undecided, and the contested as their rivals.
func (w *weigher) open() {
	for _, row := range w.in.People.Order() {
		if s := w.PersonState[row]; s == Undecided || s == Contested {
			if _, unread := w.in.People.Unread(int(row)); !unread {
				w.people = append(w.people, int32(row)) // rows fit
			}
		}
	}
	for _, row := range w.in.Accounts.Order() {
		if s := w.AccountState[row]; (s == Undecided || s == Contested) && w.takesPart(int(row)) {
			if _, unread := w.in.Accounts.Unread(int(row)); !unread {
				w.accounts = append(w.accounts, int32(row)) // rows fit
			}
		}
	}
}

func (w *weigher) inChunks(n int, part func(from, to int)) {
	evidence.InChunks(w.in.Cores, n, func() func(from, to int) { return part })
}

func (w *weigher) read(side int, rows []int32) []*evidence.Face {
	faces := make([]*evidence.Face, len(rows))
	evidence.InChunks(w.in.Cores, len(rows), func() func(from, to int) {
		reader := w.readers[side]()
		return func(from, to int) {
			for i := from; i < to; i++ {
				faces[i] = reader.Face(int(rows[i]))
			}
		}
	})
	return faces
}

// prepare reads the open records and counts how common their values are.
func (w *weigher) prepare() {
	w.faces = [2][]*evidence.Face{w.read(0, w.people), w.read(1, w.accounts)}
	rosters := [2]*record.Roster{w.in.People, w.in.Accounts}
	states := [2][]State{w.PersonState, w.AccountState}
	w.counts = evidence.NewCounts(rosters[0].Len()+rosters[1].Len(), w.faces[0], w.faces[1])
	var mu sync.Mutex
	for side, r := range rosters {
		evidence.InChunks(w.in.Cores, r.Len(), func() func(from, to int) {
			reader := w.readers[side]()
			return func(from, to int) {
				var met []evidence.Meeting
				for i := from; i < to; i++ {
					if before := len(met); states[side][i] == Twinned {
						met = w.counts.Add(reader, i, met)
					} else {
						met = w.counts.Add(reader, i, met)[:before]
					}
				}
				mu.Lock()
				defer mu.Unlock()
				w.met[side] = append(w.met[side], met...) // in any order: Met sorts
			}
		})
	}
	for _, faces := range w.faces {
		w.inChunks(len(faces), func(from, to int) {
			for _, f := range faces[from:to] {
				w.counts.Fill(f)
			}
		})
	}
}

// hopeless is the weight, in bits, below which a pair is not kept: it can be
// nobody's twin and nobody's rival.
const hopeless = 0

// candidates compares what blocking brings together.
func (w *weigher) candidates() {
	blocks, dropped := evidence.Candidates(w.faces[0], w.faces[1], w.in.Cores)
	w.Dropped = dropped
	first := w.in.Evidence.Weights
	if first == nil {
		first = evidence.Priors()
	}
	kept := make([][]weighed, len(blocks))
	w.inChunks(len(blocks), func(from, to int) {
		for p := from; p < to; p++ {
			for _, pair := range blocks[p] {
				if len(w.different) > 0 && w.different[edge{w.people[pair.Person], w.accounts[pair.Account]}] {
					continue
				}
				x := weighed{Pair: pair, pattern: evidence.Compare(w.faces[0][pair.Person], w.faces[1][pair.Account])}
				if x.bits = first.Bits(&x.pattern); x.bits > hopeless {
					kept[p] = append(kept[p], x)
				}
			}
			blocks[p] = nil
		}
	})
	w.pairs = slices.Concat(kept...)
	w.weights = first
}

// feeds are the comparators that look at an attribute.
var feeds = map[string][]evidence.Comparator{
	"givenName": {evidence.Given}, "middleName": {evidence.Middle}, "familyName": {evidence.Family}, "displayName": {evidence.Given, evidence.Family, evidence.Middle},
	"userName": {evidence.Login}, "email": {evidence.Email, evidence.Login}, "emails": {evidence.Email, evidence.Login}, "aliases": {evidence.Email, evidence.Login}, "personalEmail": {evidence.Email, evidence.Login},
	"phoneNumbers": {evidence.Phone}, "employeeNumber": {evidence.Number}, "externalId": {evidence.Number}, "startsOn": {evidence.Day}, "created": {evidence.Day},
	"department": {evidence.Department}, "title": {evidence.Title}, "location": {evidence.Location},
}

// Sizes of what is learnt from.
const (
	mostTwins     = 20000
	strangerFaces = 1000
	strangersEach = 50
	rounds        = 4
)

// learn finds the weights, where none are given, and how many twins are left to
// be found, both by expectation and maximisation (Dempster, Laird, Rubin 1977).
func (w *weigher) learn() {
	var lesson evidence.Lesson
	given := w.in.Evidence.Weights != nil
	if !given {
		lesson = w.lesson()
		w.weights = lesson.Learn()
		w.reweigh()
	}
	expected := 0.5 * float64(min(len(w.people), len(w.accounts)))
	for range rounds {
		w.expect(expected)
		p := w.alone()
		sum := int64(0)
		for _, x := range p {
			sum += int64(x * evidence.Whole)
		}
		expected = float64(sum) / evidence.Whole
		if given {
			continue
		}
		lesson.Found, lesson.Beside = evidence.Lesson{}.Found, evidence.Lesson{}.Beside
		for i := range w.pairs {
			lesson.Candidate(&w.pairs[i].pattern, p[i])
		}
		w.weights = lesson.Learn()
		w.reweigh()
	}
	w.expect(expected)
	w.Weights = w.weights
}

// expect sets the prior odds of a pair from how many twins are expected among
// the open records: those of a pair drawn from all ways to join so many.
func (w *weigher) expect(twins float64) {
	// however many are expected, nobody is sure to have a twin here
	without := func(n int) float64 { return max(float64(n)-twins, 0.1*float64(n)+3) }
	w.Prior = min(max(twins, 1)/(without(len(w.people))*without(len(w.accounts))), likeliest)
}

// likeliest is how probable a pair may be before anything is known of it,
// however few records are left over: to be joined unasked at 0.995 it then
// takes 18 bits, which a name alone doesn't give in a short list.
const likeliest = 1.0 / 1400

func (w *weigher) odds(i int) float64 { return w.Prior * math.Exp2(w.pairs[i].bits) }

// alone gives each pair's probability against the other candidates of its two
// records, before any assignment.
func (w *weigher) alone() []float64 {
	row, column := make([]float64, len(w.people)), make([]float64, len(w.accounts))
	for i, x := range w.pairs {
		o := w.odds(i)
		row[x.Person] += o
		column[x.Account] += o
	}
	p := make([]float64, len(w.pairs))
	for i, x := range w.pairs {
		o := w.odds(i)
		p[i] = o / (1 + row[x.Person] + column[x.Account] - o)
	}
	return p
}

func (w *weigher) reweigh() {
	w.inChunks(len(w.pairs), func(from, to int) {
		for i := from; i < to; i++ {
			w.pairs[i].bits = w.weights.Bits(&w.pairs[i].pattern)
		}
	})
}

// lesson counts twins that are known, and strangers.
func (w *weigher) lesson() (l evidence.Lesson) {
	fed := make([][]evidence.Comparator, len(w.in.Keys))
	for k, key := range w.in.Keys {
		for _, a := range key.Attributes {
			fed[k] = append(fed[k], feeds[a]...)
		}
		for _, c := range fed[k] {
			l.Keyed[c] = l.Keyed[c] || c == evidence.Email || c == evidence.Number || c == evidence.Phone
		}
	}
	var people, accounts []int32
	total := 0
	for _, s := range w.PersonState {
		if s == Twinned {
			total++
		}
	}
	step := max(1, total/mostTwins)
	n := 0
	for _, row := range w.in.People.Order() {
		if w.PersonState[row] == Twinned {
			if n%step == 0 {
				people, accounts = append(people, int32(row)), append(accounts, w.PersonTwin[row]) // rows fit
			}
			n++
		}
	}
	left, right := w.read(0, people), w.read(1, accounts)
	var mu sync.Mutex
	w.inChunks(len(people), func(from, to int) {
		var part evidence.Lesson
		for i := from; i < to; i++ {
			pattern := evidence.Compare(left[i], right[i])
			p, a := int(people[i]), int(accounts[i])
			human := w.Basis[p] == Ruled || w.Basis[p] == Bonded
			var agree []int
			for k := range w.in.Keys {
				if w.agree(k, p, a) {
					agree = append(agree, k)
				}
			}
			part.Twin(&pattern, func(c evidence.Comparator) bool {
				return human || slices.ContainsFunc(agree, func(k int) bool { return !slices.Contains(fed[k], c) })
			})
		}
		mu.Lock()
		defer mu.Unlock()
		l.Join(&part)
	})
	left, right = w.spread(0, w.in.People), w.spread(1, w.in.Accounts)
	priors, stride := evidence.Priors(), max(1, len(right)/strangersEach)
	for i, x := range left {
		for k := range min(strangersEach, len(right)) {
			pattern := evidence.Compare(x, right[(i+1+k*stride)%len(right)])
			if priors.Bits(&pattern) < hopeless { // in a short list, some are drawn who are no strangers
				l.Stranger(&pattern)
			}
		}
	}
	return l
}

// spread prepares records from all over a roster.
func (w *weigher) spread(side int, r *record.Roster) []*evidence.Face {
	step := max(1, r.Len()/strangerFaces)
	var rows []int32
	for i := 0; i < r.Len(); i += step {
		rows = append(rows, int32(r.Order()[i])) // rows fit
	}
	return w.read(side, rows)
}

// decide joins, asks about or leaves every open record.
func (w *weigher) decide() {
	edges := make([]assignment.Edge, len(w.pairs))
	for i, x := range w.pairs {
		edges[i] = assignment.Edge{Person: x.Person, Account: x.Account, Odds: w.odds(i)}
	}
	nothing := func(int32) float64 { return 0 }
	p := assignment.Probabilities(edges, len(w.people), len(w.accounts), nothing, nothing)
	w.Probability = make([]float32, len(w.PersonState))
	sumP, sumA := make([]float64, len(w.people)), make([]float64, len(w.accounts))
	for i, x := range w.pairs {
		person, account := int(w.people[x.Person]), int(w.accounts[x.Account])
		if p[i] >= w.in.Evidence.Accept && w.mayJoin(person, account) && w.hesitates(&x) == "" {
			w.join(person, account, Weighed)
			delete(w.PersonNote, person)
			delete(w.AccountNote, account)
			w.Probability[person] = float32(p[i])
			continue
		}
		sumP[x.Person] += p[i]
		sumA[x.Account] += p[i]
	}
	w.settled()
	for i := range w.pairs {
		x := &w.pairs[i]
		person, account := int(w.people[x.Person]), int(w.accounts[x.Account])
		if w.PersonState[person] == Twinned || w.AccountState[account] == Twinned {
			continue
		}
		code, why := "contested-match", w.hesitates(x)
		sum := max(sumP[x.Person], sumA[x.Account])
		if x.pattern.Rehired() {
			// a new number and a suspended account are what a rehire looks like:
			// they speak for asking, and not against it
			odds := w.Prior * math.Exp2(w.weights.Bits(x.pattern.Regardless()))
			sum = max(sum, odds/(1+odds))
			code = "rehire"
			p[i] = max(p[i], unlikely)
		}
		if p[i] < unlikely || sum < w.in.Evidence.Review {
			continue
		}
		if why == "" {
			why = "alike, but not surely one"
		}
		w.wonder(code, person, account, p[i], why+" ("+w.weights.Sentence(&x.pattern)+")")
	}
}

// wonder contests a pair for its evidence.
func (w *weigher) wonder(code string, person, account int, probability float64, why string) {
	if w.PersonState[person] == Undecided {
		w.contestPerson(person, why)
	}
	if w.AccountState[account] == Undecided {
		w.contestAccount(account, why)
	}
	w.Proposals = append(w.Proposals, Proposal{Person: person, Account: account, Reason: why, Probability: float32(probability)})
	w.issue(code, person, account, "%s", why)
}

// mayJoin: neither is contested for more than what keys say.
func (w *weigher) mayJoin(p, a int) bool {
	return (w.PersonState[p] == Undecided || w.PersonState[p] == Contested && w.unsureP[p]) && (w.AccountState[a] == Undecided || w.AccountState[a] == Contested && w.unsureA[a])
}

// settled takes back what was asked about records that evidence has joined
// since. What their keys share with others is still told.
func (w *weigher) settled() {
	if len(w.unsureP) == 0 {
		return
	}
	joined := func(p, a int) bool { return p >= 0 && a >= 0 && w.PersonTwin[p] == int32(a) && w.Basis[p] == Weighed } // rows fit
	w.Issues = slices.DeleteFunc(w.Issues, func(i Issue) bool { return joined(i.Person, i.Account) })
	w.Proposals = slices.DeleteFunc(w.Proposals, func(x Proposal) bool {
		return w.PersonState[x.Person] == Twinned && w.Basis[x.Person] == Weighed || w.AccountState[x.Account] == Twinned && w.Basis[w.AccountTwin[x.Account]] == Weighed
	})
}

// unlikely is the probability below which nobody is asked about a pair, even
// where it is one of several that must hold one twin.
const unlikely = 0.2

// hesitates says why even a probable pair is asked about, "" when it is not.
func (w *weigher) hesitates(x *weighed) string {
	switch {
	case x.pattern.Rehired():
		return "a new number and a suspended account: hired again?"
	case x.pattern.Levels[evidence.Given] == evidence.Level(likeness.Differ):
		return "much agrees, but the given names differ"
	}
	return ""
}

// fallen asks about those whom evidence joined at the last reconciliation and
// no longer does: who once had a twin is not simply missing.
func (m *matcher) fallen() {
	for _, pair := range m.in.Weighed {
		p, ok1 := m.in.People.Find(pair.Person)
		a, ok2 := m.in.Accounts.Find(pair.Account)
		if !ok1 || !ok2 || m.different[edge{int32(p), int32(a)}] || m.PersonState[p] != Undecided || m.AccountState[a] != Undecided || !m.takesPart(a) { // rows fit
			continue
		}
		why := "taken for one human by evidence before, and no longer sure"
		m.contestPerson(p, why)
		m.contestAccount(a, why)
		m.propose(p, a, why)
		m.issue("contested-match", p, a, "%s", why)
	}
}
