package evidence

import (
	"fmt"
	"math"
	"slices"
	"strings"
)

// Said is what one comparator says of a pair.
type Said struct {
	Comparator string  `json:"comparator"`
	Level      string  `json:"level"`
	Bits       float64 `json:"bits"` // for the pair being one human, or against it
}

// Say lists what speaks for and against a pair, in the order of the
// comparators. The bits add up to those of the whole.
func (w *Weights) Say(p *Pattern) (list []Said) {
	names := w.Names(p)
	for c := range comparators {
		if p.Levels[c] == missing && w.bits[c][missing] == 0 || c == Login && !p.NamesAgree() {
			continue
		}
		said := Said{w.name(c), levelNames[c][p.Levels[c]], w.worth(p, c)}
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

// Spoken is how a comparator is called in a sentence.
func Spoken(comparator string) string {
	if n := spoken[comparator]; n != "" {
		return n
	}
	return comparator
}

// Looked lists the attributes that a comparator looks at, on either side.
func Looked(comparator string) (person, account []string) {
	switch comparator {
	case "familyName", "givenName", "middleName":
		return []string{comparator, "displayName"}, []string{comparator, "displayName"}
	case "login":
		return []string{"userName", "email"}, []string{"userName", "email"}
	case "email":
		return []string{"email", "aliases"}, []string{"email", "aliases"}
	case "phone":
		return []string{"phoneNumbers"}, []string{"phoneNumbers"}
	case "number":
		return []string{"employeeNumber", "id"}, []string{"employeeNumber", "externalId"}
	case "day":
		return []string{"startsOn"}, []string{"startsOn", "created"}
	case "status":
		return []string{"active"}, []string{"active"}
	}
	return []string{comparator}, []string{comparator}
}

// Potential is what agreement would be worth, comparator by comparator, for an
// average value.
func (w *Weights) Potential() (list []Said) {
	for c := Email; c < declared+Comparator(len(w.declared)); c++ {
		if c != Status {
			list = append(list, Said{w.name(c), levelNames[c][same], w.bits[c][same]})
		}
	}
	return list
}

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
		parts = append(parts, fmt.Sprintf("%s: %s %+.1f", Spoken(s.Comparator), s.Level, s.Bits))
	}
	return strings.Join(parts, ", ")
}
