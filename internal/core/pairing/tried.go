package pairing

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/record"
)

// Sizes of a trial.
const (
	heldBack    = 4000 // twins, in all
	partOfKnown = 0.2  // of the known ones, in one part
	likelyFrom  = 0.05 // pairs below are nobody's question
	fewestKnown = 30   // less teaches nothing
	settledFrom = 50   // pairs without which a hesitation stands
	examples    = 3    // of a kind
	mostWrong   = 1e-4 // of all twins, by a careful threshold
	lighter     = 0.2  // what an observation counts at least, by its kind
	heavier     = 5.0  // and at most
)

// thresholds that are priced.
var thresholds = []float64{0.5, 0.6, 0.7, 0.8, 0.9, 0.95, 0.97, 0.98, 0.99, 0.995, 0.998, 0.999, 0.9995}

// bandEnds part what is said.
var bandEnds = []float64{0.05, 0.1, 0.3, 0.5, 0.7, 0.8, 0.9, 0.95, 0.98, 0.99, 0.995, 0.999, 1}

// Try makes a trial. The weights given stand where they were declared; those that were
// learnt are learnt anew, without what is held back.
func Try(in Input, declared bool) (*Trial, error) {
	if e := *in.Evidence; !declared {
		e.Weights = nil
		in.Evidence = &e
	}
	base := newMatcher(in)
	base.certain()
	now := newWeigher(base)
	known := now.heldBackable()
	if len(known) < fewestKnown {
		return nil, fmt.Errorf("twins that keys and rulings make: %d, and a trial needs %d at least; declare keys that pair more, or rule on pairs that you are sure of", len(known), fewestKnown)
	}
	if !now.compared() {
		return nil, fmt.Errorf("nobody is left over whom evidence could pair: keys and rulings pair everybody on one side")
	}
	before := base.Result.clone()
	t := &tried{Trial: Trial{Bands: []TrialBand{}, Thresholds: []TrialThreshold{}, Kinds: []TrialKind{}, Levels: []TrialLevel{}, Hesitations: []TrialHesitation{}, Known: len(known), Open: len(now.people), Weights: now.weights, Accept: in.Evidence.Accept, Review: in.Evidence.Review}, in: in}
	t.levels, t.leftKind = map[levelOf]*TrialLevel{}, map[string]int{}
	t.leftOver(now)
	target := min(len(known), heldBack)
	size := max(fewestKnown, min(target, int(partOfKnown*float64(len(known)))))
	share := 0.0 // of those left over who have no twin here
	if n := len(now.people); n > 0 {
		share = min(max(1-now.twins/float64(n), 0), 0.9)
	}
	for from := 0; from < target; from += size {
		t.Parts++
		t.part(base, before, known[from:min(from+size, target)], share)
	}
	t.conclude()
	return &t.Trial, nil
}

// clone copies what a part of a trial changes.
func (r *Result) clone() *Result {
	return &Result{
		PersonState: slices.Clone(r.PersonState), AccountState: slices.Clone(r.AccountState), PersonTwin: slices.Clone(r.PersonTwin), AccountTwin: slices.Clone(r.AccountTwin),
		Basis: r.Basis, By: r.By, PersonNote: r.PersonNote, AccountNote: r.AccountNote, Vanished: r.Vanished, Guessed: r.Guessed, Ours: r.Ours,
	}
}

// heldBackable lists people whose twin is known otherwise than by evidence, in an order
// that has nothing to do with the lists' own.
func (w *weigher) heldBackable() []record.Row {
	people, _ := w.known(w.in.People.Len())
	slices.SortStableFunc(people, func(a, b record.Row) int {
		return cmp.Compare(evidence.Shuffle(w.in.People.ID(int(a))), evidence.Shuffle(w.in.People.ID(int(b))))
	})
	return people
}

// tried is a trial at work.
type tried struct {
	Trial
	in       Input
	seen     []sighting
	levels   map[levelOf]*TrialLevel
	kinds    map[string]*TrialKind
	open     []likelyPair // of those left over, the likely ones
	leftKind map[string]int
}

type levelOf struct{ comparator, level string }

// sighting is a pair of which the truth is known.
type sighting struct {
	evidence.Observed
	kind     string
	hesitant string // the kind of its hesitation
	best     bool   // the likeliest of its two records
	example  TrialExample
}

// likelyPair is one of those left over.
type likelyPair struct {
	said     float64
	hesitant string
}

// leftOver looks at the pairs that evidence has to decide on now.
func (t *tried) leftOver(w *weigher) {
	for i, p := range w.assigned() {
		x := &w.pairs[i]
		if p < likelyFrom {
			continue
		}
		if h := w.hesitates(x); h.why == "" || h.kind != "" { // the others are asked whatever the numbers say
			t.leftKind[x.pattern.Kind()]++
			t.open = append(t.open, likelyPair{p, h.kind})
		}
	}
}

