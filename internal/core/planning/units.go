package planning

import (
	"cmp"
	"slices"
	"strings"

	"twinning/internal/core/record"
)

// Changes that hand names to one another are one unit: they stand in one wave, and are
// chosen, held and halted together; where one of them can't be done, those that were done
// are taken back. In between a name may be nobody's; it is never two accounts'. What makes
// an account another class's is one unit too.
//
// Names that move in a circle leave no change that could come first. One account of the
// circle goes through a value in between, by a change of its own, which frees its names.

// TriedKey names a change with the name that it gives: what could not be done for one name may
// be for another.
func (c *Change) TriedKey() string {
	key := c.ID
	for _, e := range c.Edits {
		if e.names() {
			key += " " + e.New
		}
	}
	return key
}

// naming are the attributes that hold one name each, of which no two accounts may have the same.
var naming = []string{"userName", "email"}

// names: it gives the account a name, or several, or takes them away.
func (e *Edit) names() bool { return slices.Contains(naming, e.Attribute) || e.Attribute == "aliases" }

// NewNames are the names that it gives an account which did not have them so: a login, a
// primary address, aliases.
func (e *Edit) NewNames() (names []string) {
	if !e.names() || e.New == "" {
		return nil
	}
	if e.Attribute != "aliases" {
		return []string{e.New}
	}
	names, _ = Moved(record.Emails, e.Old, e.New)
	return names
}

// kept are the values of a list that stay in it.
func (e *Edit) kept() string {
	stays := map[string]bool{}
	record.EachValue(e.New, func(v string) { stays[record.Normal(record.Email, v)] = true })
	return record.JoinList(slices.DeleteFunc(record.SplitList(e.Old), func(v string) bool { return !stays[record.Normal(record.Email, v)] }))
}

// Unite makes units of the changes that need one another, or are said to be of one, and breaks
// their circles with values in between: between gives the one that stands in for a name of a
// change. What it adds is appended.
func Unite(changes []*Change, between func(c *Change, name string) string) []*Change {
	for _, part := range joined(linked(changes)) {
		slices.SortFunc(part, func(a, b *Change) int { return strings.Compare(a.ID, b.ID) })
		steps := breakCircles(part, between)
		wave := 0
		for _, c := range part {
			wave = max(wave, c.Wave)
		}
		for _, c := range slices.Concat(part, steps) {
			c.Unit, c.Wave = part[0].ID, wave
		}
		changes = append(changes, steps...)
	}
	return changes
}

// linked are the changes that need another, are needed, or are of a unit: few of all.
func linked(changes []*Change) (some []*Change) {
	needed := map[string]bool{}
	for _, c := range changes {
		for _, need := range c.Needs {
			needed[need] = true
		}
	}
	for _, c := range changes {
		if len(c.Needs) > 0 || c.Unit != "" || needed[c.ID] {
			some = append(some, c)
		}
	}
	return some
}

// joined groups the changes that need one another, or are of one unit, in the order of the list.
func joined(changes []*Change) (parts [][]*Change) {
	at := make(map[string]int, len(changes))
	for i, c := range changes {
		at[c.ID] = i
	}
	root := make([]int, len(changes))
	for i := range root {
		root[i] = i
	}
	find := func(i int) int {
		for root[i] != i {
			root[i] = root[root[i]]
			i = root[i]
		}
		return i
	}
	first := map[string]int{} // of each unit
	for i, c := range changes {
		if c.Unit != "" {
			if n, met := first[c.Unit]; met {
				root[find(i)] = find(n)
			} else {
				first[c.Unit] = i
			}
		}
		if !slices.ContainsFunc(c.Edits, func(e Edit) bool { return e.names() }) {
			continue // it needs the account that another makes, and no name of it
		}
		for _, need := range c.Needs {
			if j, planned := at[need]; planned {
				root[find(i)] = find(j)
			}
		}
	}
	place := map[int]int{}
	members := make([]int, len(changes))
	for i := range changes {
		members[find(i)]++
	}
	for i, c := range changes {
		r := find(i)
		if members[r] == 1 {
			continue
		}
		n, met := place[r]
		if !met {
			n, place[r] = len(parts), len(parts)
			parts = append(parts, nil)
		}
		parts[n] = append(parts[n], c)
	}
	return parts
}

// breakCircles adds what frees names that nobody else can free first.
func breakCircles(part []*Change, between func(c *Change, name string) string) (steps []*Change) {
	left := map[string]*Change{}
	for _, c := range part {
		left[c.ID] = c
	}
	waits := func(c *Change) bool {
		return slices.ContainsFunc(c.Needs, func(need string) bool { return left[need] != nil })
	}
	for len(left) > 0 {
		moved := false
		for _, c := range part {
			if left[c.ID] != nil && !waits(c) {
				delete(left, c.ID)
				moved = true
			}
		}
		if moved {
			continue
		}
		account := circling(part, left).Account
		for _, c := range part {
			if left[c.ID] == nil || c.Account != account {
				continue
			}
			step := c.step(between)
			if len(step.Edits) == 0 {
				continue // it gives nothing up
			}
			steps = append(steps, step)
			for _, other := range part { // what else is done of the account goes on waiting for all of it
				if i := slices.Index(other.Needs, c.ID); i >= 0 && other.Account != c.Account {
					other.Needs[i] = step.ID
				}
			}
			c.Needs = append(c.Needs, step.ID)
		}
	}
	return steps
}

// circling is a change of a circle: whoever follows what is needed comes back to it.
func circling(part []*Change, left map[string]*Change) *Change {
	i := slices.IndexFunc(part, func(c *Change) bool { return left[c.ID] != nil })
	seen := map[*Change]bool{}
	c := part[i]
	for !seen[c] {
		seen[c] = true
		n := slices.IndexFunc(c.Needs, func(need string) bool { return left[need] != nil })
		c = left[c.Needs[n]]
	}
	first := c
	for next := c; ; { // of the circle always the same one
		n := slices.IndexFunc(next.Needs, func(need string) bool { return left[need] != nil })
		if next = left[next.Needs[n]]; next == c {
			return first
		}
		if cmp.Less(next.ID, first.ID) {
			first = next
		}
	}
}

// step is the change by which the account's names move out of the way; the change itself
// goes on from there.
func (c *Change) step(between func(c *Change, name string) string) *Change {
	s := *c
	s.ID, s.Needs, s.Edits, s.Between = ChangeID(c.Verb+" between", c.Person, c.Account), nil, nil, true
	for i := range c.Edits {
		e := &c.Edits[i]
		if kept := e.kept(); e.Attribute == "aliases" && kept != e.Old {
			s.Edits = append(s.Edits, Edit{Attribute: e.Attribute, Old: e.Old, New: kept, Reason: "so that others can have them: they move in a circle"})
			e.Old = kept
			continue
		}
		if !slices.Contains(naming, e.Attribute) || e.Old == "" {
			continue
		}
		free := between(c, e.Old)
		s.Edits = append(s.Edits, Edit{Attribute: e.Attribute, Old: e.Old, New: free, Reason: "so that its name can pass on: they move in a circle"})
		e.Old = free
	}
	c.RestsOn = slices.DeleteFunc(slices.Clone(c.RestsOn), func(e Edit) bool {
		return slices.ContainsFunc(s.Edits, func(own Edit) bool { return own.Attribute == e.Attribute })
	})
	return &s
}
