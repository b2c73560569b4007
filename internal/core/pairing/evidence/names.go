package evidence

import (
	"cmp"
	"slices"
	"strings"

	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/record"
)

// name is a record's name taken apart once.
type name struct {
	given, family []word // given holds the middle names too
	firsts        int    // how many of given are no middle names
	other         []word // the words of a name of which the parts are not known
	latin         bool
	sounded       bool // a word is in letters of which the sounds are known
	joinedGiven   string
	joinedFamily  string
	full          uint64  // hash of its words in any order
	share         float64 // of the records that carry the whole name
}

type word struct {
	*lexeme
	share float64 // of the records that carry it
}

// lexeme is a word taken apart once, for all records that carry it.
type lexeme struct {
	likeness.Word
	key        uint64   // hash of its text
	roots      []uint64 // hashes of how it is spoken, and of how the names are that it may be short for
	start, end uint64   // hashes of its first and last letters; 0 where there are not more than those
	plain      uint64   // hash of the letters that an import without accents keeps
	marked     bool     // it holds others, or has lost them
}

// newWord prepares one word of a name; written is the word as it stands in the cell.
func newWord(text, written string, forms Forms) word {
	w := &lexeme{Word: likeness.NewWord(text), key: hash(text)}
	w.Fulls = append(w.Fulls[:len(w.Fulls):len(w.Fulls)], forms[text]...)
	w.roots = append(w.roots, hash(w.Spoken))
	for _, full := range w.Fulls {
		w.roots = append(w.roots, hash(likeness.Spoken(full)))
	}
	if len(text) > blockLetters {
		w.start, w.end = hash(text[:blockLetters]), hash(text[len(text)-blockLetters:])
	}
	w.plain, w.marked = plainKey(written)
	return word{lexeme: w}
}

// plainKey hashes the plain letters of a word, and reports whether it has others.
// A word of which next to none are left has no key: 0.
func plainKey(written string) (key uint64, marked bool) {
	h, n := uint64(hashStart), 0
	for i := range len(written) {
		c := written[i]
		switch {
		case c >= 'A' && c <= 'Z':
			c += 'a' - 'A'
		case c >= 'a' && c <= 'z':
		default:
			marked = true
			continue
		}
		h = (h ^ uint64(c)) * hashPrime
		n++
	}
	if n < 2 {
		return 0, marked
	}
	return mix(h), marked
}

// name takes the name of row i apart. The words are shared with other records: whoever
// keeps them takes a copy.
func (r *Reader) name(i int) name {
	return inWords(r.names.given.at(i), r.names.middle.at(i), r.names.family.at(i), r.names.full.Cell(i), r.words)
}

// inWords is a name of the words of its parts. What the whole name says is looked at where
// the parts are not known.
func inWords(given, middle, family *cellWords, full string, words func(cell string) *cellWords) (x name) {
	if full != "" && (len(given.plain) == 0 || len(family.plain) == 0) {
		if before, after, comma := strings.Cut(full, ","); comma && len(family.plain) == 0 {
			given, family = words(after), words(before)
		} else if other := words(full); len(other.plain) > 0 {
			given, middle, family = noWords, noWords, noWords
			x.other, x.full, x.latin, x.sounded = other.plain, other.sum, other.latin, other.sounded
		}
	}
	x.joinedGiven, x.joinedFamily = given.joined, family.joined
	x.firsts = len(given.plain)
	x.given, x.family = given.plain, family.plain
	if len(middle.plain) > 0 {
		x.given = slices.Concat(given.plain, middle.plain)
	}
	x.full += given.sum + middle.sum + family.sum // a sum: the order of the words is nothing to go by
	x.latin = x.latin || given.latin || middle.latin || family.latin
	x.sounded = x.sounded || given.sounded || middle.sounded || family.sounded
	return x
}

// cellWords is a cell of a name taken apart.
type cellWords struct {
	plain  []word // without particles
	joined string // with them, in one
	sum    uint64 // of the words' hashes
	latin  bool   // a word is in Latin letters
	// a word is in other letters, of which the sounds are known
	sounded bool
}

var noWords = &cellWords{}

