package record

import (
	"cmp"
	"slices"
	"strings"
)

// Statistics of one attribute over a roster.
type Statistics struct {
	Attribute string       `json:"attribute"`
	Native    string       `json:"native,omitempty"`
	Filled    int          `json:"filled"`   // records that carry it
	Distinct  int          `json:"distinct"` // different values, as they are compared
	Shared    int          `json:"shared"`   // values that are met more than once, each time counted
	Changed   int          `json:"changed"`  // records in which it changed since the roster before
	Top       []ValueCount `json:"top"`      // the most frequent, most frequent first
}

// ValueCount is how often a value is met.
type ValueCount struct {
	Value string `json:"value"`
	Count int    `json:"count"`
}

// topShown of each attribute.
const topShown = 5

// Describe counts every attribute of the roster, in the order of its names.
func (r *Roster) Describe() []Statistics {
	list := make([]Statistics, 0, len(r.names))
	for _, name := range r.names {
		list = append(list, r.describe(name))
	}
	return list
}

func (r *Roster) describe(name string) Statistics {
	s := Statistics{Attribute: name, Top: []ValueCount{}}
	kind, column := KindOf(name), r.columns[name]
	type met struct {
		row   Row // where it is met first
		count uint32
	}
	values := map[string]met{} // by normal form
	var buf []byte
	count := func(i int, value string) {
		buf = AppendNormal(buf[:0], kind, value)
		m, again := values[string(buf)]
		if !again {
			m.row = Row(i)
		}
		m.count++
		values[string(buf)] = m
	}
	for i := range r.n {
		switch cell := column.Cell(i); {
		case cell == "":
			continue
		case kind.Multi():
			for _, v := range SplitList(cell) {
				count(i, v)
			}
		default:
			count(i, cell)
		}
		s.Filled++
	}
	s.Distinct = len(values)
	var top []met
	for _, m := range values {
		if m.count < 2 {
			continue
		}
		s.Shared += int(m.count)
		top = append(top, m)
	}
	slices.SortFunc(top, func(a, b met) int {
		return cmp.Or(int(b.count)-int(a.count), strings.Compare(column.Cell(int(a.row)), column.Cell(int(b.row))))
	})
	for _, m := range top[:min(len(top), topShown)] {
		s.Top = append(s.Top, ValueCount{PlainList(column.Cell(int(m.row))), int(m.count)})
	}
	return s
}
