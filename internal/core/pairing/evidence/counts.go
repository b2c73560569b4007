package evidence

import (
	"slices"
	"sync/atomic"
)

// Counts says how many records of both rosters carry a value. Only values that
// were asked for beforehand are counted, so that the table stays small.
type Counts struct {
	at      map[uint64]int32
	carried []atomic.Int32 // any number of goroutines may count
	records int
}

// kinds of values keep a table of their own by a salt.
const (
	saltWord  = 0x9e3779b97f4a7c15
	saltFull  = 0xc2b2ae3d27d4eb4f
	saltLocal = 0x165667b19e3779f9
	saltPhone = 0x27d4eb2f165667c5
	saltCore  = 0x85ebca77c2b2ae63
)

// NewCounts asks how common the values of these faces are, over so many records.
func NewCounts(records int, asked ...[]*Face) *Counts {
	c := &Counts{at: map[uint64]int32{}, records: records}
	for _, faces := range asked {
		for _, f := range faces {
			f.eachValue(func(v uint64) {
				if _, known := c.at[v]; !known {
					c.at[v] = int32(len(c.at)) // values of rows fit
				}
			})
		}
	}
	c.carried = make([]atomic.Int32, len(c.at))
	return c
}

// eachValue visits the values whose commonness matters, each as a hash.
func (f *Face) eachValue(yield func(v uint64)) {
	f.name.eachWord(func(w *word) { yield(mix(w.key ^ saltWord)) })
	if f.name.full != 0 {
		yield(mix(f.name.full ^ saltFull))
	}
	for i := range f.locals {
		yield(mix(f.locals[i].key ^ saltLocal))
	}
	for i := range f.phones {
		yield(phoneValue(f.phones[i].digits))
	}
	for i := range f.numbers {
		yield(mix(hash(f.numbers[i].core) ^ saltCore))
	}
}

func phoneValue(digits string) uint64 {
	return mix(hash(digits[len(digits)-lineDigits:]) ^ saltPhone)
}

// Add counts row i of a roster.
func (c *Counts) Add(r *Reader, i int) {
	var seen [16]int32 // a value that a record carries twice is carried once
	n := 0
	r.eachValue(i, func(v uint64) {
		at, asked := c.at[v]
		if !asked || slices.Contains(seen[:n], at) {
			return
		}
		if n < len(seen) {
			seen[n] = at
			n++
		}
		c.carried[at].Add(1)
	})
}

// eachValue visits what Face's eachValue does, without making a face.
func (r *Reader) eachValue(i int, yield func(v uint64)) {
	n := r.name(i)
	n.eachWord(func(w *word) { yield(mix(w.key ^ saltWord)) })
	if n.full != 0 {
		yield(mix(n.full ^ saltFull))
	}
	r.eachLocal(i, func(_, bare string) {
		if len(bare) >= shortLocal {
			yield(mix(hash(bare) ^ saltLocal))
		}
	})
	r.eachPhone(i, func(digits string) { yield(phoneValue(digits)) })
	r.eachNumber(i, func(_, core, _ string) { yield(mix(hash(core) ^ saltCore)) })
}

// unseen is how many records more a list is taken for than it has: in a short
// one, a name that nobody else bears is not as common as it looks.
const unseen = 2000

// share of the records that carry the value, the two of a pair left out: what
// nobody else carries is carried by half a record more.
func (c *Counts) share(v uint64) float64 {
	others := max(float64(c.carried[c.at[v]].Load())-2, 0)
	return (others + 0.5) / float64(c.records+unseen)
}

// Fill tells the face how common its values are.
func (c *Counts) Fill(f *Face) {
	f.name.eachWord(func(w *word) { w.share = c.share(mix(w.key ^ saltWord)) })
	f.name.share = c.share(mix(f.name.full ^ saltFull))
	for i := range f.locals {
		f.locals[i].share = c.share(mix(f.locals[i].key ^ saltLocal))
	}
	for i := range f.phones {
		f.phones[i].share = c.share(phoneValue(f.phones[i].digits))
	}
	for i := range f.numbers {
		f.numbers[i].share = c.share(mix(hash(f.numbers[i].core) ^ saltCore))
	}
	i := 0
	f.patterns(func(_ string, share float64) {
		f.logins[i].share = share
		i++
	})
}
