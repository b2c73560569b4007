package reconcile

import (
	"slices"

	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// unseen tells of groups and containers that the plan needs and in which no account stands:
// they may not be there at all.
func (r *run) unseen() {
	if column := r.Accounts.Column("groups"); column != nil && len(r.Charter.Groups) > 0 {
		used := seenIn(r.Accounts, column)
		for _, g := range r.Charter.Groups {
			for _, name := range g.Enrol {
				if !used[record.Normal(record.Text, name)] {
					r.report("unknown-group", -1, -1, name, "no account is in %q (charter line %d)", name, g.Line)
				}
			}
		}
	}
	column := r.Accounts.Column("container")
	if column == nil {
		return
	}
	used := seenIn(r.Accounts, column)
	told := map[string]int{}
	var order []string
	for i := range r.out.Changes {
		for _, e := range r.out.Changes[i].Edits {
			if e.Attribute == "container" && !used[record.Normal(record.Text, e.New)] {
				if told[e.New]++; told[e.New] == 1 {
					order = append(order, e.New)
				}
			}
		}
	}
	slices.Sort(order)
	for _, place := range order {
		r.report("unknown-container", -1, -1, place, "%d accounts are to stand in %q, and none does", told[place], place)
	}
}

func seenIn(roster *record.Roster, column *record.Column) map[string]bool {
	seen := map[string]bool{}
	for i := range roster.Len() {
		record.EachValue(column.Cell(i), func(v string) { seen[record.Normal(record.Text, v)] = true })
	}
	return seen
}

// keepAdministrator withholds what would shut the last account that administers the
// downstream and can sign in.
func (r *run) keepAdministrator(drafts []*draft) []*draft {
	admins := r.bind(r.Charter.Admins)
	if admins == nil {
		return drafts
	}
	harms := func(d *draft) bool { return d.a >= 0 && (d.Verb == planning.Suspend || d.Verb == planning.Delete) }
	open := map[int]bool{}
	for a := range r.Accounts.Len() {
		if _, unread := r.Accounts.Present(a); unread || r.Accounts.Column("active").Cell(a) == "false" {
			continue
		}
		if holds, known := admins.Eval(-1, a).True(); holds || !known { // who may be one is one, as far as shutting them goes
			open[a] = holds
		}
	}
	left := 0 // who surely administers it and is not to be shut
	for _, holds := range open {
		if holds {
			left++
		}
	}
	var shut []*draft
	for _, d := range drafts {
		if holds, may := open[d.a]; may && harms(d) {
			shut = append(shut, d)
			if holds {
				left--
			}
		}
	}
	if left > 0 || len(shut) == 0 {
		return drafts
	}
	return slices.DeleteFunc(drafts, func(d *draft) bool {
		if !slices.Contains(shut, d) {
			return false
		}
		why := "no administrator of " + r.Charter.In + " would be left who can sign in"
		r.out.Withheld = append(r.out.Withheld, planning.Withheld{Verb: d.Verb, Person: d.Person, Account: d.Account, Reason: why})
		r.report("last-administrator", d.p, d.a, "", "%s; it is withheld", why)
		return true
	})
}
