package reconcile

import (
	"fmt"
	"maps"
	"slices"

	"twinning/internal/core/record"
)

// unseen tells of groups and containers that the plan needs and in which no account stands:
// they may not be there at all.
func (r *run) unseen() {
	if column := r.Accounts.Column("groups"); column != nil && len(r.Charter.EveryGroup()) > 0 {
		used := seenIn(r.Accounts, column)
		for _, g := range r.Charter.EveryGroup() {
			for _, name := range g.Enrol {
				switch {
				case used[record.Normal(record.Text, name)]:
				case g.Make:
					r.out.Notes = append(r.out.Notes, fmt.Sprintf("no account is in %q: if it is not there, it is made with the first who is put into it (charter line %d)", name, g.Line))
				default:
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
