package likeness

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"twinning/internal/core/record"
)

// particles join names and are left out, or written, as it pleases a form.
var particles = set(`de del della di da das do dos du des d la las le les lo los l el al ul van von der den dem ten ter te zu zur zum af av
und e y i et the bin ibn ben bint abu abd ap mac mc o san santa st`)

// besides stand around names and are none.
var besides = set(`dr prof professor mr mrs ms miss mx sir dame herr frau dipl ing mag ba bsc msc ma mba phd md jr sr ii iii iv esq`)

func set(words string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(words) {
		m[w] = true
	}
	return m
}

// Words takes a name apart: mended, folded to plain Latin letters where it can
// be, without titles. Particles are kept apart from what they lead.
func Words(name string) (words []string) {
	name = strings.ReplaceAll(Mended(name), "\ufffd", string(lostLetter))
	// "Soto, Ana" is Ana Soto; the order is nothing to go by, the comma is no letter
	for _, w := range strings.FieldsFunc(record.Fold(name), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.Is(unicode.Mn, r) && r != lostLetter
	}) {
		if !besides[w] && strings.Trim(w, string(lostLetter)) != "" {
			words = append(words, w)
		}
		if len(words) == mostWords {
			break
		}
	}
	return words
}

// WithoutParticles drops what only joins, unless nothing else is left.
func WithoutParticles(words []string) []string {
	kept := slices.DeleteFunc(slices.Clone(words), func(w string) bool { return particles[w] })
	if len(kept) == 0 {
		return words
	}
	return kept
}

// Mended undoes UTF-8 that was read as Windows-1252 ("JosÃ©"), once or twice.
// A text that is no such accident stays as it is.
func Mended(s string) string {
	for range 2 {
		if !strings.ContainsAny(s, "ÃÂÅÄÐÑâ") {
			return s
		}
		raw, err := charmap.Windows1252.NewEncoder().String(s)
		if err != nil || !utf8.ValidString(raw) || raw == s {
			return s
		}
		s = raw
	}
	return s
}

// respelt lists letters that stand for one sound, longer ones first.
var respelt = func() (rules []respelling) {
	for _, r := range [][2]string{
		{"shch", "s"}, {"sch", "s"}, {"tch", "c"}, {"tsch", "c"}, {"sh", "s"}, {"zh", "j"}, {"kh", "h"}, {"ch", "c"}, {"ph", "f"}, {"th", "t"}, {"gu", "g"}, {"qu", "k"},
		{"ts", "c"}, {"tz", "c"}, {"cz", "c"}, {"sz", "s"}, {"ck", "k"}, {"ks", "x"}, {"ou", "u"}, {"oe", "o"}, {"ue", "u"}, {"ae", "a"}, {"aa", "a"}, {"ee", "i"},
		{"oo", "u"}, {"yu", "u"}, {"ju", "u"}, {"iu", "u"}, {"ya", "a"}, {"ja", "a"}, {"ia", "a"}, {"ye", "e"}, {"je", "e"}, {"ie", "e"}, {"yo", "o"}, {"jo", "o"},
		{"io", "o"},
	} {
		rules = append(rules, respelling{r[0], r[1], lettersOf(r[0])})
	}
	return rules
}()

type respelling struct {
	from, to string
	needs    uint32 // letters without which it can't apply
}

// Spoken reduces a folded word to what several transliterations of one name
// have in common: Sergei, Sergey and Serguei; Müller and Mueller; Yulia, Julia
// and Iuliia. It is coarse on purpose, and used on whole words alone.
func Spoken(word string) string {
	w, has := word, lettersOf(word)
	for i := range respelt {
		if r := &respelt[i]; has&r.needs == r.needs {
			if v := strings.ReplaceAll(w, r.from, r.to); v != w {
				w, has = v, lettersOf(v)
			}
		}
	}
	out := make([]byte, 0, len(w))
	for i := 0; i < len(w); i++ {
		c := w[i]
		switch c {
		case 'y', 'j':
			c = 'i'
		case 'w':
			c = 'v'
		case 'k', 'q':
			c = 'c'
		case 'z':
			c = 's'
		case 'h':
			if i > 0 {
				continue
			}
		}
		if len(out) == 0 || out[len(out)-1] != c {
			out = append(out, c)
		}
	}
	return strings.TrimSuffix(string(out), "i")
}
