package likeness

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/calendar"
	"twinning/internal/core/record"
)

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
	x, y := sorted(WithoutParticles(Words(a))), sorted(WithoutParticles(Words(b)))
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