// part holds some twins back and lets evidence look for them.
func (t *tried) part(base *matcher, before *Result, held []record.Row, lost float64) {
	m := *base
	m.Result = before.clone()
	w := newWeigher(&m)
	w.hides = map[record.Row][]evidence.Comparator{}
	twin, owner := map[record.Row]record.Row{}, map[record.Row]record.Row{} // -1: taken away
	gone := 0.0
	for _, p := range held {
		a := before.PersonTwin[p]
		w.hides[a] = m.hiddenWith(int(p), int(a))
		m.PersonState[p], m.AccountState[a] = Undecided, Undecided
		m.PersonTwin[p], m.AccountTwin[a] = -1, -1
		twin[p], owner[a] = a, p
		if gone += lost; gone >= 1 { // every so many-th
			gone--
			t.Lost++
			if t.Lost%2 == 0 {
				m.PersonState[p], owner[a] = Exempt, -1
				delete(twin, p)
			} else {
				m.AccountState[a], twin[p] = Exempt, -1
				delete(owner, a)
			}
		}
	}
	t.Held += len(held)
	if !w.compared() {
		return
	}
	said := w.assigned()
	best := [2]map[evidence.Place]float64{{}, {}}
	for i, p := range said {
		x := &w.pairs[i]
		best[0][x.Person], best[1][x.Account] = max(best[0][x.Person], p), max(best[1][x.Account], p)
	}
	for i, p := range said {
		x := &w.pairs[i]
		person, account := w.people[x.Person], w.accounts[x.Account]
		own, isHeld := twin[person]
		its, isHeldToo := owner[account]
		if p < likelyFrom || !isHeld && !isHeldToo {
			continue
		}
		one := isHeld && own == account || isHeldToo && its == person
		h := w.hesitates(x)
		if h.why != "" && h.kind == "" {
			continue // asked whatever the numbers say
		}
		s := sighting{
			Observed: evidence.Observed{Said: p, Weight: 1, One: one}, kind: x.pattern.Kind(), hesitant: h.kind,
			best: p >= best[0][x.Person] && p >= best[1][x.Account] && p > 0.5,
		}
		if one != (p > 0.5) {
			s.example = TrialExample{
				Person: t.in.People.ID(int(person)), Account: t.in.Accounts.ID(int(account)), PersonLabel: record.Label(t.in.People, int(person)), AccountLabel: record.Label(t.in.Accounts, int(account)),
				Said: p, One: one, Words: w.weights.Sentence(&x.pattern),
			}
		}
		t.seen = append(t.seen, s)
		t.note(w.weights, &x.pattern, p, one)
	}
}

// hiddenWith lists the comparators that read what the keys of a twin read.
func (m *matcher) hiddenWith(p, a int) (list []evidence.Comparator) {
	for k := range m.in.Keys {
		if !m.agree(k, p, a) {
			continue
		}
		for _, attribute := range m.in.Keys[k].Attributes {
			for _, c := range m.feedsOf(attribute) {
				list = appendNew(list, c)
			}
		}
	}
	return list
}

// note counts what every level said, and what is true.
func (t *tried) note(w *evidence.Weights, p *evidence.Pattern, said float64, one bool) {
	for _, s := range w.Say(p) {
		key := levelOf{s.Comparator, s.Level}
		l := t.levels[key]
		if l == nil {
			l = &TrialLevel{Comparator: s.Comparator, Level: s.Level}
			t.levels[key] = l
		}
		l.Bits += s.Bits
		l.Said += said
		l.Pairs++
		if one {
			l.True++
		}
	}
}

// conclude turns what was seen into a curve and its prices.
func (t *tried) conclude() {
	t.weigh()
	var observed []evidence.Observed
	for _, s := range t.seen {
		observed = append(observed, s.Observed)
	}
	t.Curve = evidence.Fit(observed)
	t.bands()
	t.settle()
	t.price()
	t.sortKinds()
	for _, l := range t.levels {
		n := float64(l.Pairs)
		l.Bits, l.Said, l.True = l.Bits/n, l.Said/n, l.True/n
		t.Levels = append(t.Levels, *l)
	}
	slices.SortFunc(t.Levels, func(a, b TrialLevel) int {
		return cmp.Or(cmp.Compare(evidence.Order(a.Comparator), evidence.Order(b.Comparator)), cmp.Compare(b.Bits, a.Bits), cmp.Compare(a.Level, b.Level))
	})
	t.Weights = t.Weights.WithCurve(t.Curve).Kept()
}

