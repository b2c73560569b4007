package pairing

import (
	"math"
	"slices"
	"sync"

	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/parallel"
	"twinning/internal/core/record"
)

// weigher looks for the twins of what rulings, bonds and keys leave over.
type weigher struct {
	*matcher
	records          [2]*evidence.Records // people, accounts, with the names that are known to be forms of others
	people, accounts []record.Row         // rows that are open, by id
	faces            [2][]*evidence.Face
	forms            evidence.Forms
	hides            map[record.Row][]evidence.Comparator // of accounts that a trial holds back
	addressee        map[record.Row]record.Row            // by account: the person whose address it carries, in doubt
	shown            marks                                // words that the lists show to be said of no human's own account
	counts           *evidence.Counts
	telling          [2][]evidence.Telling // of the faces
	weights          *evidence.Weights
	twins            float64 // expected among the open records
	pairs            []weighed
	met              [2][]evidence.Meeting // who carries what the open records carry, by side
}

// weighed is a candidate pair with what comparing it found.
type weighed struct {
	evidence.Pair
	pattern evidence.Pattern
	bits    float64
	likely  float64 // 2 to the bits
	copy    string  // by what one of the two says that it is a copy of a human; "" when neither does
}

func newWeigher(m *matcher) *weigher {
	w := &weigher{matcher: m}
	w.know(nil)
	return w
}

// know has the names read with the forms that they have in these lists.
func (w *weigher) know(forms evidence.Forms) {
	w.forms = forms
	for side, r := range w.plain {
		w.records[side] = r.Knowing(forms).Declaring(w.in.Evidence.Declared)
	}
}

// weigh pairs by evidence.
func (m *matcher) weigh() {
	if m.in.Evidence == nil {
		return
	}
	w := newWeigher(m)
	if !w.compared() {
		return
	}
	w.decide()
	if !m.in.Evidence.Asks {
		if m.in.Tell {
			m.compared = w.likeliest()
		}
		w.duplicates()
	}
}

// compared weighs what is open and decides nothing; false when there is nobody to weigh.
func (w *weigher) compared() bool {
	w.learnForms()
	w.calledOtherwise()
	w.addressees()
	w.open()
	if len(w.people)+len(w.accounts) == 0 || w.in.Evidence.Asks && (len(w.people) == 0 || len(w.accounts) == 0) {
		return false
	}
	w.prepare()
	w.candidates()
	w.learn()
	return true
}

// open lists who takes part: the undecided, and the contested as their rivals.
func (w *weigher) open() {
	takesPart := func(s State) bool { return s == Undecided || s == Contested && !w.in.Evidence.Asks }
	for _, row := range w.in.People.Order() {
		if takesPart(w.PersonState[row]) {
			if _, unknown := w.in.People.Present(int(row)); !unknown {
				w.people = append(w.people, row)
			}
		}
	}
	for _, row := range w.in.Accounts.Order() {
		if takesPart(w.AccountState[row]) && w.takesPart(int(row)) {
			if _, unknown := w.in.Accounts.Present(int(row)); !unknown {
				w.accounts = append(w.accounts, row)
			}
		}
	}
}

func (w *weigher) inChunks(n int, part func(from, to int)) {
	parallel.InChunks(w.in.Cores, n, func() func(from, to int) { return part })
}

