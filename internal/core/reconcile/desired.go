package reconcile

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/charter"
	"twinning/internal/core/naming"
	"twinning/internal/core/pairing"
	"twinning/internal/core/record"
)

// The desired account is what the charter wants of one account: for each attribute what it
// should hold. It is computed attribute by attribute and held against the account as it is
// (see differ), or makes a new one (see missing).

// rule rules one attribute of the desired account, tied to the rosters.
type rule struct {
	charter.AttributeRule
	kind   record.Kind
	target *record.Column // what the accounts hold; nil where it is not read
	reason string
	values []*charter.Bound
	source *record.Column // set when the value is a plain attribute of the person
	reads  []string       // attributes of the person
	fixed  string         // the value, where no expression gives it
	refers bool           // the value is the id of a person, and their account is meant
	mark   bool           // it is what an account is known again by
	named  bool           // the value is a name, which must be granted
	name   naming.Attribute
}

// want is what one attribute of the desired account should hold.
type want struct {
	cell     string
	names    []string // of a name, all that it may be, the best first; cell is the first
	reserved string   // a name that it would be, and that is kept for a role
	fault    string   // why there is nothing
	open     string   // the attribute by which it is undecided: then nothing follows from it
	refers   string   // the person whose account the value is, where it is one
}

// rulesOf lists what rules the desired account: what it holds, how it is addressed, that it
// can sign in, and what it is known again by.
func (r *run) rulesOf(class charter.Class) (list []rule) {
	for _, c := range class.Rules {
		x := r.ruled(c, fmt.Sprintf("%s: %s (charter line %d)", c.Attribute, c.Rule, c.Line))
		x.refers = c.Attribute == "manager"
		x.named, x.name = c.Attribute == "userName", naming.Login
		list = append(list, x)
	}
	if e := class.Emails; e != nil {
		x := r.ruled(charter.AttributeRule{Attribute: "email", Candidates: e.Primary, Rule: e.Rule, Line: e.Line},
			fmt.Sprintf("emails: %s, former %s (charter line %d)", e.Rule, e.Former, e.Line))
		x.named, x.name = true, naming.Primary
		list = append(list, x)
	}
	open := r.ruled(charter.AttributeRule{Attribute: "active", Rule: charter.Once}, "a new account can sign in")
	if open.fixed = "true"; !class.SignsIn {
		open.fixed, open.reason = "false", fmt.Sprintf("a new account of class %s, which does not sign in (charter line %d)", class.Name, class.Line)
	}
	list = append(list, open)
	if r.Input.Mark != "" {
		of := charter.AttributeRule{Attribute: r.Input.Mark, Rule: charter.Own}
		if r.Charter.Mark != nil {
			of.Candidates = []*charter.Expr{r.Charter.Mark}
		}
		x := r.ruled(of, "mark: so that this twin is found again")
		x.mark, x.kind = true, record.Text
		list = append(list, x)
	}
	return list
}

func (r *run) ruled(c charter.AttributeRule, reason string) rule {
	x := rule{AttributeRule: c, kind: record.KindOf(c.Attribute), target: r.Accounts.Column(c.Attribute), reason: reason}
	for _, e := range c.Candidates {
		person, _ := e.Reads()
		x.values, x.reads = append(x.values, r.bind(e)), append(x.reads, person...)
	}
	if len(c.Candidates) == 1 && c.Candidates[0].Attribute() != "" && len(x.reads) > 0 {
		x.source = r.People.Column(c.Candidates[0].Attribute())
	}
	return x
}

// want computes what the attribute should hold of somebody's account, which holds a value
// now; account -1 is one that is yet to be made.
func (w *walker) want(r *rule, p, a int, now string) (x want) {
	switch {
	case r.named:
		w.candidates(r, p, a, now, &x)
		return x
	case r.fixed != "":
		x.cell = r.fixed
	case r.mark:
		x.cell, x.open = w.markValue(p)
	case r.source != nil && len(w.People.Several(p, r.reads[0])) == 0:
		x.cell = r.source.Cell(p)
	default:
		v := r.values[0].Eval(p, a)
		x.cell, x.fault, x.open = strings.TrimSpace(v.Cell()), v.Fault(), v.Undecided()
	}
	if r.refers && x.cell != "" {
		x.refers = x.cell
		x.cell, x.fault = w.accountOf(r, p, a, x.cell)
	}
	if r.kind.Multi() && a >= 0 {
		x.cell = w.list(r, a, x.cell, now)
	}
	return x
}

