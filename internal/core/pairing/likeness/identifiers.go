package likeness

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/calendar"
	"twinning/internal/core/record"
)

// Login compares a login, or the local part of an address, with the patterns
// that a name can give: jdoe, doe.j, johnd, john.doe2.
func Login(n Name, login string) Verdict {
	_, bare := Local(login)
	p := n.parts()
	if bare == "" || len(p.all) == 0 {
		return Verdict{Missing, "nothing to compare"}
	}
	given, family := p.given, p.family
	if !p.known {
		all := WithoutParticles(p.all)
		if len(all) < 2 {
			if bare == strings.Join(all, "") {
				return Verdict{Part, "the login is the one name that is known"}
			}
			return Verdict{Differ, "the login is not made of the name"}
		}
		given, family = all[:len(all)-1], all[len(all)-1:]
	}
	best := Verdict{Differ, "the login is not made of the name"}
	for _, g := range given {
		for _, f := range append(slices.Clone(family), strings.Join(family, "")) {
			if v := pattern(bare, g, f); v.Level > best.Level {
				best = v
			}
		}
	}
	if best.Level < Variant && !p.known { // perhaps the other way round
		if v := pattern(bare, family[0], strings.Join(given, "")); v.Level > best.Level {
			return v
		}
	}
	return best
}

// Local reduces a login, or the local part of an address, to its letters and
// digits without tag and separators; bare is without the digits at its end.
func Local(login string) (text, bare string) {
	login, _, _ = strings.Cut(login, "@")
	login, _, _ = strings.Cut(login, "+") // a tag
	text = strings.Map(func(r rune) rune {
		if r == '.' || r == '_' || r == '-' || r == ' ' {
			return -1
		}
		return r
	}, record.Fold(login))
	return text, strings.TrimRight(text, "0123456789")
}

// shortLogin: many systems cut logins at eight letters.
const shortLogin = 8

func pattern(login, given, family string) Verdict {
	made := func(level Level, words string, forms ...string) (Verdict, bool) {
		for _, f := range forms {
			if login == f || len(f) > shortLogin && login == f[:shortLogin] {
				return Verdict{level, words}, true
			}
		}
		return Verdict{}, false
	}
	g, f := given[:1], family[:1] // folded: mostly plain letters
	if v, ok := made(Same, "the login is made of both names", given+family, family+given); ok {
		return v
	}
	if v, ok := made(Variant, "the login is an initial and the family name", g+family, family+g); ok {
		return v
	}
	if v, ok := made(Variant, "the login is the given name and an initial", given+f, f+given); ok {
		return v
	}
	if v, ok := made(Part, "the login is the family name", family); ok {
		return v
	}
	if v, ok := made(Faint, "the login is the given name", given); ok {
		return v
	}
	if v, ok := made(Faint, "the login is the initials", g+f, f+g); ok {
		return v
	}
	return Verdict{Differ, "the login is not made of the name"}
}

// Emails compares two sets of addresses: one in common, whichever is the
// primary; else one local part at two domains, as after a merger.
func Emails(a, b []string) Verdict {
	if len(a) == 0 || len(b) == 0 {
		return Verdict{Missing, "one of them has no address"}
	}
	locals := map[string]string{}
	for _, x := range a {
		n := record.Normal(record.Email, x)
		local, _, _ := strings.Cut(n, "@")
		locals[local] = x
		for _, y := range b {
			if n == record.Normal(record.Email, y) {
				return Verdict{Same, fmt.Sprintf("both have the address %s", y)}
			}
		}
	}
	for _, y := range b {
		local, _, _ := strings.Cut(record.Normal(record.Email, y), "@")
		if x, ok := locals[local]; ok && local != "" {
			return Verdict{Part, fmt.Sprintf("%s and %s differ in their domains alone", x, y)}
		}
	}
	return Verdict{Differ, "no address in common"}
}

// Days within a Month or a Season of each other are alike.
const (
	Month  = 31
	Season = 120
)

// Days compares two days: an account is mostly made about when somebody begins.
func Days(a, b string) Verdict {
	between, ok := calendar.Between(a, b)
	if !ok {
		return Verdict{Missing, "one of the days is not known"}
	}
	switch apart := abs(between); {
	case apart == 0:
		return Verdict{Same, "the same day"}
	case apart <= Month:
		return Verdict{Part, fmt.Sprintf("%d days apart", apart)}
	case apart <= Season:
		return Verdict{Faint, fmt.Sprintf("%d days apart", apart)}
	default:
		return Verdict{Differ, fmt.Sprintf("%d days apart", apart)}
	}
}

// Texts compares what says little about who somebody is: department, title,
// site.
func Texts(a, b string) Verdict {
	x, y := sorted(Words(a)), sorted(Words(b))
	switch {
	case len(x) == 0 || len(y) == 0:
		return Verdict{Missing, "one of them is blank"}
	case slices.Equal(x, y):
		return Verdict{Same, "the same"}
	case slices.ContainsFunc(x, func(w string) bool { return len(w) > 3 && slices.Contains(y, w) }):
		return Verdict{Part, "a word in common"}
	}
	return Verdict{Differ, "different"}
}
