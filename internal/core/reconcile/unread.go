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
