package charter

import (
	"twinning/internal/core/document"
	"twinning/internal/core/record"
)

func (r *reader) readEmails(n document.Node) *EmailRule {
	if !n.Present() {
		return nil
	}
	f := n.Declared(Keys)
	line, _ := n.Place()
	rule := &EmailRule{Rule: f["rule"].Word(Keys, "emails.rule"), Former: f["former"].Word(Keys, "emails.former"), Line: line}
	if rule.Primary = r.expressions(f["primary"], wantText); !f["primary"].Present() || f["primary"].IsList() && len(f["primary"].Items()) == 0 {
		n.Problem("`emails:` needs `primary:`, the expression that gives the primary address")
	}
	if d, ok := f["rest"]; ok {
		rule.Rest = d.Days()
	}
	if d, ok := f["former-for"]; ok {
		if rule.Kept = d.Days(); rule.Former != "keep" {
			d.Problem("`former-for:` says for how long a former address is kept, and `former: drop` keeps none")
		}
	}
	rule.Aliases = r.expressions(f["aliases"], wantValues)
	rule.Ours = readOurs(f["ours"])
	if n, ok := f["most"]; ok {
		rule.Most = n.Int(1)
	}
	if d, ok := f["domains"]; ok {
		rule.Domains = r.readDomains(d)
	}
	return rule
}

// expressions reads one, or a list of them.
func (r *reader) expressions(n document.Node, wanted want) (list []*Expr) {
	items := []document.Node{n}
	if n.IsList() {
		items = n.Items()
	}
	for _, item := range items {
		if !item.Present() {
			continue
		}
		if e := r.compiler.compile(item, wanted, "person", "account", twins); e != nil {
			list = append(list, e)
		}
	}
	return list
}

func (r *reader) readSignIn(n document.Node) {
	if !n.Present() {
		return
	}
	f := n.Declared(Keys)
	if !f["subject"].Present() || !f["account"].Present() {
		n.Problem("`sign-in:` needs `subject:`, what the identity provider sends of a person, and `account:`, what an account is found by")
		return
	}
	s := &SignIn{Subject: r.compiler.compile(f["subject"], wantText, "person"), Account: r.compiler.compile(f["account"], wantValues, "account")}
	if s.Subject != nil && s.Account != nil {
		r.SignIn = s
	}
}

// readDomains reads what addresses in a domain may be.
func (r *reader) readDomains(n document.Node) map[string]string {
	domains, primary := map[string]string{}, false
	for _, d := range n.Entries() {
		if !record.ValidEmail("a@" + d.Key) {
			d.Value.Problem("%q is no domain; expected one such as larkspur.example", d.Key)
		}
		role := d.Value.Word(Keys, "emails.domains.*")
		domains[domainOf("a@"+d.Key)] = role
		primary = primary || role == "primary"
	}
	if !primary {
		n.Problem("no domain takes primary addresses, so nobody could have one; say `primary` of one of them")
	}
	return domains
}
