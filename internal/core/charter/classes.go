package charter

import (
	"slices"
	"strings"

	"twinning/internal/core/document"
)

// Class is a kind of people whose accounts are ruled otherwise than those of the others.
type Class struct {
	Name    string
	When    *Expr           // nil: whoever is in no other
	Rules   []AttributeRule // with those of the charter that it does not replace
	Emails  *EmailRule
	Groups  []GroupRule
	SignsIn bool // nobody signs in with an account of the others
	Line    int
}

// Common are the rules of whoever is in no class.
func (c *Charter) Common() Class {
	return Class{Rules: c.Rules, Emails: c.Emails, Groups: c.Groups, SignsIn: true}
}

// Everybody lists the classes, and last whoever is in none.
func (c *Charter) Everybody() []Class { return append(slices.Clone(c.Classes), c.Common()) }

// ruling are the sections that a class may replace.
var ruling = []string{"attributes", "emails", "groups"}

// withClasses lets classes say what the charter says of everybody's accounts.
func withClasses(keys document.Keys) document.Keys {
	at := slices.IndexFunc(keys, func(k document.Key) bool { return k.Path == "leavers" })
	own := document.Keys{
		key("classes", document.FormList, "kinds of people whose accounts are ruled otherwise; the first whose condition holds is somebody's", "[{name: guest, when: person.userType == 'guest', without: [groups]}]"),
		key("classes[]", document.FormMapping, "one class; what it does not say is as for everybody", "{name: guest, when: person.userType == 'guest', without: [groups]}"),
		key("classes[].name", document.FormText, "what it is called", "guest"),
		key("classes[].when", document.FormCondition, "who is in it, if in none above; whose class can't be told is left alone", "person.userType == 'guest'"),
		key("classes[].sign-in", document.FormYesNo, "whether they sign in: accounts of contacts that do not are made shut, and shut (default true)", "false"),
		key("classes[].without", document.FormList, "attributes, emails or groups that are ruled for everybody and not for them", "[emails, groups]"),
		key("classes[].without[]", document.FormText, "one of them", "groups"),
	}
	for _, k := range keys {
		top, _, _ := strings.Cut(strings.TrimSuffix(k.Path, "[]"), ".")
		if slices.Contains(ruling, strings.TrimSuffix(top, "[]")) && k.Path != "emails.rest" {
			k.Path = "classes[]." + k.Path
			own = append(own, k)
		}
	}
	return slices.Insert(keys, at, own...)
}

func (r *reader) readClasses(n document.Node) {
	for _, item := range n.Items() {
		f := item.Declared(Keys)
		c := Class{Name: f["name"].Text(), SignsIn: true}
		c.Line, _ = item.Place()
		switch {
		case c.Name == "" || !f["when"].Present():
			item.Problem("a class needs `name:` and `when:`, who is in it")
			continue
		case slices.ContainsFunc(r.Classes, func(o Class) bool { return o.Name == c.Name }):
			f["name"].Problem("another class is already called %q", c.Name)
		}
		c.When = r.compiler.compile(f["when"], wantCondition, "person")
		if s, ok := f["sign-in"]; ok {
			c.SignsIn = s.Bool()
		}
		without := map[string]bool{}
		for _, w := range f["without"].Items() {
			name := w.Text()
			ruled := slices.ContainsFunc(r.Rules, func(o AttributeRule) bool { return o.Attribute == name })
			if !ruled && name != "emails" && name != "groups" {
				w.Problem("%q is not ruled for everybody, so there is nothing to leave out; expected one of `attributes:`, emails or groups", name)
			}
			without[name] = true
		}
		own := r.readRules(f["attributes"])
		for _, common := range r.Rules {
			i := slices.IndexFunc(own, func(o AttributeRule) bool { return o.Attribute == common.Attribute })
			switch {
			case i >= 0:
				c.Rules, own = append(c.Rules, own[i]), slices.Delete(own, i, i+1)
			case !without[common.Attribute]:
				c.Rules = append(c.Rules, common)
			}
		}
		c.Rules = append(c.Rules, own...)
		if c.Emails = r.readEmails(f["emails"]); c.Emails == nil && !without["emails"] {
			c.Emails = r.Emails
		} else if c.Emails != nil && r.Emails != nil {
			c.Emails.Rest = r.Emails.Rest
		}
		if c.Groups = r.readGroups(f["groups"]); !f["groups"].Present() && !without["groups"] {
			c.Groups = r.Groups
		}
		r.Classes = append(r.Classes, c)
	}
}

// EveryRule visits the rules of all classes, each once.
func (c *Charter) EveryRule(visit func(AttributeRule)) {
	met := map[string]bool{}
	for _, class := range c.Everybody() {
		for _, r := range class.Rules {
			if !met[r.Path] {
				met[r.Path] = true
				visit(r)
			}
		}
	}
}

// everyEmail visits what the classes say of addresses, each once.
func (c *Charter) everyEmail(visit func(*EmailRule)) {
	var met []*EmailRule
	for _, class := range c.Everybody() {
		if e := class.Emails; e != nil && !slices.Contains(met, e) {
			met = append(met, e)
			visit(e)
		}
	}
}

// EveryGroup lists what the classes say of groups, each once.
func (c *Charter) EveryGroup() (list []GroupRule) {
	met := map[string]bool{}
	for _, class := range c.Everybody() {
		for _, g := range class.Groups {
			if !met[g.Path] {
				met[g.Path] = true
				list = append(list, g)
			}
		}
	}
	return list
}

// Values lists the expressions that give accounts what they hold.
func (c *Charter) Values() (list []*Expr) {
	c.EveryRule(func(r AttributeRule) { list = append(list, r.Candidates...) })
	c.everyEmail(func(e *EmailRule) { list = append(list, slices.Concat(e.Primary, e.Aliases)...) })
	return list
}

// GivesNames reports whether addresses are ruled for anybody.
func (c *Charter) GivesNames() bool {
	return slices.ContainsFunc(c.Everybody(), func(x Class) bool { return x.Emails != nil })
}