// accountOf turns the id of a person into that of their account: ids of one system
// mean nothing in another.
func (w *walker) accountOf(r *rule, p, a int, person string) (id, fault string) {
	row, there := w.People.Find(person)
	if there && w.out.Pairing.PersonState[row] == pairing.Twinned {
		return w.Accounts.ID(int(w.out.Pairing.PersonTwin[row])), ""
	}
	why := fmt.Sprintf("%s is person %q, who has no account here yet", r.Attribute, person)
	if !there {
		why = fmt.Sprintf("%s is %q, who is nobody among the people", r.Attribute, person)
	}
	if r.Rule != charter.Watch {
		w.note("reference-open", p, a, r.Attribute, "%s; it stays as it is", why)
	}
	return "", why
}

// candidates computes the names that expressions give, without those that are kept for roles
// and not the account's already; what the authority gives as it stands is not looked at. What
// is behind the one that the account has, or behind one that is undecided, is not computed.
func (w *walker) candidates(r *rule, p, a int, now string, x *want) {
	for _, b := range r.values {
		v := b.Eval(p, a)
		if x.open = v.Undecided(); x.open != "" { // the next would be taken for a blank that is none
			x.fault = v.Fault()
			break
		}
		if v.Blank() {
			continue
		}
		name := strings.TrimSpace(v.Cell())
		has := now != "" && w.same(r.kind, name, now)
		if b.Expr.Attribute() == "" && !has && w.Charter.Reserved(name) && naming.Fold(name) != naming.Fold(now) {
			x.reserved = name
			continue
		}
		if x.names = append(x.names, name); has {
			x.open = ""
			break
		}
	}
	if len(x.names) > 0 {
		x.cell = x.names[0]
	}
}

// takenCodes are the findings of names that can't be had, by attribute.
var takenCodes = map[string]string{"userName": "username-taken", "email": "email-taken", "aliases": "email-taken"}

// usable are the names of a want that may be asked for; what is wrong with the others is told.
func (w *walker) usable(r *rule, p, a int, x want) []string {
	if len(x.names) == 0 && x.reserved != "" {
		w.note(takenCodes[r.Attribute], p, a, "", "%s: kept for a role (names.reserved, RFC 2142)", x.reserved)
	}
	valid := make([]string, 0, len(x.names))
	for _, c := range x.names {
		switch how := record.Disguised(c); {
		case how != "": // it would be taken for another
			w.note("value-invalid", p, a, r.Attribute, "%q is not as it looks: %s; it is not written", c, how)
		case r.name != naming.Primary:
			valid = append(valid, c)
		case !record.ValidEmail(c):
			w.note("value-invalid", p, a, "email", "%q is no e-mail address", c)
		case !w.class.Emails.MayBePrimary(c):
			w.note("domain-foreign", p, a, "email", "%q is in a domain that takes no primary addresses here; it is not written", c)
		default:
			valid = append(valid, c)
		}
	}
	return valid
}

// list is what an attribute with several values should hold: what it holds, and
// what the rule wants, without what the rule no longer wants and is ours.
func (w *walker) list(r *rule, a int, want, now string) string {
	if r.All || want == "" && !r.Clear {
		return want
	}
	wanted := map[string]bool{}
	record.EachValue(want, func(v string) { wanted[record.Normal(r.kind, v)] = true })
	var kept []string
	record.EachValue(now, func(v string) {
		n := record.Normal(r.kind, v)
		if wanted[n] || !w.added(r, a, v) {
			kept = append(kept, v)
		}
		delete(wanted, n)
	})
	record.EachValue(want, func(v string) {
		if n := record.Normal(r.kind, v); wanted[n] {
			kept = append(kept, v)
			delete(wanted, n)
		}
	})
	return record.JoinList(kept)
}

// added reports whether a value of a list is ours.
func (w *walker) added(r *rule, a int, value string) bool {
	if r.Ours != nil && r.Ours.MatchString(value) {
		return true
	}
	n := record.Normal(r.kind, value)
	return slices.ContainsFunc(w.Memory.Added[w.Accounts.ID(a)][r.Attribute], func(v string) bool { return record.Normal(r.kind, v) == n })
}
