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
	Spoken  string     // what its transliterations have in common
	Fulls   []string   // names that it may be short for
	born    bool       // people are given it as a name
	letters uint32     // which of a-z it holds
	foreign bool       // it holds letters other than a-z, and is counted by them
	lost    bool       // a question mark stands for letters of it
	sounds  [][]string // of letters that are not Latin, as Latin ones spell them
}

// NewWord prepares a word as Words gives it.
func NewWord(text string) Word {
	w := Word{
		Text: text, Spoken: Spoken(text), Fulls: calledBy[text], born: bornNames[text], letters: lettersOf(text), foreign: !record.IsASCII(text),
		lost: strings.IndexByte(text, lostLetter) >= 0,
	}
	if w.foreign {
		w.sounds = spellings(text)
	}
	return w
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
var words = [...]string{
	Missing: "not given", Differ: "different", Faint: "too many letters lost to tell", Begun: "begins alike", Part: "an initial that fits", Short: "a short form", Variant: "another way of writing it", Near: "but for a slip", Same: "the same",
}

// Compare gives the level at which two words of names agree.
func (w *Word) Compare(v *Word) Level {
	switch {
	case w.Text == v.Text:
		return Same
	case w.lost || v.lost:
		return lostLetters(w.Text, v.Text)
	case w.Transcribed() != v.Transcribed() && !(w.foreign && v.foreign):
		if w.Transcribed() {
			return transcribes(w.sounds, v.Text)
		}
		return transcribes(v.sounds, w.Text)
	case len(w.Text) >= 3 && len(v.Text) >= 3 && w.Spoken == v.Spoken && !w.foreign && !v.foreign:
		return Variant
	case (len(w.Fulls) > 0 || len(v.Fulls) > 0) && sameAtHome(w, v):
		return Short
	case (len(w.Text) == 1 || len(v.Text) == 1) && w.Text[0] == v.Text[0]:
		return Part
	case slip(w, v):
		return Near
	case begun(w, v):
		return Begun
	}
	return Differ
}

// lostLetter stands where an import could not write a letter.
const lostLetter = '?'

// lostLetters compares words of which at least one has lost some: what is left has to
// fit. A run of marks stands for one letter at least (an import may write one for each of
// its bytes), and for two at most for every mark.
func lostLetters(a, b string) Level {
	left := func(s string) int { return len(s) - strings.Count(s, string(lostLetter)) }
	if left(a) < left(b) || left(a) == left(b) && a < b {
		a, b = b, a
	}
	if strings.IndexByte(a, lostLetter) >= 0 || !fits(b, a) {
		return Differ // both have lost some: there is nothing to hold them against
	}
	if n := left(b); n < 3 && n < len(a)-1 || 2*n < len(a) {
		return Faint
	}
	return Variant
}

// fits reports whether a pattern with lost letters fits a word.
func fits(pattern, word string) bool {
	if len(pattern) > longestWord || len(word) > longestWord {
		return false
	}
	ends := uint64(1) // a bit for each place of the word that what is read of the pattern may end at
	for i := 0; i < len(pattern) && ends != 0; {
		run := i
		for run < len(pattern) && pattern[run] == lostLetter {
			run++
		}
		next := uint64(0)
		if run == i {
			for at := range len(word) {
				if ends&(1<<at) != 0 && word[at] == pattern[i] {
					next |= 1 << (at + 1)
				}
			}
			run++
		} else {
			for n := (run - i + 2) / 3; n <= 2*(run-i) && n <= len(word); n++ {
				next |= ends << n
			}
		}
		ends, i = next, run
	}
	return ends&(1<<len(word)) != 0
}

// Short forms that stand in no table begin as the name does (Ivica, Tomek); so do the
// names of brother and sister, for which reason nothing is joined for it.
func begun(w, v *Word) bool {
	a, b := w.Text, v.Text
	if len(a) > len(b) {
		a, b = b, a
	}
	same := 0
	for same < len(a) && a[same] == b[same] {
		same++
	}
	if w.foreign || v.foreign || len(a) < 3 || len(a) > longestWord || Gendered(a, b) || w.born && v.born {
		return false
	}
	return same >= 3 && same >= len(a)-3 || same == 2 && (diminutive(a) || diminutive(b))
}

// diminutive tells the endings that make a short form of a name.
func diminutive(s string) bool {
	for _, end := range []string{"ica", "ek", "ka", "ko", "us", "cek", "ie"} {
		if len(s) > len(end)+1 && strings.HasSuffix(s, end) {
			return true
		}
	}
	return false
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
	case w.born && v.born || Gendered(a, b):
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

// Lost reports whether the word has lost letters.
func (w *Word) Lost() bool { return w.lost }

// Gendered reports whether two words differ in the ending alone that tells a
// woman's name from a man's: Mario and Maria, Paul and Paula, Sorokin and
// Sorokina.
func Gendered(a, b string) bool {
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