func newCellWords(cell string, forms Forms) *cellWords {
	all := likeness.Words(cell)
	w := &cellWords{joined: strings.Join(all, "")}
	var written map[string]string
	if !record.IsASCII(cell) || strings.IndexByte(cell, '?') >= 0 {
		written = map[string]string{}
		for _, part := range strings.FieldsFunc(likeness.Mended(cell), func(r rune) bool { return r == ' ' || r == '-' || r == ',' || r == '.' || r == '\'' }) {
			written[strings.Join(likeness.Words(part), "")] = part
		}
	}
	for _, text := range likeness.WithoutParticles(all) {
		as := text
		if s, known := written[text]; known {
			as = s
		}
		x := newWord(text, as, forms)
		w.plain = append(w.plain, x)
		w.sum += x.key
		w.latin, w.sounded = w.latin || text[0] < 0x80, w.sounded || x.Transcribed()
	}
	return w
}

// words takes a cell apart, or remembers how it did.
func (r *Reader) words(cell string) *cellWords {
	if cell == "" {
		return noWords
	}
	if w := r.memo[cell]; w != nil {
		return w
	}
	if len(r.memo) >= mostRemembered {
		clear(r.memo)
	}
	w := newCellWords(cell, r.names.forms)
	r.memo[cell] = w
	return w
}

// mostRemembered bounds the memo of one goroutine.
const mostRemembered = 1 << 17

func (n *name) empty() bool { return len(n.given)+len(n.family)+len(n.other) == 0 }

// perhaps are the words that may be given names, and those that may be surnames.
func (n *name) perhaps() (given, family []word) {
	if len(n.other) > 0 {
		return n.other, n.other
	}
	return n.given, n.family
}

// readable: the two are in letters that can be held against each other.
func (n *name) readable(m *name) bool { return n.latin == m.latin || n.sounded || m.sounded }

// eachWord visits all the words of the name.
func (n *name) eachWord(yield func(w *word)) {
	for _, list := range [][]word{n.given, n.family, n.other} {
		for i := range list {
			yield(&list[i])
		}
	}
}

// initialShare is how often two people share a first letter.
const initialShare = 0.07

// couple compares two words: the level, and how common what agrees is.
func couple(a, b *word) (Level, float64) {
	level := Level(a.Compare(&b.Word))
	switch level {
	case same:
		return level, a.share
	case part:
		return level, initialShare
	case differ:
		return level, 1
	}
	if level == short { // who is called so is mostly called so for the other name
		return level, min(a.share, b.share)
	}
	return level, a.share + b.share
}

// nameLevels is how two names agree, part by part.
type nameLevels struct {
	family, given, middle                Level
	familyShare, givenShare, middleShare float64
}

func (p *Pattern) names(a, b *name) {
	if a.empty() || b.empty() || !a.readable(b) {
		return
	}
	var l nameLevels
	switch {
	case len(a.other) == 0 && len(b.other) == 0:
		l = inParts(a, b)
	case len(a.other) == 0:
		l = inSome(a, b.other)
	case len(b.other) == 0:
		l = inSome(b, a.other)
	default: // the last word may be the family's, on either side
		l = inSome(guessed(a), b.other)
		if m := inSome(guessed(b), a.other); m.order(&l) > 0 {
			l = m
		}
	}
	if a.latin != b.latin && min(l.family, l.given) < part {
		return // written in Latin letters by a rule that we do not know: nothing speaks against it
	}
	p.Levels[Family], p.Levels[Given], p.Levels[Middle] = l.family, l.given, l.middle
	p.Share[Family], p.Share[Given], p.Share[Middle] = float32(l.familyShare), float32(l.givenShare), float32(l.middleShare)
}

// order tells which of two ways to read a pair of names agrees more; of equals, always the
// same, so that it does not matter which record comes first.
func (l *nameLevels) order(m *nameLevels) int {
	return cmp.Or(cmp.Compare(l.family+l.given, m.family+m.given), cmp.Compare(l.family, m.family), cmp.Compare(l.middle, m.middle),
		cmp.Compare(m.familyShare, l.familyShare), cmp.Compare(m.givenShare, l.givenShare), cmp.Compare(m.middleShare, l.middleShare))
}

