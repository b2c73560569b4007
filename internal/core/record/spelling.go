package record

import (
	"maps"
	"slices"
	"strings"

	"golang.org/x/text/unicode/norm"
)

// spelt lists, by language (ISO 639), the letters that it spells out otherwise than by
// leaving their marks away.
var spelt = map[string]*strings.Replacer{
	"de": letters("ä ae ö oe ü ue ß ss"),
	"da": letters("æ ae ø oe å aa"),
	"nb": letters("æ ae ø oe å aa"),
	"hr": letters("đ dj"),
	"bg": letters("ъ a щ sht х h ц ts й y ь y ю yu я ya"),
	"uk": letters("г h ґ g и y і i ї i й i є ie ю iu я ia щ shch х kh ь - ’ - ʼ -"),
	"el": letters("ου ou ού ou αυ av αύ av ευ ev εύ ev η i ή i υ y χ ch ξ x"),
}

// letters makes a replacer of "letter spelling" pairs, for small letters and capitals; what
// is spelt - is left out.
func letters(pairs string) *strings.Replacer {
	var list []string
	f := strings.Fields(pairs)
	for i := 0; i < len(f); i += 2 {
		as := strings.ReplaceAll(f[i+1], "-", "")
		first := string([]rune(f[i])[:1])
		for _, form := range []string{f[i], strings.ToUpper(f[i]), strings.ToUpper(first) + strings.TrimPrefix(f[i], first)} {
			list = append(list, form, as)
		}
	}
	return strings.NewReplacer(list...)
}

// Spelt is a text with its letters spelt out as a language does; known tells whether we know
// how it does.
func Spelt(s, language string) (text string, known bool) {
	r, known := spelt[language]
	if !known {
		return s, false
	}
	return r.Replace(norm.NFC.String(s)), true
}

// Spellings lists the languages whose spelling is known.
func Spellings() []string { return slices.Sorted(maps.Keys(spelt)) }
