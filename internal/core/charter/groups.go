package charter

import (
	"slices"
	"strings"

	"twinning/internal/core/document"
	"twinning/internal/core/record"
)

// GroupRule says who is in some groups. Nobody is ever taken out of a group that no rule
// names.
type GroupRule struct {
	Enrol []string // names
	When  *Expr    // nil: everybody the lane serves
	All   bool     // whoever else is in them is taken out; else only whom our receipts put in
	After []string // attributes that an account holds before
	Make  bool     // one that is not there is made with its first member
	Seats int      // accounts that may be in each; 0: any number
	Line  int      // for messages alone
	Path  string   // in the document: which rule it is
}

func (r *reader) readGroups(n document.Node) (list []GroupRule) {
	for _, item := range n.Items() {
		f := item.Declared(Keys)
		rule := GroupRule{All: f["manage"].Word(Keys, "groups[].manage") == "all", Make: f["create"].Bool()}
		rule.Line, _ = item.Place()
		rule.Path = item.Path()
		names := []document.Node{f["enrol"]}
		if f["enrol"].IsList() {
			names = f["enrol"].Items()
		}
		for _, name := range names {
			text := strings.TrimSpace(name.Text())
			switch {
			case text == "":
				item.Problem("a rule needs `enrol:`, the name of a group, or a list of names")
			case strings.ContainsRune(text, record.ListSep):
				name.Problem("%q is no name of a group", text)
			case slices.ContainsFunc(slices.Concat(r.Groups, list), func(o GroupRule) bool { return o.All != rule.All && o.names(text) }):
				name.Problem("an earlier rule names %q with another `manage:`; say the same in both", text)
			}
			rule.Enrol = append(rule.Enrol, text)
		}
		rule.After = r.readAfter(f["after"])
		if n, ok := f["seats"]; ok {
			rule.Seats = n.Int(1)
		}
		if c, ok := f["when"]; ok {
			rule.When = r.compiler.compile(c, wantCondition, "person", "account", twins)
		}
		list = append(list, rule)
	}
	return list
}

// MakesGroup reports whether a group that is not there is to be made.
func (c *Charter) MakesGroup(name string) bool {
	return slices.ContainsFunc(c.EveryGroup(), func(g GroupRule) bool { return g.Make && g.names(name) })
}

func (g *GroupRule) names(name string) bool {
	return slices.ContainsFunc(g.Enrol, func(o string) bool { return record.Normal(record.Text, o) == record.Normal(record.Text, name) })
}
