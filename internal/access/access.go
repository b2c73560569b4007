// Package access says who may do what. Rights are few and each is given by
// name; holding one implies nothing about the others. Some can be held in some
// lanes only.
package access

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// Right is leave to do one kind of thing.
type Right string

const (
	Look       Right = "look"       // read everything but secrets
	Work       Right = "work"       // take rosters, change charters, rule, draft, halt, freeze
	Seal       Right = "seal"       // approve plans and run them
	Overrule   Right = "overrule"   // seal over a guard, with a reason; thaw
	Administer Right = "administer" // systems, users, audit
)

// All lists the rights.
var All = []Right{Look, Work, Seal, Overrule, Administer}

// InLanes are the rights that can be held in some lanes only. Systems and rosters
// are shared by lanes, so that looking and administering can't be parted.
var InLanes = []Right{Work, Seal, Overrule}

// Caller is whoever makes a request.
type Caller struct {
	Name   string
	Rights []Right            // held everywhere
	Lanes  map[string][]Right // held in some lanes only
	ID     int64              // of the user; 0 when it is the service itself
	Source string             // the address that the request came from
}

// May tells whether the caller holds the right everywhere.
func (c Caller) May(r Right) bool { return slices.Contains(c.Rights, r) }

// MayIn tells whether the caller holds the right in a lane ("" is no lane at all).
func (c Caller) MayIn(r Right, lane string) bool {
	return c.May(r) || lane != "" && slices.Contains(c.Lanes[lane], r)
}

// Parse checks names of rights.
func Parse(names []string) ([]Right, error) {
	rights := make([]Right, 0, len(names))
	for _, n := range names {
		if !slices.Contains(All, Right(n)) {
			return nil, fmt.Errorf("right %q is not known; known are look, work, seal, overrule, administer", n)
		}
		if !slices.Contains(rights, Right(n)) {
			rights = append(rights, Right(n))
		}
	}
	return rights, nil
}

// maxName is how many characters a user's name may have.
const maxName = 100

// CheckName refuses a name that two people could read as one, or that can't be
// read at all.
func CheckName(name string) error {
	if n := utf8.RuneCountInString(name); n == 0 || n > maxName || strings.TrimSpace(name) != name {
		return fmt.Errorf("a user needs a name of 1 to %d characters, without white space around it", maxName)
	}
	for _, r := range name {
		if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == utf8.RuneError {
			return fmt.Errorf("a user's name can't hold the character %U", r)
		}
	}
	return nil
}

// Key is the form in which names are compared: "Ana", "ana" and "ａｎａ" are one.
func Key(name string) string {
	return cases.Fold().String(norm.NFKC.String(strings.TrimSpace(name)))
}
