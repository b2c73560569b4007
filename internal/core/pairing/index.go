package pairing

import (
	"hash/maphash"

	"twinning/internal/core/record"
)

// index holds the carriers of every value of one key. Equality is decided by
// the values themselves, the hash only finds them.
type index struct {
	slots   []int32 // entry number + 1, open addressing
	entries []entry
	carrier []carrier    // linked lists of further carriers
	edgeP   []record.Row // per person: the account it alone shares a value with, -1
	edgeA   []record.Row
	extra   []edge // pairs beyond the first of a person or account
}

type edge struct{ p, a record.Row }

type entry struct {
	hash           uint32
	person         record.Row // first carrier, -1
	account        record.Row
	morePeople     int32 // head of the list of further carriers, -1
	moreAccounts   int32
	value          string
	people, counts uint32 // number of carriers on either side
}

type carrier struct {
	row  record.Row
	next int32 // its place in the list of carriers, -1
}

var seed = maphash.MakeSeed()

func newIndex(key Key, people, accounts int, takesPart func(a int) bool) *index {
	size := 1
	for size < 2*(people+accounts) {
		size <<= 1
	}
	x := &index{slots: make([]int32, size), entries: make([]entry, 0, max(people, accounts))}
	for p := range people {
		record.EachValue(key.People.Cell(p), func(v string) { x.add(v, record.Row(p), true) })
	}
	for a := range accounts {
		if takesPart(a) {
			record.EachValue(key.Accounts.Cell(a), func(v string) { x.add(v, record.Row(a), false) })
		}
	}
	return x
}

func (x *index) slot(v string) (at int, hash uint32, found bool) {
	h := maphash.String(seed, v)
	mask := uint64(len(x.slots) - 1)
	hash = uint32(h >> 32) // half of the hash
	for i := h & mask; ; i = (i + 1) & mask {
		n := x.slots[i]
		if n == 0 {
			return int(i), hash, false // index of a slice
		}
		if e := &x.entries[n-1]; e.hash == hash && e.value == v {
			return int(i), hash, true // index of a slice
		}
	}
}

func (x *index) find(v string) *entry {
	if at, _, ok := x.slot(v); ok {
		return &x.entries[x.slots[at]-1]
	}
	return nil
}

func (x *index) add(v string, row record.Row, person bool) {
	at, hash, ok := x.slot(v)
	if !ok {
		if 2*len(x.entries) >= len(x.slots) {
			x.grow()
			at, hash, _ = x.slot(v)
		}
		x.entries = append(x.entries, entry{hash: hash, person: -1, account: -1, morePeople: -1, moreAccounts: -1, value: v})
		x.slots[at] = int32(len(x.entries)) // 4 GiB of text hold fewer values
	}
	e := &x.entries[x.slots[at]-1]
	first, more, count := &e.account, &e.moreAccounts, &e.counts
	if person {
		first, more, count = &e.person, &e.morePeople, &e.people
	}
	switch {
	case *first < 0:
		*first = row
	case *first == row || *more >= 0 && x.carrier[*more].row == row: // the same record carries it twice
		return
	default:
		x.carrier = append(x.carrier, carrier{row, *more})
		*more = int32(len(x.carrier) - 1)
	}
	*count++
}

func (x *index) grow() {
	x.slots = make([]int32, 2*len(x.slots))
	for i := range x.entries {
		at, _, _ := x.slot(x.entries[i].value)
		x.slots[at] = int32(i + 1)
	}
}

func (x *index) each(first record.Row, more int32, yield func(row int)) {
	if first >= 0 {
		yield(int(first))
	}
	for more >= 0 {
		yield(int(x.carrier[more].row))
		more = x.carrier[more].next
	}
}

func (x *index) eachPerson(e *entry, yield func(row int))  { x.each(e.person, e.morePeople, yield) }
func (x *index) eachAccount(e *entry, yield func(row int)) { x.each(e.account, e.moreAccounts, yield) }

// edges finds the pairs that the key makes by itself.
func (x *index) edges(people, accounts int, barred func(p, a int) bool) {
	x.edgeP, x.edgeA = filled(people), filled(accounts)
	for i := range x.entries {
		e := &x.entries[i]
		if e.people != 1 || e.counts != 1 || barred(int(e.person), int(e.account)) {
			continue
		}
		if p, a := e.person, e.account; x.edgeP[p] == a {
			continue // two values of one list agree
		} else if x.edgeP[p] < 0 && x.edgeA[a] < 0 {
			x.edgeP[p], x.edgeA[a] = a, p
		} else {
			x.extra = append(x.extra, edge{p, a})
		}
	}
}

func filled(n int) []record.Row {
	s := make([]record.Row, n)
	for i := range s {
		s[i] = -1
	}
	return s
}