func (w *weigher) read(side int, rows []record.Row) []*evidence.Face {
	faces := make([]*evidence.Face, len(rows))
	parallel.InChunks(w.in.Cores, len(rows), func() func(from, to int) {
		reader := w.records[side].Reader()
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
	for i, row := range w.accounts {
		for _, c := range w.hides[row] {
			w.faces[1][i].Hide(c)
		}
	}
	step := 1
	if w.in.Evidence.Asks {
		step = max(1, (w.in.People.Len()+w.in.Accounts.Len())/mostCounted)
	}
	w.count(step)
}

// mostCounted is about how many settled records are looked at to know how common
// a value is, where all that hangs on it is whether somebody is asked.
const mostCounted = 20000

// count finds how common the values of the open records are over both rosters, and tells
// their faces. The open ones are counted by these, of the others every so many-th; who of
// the twins carries a telling one is met.
func (w *weigher) count(step int) {
	rosters, rows, states := [2]*record.Roster{w.in.People, w.in.Accounts}, [2][]record.Row{w.people, w.accounts}, [2][]State{w.PersonState, w.AccountState}
	w.counts = evidence.NewCounts(rosters[0].Len()+rosters[1].Len(), w.faces[0], w.faces[1])
	var mu sync.Mutex
	for side, r := range rosters {
		names := w.counts.Asked(w.records[side])
		counted := make([]bool, r.Len())
		w.telling[side] = make([]evidence.Telling, len(rows[side]))
		w.tallied(names, 1, len(rows[side]), func(t *evidence.Tally, from, to int) {
			for i := from; i < to; i++ {
				w.telling[side][i] = t.AddFace(w.faces[side][i])
				counted[rows[side][i]] = true
			}
		})
		w.tallied(names, step, r.Len(), func(t *evidence.Tally, from, to int) {
			var list []evidence.Meeting
			for i := from; i < to; i++ {
				if i%step == 0 && !counted[i] {
					list = t.Add(i, list)
				}
			}
			list = slices.DeleteFunc(list, func(m evidence.Meeting) bool { return states[side][m.Row] != Twinned })
			mu.Lock()
			defer mu.Unlock()
			w.met[side] = append(w.met[side], list...) // in any order: Met sorts
		})
	}
	for _, list := range w.faces {
		w.inChunks(len(list), func(from, to int) {
			for _, f := range list[from:to] {
				w.counts.Fill(f)
			}
		})
	}
}

// tallied counts 0..n in parts, each record as one that stands for so many.
func (w *weigher) tallied(names *evidence.AskedNames, standsFor, n int, part func(t *evidence.Tally, from, to int)) {
	tallies := make(chan *evidence.Tally, max(w.in.Cores, 1))
	parallel.InChunks(w.in.Cores, n, func() func(from, to int) {
		t := w.counts.Tally(names, int32(standsFor)) // no more than rows, see prepare
		tallies <- t
		return func(from, to int) { part(t, from, to) }
	})
	close(tallies)
	for t := range tallies {
		t.Done()
	}
}

// hopeless are the odds, in bits, below which a pair is not kept: it can be
// nobody's twin and nobody's rival, whatever is learnt.
const hopeless = -10

// faint are those where all that hangs on it is whether somebody is asked.
const faint = -4

// candidates compares what blocking brings together.
func (w *weigher) candidates() {
	breadth, least := evidence.Joining, float64(hopeless)
	if w.in.Evidence.Asks {
		breadth, least = evidence.Asking, faint
	}
	blocks, dropped := evidence.Candidates(w.faces[0], w.faces[1], breadth, w.in.Cores)
	w.Dropped = dropped
	first := evidence.Priors().Declaring(w.in.Evidence.Declared) // by which pairs are kept whether weights were learnt or not: the same lists have the same pairs
	w.expect(w.half())
	least -= math.Log2(w.Prior)
	doubted := make([]bool, len(w.people)) // whom a key that is in doubt itself gives an account
	for p, row := range w.people {
		doubted[p] = len(w.recycledBy) > 0 && w.suspects[row]
	}
	kept := make([][]weighed, len(blocks))
	w.inChunks(len(blocks), func(from, to int) {
		for p := from; p < to; p++ {
			for _, pair := range blocks[p] {
				if len(w.different) > 0 && w.different[edge{w.people[pair.Person], w.accounts[pair.Account]}] {
					continue
				}
				x := weighed{Pair: pair, pattern: evidence.Compare(w.faces[0][pair.Person], w.faces[1][pair.Account])}
				if doubted[p] {
					w.withoutDoubtedKey(&x)
				}
				if x.bits = first.Bits(&x.pattern); x.bits > least || x.pattern.Rehired() && first.Bits(x.pattern.Regardless()) > least {
					x.likely = math.Exp2(x.bits)
					kept[p] = append(kept[p], x)
				}
			}
			blocks[p] = nil
		}
	})
	w.pairs = slices.Concat(kept...)
	w.copies()
	w.weights = first
}
