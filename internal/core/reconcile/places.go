package reconcile

import (
	"maps"
	"slices"

	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// unseen tells of groups and containers that the plan needs and in which no account stands:
// they may not be there at all.
func (r *run) unseen() {
	if column := r.Accounts.Column("groups"); column != nil && len(r.Charter.EveryGroup()) > 0 {
		used := seenIn(r.Accounts, column)
		for _, g := range r.Charter.EveryGroup() {
			for _, name := range g.Enrol {
				if !used[record.Normal(record.Text, name)] {
					r.report("unknown-group", -1, -1, name, "no account is in %q (charter line %d)", name, g.Line)
				}
			}
		}
	}
	column, placed := r.Accounts.Column("container"), map[string]int{}
	if column == nil {
		return
	}
	for i := range r.out.Changes {
		for _, e := range r.out.Changes[i].Edits {
			if e.Attribute == "container" {
				placed[e.New]++
			}
		}
	}
	if len(placed) == 0 {
		return
	}
	used := seenIn(r.Accounts, column)
	for _, place := range slices.Sorted(maps.Keys(placed)) {
		if !used[record.Normal(record.Text, place)] {
			r.report("unknown-container", -1, -1, place, "%d accounts are to stand in %q, and none does", placed[place], place)
		}
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
	open := map[int]bool{} // who administers it, or may, and can sign in
	left := 0              // who surely does, and is not to be shut
	active := r.Accounts.Column("active")
	for a := range r.Accounts.Len() {
		if _, unread := r.Accounts.Present(a); unread || active.Cell(a) == "false" {
			continue
		}
		holds, known := admins.Eval(-1, a).True()
		if holds || !known { // who may be one is one, as far as shutting them goes
			open[a] = holds
		}
		if holds {
			left++
		}
	}
	shuts := func(d *draft) bool {
		_, may := open[d.a]
		return may && (d.Verb == planning.Suspend || d.Verb == planning.Delete)
	}
	for _, d := range drafts {
		if shuts(d) && open[d.a] {
			left--
		}
	}
	if left > 0 {
		return drafts
	}
	return slices.DeleteFunc(drafts, func(d *draft) bool {
		if !shuts(d) {
			return false
		}
		why := "no administrator of " + r.Charter.In + " would be left who can sign in"
		r.out.Withheld = append(r.out.Withheld, planning.Withheld{Verb: d.Verb, Person: d.Person, Account: d.Account, Reason: why})
		r.report("last-administrator", d.p, d.a, "", "%s; it is withheld", why)
		return true
	})
}
