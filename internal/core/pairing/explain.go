package pairing

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/record"
)

// Explained is one pair with what its records say of each other.
type Explained struct {
	Pair
	Bits float64
	Said []evidence.Said
}

// Explanation is the evidence on a pair, and on whoever else comes close.
type Explanation struct {
	Asked  *Explained // the pair asked about; nil when only one record was
	Others []Explained
	Needed float64 // bits from which two are joined without asking, if nobody else comes close
	Change []string
}

// Asked is a pair to be explained, or one record: the weights and the prior are those of
// the reconciliation.
type Asked struct {
	Pair     // an id that is blank is not asked about
	Weights  *evidence.Weights
	Prior    float64
	Accept   float64
	Patterns map[Pair]evidence.Pattern // of the pairs that name either
}

// runnersUp is how many others are told.
const runnersUp = 4

// Explain weighs what is asked about, and whoever else could be its twin.
func Explain(in Asked) *Explanation {
	x := &Explanation{Needed: evidence.OddsBits(in.Weights.Curve().Before(in.Accept)) - math.Log2(in.Prior)}
	pairs := make([]Explained, 0, len(in.Patterns))
	for pair, pattern := range in.Patterns {
		pairs = append(pairs, Explained{pair, in.Weights.Bits(&pattern), in.Weights.Say(&pattern)})
	}
	slices.SortFunc(pairs, func(x, y Explained) int {
		return cmp.Or(cmp.Compare(y.Bits, x.Bits), cmp.Compare(x.Person, y.Person), cmp.Compare(x.Account, y.Account))
	})
	for i := range pairs {
		if pairs[i].Pair == in.Pair {
			x.Asked = &pairs[i]
		} else if len(x.Others) < runnersUp && pairs[i].Bits > 0 {
			x.Others = append(x.Others, pairs[i])
		}
	}
	if x.Asked != nil {
		x.Change = wouldChange(in.Weights, x.Asked, x.Needed)
	}
	return x
}

// Lone is one record, in a roster of its own, made ready for comparing; nil where the
// roster is empty.
type Lone struct {
	face  *evidence.Face
	Words []uint64 // of its name
}

// LonePerson makes a person ready.
func LonePerson(r *record.Roster, w *evidence.Weights) *Lone {
	return newLone(evidence.People(r, 1), r, w)
}

// LoneAccount makes an account ready.
func LoneAccount(r *record.Roster, w *evidence.Weights) *Lone {
	return newLone(evidence.Accounts(r, 1), r, w)
}

func newLone(records *evidence.Records, r *record.Roster, w *evidence.Weights) *Lone {
	if r.Len() == 0 {
		return nil
	}
	reader := records.Knowing(w.Forms()).Declaring(w.Declared()).Reader()
	return &Lone{reader.Face(0), reader.Words(0)}
}

// Compare compares two records, given how many of so many carry the words of their names.
func (person *Lone) Compare(account *Lone, records int, words map[uint64]int32) evidence.Pattern {
	return evidence.CompareAlone(person.face, account.face, records, words)
}

// wouldChange says what would take the pair to the other side of the line.
func wouldChange(w *evidence.Weights, x *Explained, needed float64) (list []string) {
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
	for _, p := range w.Potential() {
		if !said[p.Comparator] && p.Bits >= lacking {
			list = append(list, fmt.Sprintf("if both had one %s (%+.1f bits)", evidence.Spoken(p.Comparator), p.Bits))
		}
	}
	if len(list) == 0 {
		list = append(list, fmt.Sprintf("%.1f bits are lacking; no single thing would bring them", lacking))
	}
	return list
}
