package evidence

import (
	"cmp"
	"slices"
	"strings"
	"sync/atomic"
	"unicode/utf8"

	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/record"
)

// Counts says how many records of both rosters carry a value. Only values that
// were asked for beforehand are counted, so that the table stays small.
type Counts struct {
	at      map[uint64]valueNo
	hint    []uint64       // a bit for every value asked for, by a part of its hash: most that are met are not
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
	saltEmail = 0xff51afd7ed558ccd
	saltEnd   = 0xb492b66fbe98f273
)

const hintBits = 1 << 23 // a MiB

// NewCounts asks how common the values of these faces are, over so many records.
func NewCounts(records int, asked ...[]*Face) *Counts {
	c := &Counts{at: map[uint64]valueNo{}, hint: make([]uint64, hintBits/64), records: records}
	for _, faces := range asked {
		for _, f := range faces {
			f.eachValue(func(v uint64, _ bool) {
				if _, known := c.at[v]; !known {
					c.at[v] = valueNo(len(c.at)) // a face has some thirty values: enough for a hundred million left over
					c.hint[v%hintBits/64] |= 1 << (v % 64)
				}
			})
		}
	}
	c.carried = make([]atomic.Int32, len(c.at))
	return c
}

// eachValue visits the values whose commonness matters, each as a hash.
// Telling are those by which two records of one human may meet.
func (f *Face) eachValue(yield func(v uint64, telling bool)) {
	f.name.eachValue(yield)
	for i := range f.locals {
		yield(mix(f.locals[i].key^saltLocal), true)
	}
	for i := range f.emails {
		yield(f.emails[i].value(), false)
	}
	for i := range f.phones {
		eachLineValue(&f.phones[i].Line, yield)
	}
	for i := range f.numbers {
		yield(numberValue(f.numbers[i].Core), len(f.numbers[i].Core) >= likeness.ShortNumber)
	}
}

func (n *name) eachValue(yield func(v uint64, telling bool)) {
	n.eachWord(func(w *word) { yield(mix(w.key^saltWord), false) })
	if n.full != 0 {
		yield(mix(n.full^saltFull), len(n.given)+len(n.family)+len(n.other) > 1)
	}
}

// eachLineValue visits a telephone's number, where it has one, and its end.
func eachLineValue(l *likeness.Line, yield func(v uint64, telling bool)) {
	if l.Digits != "" {
		yield(lineValue(l), true)
	}
	yield(endValue(l), false)
}

func lineValue(l *likeness.Line) uint64 {
	return mix(mix(hash(l.Digits[len(l.Digits)-likeness.LineDigits:])^saltPhone) ^ hash(l.Extension))
}

// endDigits of a number are counted, to know how many end so.
const endDigits = 4

func endValue(l *likeness.Line) uint64 {
	end := l.End()
	return mix(hash(end[max(0, len(end)-endDigits):]) ^ saltEnd)
}

func numberValue(core string) uint64 { return mix(hash(core) ^ saltCore) }

// Meeting is a record that carries a telling value somebody asked about.
type Meeting struct {
	value valueNo
	Row   record.Row
}

// valueNo numbers the values that were asked for, from 0.
type valueNo int32

// Add counts row i of a roster, as one that stands for so many, and appends what
// telling values it meets.
func (c *Counts) Add(r *Reader, i int, standsFor int32, met []Meeting) []Meeting {
	x := carrier{of: c, standsFor: standsFor}
	r.eachValue(i, func(v uint64, telling bool) {
		if c.hint[v%hintBits/64]&(1<<(v%64)) == 0 {
			return
		}
		if at, first := x.carries(v); first && telling {
			met = append(met, Meeting{at, record.Row(i)})
		}
	})
	return met
}

// AddFace counts a record whose face is known.
func (c *Counts) AddFace(f *Face) {
	x := carrier{of: c, standsFor: 1}
	f.eachValue(func(v uint64, _ bool) { x.carries(v) })
}

// carrier is a record while it is counted: a value that it carries twice is
// carried once.
type carrier struct {
	of        *Counts
	standsFor int32
	seen      [16]valueNo
	n         int
}

func (x *carrier) carries(v uint64) (at valueNo, first bool) {
	at, asked := x.of.at[v]
	if !asked || slices.Contains(x.seen[:x.n], at) {
		return at, false
	}
	if x.n < len(x.seen) {
		x.seen[x.n] = at
		x.n++
	}
	x.of.carried[at].Add(x.standsFor)
	return at, true
}

// Meetings appends the telling values of row i, without counting it.
func (c *Counts) Meetings(r *Reader, i int, met []Meeting) []Meeting {
	r.eachValue(i, func(v uint64, telling bool) {
		if at, asked := c.at[v]; asked && telling {
			met = append(met, Meeting{at, record.Row(i)})
		}
	})
	return met
}

// eachValue visits what Face's eachValue does, without making a face.
func (r *Reader) eachValue(i int, yield func(v uint64, telling bool)) {
	n := r.name(i)
	n.eachValue(yield)
	local := func(cell string) {
		if key, n := localKey(cell); n >= shortLocal {
			yield(mix(key^saltLocal), true)
		}
	}
	if cell := r.login.Cell(i); cell != "" {
		local(cell)
	}
	for _, column := range r.addresses {
		record.EachValue(column.Cell(i), func(v string) {
			local(v)
			yield(emailValue(v), false)
		})
	}
	r.eachPhone(i, func(l likeness.Line) { eachLineValue(&l, yield) })
	for _, column := range r.numbers {
		record.EachValue(column.Cell(i), func(v string) {
			if key, n := coreKey(v); n >= 0 {
				yield(mix(key^saltCore), n >= likeness.ShortNumber)
			}
		})
	}
}

