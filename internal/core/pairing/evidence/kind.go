package evidence

import (
	"slices"
)

// Kind says in a few words in what way two records agree: by the name, and by how much
// else.
func (p *Pattern) Kind() string {
	name := "one name"
	switch family, given := p.Levels[Family], p.Levels[Given]; {
	case family == missing && given == missing && p.Stand > 0:
		name = "a login that the name gives"
	case family == missing && given == missing:
		name = "no name to go by"
	case given == differ || given == faint || given == begun:
		name = "another given name"
	case family == differ || family == faint || family == begun:
		name = "another surname"
	case family == missing || given == missing:
		name = "half a name"
	case family == part || given == part:
		name = "a part of the name"
	case given == short || family == short:
		name = "a short form"
	case family < same || given < same:
		name = "one name, written otherwise"
	}
	more := 0
	for _, c := range []Comparator{Email, Phone, Number, Day, Department, Title, Location} {
		if l := p.Levels[c]; l >= part && (c != Email || l == same) {
			more++
		}
	}
	return name + [...]string{", and nothing else", ", and one thing more", ", and two things more", ", and more than two things"}[min(more, 3)]
}

// Order is a comparator's place among the others.
func Order(comparator string) int {
	if i := slices.Index(comparatorNames[:], comparator); i >= 0 {
		return i
	}
	return len(comparatorNames)
}

// Shuffle is a number that has nothing to do with where an id stands, the same in every
// run.
func Shuffle(id string) uint64 { return hash(id) }
