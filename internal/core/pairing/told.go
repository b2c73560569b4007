package pairing

import (
	"cmp"
	"slices"

	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/record"
)

// Told is what explains the verdicts beside the two records of each, so that nobody has to
// read whole lists again to ask why.
type Told struct {
	Compared []Compared // pairs that evidence compared, the likeliest of each record
	Carriers []Carrier  // of the values of keys that lead to more than a pair of twins
	Words    map[uint64]int32
}

// Compared is a pair of rows with what comparing it found.
type Compared struct {
	Person, Account record.Row
	Pattern         evidence.Pattern
}

// Carrier is a row that carries a key's value.
type Carrier struct {
	Key    int
	Value  string
	Person bool // the row is a person's, else an account's
	Row    record.Row
}

// Sizes of what is told.
const (
	comparedEach = 4 // pairs of a record
	carriersEach = 6 // records of a side that carry one value
)

// tell collects what the rosters would have to be read again for.
func (m *matcher) tell() {
	m.Told = &Told{Compared: m.compared, Words: evidence.CommonWords(m.plain[0], m.plain[1])}
	for k, x := range m.indexes {
		for i := range x.entries {
			e := &x.entries[i]
			if e.people+e.counts < 2 || e.people == 1 && e.counts == 1 && m.PersonTwin[e.person] == e.account {
				continue
			}
			m.carriers(k, e, true, x.eachPerson)
			m.carriers(k, e, false, x.eachAccount)
		}
	}
}

func (m *matcher) carriers(key int, e *entry, people bool, each func(e *entry, yield func(row int))) {
	var rows []int
	each(e, func(row int) { rows = append(rows, row) }) // all: the first few by id are told, in whatever order they came
	m.byID(map[bool]*record.Roster{true: m.in.People, false: m.in.Accounts}[people], rows)
	for _, row := range rows[:min(len(rows), carriersEach)] {
		m.Told.Carriers = append(m.Told.Carriers, Carrier{key, e.value, people, record.Row(row)})
	}
}

// likeliest keeps the best pairs of each record, for whoever asks why.
func (w *weigher) likeliest() []Compared {
	kept := make([]bool, len(w.pairs))
	order := make([]int32, len(w.pairs))
	for i := range order {
		order[i] = int32(i) // pairs are fewer than records of both sides times breadth
	}
	slices.SortFunc(order, func(a, b int32) int {
		return cmp.Or(cmp.Compare(w.pairs[b].bits, w.pairs[a].bits), cmp.Compare(a, b))
	})
	var times [2][]uint8
	times[0], times[1] = make([]uint8, len(w.people)), make([]uint8, len(w.accounts))
	for _, i := range order {
		x := &w.pairs[i]
		p, a := &times[0][x.Person], &times[1][x.Account]
		kept[i] = *p < comparedEach || *a < comparedEach
		*p, *a = min(*p+1, comparedEach), min(*a+1, comparedEach)
	}
	var list []Compared
	for i, k := range kept {
		if x := &w.pairs[i]; k {
			list = append(list, Compared{w.people[x.Person], w.accounts[x.Account], x.pattern})
		}
	}
	return list
}