// emailValue hashes an address in its normalised form, without making that for
// the plain ones.
func emailValue(s string) uint64 {
	h := uint64(hashStart)
	for i := range len(s) {
		c := s[i]
		if c >= utf8.RuneSelf || c <= ' ' || c == '.' && i == len(s)-1 {
			return mix(hash(record.Normal(record.Email, s)) ^ saltEmail)
		}
		if c >= 'A' && c <= 'Z' {
			c += 'a' - 'A'
		}
		h = (h ^ uint64(c)) * hashPrime
	}
	return mix(mix(h) ^ saltEmail)
}

// localKey hashes what likeness.Local calls bare, without making it: n is its
// length in bytes.
func localKey(s string) (key uint64, n int) {
	h := uint64(hashStart)
	key = h
	length := 0
	for i := range len(s) {
		c := s[i]
		switch {
		case c >= utf8.RuneSelf:
			_, bare := likeness.Local(s)
			return hash(bare), len(bare)
		case c == '@' || c == '+':
			return mix(key), n
		case c == '.' || c == '_' || c == '-' || c == ' ' || c >= '\t' && c <= '\r':
			continue
		case c >= 'A' && c <= 'Z':
			c += 'a' - 'A'
		}
		h = (h ^ uint64(c)) * hashPrime
		length++
		if c < '0' || c > '9' {
			key, n = h, length
		}
	}
	return mix(key), n
}

// coreKey hashes the digits of a number as likeness.NumberCore takes them: n is
// how many there are, -1 where there is no number at all.
func coreKey(s string) (key uint64, n int) {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			text := record.Normal(record.Text, s)
			digits, _ := likeness.NumberCore(text)
			return hash(digits), len(digits)
		}
	}
	s = strings.TrimSpace(s)
	if s == "" {
		return 0, -1
	}
	s = strings.TrimSuffix(s, ".0")
	h := uint64(hashStart)
	for i := range len(s) {
		if c := s[i]; c >= '0' && c <= '9' && (c != '0' || n > 0) {
			h = (h ^ uint64(c)) * hashPrime
			n++
		}
	}
	return mix(h), n
}

// commonest is how many records may carry a value that brings two of them
// together: what more carry tells nobody from anybody.
const commonest = 20

// Encounter is a face and the row of a record that carries a telling value of it.
type Encounter struct {
	Face Place
	Row  record.Row
}

// Met lists who meets whom, in order and once.
func (c *Counts) Met(faces []*Face, meetings []Meeting) (pairs []Encounter) {
	carriers := map[valueNo][]Place{}
	for i, f := range faces {
		f.eachValue(func(v uint64, telling bool) {
			if at := c.at[v]; telling && c.carried[at].Load() <= commonest && !slices.Contains(carriers[at], Place(i)) {
				carriers[at] = append(carriers[at], Place(i))
			}
		})
	}
	for _, m := range meetings {
		for _, i := range carriers[m.value] {
			pairs = append(pairs, Encounter{i, m.Row})
		}
	}
	slices.SortFunc(pairs, func(a, b Encounter) int { return cmp.Or(cmp.Compare(a.Face, b.Face), cmp.Compare(a.Row, b.Row)) })
	return slices.Compact(pairs)
}

// unseen is how many records more a list is taken for than it has: in a short
// one, a name that nobody else bears is not as common as it looks.
const unseen = 100

// share of the records that carry the value, the two of a pair left out: what
// nobody else carries is carried by half a record more.
func (c *Counts) share(v uint64) float64 {
	others := 0.0
	if at, asked := c.at[v]; asked {
		others = max(float64(c.carried[at].Load())-2, 0)
	}
	return (others + 0.5) / float64(c.records+unseen)
}

// shortEnd is how often an extension of three digits is the end of a stranger's number.
const shortEnd = 0.001

// Fill tells the face how common its values are.
func (c *Counts) Fill(f *Face) {
	f.name.eachWord(func(w *word) { w.share = c.share(mix(w.key ^ saltWord)) })
	f.name.share = 0
	if at, asked := c.at[mix(f.name.full^saltFull)]; asked && c.carried[at].Load() > 2 { // else its words say how rare it is
		f.name.share = c.share(mix(f.name.full ^ saltFull))
	}
	for i := range f.locals {
		f.locals[i].share = c.share(mix(f.locals[i].key ^ saltLocal))
	}
	for i := range f.emails {
		f.emails[i].share = 0
		if at, asked := c.at[f.emails[i].value()]; asked {
			if others := c.carried[at].Load() - 2; others > 0 { // an address that nobody else carries is worth what the level is
				f.emails[i].share = float64(others) / float64(c.records)
			}
		}
	}
	for i := range f.phones {
		x := &f.phones[i]
		if x.ends = c.share(endValue(&x.Line)); len(x.End()) < endDigits {
			x.ends = max(x.ends, shortEnd)
		}
		if x.share = x.ends; x.Digits != "" {
			x.share = c.share(lineValue(&x.Line))
		}
	}
	for i := range f.numbers {
		f.numbers[i].share = c.share(numberValue(f.numbers[i].Core))
	}
	i := 0
	f.patterns(func(_ string, share float64, _ bool) {
		f.logins[i].share = share
		i++
	})
}
