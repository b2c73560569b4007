package reconcile

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"twinning/internal/core/charter"
)

// unlistedShown are the values without entry that are told of one table.
const unlistedShown = 5

// unlisted tells which values tables have no entry for: what is looked up is blank then,
// and nobody is told otherwise.
func (r *run) unlisted() {
	scope := charter.Scope{People: r.People, Accounts: r.Accounts, Today: r.today}
	for _, e := range r.Charter.Values() {
		for _, l := range e.Lookups(scope) {
			r.unlistedIn(l, e.Line)
		}
	}
}

func (r *run) unlistedIn(l charter.Lookup, line int) {
	missing, people := map[string]int{}, 0
	for p := range r.People.Len() {
		if _, unread := r.People.Present(p); unread || !r.inScope[p] {
			continue
		}
		if key := l.Key(p, int(r.out.Pairing.PersonTwin[p])); key != "" && !r.Charter.InTable(l.Table, key) {
			missing[key]++
			people++
		}
	}
	if len(missing) == 0 {
		return
	}
	keys := slices.SortedFunc(maps.Keys(missing), func(a, b string) int {
		return cmp.Or(cmp.Compare(missing[b], missing[a]), strings.Compare(a, b))
	})
	var told []string
	for _, k := range keys[:min(len(keys), unlistedShown)] {
		told = append(told, fmt.Sprintf("%q (%d)", k, missing[k]))
	}
	more := ""
	if n := len(keys) - len(told); n > 0 {
		more = fmt.Sprintf(" and %d more", n)
	}
	r.out.Notes = append(r.out.Notes, fmt.Sprintf("%s (charter line %d): tables.%s has no entry for %s%s; it is blank for %d people", l.Source, line, l.Table, strings.Join(told, ", "), more, people))
}
