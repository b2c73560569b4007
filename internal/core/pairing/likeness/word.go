package likeness

import (
	"math/bits"
	"slices"
	"strings"
	"unicode"

	"twinning/internal/core/record"
)

// A name has at most so many words, and a word that may be mistyped so many
// letters: what is longer is no name, and must not cost as if it were.
const (
	mostWords   = 12
	longestWord = 40
)

// Word is one word of a name, folded, with all that comparing it needs.
type Word struct {
	Text    string
	Spoken  string   // what its transliterations have in common
	Fulls   []string // names that it may be short for
	born    bool     // people are given it as a name
	letters uint32   // which of a-z it holds
	foreign bool     // it holds letters other than a-z, and is counted by them
}

// NewWord prepares a word as Words gives it.
func NewWord(text string) Word {
	return Word{Text: text, Spoken: spoken(text), Fulls: calledBy[text], born: bornNames[text], letters: lettersOf(text), foreign: !record.IsASCII(text)}
}

// lettersOf tells which of a-z a word holds, as bits.
func lettersOf(text string) (set uint32) {
	for i := range len(text) {
		if c := text[i] - 'a'; c < 26 {
			set |= 1 << c
		}
	}
	return set
}

// words says in what way two words agree, by level.
var words = [...]string{Differ: "different", Part: "an initial that fits", Near: "but for a slip", Same: "the same"}

// word compares two words of a name.
func word(a, b string) Verdict {
	x, y := NewWord(a), NewWord(b)
	level := x.Compare(&y)
	if level == Variant {
		if sameAtHome(&x, &y) {
			return Verdict{Variant, "a short form"}
		}
		return Verdict{Variant, "another way of writing it"}
	}
	return Verdict{level, words[level]}
}

// Compare gives the level at which two words of names agree.
func (w *Word) Compare(v *Word) Level {
	switch {
	case w.Text == v.Text:
		return Same
	case (len(w.Fulls) > 0 || len(v.Fulls) > 0) && sameAtHome(w, v):
		return Variant
	case len(w.Text) >= 3 && len(v.Text) >= 3 && w.Spoken == v.Spoken && !w.foreign && !v.foreign:
		return Variant
	case (len(w.Text) == 1 || len(v.Text) == 1) && w.Text[0] == v.Text[0]:
		return Part
	case slip(w, v):
		return Near
	}
	return Differ
}

// sameAtHome reports whether one word is what people of the other name are
// called, or both are what people of a third are.
func sameAtHome(w, v *Word) bool {
	for _, full := range w.Fulls {
		if full == v.Text || slices.Contains(v.Fulls, full) {
			return true
		}
	}
	return slices.Contains(v.Fulls, w.Text)
}

// slip reports whether two words are one but for a slip of the hand: one letter
// more, less or another, or two neighbours swapped; two of them in long words.
func slip(w, v *Word) bool {
	if w.foreign || v.foreign {
		return foreignSlip(w.Text, v.Text)
	}
	a, b := w.Text, v.Text
	shorter, longer := min(len(a), len(b)), max(len(a), len(b))
	allowed := 1
	if shorter >= 9 {
		allowed = 2
	}
	switch {
	case shorter < 4 || shorter > longestWord || longer-shorter > allowed || a[0] != b[0] && a[len(a)-1] != b[len(b)-1]:
		return false // too short to tell, or another word
	case bits.OnesCount32(w.letters^v.letters) > 2*allowed:
		return false // a slip changes one letter into another at most
	case w.born && v.born || gendered(a, b):
		return false // two names, and two humans
	}
	return distance([]byte(a), []byte(b), allowed) <= allowed
}

// shortForeign: where every letter is a consonant, names that differ in one
// of five or less are mostly two names.
const shortForeign = 6

// foreignSlip is slip for words that folding leaves in a script of their own.
// One sign of Han, Hangul or Kana is a syllable or a word: another sign is
// another name, never a slip.
func foreignSlip(a, b string) bool {
	x, y := []rune(a), []rune(b)
	if min(len(x), len(y)) < shortForeign || max(len(x), len(y)) > longestWord {
		return false
	}
	for _, r := range append(slices.Clone(x), y...) {
		if unicode.In(r, unicode.Han, unicode.Hangul, unicode.Hiragana, unicode.Katakana) {
			return false
		}
	}
	return distance(x, y, 1) <= 1
}

// gendered reports whether two words differ in the ending alone that tells a
// woman's name from a man's: Mario and Maria, Paul and Paula, Sorokin and
// Sorokina.
func gendered(a, b string) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	const endings = "aeiou"
	last := func(s string) bool { return strings.IndexByte(endings, s[len(s)-1]) >= 0 }
	switch len(b) - len(a) {
	case 0:
		return a[:len(a)-1] == b[:len(b)-1] && last(a) && last(b)
	case 1:
		return b[:len(a)] == a && last(b)
	}
	return false
}

// distance is the Damerau–Levenshtein distance with adjacent transpositions
// (optimal string alignment), or more than most.
func distance[T byte | rune](a, b []T, most int) int {
	if abs(len(a)-len(b)) > most {
		return most + 1
	}
	var rows [3][longestWord + 3]int // on the stack: most words are short
	before, last, now := rows[0][:], rows[1][:], rows[2][:]
	if len(b) > longestWord+2 {
		before, last, now = make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	}
	for j := range len(b) + 1 {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		now[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			now[j] = min(last[j]+1, now[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				now[j] = min(now[j], before[j-2]+1)
			}
		}
		before, last, now = last, now, before
	}
	return last[len(b)]
}

func abs(n int) int { return max(n, -n) }
