package evidence

import (
	"fmt"

	"twinning/internal/core/pairing/likeness"
)

// Named is how the names of two records agree, before anything is known of how their lists
// do: a pattern of names alone.
func Named(people *Reader, p int, accounts *Reader, a int) (pattern Pattern) {
	x, y := people.name(p), accounts.name(a)
	pattern.names(&x, &y)
	return pattern
}

// NamesDiffer: both have a name, and no part of one is found in the other.
func (p *Pattern) NamesDiffer() bool {
	return p.Levels[Family] < part && p.Levels[Given] < part && max(p.Levels[Family], p.Levels[Given]) > missing
}

// GivenDiffer: both have a given name, and nothing of one is found in the other.
func (p *Pattern) GivenDiffer() bool { return p.Levels[Given] == differ }

// GivenAgree: a given name of the one is found in the other, or stands for one there.
func (p *Pattern) GivenAgree() bool { return p.Levels[Given] > faint }

// Relatives: they share a surname and are given other names, as relatives are, or as
// whoever bears the surname as well.
func (p *Pattern) Relatives() bool {
	return p.Levels[Family] > differ && p.Levels[Given] == differ
}

// Names compares what two records say of somebody's name, as evidence does, and says it in
// words.
func Names(a, b likeness.Name) likeness.Verdict {
	x, y := nameOf(a, nil), nameOf(b, nil)
	switch {
	case x.empty() || y.empty():
		return likeness.Verdict{Level: likeness.Missing, Words: "one of them has no name"}
	case !x.readable(&y):
		return likeness.Verdict{Level: likeness.Missing, Words: "the names are written in scripts that can't be compared"}
	case x.full == y.full || x.inOne() != "" && x.inOne() == y.inOne():
		return likeness.Verdict{Level: likeness.Same, Words: "the names are the same"}
	}
	var p Pattern
	p.names(&x, &y)
	if p.Levels[Family]+p.Levels[Given] == missing && x.latin != y.latin {
		return likeness.Verdict{Level: likeness.Missing, Words: "the names are written in scripts that can't be compared here"}
	}
	family, given := likeness.Level(p.Levels[Family]), likeness.Level(p.Levels[Given])
	both := fmt.Sprintf("given name: %s; family name: %s", given.Words(), family.Words())
	switch least := min(family, given); {
	case least == likeness.Same:
		return likeness.Verdict{Level: likeness.Part, Words: "the names are the same but for others that one of them has as well"}
	case least >= likeness.Part:
		return likeness.Verdict{Level: least, Words: both}
	case given == likeness.Same && family == likeness.Differ: // marriage, or a stranger with a common given name
		return likeness.Verdict{Level: likeness.Faint, Words: "the given names are the same, the family names differ"}
	case family == likeness.Same && given == likeness.Differ:
		return likeness.Verdict{Level: likeness.Faint, Words: "only the family names are the same: a relative?"}
	case p.NamesDiffer():
		return likeness.Verdict{Level: likeness.Differ, Words: "the names differ"}
	case least == likeness.Missing:
		return likeness.Verdict{Level: likeness.Faint, Words: "one word of the name agrees"}
	}
	return likeness.Verdict{Level: likeness.Faint, Words: both}
}

// Another reports whether two names are two humans': both are whole, and their given names
// differ and are not known to stand for each other. One word alone may be anything.
func Another(a, b likeness.Name, forms Forms) bool {
	x, y := nameOf(a, forms), nameOf(b, forms)
	whole := func(n *name) bool { return len(n.other) > 1 || len(n.given) > 0 && len(n.family) > 0 }
	if !whole(&x) || !whole(&y) || !x.readable(&y) {
		return false
	}
	var p Pattern
	p.names(&x, &y)
	return p.Levels[Given] == differ
}

// inOne is the name without the places where it is cut; "" where middle names stand apart.
func (n *name) inOne() string {
	if len(n.given) > n.firsts {
		return ""
	}
	return n.joinedGiven + n.joinedFamily
}

// nameOf takes a name apart that stands alone: nobody knows how common its words are.
func nameOf(n likeness.Name, forms Forms) name {
	words := func(cell string) *cellWords {
		w := newCellWords(cell, forms)
		for i := range w.plain {
			w.plain[i].share = 1
		}
		return w
	}
	return inWords(words(n.Given), words(n.Middle), words(n.Family), n.Full, words)
}
