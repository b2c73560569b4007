package reconcile

import (
	"fmt"
	"slices"

	"twinning/internal/core/charter"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// groupRule is a charter's rule of groups, tied to the rosters.
type groupRule struct {
	charter.GroupRule
	when  *charter.Bound
	names []string // normalised
	never bool     // it is another class's: who is not in that is in none of its groups
}

func (r *run) groupRules(class charter.Class) (list []groupRule) {
	for _, g := range r.Charter.EveryGroup() {
		x := groupRule{GroupRule: g, when: r.bind(g.When), never: !slices.ContainsFunc(class.Groups, func(o charter.GroupRule) bool { return o.Path == g.Path })}
		for _, name := range g.Enrol {
			x.names = append(x.names, record.Normal(record.Text, name))
		}
		list = append(list, x)
	}
	return list
}

// wish is what the charter says of an account and a group.
type wish struct {
	name string // as the charter writes it
	in   bool   // it is to be in
	open bool   // whether it is can't be told: it stays as it is
	all  bool   // it is taken out whoever put it in
	line int
	// needs are the changes that must be done before
	needs []string
	after []string         // what the account must hold before
	whens []*charter.Bound // of the rules that name it
}

// wishes are what the rules say of somebody's account: it is in a group that any of them
// puts it into.
func (w *walker) wishes(create *draft, p, a int) (order []string, by map[string]wish) {
	by = map[string]wish{}
	for i := range w.class.groups {
		g := &w.class.groups[i]
		holds, known := true, true
		if g.never {
			holds = false
		} else if g.when != nil {
			v := g.when.Eval(p, a)
			if holds, known = v.True(); !known {
				w.note("value-invalid", p, a, "groups", "whether the account belongs into %s can't be told (charter line %d): %s; it stays as it is", quoted(g.Enrol), g.Line, unclearReason(v))
			}
		}
		before, blank := w.before(g, create, p, a)
		if known && holds && blank != "" {
			known = false
			w.withhold(planning.Enrol, p, a, fmt.Sprintf("%s must be there before the account is put into %s (charter line %d)", blank, quoted(g.Enrol), g.Line))
		}
		for n, name := range g.names {
			x, met := by[name]
			if !met {
				order = append(order, name)
				x = wish{name: g.Enrol[n], all: g.All, line: g.Line}
			}
			if known && holds && !x.in {
				x.in, x.line, x.needs, x.after = true, g.Line, before, g.After
			}
			x.open = x.open || !known
			if g.when != nil && !g.never {
				x.whens = append(x.whens, g.when)
			}
			by[name] = x
		}
	}
	return order, by
}

// belong holds the groups that an account is in against those that it should be in.
func (w *walker) belong(p, a int) {
	column := w.Accounts.Column("groups")
	if len(w.class.groups) == 0 || column == nil || w.Charter.Intent == "add" {
		return
	}
	order, by := w.wishes(nil, p, a)
	w.enrol(p, a, column.Cell(a), order, by)
	w.withdraw(p, a, column.Cell(a), by)
}

func (w *walker) enrol(p, a int, now string, order []string, by map[string]wish) {
	in, needs := map[string]bool{}, []string(nil)
	isIn := func(v string) { in[record.Normal(record.Text, v)] = true }
	record.EachValue(now, isIn)
	if a >= 0 {
		record.EachValue(w.Accounts.Column("nestedGroups").Cell(a), isIn)
	}
	list, lines := record.SplitList(now), ""
	var whens []*charter.Bound
	var after []string
	for _, name := range order {
		if x := by[name]; x.in && !in[name] {
			list, needs, whens, after = append(list, x.name), append(needs, x.needs...), append(whens, x.whens...), append(after, x.after...)
			lines = fmt.Sprintf("groups (charter line %d)", x.line)
		}
	}
	if lines == "" {
		return
	}
	if most := w.Charter.Most; most > 0 && len(list) > most {
		w.note("over-limit", p, a, "groups", "the account would be in %d groups, %d are allowed; it is put into none", len(list), most)
		return
	}
	want := record.JoinList(list)
	if a < 0 || w.kept(record.List, p, a, "groups", want, now) {
		w.edit(planning.Enrol, p, a, planning.Edit{Attribute: "groups", Old: now, New: want, Reason: lines})
		d := w.drafted(planning.Enrol, p, a)
		w.rest(d, p, a, whens...)
		d.comesAfter(after)
		for _, need := range needs {
			d.need(need)
		}
	}
}

// before are the changes that must be done before an account is put into groups; blank is an
// attribute that it does not hold, and is not given.
func (w *walker) before(g *groupRule, create *draft, p, a int) (needs []string, blank string) {
	for _, attribute := range g.After {
		if d := w.writes(create, p, a, attribute); d != nil {
			needs = append(needs, d.ID)
		}
	}
	return needs, w.missingBefore(g.After, create, p, a)
}

// withdraw takes an account out of groups that the charter names and does not want it in,
// where it was we who put it in, or they are all ours.
func (w *walker) withdraw(p, a int, now string, by map[string]wish) {
	ours := &rule{AttributeRule: charter.AttributeRule{Attribute: "groups"}, kind: record.List}
	var list []string
	var whens []*charter.Bound
	line := 0
	record.EachValue(now, func(v string) {
		x, named := by[record.Normal(record.Text, v)]
		if named && !x.in && !x.open && (x.all || w.added(ours, a, v)) {
			line, whens = x.line, append(whens, x.whens...)
			return
		}
		list = append(list, v)
	})
	if line > 0 {
		w.edit(planning.Withdraw, p, a, planning.Edit{Attribute: "groups", Old: now, New: record.JoinList(list), Reason: fmt.Sprintf("groups (charter line %d)", line)})
		w.rest(w.drafted(planning.Withdraw, p, a), p, a, whens...)
	}
}
