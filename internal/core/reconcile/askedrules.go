package reconcile

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/naming"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// What a human may not ask for, and why: facts of the downstream, what the charter rules, values
// that are none, and acts that would lock somebody out or join two humans.

// unwritten are attributes that nobody writes by hand, and why.
var unwritten = map[string]string{
	"id": "the id is the downstream's own, and never changes", "emails": "emails are the primary address and the aliases: change email or aliases",
	"pending": "whether an invitation is open is the downstream's to say", "locked": "a lock is lifted where it was put",
	"lastSignIn": "when somebody signed in last is a fact", "created": "when an account was made is a fact",
	"nestedGroups": "memberships by way of other groups follow from those", "personalEmail": "a private address is never written",
}

// Editable are those of some attributes that a human may give new values: neither facts of the
// downstream nor what the charter always rules. The mark is the charter's too.
func Editable(c *charter.Charter, attributes []string, mark string) (list []string) {
	for _, a := range attributes {
		if unwritten[a] == "" && a != mark && Fixed(c, a) == "" {
			list = append(list, a)
		}
	}
	return list
}

// Fixed says why an attribute is the charter's alone to write, "" where it is not.
func Fixed(c *charter.Charter, attribute string) string {
	if c.Emails != nil && attribute == "email" && c.Emails.Rule == charter.Own {
		return fmt.Sprintf("email is ruled by the charter (line %d: %s)", c.Emails.Line, c.Emails.Rule)
	}
	for _, r := range c.Rules {
		if r.Attribute == attribute && (r.Rule == charter.Own || r.Rule == charter.Upstream) {
			return fmt.Sprintf("%s is ruled by the charter (line %d: %s)", attribute, r.Line, r.Rule)
		}
	}
	return unwritten[attribute]
}

// ruledBy says which line of the charter rules a value, "" when a human may give it.
func (x *asker) ruledBy(p, a int, v planning.Wanted, now string) string {
	if v.Attribute == x.Input.Mark {
		return fmt.Sprintf("%s carries the mark by which the account is found again; the charter gives it (mark)", v.Attribute)
	}
	if p < 0 && a >= 0 && x.out.Pairing.Vanished[a] == "" {
		return "" // nobody's account is ruled by nothing
	}
	for i := range x.class.rules {
		r := &x.class.rules[i]
		if r.Attribute != v.Attribute || r.fixed != "" {
			continue
		}
		called := fmt.Sprintf("%s is ruled by the charter (line %d: %s)", r.Attribute, r.Line, r.Rule)
		switch {
		case r.Rule == charter.Own:
			return called + "; change it where it comes from, " + x.Charter.From
		case r.Rule == charter.Upstream:
			return called + ": it is mastered upstream, and the downstream refuses it"
		case r.Longest > 0 && slices.ContainsFunc(record.SplitList(v.New), func(s string) bool { return utf8.RuneCountInString(s) > r.Longest }):
			return fmt.Sprintf("%s takes %d letters (charter line %d)", r.Attribute, r.Longest, r.Line)
		case r.Required && v.New == "":
			return fmt.Sprintf("%s is required (charter line %d)", r.Attribute, r.Line)
		}
	}
	switch e := x.class.Emails; {
	case v.Attribute == "groups":
		return x.ruledGroups(now, v.New)
	case v.Attribute == "email" && e != nil && !e.MayBePrimary(v.New):
		return fmt.Sprintf("%q is in a domain that takes no primary addresses here (charter line %d)", v.New, e.Line)
	case v.Attribute == "aliases" && e != nil:
		return x.ruledAliases(p, a, e, now, v.New)
	}
	return ""
}

// ruledGroups: who is in the groups that the charter names is its to say.
func (x *asker) ruledGroups(now, want string) string {
	added, taken := planning.Moved(record.List, now, want)
	for _, v := range slices.Concat(added, taken) {
		n := record.Normal(record.Text, v)
		for _, g := range x.class.groups {
			if slices.Contains(g.names, n) {
				return fmt.Sprintf("who is in %q is ruled by the charter (line %d)", v, g.Line)
			}
		}
	}
	return ""
}

