package reconcile

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/charter"
)

// Attributes that the charter gives and that are not among those read of the accounts: what
// the accounts hold is not known, so that it neither differs nor agrees, and no name is known
// to be free.

// unread lists them.
func (r *run) unread() []charter.Given {
	return slices.DeleteFunc(r.Charter.Given(), func(g charter.Given) bool { return r.Accounts.Column(g.Attribute) != nil })
}

// unreadNames says which names of the accounts are not read, of those that the charter gives
// out; "" when all are.
func (r *run) unreadNames() string {
	var names []string
	for _, g := range r.unread() {
		if g.Attribute == "userName" || g.Attribute == "email" && g.Rule != charter.Watch {
			names = append(names, g.Attribute)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return fmt.Sprintf("%s of the accounts: not read; name it in the shape of %s", strings.Join(names, " and "), r.Charter.In)
}

// undecided tells, once each, which attributes the charter reads and the rosters have no column
// for: what would follow from them is withheld of everybody.
func (r *run) undecided() {
	met := map[string]bool{}
	for _, e := range r.Charter.Expressions() {
		person, account := e.Reads()
		for side, names := range [][]string{person, account} {
			roster, what, system := r.People, "person.", r.Charter.From
			if side == 1 {
				roster, what, system = r.Accounts, "account.", r.Charter.In
			}
			for _, name := range names {
				if roster.Column(name) != nil || met[what+name] {
					continue
				}
				met[what+name] = true
				r.report("value-invalid", -1, -1, what+name, "%s is not read, and %s (charter line %d) reads it: nothing that would follow from it is done; name it in the shape of %s", what+name, e.Path, e.Line, system)
			}
		}
	}
}

// unreadAttributes tells what of the charter is not held against the accounts.
func (r *run) unreadAttributes() {
	var told []string
	for _, g := range r.unread() {
		told = append(told, fmt.Sprintf("%s (charter line %d)", g.Attribute, g.Line))
	}
	if len(told) > 0 {
		r.out.Notes = append(r.out.Notes, fmt.Sprintf("not read of the accounts: %s. What they hold is not known, so nothing of it is changed or told; name it in the shape of %s", strings.Join(told, ", "), r.Charter.In))
	}
}