// weigh has every kind count as much as there is of it among those left over.
func (t *tried) weigh() {
	held := map[string]int{}
	for _, s := range t.seen {
		held[s.kind]++
	}
	left := 0
	for _, n := range t.leftKind {
		left += n
	}
	sum := 0.0
	for i := range t.seen {
		s := &t.seen[i]
		ours, theirs := float64(held[s.kind])/float64(len(t.seen)), float64(t.leftKind[s.kind])/float64(max(left, 1))
		s.Weight = min(max(theirs/ours, lighter), heavier)
		sum += s.Weight
	}
	for i := range t.seen {
		t.seen[i].Weight *= float64(len(t.seen)) / sum
	}
	t.kinds = map[string]*TrialKind{}
	of := func(kind string) *TrialKind {
		if t.kinds[kind] == nil {
			t.kinds[kind] = &TrialKind{Kind: kind, LeftOver: t.leftKind[kind], Examples: []TrialExample{}}
		}
		return t.kinds[kind]
	}
	for kind := range t.leftKind {
		of(kind)
	}
	for _, s := range t.seen {
		k := of(s.kind)
		k.Pairs++
		k.Said += s.Said
		if s.One {
			k.One++
		}
		if s.One != (s.Said > 0.5) {
			k.Examples = append(k.Examples, s.example)
		}
	}
}

func (t *tried) sortKinds() {
	for _, k := range t.kinds {
		k.Said /= float64(max(k.Pairs, 1))
		slices.SortFunc(k.Examples, func(a, b TrialExample) int {
			return cmp.Or(cmp.Compare(math.Abs(b.Said-0.5), math.Abs(a.Said-0.5)), cmp.Compare(a.Person, b.Person), cmp.Compare(a.Account, b.Account))
		})
		k.Examples = k.Examples[:min(len(k.Examples), examples)]
		t.Kinds = append(t.Kinds, *k)
	}
	slices.SortFunc(t.Kinds, func(a, b TrialKind) int {
		off := func(k TrialKind) float64 { return math.Abs(k.Said*float64(k.Pairs) - float64(k.One)) }
		return cmp.Or(cmp.Compare(off(b), off(a)), cmp.Compare(b.LeftOver, a.LeftOver), cmp.Compare(a.Kind, b.Kind))
	})
}

func (t *tried) bands() {
	for i := range len(bandEnds) - 1 {
		b := TrialBand{From: bandEnds[i], To: bandEnds[i+1]}
		weight, one, raw := 0.0, 0.0, 0
		for _, s := range t.seen {
			if s.Said < b.From || s.Said >= b.To && b.To < 1 {
				continue
			}
			b.Pairs++
			weight += s.Weight
			b.Said += s.Weight * s.Said
			if s.One {
				one += s.Weight
				raw++
			}
		}
		if b.Pairs == 0 {
			continue
		}
		b.Said, b.True, b.Raw = b.Said/weight, one/weight, float64(raw)/float64(b.Pairs)
		b.Low, b.High = evidence.Between(b.True, float64(b.Pairs))
		t.Bands = append(t.Bands, b)
	}
}

// settle finds the hesitations that nothing comes of.
func (t *tried) settle() {
	found := map[string]*TrialHesitation{}
	of := func(kind string) *TrialHesitation {
		if found[kind] == nil {
			found[kind] = &TrialHesitation{Kind: kind}
		}
		return found[kind]
	}
	for _, s := range t.seen {
		if s.hesitant == "" || !s.best || t.Curve.At(s.Said) < t.in.Evidence.Accept {
			continue
		}
		h := of(s.hesitant)
		h.Pairs++
		if s.One {
			h.One++
		}
	}
	for _, x := range t.open {
		if x.hesitant != "" && t.Curve.At(x.said) >= t.in.Evidence.Accept {
			of(x.hesitant).LeftOver++
		}
	}
	for _, h := range found {
		h.Settled = h.Pairs >= settledFrom && (float64(h.One)+0.5)/(float64(h.Pairs)+1) >= t.in.Evidence.Accept
		t.Hesitations = append(t.Hesitations, *h)
		if h.Settled {
			t.Curve.Settled = append(t.Curve.Settled, h.Kind)
		}
	}
	slices.Sort(t.Curve.Settled)
	slices.SortFunc(t.Hesitations, func(a, b TrialHesitation) int { return cmp.Compare(a.Kind, b.Kind) })
}

func (t *tried) price() {
	joins := func(hesitant string) bool { return hesitant == "" || t.Curve.Settles(hesitant) }
	for _, accept := range thresholds {
		x := TrialThreshold{Accept: accept}
		right := 0
		for _, s := range t.seen {
			if !s.best || !joins(s.hesitant) || t.Curve.At(s.Said) < accept {
				continue
			}
			x.Joined++
			if s.One {
				right++
			} else {
				x.Wrong++
			}
		}
		x.Found = float64(right) / float64(max(t.Held-t.Lost, 1))
		for _, o := range t.open {
			switch p := t.Curve.At(o.said); {
			case o.said > 0.5 && p >= accept && joins(o.hesitant):
				x.WouldJoin++
				x.WouldBeWrong += 1 - p
			case p >= min(t.Review, accept):
				x.WouldAsk++
			}
		}
		t.Thresholds = append(t.Thresholds, x)
		if t.Careful == 0 && accept >= t.Review && x.WouldBeWrong <= mostWrong*float64(t.Known+x.WouldJoin) {
			t.Careful = accept
		}
	}
}
