package evidence

import (
	"cmp"
	"math"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/record"
)

// Counts says how many records of both rosters carry a value. Only values that
// were asked for beforehand are counted, so that the table stays small.
type Counts struct {
	at      table
	carried []int32
	merging sync.Mutex
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

// NewCounts asks how common the values of these faces are, over so many records.
func NewCounts(records int, asked ...[]*Face) *Counts {
	faces := 0
	for _, list := range asked {
		faces += len(list)
	}
	c := &Counts{at: newTable(valuesOfFace * faces), records: records}
	for _, list := range asked {
		for _, f := range list {
			f.eachValue(func(v uint64, _ bool) { c.at.add(v) })
		}
	}
	c.carried = make([]int32, c.at.n)
	return c
}

// valuesOfFace is about how many values a face has that no other has.
const valuesOfFace = 8

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

// Tally counts records of one roster, for one goroutine.
type Tally struct {
	of        *Counts
	reader    *Reader
	standsFor int32
	carried   []int32
	names     *AskedNames
	seen      [16]valueNo // of the record at hand: what it carries twice is carried once
	n         int
	telling   Telling
	room      room[valueNo]
}

// askedWords are the values that were asked for among the words of each distinct cell.
type askedWords struct {
	ends []int32
	list []valueNo
}

func (w *askedWords) of(code int32) []valueNo {
	start := int32(0)
	if code > 0 {
		start = w.ends[code-1]
	}
	return w.list[start:w.ends[code]]
}

// Asked finds what was asked for among the names of these records, for all who tally them.
func (c *Counts) Asked(r *Records) *AskedNames {
	x := &AskedNames{of: r, columns: r.names.columns()}
	for i, column := range x.columns {
		w := &askedWords{ends: make([]int32, 0, len(column.cells))}
		for _, cell := range column.cells {
			for k := range cell.plain {
				if at, asked := c.at.find(mix(cell.plain[k].key ^ saltWord)); asked {
					w.list = append(w.list, at)
				}
			}
			w.ends = append(w.ends, int32(len(w.list))) // a cell has few words
		}
		x.words[i] = w
	}
	return x
}

// AskedNames are the names of a roster's records in what is asked of them.
type AskedNames struct {
	of      *Records
	columns [3]*coded
	words   [3]*askedWords
}

// Tally begins to count records, each as one that stands for so many.
func (c *Counts) Tally(names *AskedNames, standsFor int32) *Tally {
	return &Tally{of: c, reader: names.of.Reader(), standsFor: standsFor, carried: make([]int32, len(c.carried)), names: names}
}

// Done adds what was counted to the whole.
func (t *Tally) Done() {
	t.of.merging.Lock()
	defer t.of.merging.Unlock()
	for i, n := range t.carried {
		t.of.carried[i] += n
	}
}

// Add counts row i, and appends what telling values it meets.
func (t *Tally) Add(i int, met []Meeting) []Meeting {
	t.n = 0
	if t.reader.names.parted(i) {
		sum, words := uint64(0), 0
		for k, column := range t.names.columns {
			if column.codes == nil {
				continue
			}
			code := column.codes[i]
			for _, at := range t.names.words[k].of(code) {
				t.carries(at)
			}
			cell := column.cells[code]
			sum, words = sum+cell.sum, words+len(cell.plain)
		}
		if sum != 0 {
			met = t.value(mix(sum^saltFull), words > 1, i, met)
		}
	} else {
		n := t.reader.name(i)
		n.eachValue(func(v uint64, telling bool) { met = t.value(v, telling, i, met) })
	}
	t.reader.eachOther(i, func(v uint64, telling bool) { met = t.value(v, telling, i, met) })
	return met
}

func (t *Tally) value(v uint64, telling bool, i int, met []Meeting) []Meeting {
	if at, asked := t.of.at.find(v); asked && t.carries(at) && telling {
		met = append(met, Meeting{at, record.Row(i)})
	}
	return met
}

// carries reports whether the record was not known to carry the value.
func (t *Tally) carries(at valueNo) (first bool) {
	if slices.Contains(t.seen[:t.n], at) {
		return false
	}
	if t.n < len(t.seen) {
		t.seen[t.n] = at
		t.n++
	}
	t.carried[at] += t.standsFor
	return true
}

// Telling are the values of a record by which it may meet others.
type Telling []valueNo

// AddFace counts a record whose face is known.
func (t *Tally) AddFace(f *Face) Telling {
	t.n = 0
	t.telling = t.telling[:0]
	f.eachValue(func(v uint64, telling bool) {
		if at, asked := t.of.at.find(v); asked && t.carries(at) && telling {
			t.telling = append(t.telling, at)
		}
	})
	return t.room.keep(t.telling)
}

// Meetings appends what the record at a row meets, itself among others.
func (t Telling) Meetings(row record.Row, met []Meeting) []Meeting {
	for _, v := range t {
		met = append(met, Meeting{v, row})
	}
	return met
}

// eachOther visits what Face's eachValue does beside the name, without making a face.
func (r *Reader) eachOther(i int, yield func(v uint64, telling bool)) {
	local := func(cell string) {
		if l, n := newLocal(cell); n >= shortLocal {
			yield(mix(l.key^saltLocal), true)
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

func emailValue(s string) uint64 { return mix(emailKey(s) ^ saltEmail) }

func newAddress(s string) address {
	l, _ := newLocal(s)
	return address{key: emailKey(s), text: l.text, letters: l.key, domain: emailKey(s[strings.LastIndexByte(s, '@')+1:])}
}

// emailKey hashes an address in its normalised form, without making that for
// the plain ones.
func emailKey(s string) uint64 {
	h := uint64(hashStart)
	for i := range len(s) {
		c := s[i]
		if c >= utf8.RuneSelf || c <= ' ' || c == '.' && i == len(s)-1 {
			return hash(record.Normal(record.Email, s))
		}
		if c >= 'A' && c <= 'Z' {
			c += 'a' - 'A'
		}
		h = (h ^ uint64(c)) * hashPrime
	}
	return mix(h)
}

// newLocal hashes what likeness.Local makes of a login or an address, without making it: n
// is the length in bytes of what it calls bare.
func newLocal(s string) (l local, n int) {
	h := uint64(hashStart)
	key := h
	length := 0
	for i := range len(s) {
		c := s[i]
		switch {
		case c >= utf8.RuneSelf:
			text, bare := likeness.Local(s)
			return local{text: hash(text), key: hash(bare), digits: uint8(min(len(text)-len(bare), math.MaxUint8))}, len(bare)
		case c == '@' || c == '+':
			return local{text: mix(h), key: mix(key), digits: uint8(min(length-n, math.MaxUint8))}, n
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
	return local{text: mix(h), key: mix(key), digits: uint8(min(length-n, math.MaxUint8))}, n
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

// Met lists who of these faces meets whom, in order and once.
func (c *Counts) Met(faces []Telling, meetings []Meeting) (pairs []Encounter) {
	wanted := make([]bool, len(c.carried))
	for _, m := range meetings {
		wanted[m.value] = c.carried[m.value] <= commonest
	}
	type carrier struct {
		value valueNo
		face  Place
	}
	var carriers []carrier
	for i, telling := range faces {
		for _, at := range telling {
			if wanted[at] {
				carriers = append(carriers, carrier{at, Place(i)})
			}
		}
	}
	first := make([]int32, len(c.carried)+1) // of the carriers of each value
	for _, x := range carriers {
		first[x.value+1]++
	}
	for i := range c.carried {
		first[i+1] += first[i]
	}
	sorted, next := make([]Place, len(carriers)), slices.Clone(first)
	for _, x := range carriers {
		sorted[next[x.value]] = x.face
		next[x.value]++
	}
	for _, m := range meetings {
		for _, i := range sorted[first[m.value]:first[m.value+1]] {
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
	if at, asked := c.at.find(v); asked {
		others = max(float64(c.carried[at])-2, 0)
	}
	return (others + 0.5) / float64(c.records+unseen)
}

// shortEnd is how often an extension of three digits is the end of a stranger's number.
const shortEnd = 0.001

// Fill tells the face how common its values are.
func (c *Counts) Fill(f *Face) {
	f.name.eachWord(func(w *word) { w.share = c.share(mix(w.key ^ saltWord)) })
	f.name.share = 0
	if at, asked := c.at.find(mix(f.name.full ^ saltFull)); asked && c.carried[at] > 2 { // else its words say how rare it is
		f.name.share = c.share(mix(f.name.full ^ saltFull))
	}
	for i := range f.locals {
		f.locals[i].share = c.share(mix(f.locals[i].key ^ saltLocal))
	}
	for i := range f.emails {
		f.emails[i].share = 0
		if at, asked := c.at.find(f.emails[i].value()); asked {
			if others := c.carried[at] - 2; others > 0 { // an address that nobody else carries is worth what the level is
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
	f.patterns(func(_ uint64, share float64, _ bool) {
		f.logins[i].share = share
		i++
	})
}
