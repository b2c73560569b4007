package evidence

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/pairing/likeness"
)

// Declared is an attribute that a charter has evidence look at, beside those that it looks
// at anyway, and how it is compared.
type Declared struct {
	Attribute string `json:"attribute"`
	As        string `json:"as"` // one of Comparisons
}

// Comparisons are the ways in which a declared attribute can be compared.
var Comparisons = []string{"day", "number", "text"}

// MostDeclared bounds the attributes that a charter may declare.
const MostDeclared = int(comparators - declared)

// declaredPriors are what is taken for granted of each comparison.
var declaredPriors = map[string][most]Odds{
	"day":    {differ: {0.04, 0.9975}, near: {0.03, 0.002}, same: {0.93, 0.0005}},
	"number": {differ: {0.05, 0.9979}, faint: {0.005, 1e-3}, part: {0.01, 5e-4}, variant: {0.1, 1e-4}, same: {0.85, 1e-3}},
	"text":   {differ: {0.2, 0.85}, part: {0.05, 0.05}, same: {0.75, 0.1}},
}

var declaredLimits = map[string]limit{"day": {-8, 12}, "number": {-6, 12}, "text": {-3, 5}}

// name is the attribute that a slot of the comparators holds in these weights.
func (w *Weights) name(c Comparator) string {
	if c < declared {
		return c.String()
	}
	if i := int(c - declared); i < len(w.declared) {
		return w.declared[i].Attribute
	}
	return ""
}

// slot finds a comparator by its name, -1 where there is none.
func slot(name string, list []Declared) int {
	if c := slices.Index(comparatorNames[:declared], name); c >= 0 {
		return c
	}
	for _, c := range DeclaredAt(name, list) {
		return int(c)
	}
	return -1
}

// DeclaredAt is the comparator that looks at a declared attribute, if one does.
func DeclaredAt(attribute string, list []Declared) []Comparator {
	if i := slices.IndexFunc(list, func(d Declared) bool { return d.Attribute == attribute }); i >= 0 {
		return []Comparator{declared + Comparator(i)}
	}
	return nil
}

// priorsOf are the priors with those of what is declared.
func priorsOf(list []Declared) [comparators][most]Odds {
	odds := priors
	for i, d := range list[:min(len(list), MostDeclared)] {
		odds[int(declared)+i] = declaredPriors[d.As]
	}
	return odds
}

// Declaring are the weights for lists of which so much is declared: what they know of an
// attribute stays, and what they don't has its priors.
func (w *Weights) Declaring(list []Declared) *Weights {
	if slices.Equal(w.declared, list) {
		return w
	}
	odds := priorsOf(list)
	copy(odds[:declared], w.odds[:declared])
	for i, d := range list {
		if at := slices.Index(w.declared, d); at >= 0 {
			odds[int(declared)+i] = w.odds[int(declared)+at]
		}
	}
	return newWeights(odds, list).WithForms(w.forms).WithCurve(w.curve)
}

// Declaring are the records read with what is declared.
func (r *Records) Declaring(list []Declared) *Records {
	more := *r
	more.declared, more.own = list, nil
	for _, d := range list {
		more.own = append(more.own, r.roster.Column(d.Attribute))
	}
	return &more
}

// ownValue is a declared attribute's value, prepared for comparing.
type ownValue struct {
	as     string
	day    string // "YYYY-MM-DD", "" when it is none
	number likeness.Number
	text   text
}

func (r *Reader) ownValues(i int) (list []ownValue) {
	for k, d := range r.declared {
		v, cell := ownValue{as: d.As}, r.own[k].Cell(i)
		switch d.As {
		case "day":
			if day(cell) != noDay {
				v.day = cell
			}
		case "number":
			v.number = likeness.NumberOf(cell)
		default:
			v.text = r.text(cell)
		}
		list = append(list, v)
	}
	return list
}

func (a *ownValue) compare(b *ownValue) Level {
	switch a.as {
	case "day":
		return birthdays(a.day, b.day)
	case "number":
		return Level(a.number.Compare(&b.number))
	}
	return texts(&a.text, &b.text)
}

// birthdays compares days that belong to a human: the same, but for a slip (day and month
// swapped, one part of three another), or another's.
func birthdays(a, b string) Level {
	switch {
	case a == "" || b == "":
		return missing
	case a == b:
		return same
	}
	x, y := strings.Split(a, "-"), strings.Split(b, "-")
	parts := 0
	for i := range x {
		if x[i] == y[i] {
			parts++
		}
	}
	if parts == 2 || x[0] == y[0] && x[1] == y[2] && x[2] == y[1] {
		return near
	}
	return differ
}

// CheckDeclared says what is wrong with a declaration, "" when nothing is.
func CheckDeclared(d Declared) string {
	people, accounts := Attributes()
	if slices.Contains(people, d.Attribute) || slices.Contains(accounts, d.Attribute) || d.Attribute == "id" {
		return fmt.Sprintf("evidence looks at %s anyway", d.Attribute)
	}
	return ""
}
