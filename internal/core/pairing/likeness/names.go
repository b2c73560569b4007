package likeness

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Name is what a record says of somebody's name. Full is used where the parts
// are not known, and for what the parts leave out.
type Name struct{ Given, Middle, Family, Full string }

// Names compares two names, in any order of their words.
func Names(a, b Name) Verdict {
	x, y := a.parts(), b.parts()
	if len(x.all) == 0 || len(y.all) == 0 {
		return Verdict{Missing, "one of them has no name"}
	}
	if latin(x.all) != latin(y.all) {
		return Verdict{Missing, "the names are written in scripts that can't be compared"}
	}
	if slices.Equal(sorted(x.all), sorted(y.all)) {
		return Verdict{Same, "the names are the same"}
	}
	if slices.Equal(sorted(WithoutParticles(x.all)), sorted(WithoutParticles(y.all))) {
		return Verdict{Same, "the names are the same but for particles"}
	}
	if strings.Join(sorted(x.all), "") == strings.Join(sorted(y.all), "") || strings.Join(x.all, "") == strings.Join(y.all, "") {
		return Verdict{Same, "the names are the same but for where they are cut"}
	}
	if x.known && y.known {
		return inParts(x, y)
	}
	return inAnyOrder(WithoutParticles(x.all), WithoutParticles(y.all))
}

// OtherGiven reports whether two records share a surname and are given other names: those
// of a relative, or of whoever bears the surname as well.
func OtherGiven(a, b Name) bool {
	x, y := a.parts(), b.parts()
	return latin(x.all) && latin(y.all) && (x.known && x.otherGiven(y) || y.known && y.otherGiven(x))
}

// otherGiven: all of the surname is found, none of the given names, and the other is
// called something else.
func (p parts) otherGiven(o parts) bool {
	rest := WithoutParticles(o.all)
	found := func(w string) bool {
		for i, v := range rest {
			if word(w, v).Level > Differ {
				rest = slices.Delete(slices.Clone(rest), i, i+1)
				return true
			}
		}
		return false
	}
	any := false
	for _, w := range p.family {
		any = found(w) || any
	}
	return any && len(rest) > 0 && !slices.ContainsFunc(p.given, found)
}

type parts struct {
	given, family, all []string
	known              bool // which words are the family's
}

func (n Name) parts() parts {
	p := parts{given: WithoutParticles(Words(n.Given)), family: WithoutParticles(Words(n.Family))}
	p.known = len(p.given) > 0 && len(p.family) > 0
	middle := Words(n.Middle)
	p.given = append(p.given, WithoutParticles(middle)...)
	if p.known {
		p.all = slices.Concat(Words(n.Given), middle, Words(n.Family))
		return p
	}
	if p.all = Words(n.Full); len(p.all) == 0 {
		p.all = slices.Concat(Words(n.Given), middle, Words(n.Family))
	}
	return p
}

// latin reports whether folding left a word that can be read in Latin letters.
func latin(words []string) bool {
	return slices.ContainsFunc(words, func(w string) bool { return w[0] < utf8.RuneSelf })
}

// IsParticle reports whether a word only joins names.
func IsParticle(word string) bool { return particles[word] }

func sorted(words []string) []string {
	words = slices.Clone(words)
	slices.Sort(words)
	return words
}

// inParts compares given with given and family with family, and looks whether
// they were swapped.
func inParts(x, y parts) Verdict {
	given, family := list(x.given, y.given), list(x.family, y.family)
	if given.Level <= Differ && family.Level <= Differ {
		if g, f := list(x.given, y.family), list(x.family, y.given); g.Level >= Variant && f.Level >= Variant {
			return Verdict{Variant, "given and family name are swapped"}
		}
	}
	switch {
	case given.Level == Same && family.Level == Same:
		return Verdict{Same, "the names are the same"}
	case given.Level >= Part && family.Level >= Part:
		return Verdict{min(given.Level, family.Level), both("given name", given, "family name", family)}
	case given.Level == Same && family.Level <= Differ:
		// marriage, or a stranger with a common given name
		return Verdict{Faint, "the given names are the same, the family names differ"}
	case family.Level == Same && given.Level <= Differ:
		return Verdict{Faint, "only the family names are the same: a relative?"}
	case given.Level >= Part || family.Level >= Part:
		return Verdict{Faint, both("given name", given, "family name", family)}
	}
	return Verdict{Differ, "the names differ"}
}

func both(first string, a Verdict, second string, b Verdict) string {
	return fmt.Sprintf("%s: %s; %s: %s", first, a.Words, second, b.Words)
}

// list compares the words of one part: compound and double names may be given
// in full or in part, in any order.
func list(a, b []string) Verdict {
	if len(a) == 0 || len(b) == 0 {
		return Verdict{Missing, "not given"}
	}
	if len(a) > len(b) {
		a, b = b, a
	}
	// the best couple first, and ties by their letters: neither side leads
	type couple struct {
		i, j int
		Verdict
	}
	var couples []couple
	for i, w := range a {
		for j, v := range b {
			if got := word(w, v); got.Level > Differ {
				couples = append(couples, couple{i, j, got})
			}
		}
	}
	slices.SortFunc(couples, func(x, y couple) int {
		return cmp.Or(int(y.Level)-int(x.Level), strings.Compare(min(a[x.i], b[x.j]), min(a[y.i], b[y.j])), strings.Compare(max(a[x.i], b[x.j]), max(a[y.i], b[y.j])))
	})
	usedA, usedB := make([]bool, len(a)), make([]bool, len(b))
	worst, reason, left := Same, "the same", len(a)
	for _, c := range couples {
		if usedA[c.i] || usedB[c.j] {
			continue
		}
		usedA[c.i], usedB[c.j] = true, true
		left--
		if c.Level < worst {
			worst, reason = c.Level, c.Words
		}
	}
	if left > 0 {
		return Verdict{Differ, "different"}
	}
	if len(a) < len(b) && worst > Part {
		return Verdict{Part, "one of several names"}
	}
	return Verdict{worst, reason}
}

// inAnyOrder compares names of which nobody knows which word is the family's.
func inAnyOrder(a, b []string) Verdict {
	v := list(a, b)
	short := min(len(a), len(b))
	switch {
	case v.Level == Same:
		return Verdict{Same, "the names are the same"}
	case v.Level >= Part && short >= 2:
		return Verdict{v.Level, "the names are alike: " + v.Words}
	case v.Level >= Part:
		return Verdict{Faint, "one word of the name agrees"}
	}
	for _, w := range a {
		if len(w) > 1 && slices.Contains(b, w) {
			return Verdict{Faint, "one word of the name agrees"}
		}
	}
	return Verdict{Differ, "the names differ"}
}