// ruledAliases: what the rules give stays, and what they would take away does not come.
func (x *asker) ruledAliases(p, a int, e *charter.EmailRule, now, want string) string {
	added, taken := planning.Moved(record.Emails, now, want)
	for _, v := range added {
		switch {
		case !e.MayBeAlias(v):
			return fmt.Sprintf("%q is in a domain that takes no addresses here (charter line %d)", v, e.Line)
		case e.Takes(v):
			return fmt.Sprintf("%q is an alias of the kind that the charter takes away (line %d)", v, e.Line)
		case x.Charter.Reserved(v):
			return fmt.Sprintf("%q is kept for a role (names.reserved, RFC 2142)", v)
		}
	}
	if len(taken) > 0 && p >= 0 && e.Rule == charter.Own {
		wanted, _ := x.wantedAliases(p, a)
		for _, v := range taken {
			if slices.ContainsFunc(wanted, func(w string) bool { return naming.Fold(w) == naming.Fold(v) }) {
				return fmt.Sprintf("the charter gives the alias %q (line %d)", v, e.Line)
			}
		}
	}
	if n := len(record.SplitList(want)); e.Most > 0 && n > e.Most && len(added) > 0 {
		return fmt.Sprintf("the account would have %d aliases, %d are allowed (charter line %d)", n, e.Most, e.Line)
	}
	return ""
}

// unfit says why a value is none of its kind, or is the present one with something lost.
func unfit(v planning.Wanted, kind record.Kind, now string) string {
	if v.New == "" {
		if v.Attribute == "userName" || v.Attribute == "email" {
			return v.Attribute + " is not cleared: an account without it is nobody's"
		}
		return ""
	}
	for _, s := range record.SplitList(v.New) {
		switch {
		case strings.ContainsRune(s, utf8.RuneError):
			return fmt.Sprintf("%q: letters are lost", s)
		case (kind == record.Email || kind == record.Emails || v.Attribute == "userName") && record.Disguised(s) != "":
			return fmt.Sprintf("%q is not as it looks: %s", s, record.Disguised(s))
		case (kind == record.Email || kind == record.Emails) && !record.ValidEmail(s):
			return fmt.Sprintf("%q is no e-mail address", s)
		case kind == record.Date && !calendar.IsDay(s):
			return fmt.Sprintf("%q is no day (YYYY-MM-DD)", s)
		case kind == record.Bool && s != "true" && s != "false":
			return fmt.Sprintf("%q is neither true nor false", s)
		}
	}
	if how := record.Damaged(v.New, now); how != "" && !kind.Multi() && kind != record.Email {
		return fmt.Sprintf("%q looks like %q with something lost: %s", v.New, now, how)
	}
	return ""
}

// mayNot says why a verb is not for this account.
func (x *asker) mayNot(verb string, i *planning.Intent, p, a int, v planning.Wanted) string {
	guessed := p >= 0 && x.out.Pairing.Guessed[p]
	switch verb {
	case planning.Suspend, planning.Rename, planning.Delete:
		if guessed {
			return "held to be theirs by evidence alone; rule same before the account is " + planning.Participles[verb]
		}
	}
	switch verb {
	case planning.Reinstate:
		if !x.Memory.Suspended[x.accountID(a)] {
			return "the account was suspended elsewhere, by no receipt of ours: whoever did it opens it"
		}
	case planning.Delete:
		if !x.shut(a) {
			return "an account in use is not deleted: suspend it first"
		}
		if x.hold != nil && x.held(gone{p: p, a: a}) {
			return "it is under legal hold, or may be"
		}
		if _, bonded := x.bondOf[x.accountID(a)]; p >= 0 && !bonded && x.out.Pairing.Basis[p] != pairing.Ruled {
			return "no receipt and no ruling (same) bonds the two"
		}
	case planning.Set:
		if v.Attribute == "manager" && v.New != "" {
			if _, there := x.Accounts.Find(v.New); !there {
				return fmt.Sprintf("manager %q is no account of %s", v.New, x.Charter.In)
			}
		}
	}
	return ""
}
