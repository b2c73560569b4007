package reconcile

import (
	"cmp"
	"maps"
	"slices"

	"twinning/internal/core/finding"
	"twinning/internal/core/planning"
)

// WhatIf is how a reconciliation would differ by another charter.
type WhatIf struct {
	People   []Twofold    `json:"people"`   // the balance, by state
	Accounts []Twofold    `json:"accounts"` // the balance, by state
	Findings []Twofold    `json:"findings"` // by code; those that are alike are left out
	Changes  []Twofold    `json:"changes"`  // by verb
	Withheld Twofold      `json:"withheld"`
	Guards   []string     `json:"guards"` // that would stop the plan, and do not now
	Notes    []string     `json:"notes"`  // rules that could not be checked by the other charter
	Differ   int          `json:"differ"` // changes that only one of the two drafts, or the two with other values
	Examples []DraftedTwo `json:"examples"`
}

// Twofold is a count by the charter in force, and by the other.
type Twofold struct {
	Name  string `json:"name"`
	Now   int    `json:"now"`
	After int    `json:"after"`
}

// DraftedTwo is a change as the two charters draft it; nil where one drafts none.
type DraftedTwo struct {
	Verb    string          `json:"verb"`
	Person  string          `json:"person"`
	Account string          `json:"account"`
	Now     []planning.Edit `json:"now,omitempty"`
	After   []planning.Edit `json:"after,omitempty"`
}

// examplesShown are the changes that are told of each verb.
const examplesShown = 5

// Compare reconciles by two charters, which see the same rosters and remember the same.
func Compare(now, after Input) *WhatIf {
	a, b := Run(now), Run(after)
	w := &WhatIf{
		People: balances(a.Balance.People, b.Balance.People), Accounts: balances(a.Balance.Accounts, b.Balance.Accounts),
		Findings: counted(a.Findings, b.Findings, func(f finding.Finding) string { return f.Code }),
		Changes:  counted(a.Changes, b.Changes, func(c planning.Change) string { return c.Verb }),
		Withheld: Twofold{"withheld", len(a.Withheld), len(b.Withheld)}, Guards: []string{}, Notes: append([]string{}, b.Notes...), Examples: []DraftedTwo{},
	}
	w.Findings = slices.DeleteFunc(w.Findings, func(t Twofold) bool { return t.Now == t.After })
	stops := map[string]bool{}
	for _, g := range a.Guards {
		stops[g.Verb] = g.Tripped
	}
	for _, g := range b.Guards {
		if g.Tripped && !stops[g.Verb] {
			w.Guards = append(w.Guards, cmp.Or(g.Message, g.String()))
		}
	}
	w.drafts(a.Changes, b.Changes)
	return w
}

// drafts finds the changes in which two plans differ.
func (w *WhatIf) drafts(now, after []planning.Change) {
	before := make(map[string]*planning.Change, len(now))
	for i := range now {
		before[now[i].ID] = &now[i]
	}
	shown := map[string]int{}
	differ := func(c *planning.Change, now, after []planning.Edit) {
		w.Differ++
		if shown[c.Verb]++; shown[c.Verb] <= examplesShown {
			w.Examples = append(w.Examples, DraftedTwo{c.Verb, c.Person, c.Account, plain(now), plain(after)})
		}
	}
	for i := range after {
		c := &after[i]
		old, both := before[c.ID]
		delete(before, c.ID)
		switch {
		case !both:
			differ(c, nil, c.Edits)
		case !slices.EqualFunc(old.Edits, c.Edits, func(a, b planning.Edit) bool { return a.Attribute == b.Attribute && a.New == b.New }):
			differ(c, old.Edits, c.Edits)
		}
	}
	for i := range now {
		if _, gone := before[now[i].ID]; gone {
			differ(&now[i], now[i].Edits, nil)
		}
	}
}

func balances(now, after Side) []Twofold {
	return []Twofold{
		{"twinned", now.Twinned, after.Twinned}, {"missing", now.Missing, after.Missing}, {"orphan", now.Orphan, after.Orphan},
		{"duplicate", now.Duplicate, after.Duplicate}, {"contested", now.Contested, after.Contested}, {"exempt", now.Exempt, after.Exempt},
	}
}

// counted counts two lists by a name, in the order of the names.
func counted[T any](now, after []T, name func(T) string) []Twofold {
	all := map[string]*Twofold{}
	of := func(n string) *Twofold {
		if all[n] == nil {
			all[n] = &Twofold{Name: n}
		}
		return all[n]
	}
	for _, x := range now {
		of(name(x)).Now++
	}
	for _, x := range after {
		of(name(x)).After++
	}
	list := []Twofold{}
	for _, n := range slices.Sorted(maps.Keys(all)) {
		list = append(list, *all[n])
	}
	return list
}
