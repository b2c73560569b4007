package record

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/idna"
	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// ListSep separates the values of a list inside one cell of a column. Readers
// reject values that hold it (it is a control character).
const ListSep = '\x1f'

// AppendNormal appends the normalised form of one value of the kind to dst.
// Two values are the same for comparison exactly when their forms are equal;
// a blank value has an empty form.
func AppendNormal(dst []byte, kind Kind, s string) []byte {
	switch kind {
	case Email, Emails:
		return appendEmail(dst, s)
	case Phone, Phones:
		return appendPhone(dst, s)
	case Exact:
		return append(dst, strings.TrimSpace(s)...)
	default:
		return appendText(dst, s)
	}
}

// Normal is AppendNormal as a string.
func Normal(kind Kind, s string) string {
	if settled(kind, s) {
		return s
	}
	var room [64]byte
	return string(AppendNormal(room[:0], kind, s))
}

// settled reports whether a value is its own normalised form, as most are; false where
// that takes a closer look.
func settled(kind Kind, s string) bool {
	switch kind {
	case Phone, Phones:
		return false
	case Exact:
		return strings.TrimSpace(s) == s
	case Email, Emails:
		if strings.HasSuffix(s, ".") || strings.IndexByte(s, ' ') >= 0 {
			return false
		}
	}
	return settledText(s)
}

// settledText: plain lower-case letters and signs, one space at most between two of them.
func settledText(s string) bool {
	gap := true // at the beginning
	for i := range len(s) {
		c := s[i]
		if c >= utf8.RuneSelf || c >= 'A' && c <= 'Z' || c >= '\t' && c <= '\r' || c == ' ' && gap {
			return false
		}
		gap = c == ' '
	}
	return !gap || s == ""
}

func appendText(dst []byte, s string) []byte {
	if !IsASCII(s) {
		s = cases.Fold().String(norm.NFC.String(s))
		s = norm.NFC.String(strings.Map(func(r rune) rune {
			if ignorable(r) && !blank(r) {
				return -1
			}
			return r
		}, s))
	}
	start, gap := len(dst), false
	for i := 0; i < len(s); {
		c := s[i]
		if c < utf8.RuneSelf {
			i++
			if c == ' ' || (c >= '\t' && c <= '\r') {
				gap = len(dst) > start
				continue
			}
			if gap {
				dst, gap = append(dst, ' '), false
			}
			if c >= 'A' && c <= 'Z' {
				c += 'a' - 'A'
			}
			dst = append(dst, c)
			continue
		}
		r, size := utf8.DecodeRuneInString(s[i:])
		if blank(r) {
			gap = gap || len(dst) > start
			i += size
			continue
		}
		if gap {
			dst, gap = append(dst, ' '), false
		}
		dst = append(dst, s[i:i+size]...)
		i += size
	}
	return dst
}

// blank: white space, and what is as good as none.
func blank(r rune) bool { return unicode.IsSpace(r) || r == '\u200b' || r == '\ufeff' }

// appendEmail folds the case of the whole address: RFC 5321 lets a host tell
// local parts apart by case, none in practice does, and taking two spellings
// for two owners would give one mailbox to two people.
func appendEmail(dst []byte, s string) []byte {
	s = strings.TrimSpace(s)
	if !IsASCII(s) {
		s = norm.NFKC.String(withoutIgnorable(s))
	}
	at := strings.LastIndexByte(s, '@')
	if at < 0 {
		return appendText(dst, s)
	}
	dst = appendText(dst, s[:at])
	dst = append(dst, '@')
	host := strings.TrimLeftFunc(strings.TrimRightFunc(s[at+1:], func(r rune) bool { return r == '.' || blank(r) }), blank)
	if !IsASCII(host) && utf8.ValidString(host) {
		if ascii, err := idna.Lookup.ToASCII(host); err == nil {
			host = ascii
		}
	}
	return appendText(dst, host)
}

func appendPhone(dst []byte, s string) []byte {
	start := len(dst)
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c >= '0' && c <= '9':
			dst = append(dst, c)
		case c == '+' && len(dst) == start:
			dst = append(dst, c)
		}
	}
	if len(dst) >= start+2 && string(dst[start:start+2]) == "00" {
		dst = append(append(dst[:start], '+'), dst[start+2:]...)
	}
	return dst
}

