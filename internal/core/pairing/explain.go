package pairing

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"sync"

	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/record"
)

// Explained is one pair with what its records say of each other.
type Explained struct {
	Person, Account int // rows
	Bits            float64
	Said            []evidence.Said
}

// Explanation is the evidence on a pair, and on whoever else comes close.
type Explanation struct {
	Asked  *Explained // the pair asked about; nil when only one record was
	Others []Explained
	Needed float64 // bits from which two are joined without asking, if nobody else comes close
	Change []string
}

// runnersUp is how many others are told.
const runnersUp = 4

// Explain weighs one record, or a pair of rows, against all that could be its
// twin. A row of -1 is not asked about. The weights and the prior are those of
// the reconciliation that is to be explained.
func Explain(in Input, weights *evidence.Weights, prior float64, p, a int) *Explanation {
	m := &matcher{Result: newResult(0, 0), in: in, plain: plainRecords(in)}
	w := newWeigher(m)
	w.weights = weights.Declaring(w.in.Evidence.Declared)
	w.know(weights.Forms())
	x := &Explanation{Needed: evidence.OddsBits(weights.Curve().Before(in.Evidence.Accept)) - math.Log2(prior)}
	var pairs []Explained
	if p >= 0 {
		for _, other := range w.alike(0, p, 1, in.Accounts, func(row int) bool { return m.takesPart(row) }) {
			pairs = append(pairs, Explained{Person: p, Account: other})
		}
	}
	if a >= 0 {
		for _, other := range w.alike(1, a, 0, in.People, func(int) bool { return true }) {
			pairs = append(pairs, Explained{Person: other, Account: a})
		}
	}
	if p >= 0 && a >= 0 {
		pairs = append(pairs, Explained{Person: p, Account: a})
	}
	w.explain(pairs)
	slices.SortFunc(pairs, func(x, y Explained) int {
		return cmp.Or(cmp.Compare(y.Bits, x.Bits), cmp.Compare(in.People.ID(x.Person), in.People.ID(y.Person)), cmp.Compare(in.Accounts.ID(x.Account), in.Accounts.ID(y.Account)))
	})
	pairs = slices.CompactFunc(pairs, func(x, y Explained) bool { return x.Person == y.Person && x.Account == y.Account })
	for i := range pairs {
		if pairs[i].Person == p && pairs[i].Account == a {
			x.Asked = &pairs[i]
		} else if len(x.Others) < runnersUp && pairs[i].Bits > 0 {
			x.Others = append(x.Others, pairs[i])
		}
	}
	if x.Asked != nil {
		x.Change = w.wouldChange(x.Asked, x.Needed)
	}
	return x
}

// alike lists the rows of the other side that share a blocking key with a record.
func (w *weigher) alike(side, row, other int, roster *record.Roster, takesPart func(row int) bool) (rows []int) {
	wanted := map[uint64]bool{}
	w.records[side].Reader().Face(row).EachBlock(func(k uint64) { wanted[k] = true })
	var mu sync.Mutex
	evidence.InChunks(w.in.Cores, roster.Len(), func() func(from, to int) {
		reader := w.records[other].Reader()
		return func(from, to int) {
			for i := from; i < to; i++ {
				found := false
				if takesPart(i) {
					reader.Face(i).EachBlock(func(k uint64) { found = found || wanted[k] })
				}
				if found {
					mu.Lock()
					rows = append(rows, i)
					mu.Unlock()
				}
			}
		}
	})
	return rows
}

// explain compares the pairs, with how common their values are.
func (w *weigher) explain(pairs []Explained) {
	var faces [2]map[int]*evidence.Face
	var all [2][]*evidence.Face
	for side := range faces {
		faces[side] = map[int]*evidence.Face{}
		reader := w.records[side].Reader()
		for _, x := range pairs {
			row := [2]int{x.Person, x.Account}[side]
			if faces[side][row] == nil {
				faces[side][row] = reader.Face(row)
				all[side] = append(all[side], faces[side][row])
			}
		}
	}
	w.count(all, [2][]record.Row{}, 1, func(int, []evidence.Meeting) {})
	for i := range pairs {
		x := &pairs[i]
		pattern := evidence.Compare(faces[0][x.Person], faces[1][x.Account])
		x.Bits, x.Said = w.weights.Bits(&pattern), w.weights.Say(&pattern)
	}
}

// wouldChange says what would take the pair to the other side of the line.
func (w *weigher) wouldChange(x *Explained, needed float64) (list []string) {
	lacking := needed - x.Bits
	if lacking <= 0 {
		return []string{fmt.Sprintf("it has %.1f bits more than are needed; what speaks for it would have to be wrong by as much", -lacking)}
	}
	said := map[string]bool{}
	for _, s := range x.Said {
		said[s.Comparator] = true
		if s.Bits < -1 && -s.Bits >= lacking {
			list = append(list, fmt.Sprintf("if %s did not differ (%+.1f bits now)", evidence.Spoken(s.Comparator), s.Bits))
		}
	}
	for _, p := range w.weights.Potential() {
		if !said[p.Comparator] && p.Bits >= lacking {
			list = append(list, fmt.Sprintf("if both had one %s (%+.1f bits)", evidence.Spoken(p.Comparator), p.Bits))
		}
	}
	if len(list) == 0 {
		list = append(list, fmt.Sprintf("%.1f bits are lacking; no single thing would bring them", lacking))
	}
	return list
}
