package evidence

import (
	"fmt"
	"math"
	"slices"
	"strings"
)

// Said is what one comparator says of a pair.
type Said struct {
	Comparator string
	Level      string
	Bits       float64 // for the pair being one human, or against it
}

// Say lists what speaks for and against a pair, in the order of the
// comparators. The bits add up to those of the whole.
func (w *Weights) Say(p *Pattern) (list []Said) {
	names := w.Names(p)
	for c := range comparators {
		if p.Levels[c] == missing || c == Login && !p.namesAgree() {
			continue
		}
		said := Said{c.String(), levelNames[c][p.Levels[c]], w.worth(p, c)}
		if c <= Login {
			names -= said.Bits
		}
		list = append(list, said)
	}
	if math.Abs(names) > 1e-9 { // the login stands for what the names don't say
		list = append(list, Said{Login.String(), "made of the name", names})
	}
	return list
}

// words by which a comparator is called in a sentence.
var spoken = map[string]string{"familyName": "family name", "givenName": "given name", "middleName": "middle name", "day": "first day", "location": "site", "status": "status"}

// Sentence tells the strongest of what is said, for and against, in bits.
func (w *Weights) Sentence(p *Pattern) string {
	list := w.Say(p)
	slices.SortStableFunc(list, func(a, b Said) int {
		switch d := math.Abs(b.Bits) - math.Abs(a.Bits); {
		case d > 0:
			return 1
		case d < 0:
			return -1
		}
		return 0
	})
	var parts []string
	for _, s := range list {
		if math.Abs(s.Bits) < 0.5 {
			continue
		}
		name := s.Comparator
		if n := spoken[name]; n != "" {
			name = n
		}
		parts = append(parts, fmt.Sprintf("%s: %s %+.1f", name, s.Level, s.Bits))
	}
	return strings.Join(parts, ", ")
}
