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

// unreadNames says which names of the accounts are not read, of those that the charter gives
// out; "" when all are.
func (r *run) unreadNames() string {
	var unread []string
	if r.Accounts.Column("userName") == nil && slices.ContainsFunc(r.Charter.Rules, func(c charter.AttributeRule) bool { return c.Attribute == "userName" }) {
		unread = append(unread, "userName")
	}
	if e := r.Charter.Emails; e != nil && e.Rule != charter.Watch && r.Accounts.Column("email") == nil {
		unread = append(unread, "email")
	}
	if len(unread) == 0 {
		return ""
	}
	return fmt.Sprintf("%s of the accounts: not read; name it in the shape of %s", strings.Join(unread, " and "), r.Charter.In)
}

// unreadAttributes tells what of the charter is not held against the accounts.
func (r *run) unreadAttributes() {
	var unread []string
	for _, c := range r.Charter.Rules {
		if r.Accounts.Column(c.Attribute) == nil {
			unread = append(unread, fmt.Sprintf("%s (charter line %d)", c.Attribute, c.Line))
		}
	}
	if e := r.Charter.Emails; e != nil && r.Accounts.Column("email") == nil {
		unread = append(unread, fmt.Sprintf("email (charter line %d)", e.Line))
	}
	if len(unread) > 0 {
		r.out.Notes = append(r.out.Notes, fmt.Sprintf("not read of the accounts: %s. What they hold is not known, so nothing of it is changed or told; name it in the shape of %s", strings.Join(unread, ", "), r.Charter.In))
	}
}