// guessed takes the last word for the family's.
func guessed(n *name) *name {
	if len(n.other) == 1 {
		return &name{family: n.other, joinedFamily: n.other[0].Text}
	}
	cut := len(n.other) - 1
	return &name{given: n.other[:cut], firsts: 1, family: n.other[cut:], joinedGiven: joined(n.other[:cut]), joinedFamily: n.other[cut].Text}
}

// joined are words in one.
func joined(list []word) string {
	if len(list) == 1 {
		return list[0].Text
	}
	var b strings.Builder
	for i := range list {
		b.WriteString(list[i].Text)
	}
	return b.String()
}

// inParts compares two names whose parts are known.
func inParts(a, b *name) (l nameLevels) {
	l.family, l.familyShare = families(a.family, b.family)
	if l.family < same && a.joinedFamily == b.joinedFamily && a.joinedFamily != "" {
		l.family, l.familyShare = same, max(rarest(a.family), rarest(b.family)) // words cut elsewhere are rare in one of the two alone
	}
	l.given, l.givenShare, l.middle, l.middleShare = givens(a, b)
	if a.joinedGiven == b.joinedGiven && a.joinedGiven != "" && (l.given < same || a.firsts > 1 && b.firsts > 1) {
		// several words that are one name go together: the rarest says how common it is
		l.given, l.givenShare = same, max(rarest(a.given[:a.firsts]), rarest(b.given[:b.firsts]))
		l.middle, l.middleShare = middles(a.given[a.firsts:], b.given[b.firsts:])
	}
	whole := len(a.given) > 0 && len(a.family) > 0 && len(b.given) > 0 && len(b.family) > 0
	if whole && (l.family < part || l.given < part) && (crossed(a.given, b.family) || crossed(a.family, b.given)) {
		l.anyOrder(a, b)
	}
	return l
}

// crossed: a word of one part stands in the other part of the other name.
func crossed(a, b []word) bool {
	for i := range a {
		for j := range b {
			if x, y := &a[i], &b[j]; x.key == y.key || x.roots[0] == y.roots[0] || x.marked && y.marked && x.plain != 0 && x.plain == y.plain {
				return true
			}
		}
	}
	return false
}

// anyOrder compares names of which the parts stand in each other's columns, or are cut
// elsewhere: every word of the shorter has to be found in the longer, so that a given
// name that two share is none.
func (l *nameLevels) anyOrder(a, b *name) {
	x, xShare := families(a.given[:max(a.firsts, 1)], b.family)
	y, yShare := families(a.family, b.given[:max(b.firsts, 1)])
	if min(x, y) >= part && max(x, y) > part { // given and family name are swapped
		// which of the couples is the surname's is not known: what agrees less, or is rarer,
		// counts for it, whichever record comes first
		if x > y || x == y && xShare > yShare {
			x, xShare, y, yShare = y, yShare, x, xShare
		}
		l.family, l.familyShare, l.given, l.givenShare = min(x, variant), xShare, min(y, variant), yShare
		return
	}
	var room [2][2 * mostTogether]word
	s, t := append(append(room[0][:0], a.given...), a.family...), append(append(room[1][:0], b.given...), b.family...)
	if len(s) > len(t) || len(s) == len(t) && s[0].key > t[0].key {
		s, t = t, s
	}
	if len(s) < 2 || len(t) > mostTogether {
		return
	}
	matched, worst, share, _ := match(s, t)
	if matched < len(s) || worst < short {
		return
	}
	l.family, l.given, l.middle = part, part, missing
	l.familyShare = min(rarest(s), share)
	l.givenShare, l.middleShare = min(share/l.familyShare, 1), 0
}

// mostTogether are the words that are held against each other without knowing their parts.
const mostTogether = 8

// rarest is how common the rarest of some words is.
func rarest(list []word) float64 {
	share := 1.0
	for i := range list {
		share = min(share, list[i].share)
	}
	return share
}

// families compares two lists of surnames: all of the shorter list must be
// found in the longer one, else the names contradict each other.
func families(a, b []word) (Level, float64) {
	if len(a) == 0 || len(b) == 0 {
		return missing, 0
	}
	if len(a) == 1 && len(b) == 1 {
		return couple(&a[0], &b[0])
	}
	if len(a) > len(b) {
		a, b = b, a
	}
	matched, worst, share, _ := match(a, b)
	switch {
	case matched == 0:
		return differ, 1
	case matched < len(a):
		return faint, share
	case len(a) < len(b):
		return min(worst, part), share
	}
	return worst, share
}

