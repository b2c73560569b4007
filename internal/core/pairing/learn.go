package pairing

import (
	"math"
	"slices"
	"sync"

	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/record"
)

// feeds are the comparators that look at an attribute.
var feeds = map[string][]evidence.Comparator{
	"givenName": {evidence.Given}, "middleName": {evidence.Middle}, "familyName": {evidence.Family}, "displayName": {evidence.Given, evidence.Family, evidence.Middle},
	"userName": {evidence.Login}, "email": {evidence.Email, evidence.Login}, "emails": {evidence.Email, evidence.Login}, "aliases": {evidence.Email, evidence.Login}, "personalEmail": {evidence.Email, evidence.Login},
	"phoneNumbers": {evidence.Phone}, "employeeNumber": {evidence.Number}, "id": {evidence.Number}, "externalId": {evidence.Number}, "startsOn": {evidence.Day}, "created": {evidence.Day},
	"department": {evidence.Department}, "title": {evidence.Title}, "location": {evidence.Location},
}

// feedsOf are the comparators that look at an attribute, a declared one too.
func (m *matcher) feedsOf(attribute string) []evidence.Comparator {
	return slices.Concat(feeds[attribute], evidence.DeclaredAt(attribute, m.in.Evidence.Declared))
}

// Sizes of what is learnt from.
const (
	mostTwins     = 20000
	strangerFaces = 1000
	strangersEach = 50
	rounds        = 4
)

// learn finds the weights, where none are given, and how many twins are left to
// be found. It counts them by the weights as they will be kept: the same lists have the
// same twins whether the weights were learnt from them or before.
func (w *weigher) learn() {
	if w.weights = w.in.Evidence.Weights; w.weights == nil {
		w.teach()
		w.weights = w.weights.WithForms(w.forms).Kept()
	} else {
		w.weights = w.weights.Declaring(w.in.Evidence.Declared)
	}
	w.reweigh()
	expected := w.half()
	for range rounds {
		expected = w.expected(expected)
	}
	w.expect(expected)
	// rivals that have twins of their own are none: the assignment knows
	expected = 0
	for _, p := range w.assigned() {
		expected += math.Round(p*evidence.Whole) / evidence.Whole
	}
	w.expect(expected)
	w.twins = expected
	if !w.in.Evidence.Asks { // a lane that weighs no evidence keeps no weights
		w.Weights = w.weights
	}
}

// expected is how many twins are left, given how many were thought to be.
func (w *weigher) expected(before float64) float64 {
	w.expect(before)
	sum := int64(0)
	for _, x := range w.alone() {
		sum += int64(x * evidence.Whole)
	}
	return float64(sum) / evidence.Whole
}

// teach learns weights from twins that are known and from the open pairs, by
// expectation and maximisation (Dempster, Laird, Rubin 1977).
func (w *weigher) teach() {
	lesson := w.lesson()
	w.weights = lesson.Learn()
	w.reweigh()
	expected := w.half()
	for range rounds {
		expected = w.expected(expected)
		p := w.alone()
		lesson.Found, lesson.Beside, lesson.Alone = evidence.Lesson{}.Found, evidence.Lesson{}.Beside, evidence.Lesson{}.Alone
		owned := make([]float64, len(w.accounts))
		for i := range w.pairs {
			owned[w.pairs[i].Account] += p[i]
		}
		for a, f := range w.faces[1] {
			lesson.Account(f, 1-min(owned[a], 1))
		}
		var mu sync.Mutex
		w.inChunks(len(w.pairs), func(from, to int) {
			var part evidence.Lesson
			for i := from; i < to; i++ {
				part.Candidate(&w.pairs[i].pattern, p[i])
			}
			mu.Lock()
			defer mu.Unlock()
			lesson.Join(&part)
		})
		w.weights = lesson.Learn()
		w.reweigh()
	}
}

// half of the shorter list is expected to find a twin before anything is known.
func (w *weigher) half() float64 { return 0.5 * float64(min(len(w.people), len(w.accounts))) }

// expect sets the prior odds of a pair from how many twins are expected among
// the open records: those of a pair drawn from all ways to join so many.
func (w *weigher) expect(twins float64) {
	// however many are expected, nobody is sure to have a twin here
	without := func(n int) float64 { return max(float64(n)-twins, 0.1*float64(n)+3) }
	w.Prior = min(max(twins, 1)/(without(len(w.people))*without(len(w.accounts))), likeliest)
}

// likeliest is how probable a pair may be before anything is known of it,
// however few records are left over.
const likeliest = 1.0 / 300

func (w *weigher) odds(i int) float64 {
	if x := &w.pairs[i]; x.copy != "" {
		return w.Prior * x.likely * asCopy // the human's own record is to win, where there is one
	}
	return w.Prior * w.pairs[i].likely
}

// asCopy is what is left of the odds of a pair of which one says that it is a copy.
const asCopy = 1.0 / 1024

