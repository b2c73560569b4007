// Package access says who may do what. Rights are few and each is given by
// name; holding one implies nothing about the others.
package access

import (
	"fmt"
	"slices"
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

// Caller is whoever makes a request.
type Caller struct {
	Name   string
	Rights []Right
}

// May tells whether the caller holds the right.
func (c Caller) May(r Right) bool { return slices.Contains(c.Rights, r) }

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
