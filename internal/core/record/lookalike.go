package record

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// Two names that people can't tell apart are one name: they are compared in the compatibility
// form of Unicode (NFKC), without characters that are not shown (UAX 44,
// Default_Ignorable_Code_Point). A name that holds such characters is not given to anybody.

// ignorable reports whether a character is not shown by default.
func ignorable(r rune) bool {
	if r < 0xad {
		return false
	}
	return unicode.Is(unicode.Other_Default_Ignorable_Code_Point, r) || unicode.Is(unicode.Variation_Selector, r) ||
		unicode.Is(unicode.Cf, r) && !(r >= 0xfff9 && r <= 0xfffb) && !(r >= 0x13430 && r <= 0x13440) && !unicode.Is(unicode.Prepended_Concatenation_Mark, r)
}

// withoutIgnorable is a text without the characters that are not shown.
func withoutIgnorable(s string) string {
	if strings.IndexFunc(s, ignorable) < 0 {
		return s
	}
	return strings.Map(func(r rune) rune {
		if ignorable(r) {
			return -1
		}
		return r
	}, s)
}

// Disguised says what of a login or an address is not as it looks, "" when all is: characters
// that are not shown, letters of another form, or letters of several scripts in one word, of
// which some look alike.
func Disguised(name string) string {
	if IsASCII(name) {
		return ""
	}
	switch {
	case !utf8.ValidString(name):
		return "letters are lost"
	case strings.IndexFunc(name, ignorable) >= 0:
		return "it holds characters that are not shown"
	case norm.NFKC.String(name) != norm.NFC.String(name):
		return "it holds letters in another form of theirs, such as full-width ones"
	}
	for word := range strings.FieldsFuncSeq(name, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsMark(r) }) {
		if scripts := scriptsOf(word); len(scripts) > 1 {
			return "it mixes " + strings.Join(scripts, " and ") + " letters, which look alike"
		}
	}
	return ""
}

// scriptsOf names the scripts of a word among those whose letters look alike.
func scriptsOf(word string) (scripts []string) {
	for _, s := range []struct {
		name  string
		table *unicode.RangeTable
	}{{"Latin", unicode.Latin}, {"Cyrillic", unicode.Cyrillic}, {"Greek", unicode.Greek}, {"Armenian", unicode.Armenian}, {"Cherokee", unicode.Cherokee}} {
		if strings.IndexFunc(word, func(r rune) bool { return unicode.Is(s.table, r) }) >= 0 {
			scripts = append(scripts, s.name)
		}
	}
	return scripts
}