// match couples the words of two lists, the best couples first. It says how
// many were coupled, the worst level of those, how common they are together,
// and which of b were taken (by bit).
func match(a, b []word) (matched int, worst Level, share float64, taken uint32) {
	worst, share = same, 1
	var used uint32
	for range min(len(a), len(b)) {
		best, at, bt, bs := differ, -1, -1, 1.0
		for i := range a {
			if used&(1<<i) != 0 {
				continue
			}
			for j := range b {
				if taken&(1<<j) != 0 {
					continue
				}
				// ties go to the rarer couple, so that neither side leads
				if l, s := couple(&a[i], &b[j]); l > best || l == best && l > differ && s < bs {
					best, at, bt, bs = l, i, j, s
				}
			}
		}
		if at < 0 {
			break
		}
		used, taken = used|1<<at, taken|1<<bt
		matched++
		worst, share = min(worst, best), share*bs
	}
	return matched, worst, share, taken
}

// givens compares given names with their middle names. The first name of
// either must be found on the other side; what is left on both sides is a
// middle name against another.
func givens(a, b *name) (level Level, share float64, middle Level, middleShare float64) {
	if len(a.given) == 0 || len(b.given) == 0 {
		return missing, 0, missing, 0
	}
	if len(a.given) == 1 && len(b.given) == 1 {
		level, share = couple(&a.given[0], &b.given[0])
		return level, share, missing, 0
	}
	level, share = differ, 1.0
	at, bt := -1, -1
	try := func(i, j int, atMost Level) {
		l, s := couple(&a.given[i], &b.given[j])
		if l = min(l, atMost); l > level || l == level && l > differ && s < share {
			level, share, at, bt = l, s, i, j
		}
	}
	try(0, 0, same)
	if level <= differ {
		for j := 1; j < len(b.given); j++ {
			try(0, j, variant)
		}
		for i := 1; i < len(a.given); i++ {
			try(i, 0, variant)
		}
	}
	if at < 0 {
		return differ, 1, missing, 0
	}
	middle, middleShare = middles(without(a.given, at), without(b.given, bt))
	return level, share, middle, middleShare
}

func middles(a, b []word) (Level, float64) {
	if len(a) == 0 || len(b) == 0 {
		return missing, 0
	}
	matched, worst, share, _ := match(a, b)
	if matched == 0 {
		return differ, 1
	}
	return worst, share
}

func without(list []word, at int) []word {
	rest := make([]word, 0, len(list)-1)
	return append(append(rest, list[:at]...), list[at+1:]...)
}

// inSome compares a name in parts with words of which nobody knows the parts.
func inSome(a *name, words []word) (l nameLevels) {
	var taken uint32
	fm, fl, fs, ft := match(a.family, words)
	taken = ft
	rest := make([]word, 0, len(words))
	for j := range words {
		if taken&(1<<j) == 0 {
			rest = append(rest, words[j])
		}
	}
	gm, gl, gs, gt := match(a.given[:a.firsts], rest)
	left := 0
	var loose []word
	for j := range rest {
		if gt&(1<<j) == 0 {
			left++
			loose = append(loose, rest[j])
		}
	}
	conclude := func(known, matched int, worst Level, share float64) (Level, float64) {
		switch {
		case known == 0:
			return missing, 0
		case matched == known:
			return worst, share
		case matched > 0:
			return min(worst, part), share
		case left > 0:
			return differ, 1
		}
		return missing, 0
	}
	l.family, l.familyShare = conclude(len(a.family), fm, fl, fs)
	l.given, l.givenShare = conclude(a.firsts, gm, gl, gs)
	if l.given > differ && l.family > differ && len(loose) > 0 && len(a.given) > a.firsts {
		matched, worst, share, _ := match(a.given[a.firsts:], loose)
		l.middle, l.middleShare = worst, share
		if matched == 0 {
			l.middle, l.middleShare = differ, 1
		}
	}
	return l
}