// alone gives each pair's probability against the other candidates of its two
// records, before any assignment.
func (w *weigher) alone() []float64 {
	row, column := make([]float64, len(w.people)), make([]float64, len(w.accounts))
	for i := range w.pairs {
		x, o := &w.pairs[i], w.odds(i)
		row[x.Person] += o
		column[x.Account] += o
	}
	p := make([]float64, len(w.pairs))
	for i := range w.pairs {
		x, o := &w.pairs[i], w.odds(i)
		p[i] = o / (1 + row[x.Person] + column[x.Account] - o)
	}
	return p
}

func (w *weigher) reweigh() {
	w.inChunks(len(w.pairs), func(from, to int) {
		for i := from; i < to; i++ {
			x := &w.pairs[i]
			x.bits = w.weights.Bits(&x.pattern)
			x.likely = math.Exp2(x.bits)
		}
	})
}

// lesson counts twins that are known, and strangers.
func (w *weigher) lesson() (l evidence.Lesson) {
	l.Declared = w.in.Evidence.Declared
	fed := make([][]evidence.Comparator, len(w.in.Keys))
	for k, key := range w.in.Keys {
		for _, a := range key.Attributes {
			fed[k] = append(fed[k], w.feedsOf(a)...)
		}
		for _, c := range fed[k] {
			l.Keyed[c] = l.Keyed[c] || c == evidence.Email || c == evidence.Number || c == evidence.Phone
		}
	}
	people, accounts := w.known(mostTwins)
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
	priors, stride := evidence.Priors().Declaring(w.in.Evidence.Declared), max(1, len(right)/strangersEach)
	for i, x := range left {
		for k := range min(strangersEach, len(right)) {
			pattern := evidence.Compare(x, right[(i+1+k*stride)%len(right)])
			if priors.Bits(&pattern) < 0 { // in a short list, some are drawn who are no strangers
				l.Stranger(&pattern)
			}
		}
	}
	return l
}

// known lists twins that something else than evidence and our own runs make, at most so
// many of them, from all over the lists.
func (w *weigher) known(most int) (people, accounts []record.Row) {
	total := 0
	for _, s := range w.PersonState {
		if s == Twinned {
			total++
		}
	}
	step, n := max(1, (total+most-1)/most), 0
	for _, row := range w.in.People.Order() {
		if w.PersonState[row] == Twinned && !w.Guessed[int(row)] && !w.Ours[int(row)] {
			if n%step == 0 {
				people, accounts = append(people, row), append(accounts, w.PersonTwin[row])
			}
			n++
		}
	}
	return people, accounts
}

// mostNamed are the twins whose names are looked at for what people are called elsewhere.
const mostNamed = 30000

// learnForms finds what people of these lists are called elsewhere.
func (w *weigher) learnForms() {
	if w.in.Evidence.Weights != nil {
		w.know(w.in.Evidence.Weights.Forms())
		return
	}
	people, accounts := w.known(mostNamed)
	lesson, left, right := evidence.NewFormLesson(), w.records[0].Reader(), w.records[1].Reader()
	for i := range people {
		lesson.Twin(left, right, int(people[i]), int(accounts[i]))
	}
	w.know(lesson.Learn())
}

// calledOtherwise joins those whom one key joins and whose names seemed another's, where
// people of these lists are known to be called so.
func (w *weigher) calledOtherwise() {
	left, right := w.records[0].Reader(), w.records[1].Reader()
	cleared := map[edge]bool{}
	for e, key := range w.recycledBy {
		p, a := int(e.p), int(e.a)
		if w.PersonState[p] != Contested || w.AccountState[a] != Contested || !w.unsureP[p] || !w.unsureA[a] {
			continue
		}
		if pattern := evidence.Compare(left.Face(p), right.Face(a)); pattern.NamesAgree() {
			w.join(p, a, Keyed)
			w.By[p] = uint8(key) // charters have few keys
			delete(w.PersonNote, p)
			delete(w.AccountNote, a)
			delete(w.recycledBy, e)
			cleared[e] = true
		}
	}
	if len(cleared) > 0 {
		w.Issues = slices.DeleteFunc(w.Issues, func(i Issue) bool {
			return i.Code == "recycled-key" && cleared[edge{record.Row(i.Person), record.Row(i.Account)}]
		})
		w.Proposals = slices.DeleteFunc(w.Proposals, func(x Proposal) bool {
			return x.Code == "recycled-key" && cleared[edge{record.Row(x.Person), record.Row(x.Account)}]
		})
	}
}

// withoutDoubtedKey takes from a pair what the key says that is in doubt itself.
func (w *weigher) withoutDoubtedKey(x *weighed) {
	key, doubted := w.recycledBy[edge{w.people[x.Person], w.accounts[x.Account]}]
	if !doubted {
		return
	}
	for _, attribute := range w.in.Keys[key].Attributes {
		for _, c := range w.feedsOf(attribute) {
			x.pattern.Forget(c)
		}
	}
}

// spread prepares records from all over a roster.
func (w *weigher) spread(side int, r *record.Roster) []*evidence.Face {
	step := max(1, r.Len()/strangerFaces)
	var rows []record.Row
	for i := 0; i < r.Len(); i += step {
		rows = append(rows, r.Order()[i])
	}
	return w.read(side, rows)
}
