package likeness

import "strings"

// Made is a login that a name can be made into: two texts, one behind the other.
type Made struct {
	Head, Tail    string
	Given, Family int  // which of the words it is made of; -1: of none. Of surnames in one, the first
	GivenInitial  bool // of that one, the first letter alone
	FamilyInitial bool
	Level         Level // how far it tells the name
	Words         string
	Cut           bool // to the eight letters that many systems take
}

// InOne are the parts of a name, each as one word.
type InOne struct{ Given, Family string }

// shortLogin: many systems cut logins at eight letters.
const shortLogin = 8

// EachMade visits the logins that given names and surnames, folded, can be made into, those
// that tell most of each pair of them first. One holds all given names and all surnames with
// their particles, each in one word.
func EachMade(given, family []string, one InOne, yield func(m *Made)) {
	var m Made
	both := func(head, tail string) {
		m.Head, m.Tail, m.Cut = head, tail, false
		yield(&m)
		if len(head)+len(tail) > shortLogin {
			m.Head = head[:min(len(head), shortLogin)]
			m.Tail, m.Cut = tail[:shortLogin-len(m.Head)], true
			yield(&m)
		}
	}
	whole := func(i, j int, g, f string) {
		m = Made{Given: i, Family: j, Level: Same, Words: "the login is made of both names"}
		both(g, f)
		both(f, g)
	}
	initials := func(i, j int, g, f string) { // of given names
		m = Made{Given: i, Family: j, Level: Variant, Words: "the login is an initial and the family name", GivenInitial: true}
		both(g, f)
		both(f, g)
	}
	pair := func(i, j int, g, f string) {
		whole(i, j, g, f)
		initials(i, j, g[:1], f)
		m.Words, m.GivenInitial, m.FamilyInitial = "the login is the given name and an initial", false, true
		both(g, f[:1])
		both(f[:1], g)
	}
	surnames := func(made func(i, j int, g, f string), i int, g string) { // each, and what stands for all
		for j, f := range family {
			made(i, j, g, f)
		}
		if len(family) > 0 && one.Family != "" && one.Family != family[0] {
			made(i, 0, g, one.Family)
		}
		if len(family) > 1 {
			made(i, 0, g, family[0]+family[1][:1])
		}
	}
	for i, g := range given {
		surnames(pair, i, g)
	}
	// what stands for several given names: juancarlos, juanc, jc
	if len(given) > 0 && one.Given != "" && one.Given != given[0] {
		surnames(pair, 0, one.Given)
	}
	if len(given) > 1 {
		surnames(whole, 0, given[0]+given[1][:1])
		surnames(initials, 0, given[0][:1]+given[1][:1])
	}
	for j := range family {
		m = Made{Head: family[j], Given: -1, Family: j, Level: Part, Words: "the login is the family name"}
		yield(&m)
	}
}

// Login compares a login, or the local part of an address, with what a name can be made
// into: jdoe, doe.j, johnd, john.doe2.
func Login(n Name, login string) Verdict {
	_, bare := Local(login)
	p := n.parts()
	if bare == "" || len(p.given)+len(p.family)+len(p.whole) == 0 {
		return Verdict{Missing, "nothing to compare"}
	}
	best := Verdict{Differ, "the login is not made of the name"}
	try := func(given, family []string, one InOne) {
		EachMade(given, family, one, func(m *Made) {
			if rest, begins := strings.CutPrefix(bare, m.Head); m.Level > best.Level && begins && rest == m.Tail {
				best = Verdict{m.Level, m.Words}
			}
		})
	}
	given, family := p.given, p.family
	switch n := len(p.whole); n {
	case 0:
		try(given, family, p.one)
	case 1:
		if bare == p.whole[0] {
			return Verdict{Part, "the login is the one name that is known"}
		}
	default: // the last word may be the family's, or the first
		given, family = p.whole[:n-1], p.whole[n-1:]
		one := InOne{strings.Join(given, ""), family[0]}
		try(given, family, one)
		try(family, given, InOne{one.Family, one.Given})
	}
	if best.Level > Differ {
		return best
	}
	for _, g := range given {
		for _, f := range family {
			switch bare {
			case g:
				return Verdict{Faint, "the login is the given name"}
			case g[:1] + f[:1], f[:1] + g[:1]:
				best = Verdict{Faint, "the login is the initials"}
			}
		}
	}
	return best
}

type parts struct {
	given, family []string // without particles
	one           InOne    // with them
	whole         []string // the words of a name of which the parts are not known
}

func (n Name) parts() parts {
	p := parts{given: WithoutParticles(Words(n.Given)), family: WithoutParticles(Words(n.Family)), one: InOne{strings.Join(Words(n.Given), ""), strings.Join(Words(n.Family), "")}}
	middle := WithoutParticles(Words(n.Middle))
	if len(p.given) == 0 || len(p.family) == 0 {
		if before, after, comma := strings.Cut(n.Full, ","); comma && len(p.family) == 0 {
			p.given, p.family = WithoutParticles(Words(after)), WithoutParticles(Words(before))
			p.one = InOne{strings.Join(Words(after), ""), strings.Join(Words(before), "")}
		} else if whole := WithoutParticles(Words(n.Full)); len(whole) > 0 {
			return parts{whole: whole}
		}
	}
	p.given = append(p.given, middle...)
	return p
}
