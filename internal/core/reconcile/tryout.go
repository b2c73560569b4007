package reconcile

import (
	"slices"

	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// TriedOut is what a charter makes of one person and their account, if they have one. What
// others hold is not looked at: whether a name is free is known when everybody is reconciled.
type TriedOut struct {
	Conditions []TriedValue   `json:"conditions"` // whether the two are the lane's, and which wave is theirs
	Values     []TriedValue   `json:"values"`
	Changes    []TriedChange  `json:"changes"`
	Findings   []TriedFinding `json:"findings"`
}

// TriedValue is what one rule comes to.
type TriedValue struct {
	Name    string           `json:"name"` // the attribute, or where the condition stands
	Rule    string           `json:"rule,omitempty"`
	Line    int              `json:"line"`
	Tries   [][]charter.Step `json:"tries"` // the steps of each expression, in order of preference
	Now     string           `json:"now"`
	Written string           `json:"written"` // "" when nothing is
	Verb    string           `json:"verb,omitempty"`
	Why     string           `json:"why,omitempty"` // nothing is written
}

// TriedChange is a change that would be drafted, its values as people read them.
type TriedChange struct {
	Verb  string          `json:"verb"`
	Edits []planning.Edit `json:"edits"`
}

// TriedFinding is what would be told.
type TriedFinding struct {
	Code   string `json:"code"`
	Detail string `json:"detail"`
}

// TryOut computes a charter for a person and an account that each stand in a roster of their
// own; account -1: they have none.
func TryOut(in Input, p, a int) *TriedOut {
	if a >= 0 {
		in.Memory.Same = []pairing.Pair{{Person: in.People.ID(p), Account: in.Accounts.ID(a)}}
	}
	out := Run(in)
	t := &TriedOut{Conditions: []TriedValue{}, Values: []TriedValue{}, Changes: []TriedChange{}, Findings: []TriedFinding{}}
	scope := charter.Scope{People: in.People, Accounts: in.Accounts, Today: calendar.Day(in.Now, in.Charter.Zone)}
	steps := func(list []*charter.Expr) [][]charter.Step {
		tries := [][]charter.Step{}
		for _, e := range list {
			if e != nil {
				tries = append(tries, e.Steps(scope, p, a))
			}
		}
		return tries
	}
	condition := func(name string, e *charter.Expr) {
		if e != nil {
			t.Conditions = append(t.Conditions, TriedValue{Name: name, Line: e.Line, Tries: steps([]*charter.Expr{e})})
		}
	}
	condition("people.where", in.Charter.People)
	if a >= 0 {
		condition("accounts.where", in.Charter.Accounts)
	}
	for _, c := range in.Charter.Classes {
		condition("class "+c.Name, c.When)
	}
	for _, w := range in.Charter.Waves {
		condition("wave "+w.Name, w.When)
	}
	value := func(attribute, rule string, line int, list []*charter.Expr) {
		v := TriedValue{Name: attribute, Rule: rule, Line: line, Tries: steps(list)}
		if a >= 0 {
			v.Now = record.PlainList(in.Accounts.Column(attribute).Cell(a))
		}
		for _, c := range out.Changes {
			for _, e := range c.Edits {
				if e.Attribute == attribute {
					v.Written, v.Verb = record.PlainList(e.New), c.Verb
				}
			}
		}
		if v.Verb == "" {
			v.Why = whyNot(out, v, rule, a)
		}
		t.Values = append(t.Values, v)
	}
	class := in.Charter.Common()
	for _, c := range slices.Backward(in.Charter.Classes) {
		if holds, known := c.When.Bind(scope).Eval(p, -1).True(); holds || !known {
			class = c
		}
	}
	for _, r := range class.Rules {
		value(r.Attribute, r.Rule, r.Line, r.Candidates)
	}
	if e := class.Emails; e != nil {
		value("email", e.Rule, e.Line, e.Primary)
		if len(e.Aliases) > 0 {
			value("aliases", e.Rule, e.Line, e.Aliases)
		}
	}
	for _, c := range out.Changes {
		t.Changes = append(t.Changes, TriedChange{c.Verb, plain(c.Edits)})
	}
	for _, f := range out.Findings {
		if f.Code != "missing-account" || a < 0 {
			t.Findings = append(t.Findings, TriedFinding{f.Code, f.Detail})
		}
	}
	return t
}

// plain are edits as people read them.
func plain(edits []planning.Edit) []planning.Edit {
	if edits == nil {
		return nil
	}
	list := []planning.Edit{}
	for _, e := range edits {
		e.Old, e.New = record.PlainList(e.Old), record.PlainList(e.New)
		list = append(list, e)
	}
	return list
}

// whyNot says why a value is not written.
func whyNot(out *Output, v TriedValue, rule string, a int) string {
	for _, f := range out.Findings {
		if f.Subject == v.Name {
			return f.Detail
		}
	}
	last := charter.Step{}
	for _, try := range v.Tries {
		if last = try[len(try)-1]; last.Value != "" {
			break
		}
	}
	switch {
	case last.Value == "" && last.Fault != "":
		return last.Fault
	case last.Value == "":
		return "it comes out blank"
	case a >= 0 && last.Value == v.Now:
		return "it is so already"
	case a >= 0 && record.Same(record.KindOf(v.Name), last.Value, v.Now):
		return "it is so already, but for capitals or the like"
	case a >= 0 && rule == charter.Once:
		return "once: new accounts alone are given it"
	case a >= 0 && rule == charter.Fill && v.Now != "":
		return "fill: it is filled already"
	case rule == charter.Watch:
		return "watch: never written"
	}
	return "nothing is to be changed about this account"
}