// IsASCII reports whether a text holds plain letters and signs alone.
func IsASCII(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// letters that decompose into nothing plainer, plainLetters out by hand.
var latin = map[rune]string{
	'ß': "ss", 'ẞ': "ss", 'æ': "ae", 'œ': "oe", 'ø': "o", 'đ': "d", 'ð': "d", 'þ': "th", 'ł': "l", 'ı': "i", 'ħ': "h", 'ŋ': "ng",
	'а': "a", 'б': "b", 'в': "v", 'г': "g", 'ґ': "g", 'д': "d", 'е': "e", 'ё': "e", 'є': "ye", 'ж': "zh", 'з': "z", 'и': "i", 'і': "i", 'ї': "yi",
	'й': "y", 'к': "k", 'л': "l", 'м': "m", 'н': "n", 'о': "o", 'п': "p", 'р': "r", 'с': "s", 'т': "t", 'у': "u", 'ў': "u", 'ф': "f", 'х': "kh",
	'ц': "ts", 'ч': "ch", 'ш': "sh", 'щ': "shch", 'ъ': "", 'ы': "y", 'ь': "", 'э': "e", 'ю': "yu", 'я': "ya", 'ђ': "dj", 'ј': "j", 'љ': "lj",
	'њ': "nj", 'ћ': "c", 'џ': "dz",
	'α': "a", 'β': "v", 'γ': "g", 'δ': "d", 'ε': "e", 'ζ': "z", 'η': "i", 'θ': "th", 'ι': "i", 'κ': "k", 'λ': "l", 'μ': "m", 'ν': "n", 'ξ': "x",
	'ο': "o", 'π': "p", 'ρ': "r", 'σ': "s", 'ς': "s", 'τ': "t", 'υ': "y", 'φ': "f", 'χ': "ch", 'ψ': "ps", 'ω': "o",
}

// Fold reduces a name to plain lower-case Latin letters and digits where it
// can: diacritics are dropped, Cyrillic and Greek are transliterated, other
// scripts stay as they are. White space is kept as single spaces.
func Fold(s string) string {
	if settledText(s) {
		return s
	}
	if IsASCII(s) {
		var room [64]byte
		return string(appendText(room[:0], s))
	}
	if s = strings.ToLower(s); !norm.NFC.IsNormalString(s) {
		s = norm.NFC.String(s)
	}
	var room [64]byte
	out := room[:0]
	for _, r := range s {
		switch {
		case r < utf8.RuneSelf:
			out = append(out, byte(r))
		case int(r) < len(plainLetters):
			out = append(out, plainLetters[r]...)
		default:
			out = append(out, spell(r)...)
		}
	}
	return string(appendText(nil, string(out)))
}

// plainLetters is spell of the letters of Latin, Greek and Cyrillic.
var plainLetters = func() (table [0x530]string) {
	for r := range table {
		table[r] = spell(rune(r)) // small
	}
	return table
}()

// spell writes a letter in plain lower-case Latin ones where it can. й and ї decompose to
// и, і plus a mark: they are spelt before they are taken apart.
func spell(r rune) string {
	if t, ok := latin[r]; ok {
		return t
	}
	var b strings.Builder
	for _, d := range norm.NFKD.String(string(r)) {
		if unicode.Is(unicode.Mn, d) {
			continue
		}
		if t, ok := latin[d]; ok {
			b.WriteString(t)
		} else {
			b.WriteRune(unicode.ToLower(d))
		}
	}
	return b.String()
}

// Slug is Fold with everything dropped that a login had better not hold:
// only letters, digits, dot, hyphen and underscore stay.
func Slug(s string) string {
	folded := Fold(s)
	out := make([]byte, 0, len(folded))
	for _, r := range folded {
		if r == '.' || r == '-' || r == '_' || r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			out = append(out, byte(r))
		}
	}
	return strings.Trim(string(out), ".-_")
}

// Digits are those of a text, and nothing else of it.
func Digits(s string) string {
	return strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, s)
}

// ValidEmail reports whether s has the form local@domain that a mail system
// will take: one @, no white space or control characters, a domain with
// non-empty labels, lengths within RFC 5321 section 4.5.3.1.
func ValidEmail(s string) bool {
	at := strings.LastIndexByte(s, '@')
	if at < 1 || at > 64 || len(s) > 254 || strings.IndexByte(s[:at], '@') >= 0 {
		return false
	}
	for i := 0; i < len(s); i++ {
		if c := s[i]; c <= ' ' || c == 0x7f || c < utf8.RuneSelf && forbidden[c] {
			return false
		}
	}
	if !IsASCII(s) && strings.ContainsFunc(s, func(r rune) bool {
		return unicode.IsSpace(r) || unicode.IsControl(r) || r == utf8.RuneError || ignorable(r)
	}) {
		return false
	}
	local, host := s[:at], s[at+1:]
	if local[0] == '.' || local[at-1] == '.' || strings.Contains(local, "..") || !strings.Contains(host, ".") {
		return false
	}
	for label, rest, more := "", host, true; more; {
		label, rest, more = strings.Cut(rest, ".")
		if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' {
			return false
		}
		for i := 0; i < len(label); i++ {
			if c := label[i]; c < utf8.RuneSelf && c != '-' && (c < '0' || c > '9') && (c|0x20 < 'a' || c|0x20 > 'z') {
				return false
			}
		}
	}
	return true
}

// forbidden in an address that is not quoted (RFC 5322 section 3.2.3).
var forbidden = [utf8.RuneSelf]bool{'<': true, '>': true, ',': true, ';': true, ':': true, '\\': true, '"': true, '(': true, ')': true, '[': true, ']': true}

// Same compares two cells of a kind in normalised form, lists as sets.
func Same(kind Kind, x, y string) bool {
	if x == y {
		return true
	}
	if !kind.Multi() {
		return Normal(kind, x) == Normal(kind, y)
	}
	return slices.Equal(normalSet(kind, x), normalSet(kind, y))
}

func normalSet(kind Kind, cell string) []string {
	out := SplitList(cell)
	for i := range out {
		out[i] = Normal(kind, out[i])
	}
	slices.Sort(out)
	return slices.Compact(out)
}
