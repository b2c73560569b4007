package record

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// Damaged says in what way a wanted value is the present one with something
// lost, "" when it is another value, or a better one: an export that knows fewer
// letters, digits or columns must not undo what somebody typed with care.
func Damaged(want, now string) string {
	want, now = norm.NFC.String(strings.TrimSpace(want)), norm.NFC.String(strings.TrimSpace(now))
	switch {
	case want == "" || now == "" || want == now:
		return ""
	case strings.ContainsRune(want, utf8.RuneError) && !strings.ContainsRune(now, utf8.RuneError):
		return "letters are lost"
	case strings.ContainsRune(want, '?') && blotted(want, now):
		return "letters are lost to question marks"
	case mangled(want) && !mangled(now) && unmangled(want, now):
		return "letters were read in a wrong encoding"
	case IsASCII(want) && !IsASCII(now) && (Fold(want) == Fold(now) || bare(now) == want):
		return "the marks over its letters are lost"
	case IsASCII(want) && !IsASCII(now) && plain(now) == want:
		return "letters are lost"
	case zerosLost(want, now):
		return "zeros are lost"
	case cutOff(want, now):
		return "its end is cut off"
	}
	return ""
}

// blotted: every question mark of want stands for one or two letters of now,
// some of them no plain ones, and all else is the same.
func blotted(want, now string) bool {
	w, n := []rune(want), []rune(now)
	lost := false
	var match func(i, j int) bool
	match = func(i, j int) bool {
		for i < len(w) && j < len(n) && w[i] == n[j] {
			i, j = i+1, j+1
		}
		if i == len(w) || j == len(n) {
			return i == len(w) && j == len(n)
		}
		if w[i] != '?' || n[j] < utf8.RuneSelf {
			return false
		}
		lost = true
		// a letter of two bytes may have left two marks
		return match(i+1, j+1) || i+1 < len(w) && w[i+1] == '?' && match(i+2, j+1)
	}
	return len(w) < maxMended && match(0, 0) && lost
}

// maxMended bounds what is compared letter by letter.
const maxMended = 500

// mangled and unmangled find UTF-8 that was read as Windows-1252 or Latin-1.
func mangled(s string) bool { return strings.ContainsAny(s, "ÃÂÅÄÐÑâ") }

func unmangled(want, now string) bool {
	return asBytes(want) == now
}

// asBytes turns each letter back into the one byte it was read from, "" where
// that can't be.
func asBytes(s string) string {
	out := make([]byte, 0, len(s))
	for _, r := range s {
		switch {
		case r < 0x100:
			out = append(out, byte(r))
		default:
			b, ok := windows1252[r]
			if !ok {
				return ""
			}
			out = append(out, b)
		}
	}
	if !utf8.Valid(out) {
		return ""
	}
	return string(out)
}

// windows1252 are the letters that stand between 0x80 and 0x9f there.
var windows1252 = map[rune]byte{
	'€': 0x80, '‚': 0x82, 'ƒ': 0x83, '„': 0x84, '…': 0x85, '†': 0x86, '‡': 0x87, 'ˆ': 0x88, '‰': 0x89, 'Š': 0x8a, '‹': 0x8b, 'Œ': 0x8c, 'Ž': 0x8e,
	'‘': 0x91, '’': 0x92, '“': 0x93, '”': 0x94, '•': 0x95, '–': 0x96, '—': 0x97, '˜': 0x98, '™': 0x99, 'š': 0x9a, '›': 0x9b, 'œ': 0x9c, 'ž': 0x9e, 'Ÿ': 0x9f,
}

// bare drops every mark and every letter that is not plain: what an export that
// knows ASCII alone leaves of a text.
func bare(s string) string {
	var b strings.Builder
	for _, r := range norm.NFD.String(s) {
		if r < utf8.RuneSelf {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// plain drops the letters that are not plain altogether.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= utf8.RuneSelf {
			return -1
		}
		return r
	}, s)
}

// zerosLost: a spreadsheet took the value for a number.
func zerosLost(want, now string) bool {
	if !digits(want) || !digits(strings.TrimPrefix(now, "+")) {
		return false
	}
	short := strings.TrimLeft(now, "0")
	return len(short) < len(now) && want == short && want != ""
}

func digits(s string) bool {
	return s != "" && strings.IndexFunc(s, func(r rune) bool { return r < '0' || r > '9' }) < 0
}

// widths are what columns and forms are often cut to.
var widths = map[int]bool{8: true, 10: true, 12: true, 15: true, 16: true, 20: true, 24: true, 25: true, 30: true, 32: true, 35: true, 40: true, 50: true, 60: true, 64: true, 80: true, 100: true, 128: true, 200: true, 254: true, 255: true, 256: true}

// shortestCut: what is shorter may be a name of its own.
const shortestCut = 8

// cutOff: the value ends in the middle of a word of the present one, or where
// columns are cut.
func cutOff(want, now string) bool {
	if !strings.HasPrefix(now, want) || utf8.RuneCountInString(want) < shortestCut {
		return false
	}
	last, _ := utf8.DecodeLastRuneInString(want)
	next, _ := utf8.DecodeRuneInString(now[len(want):])
	inWord := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
	return inWord(last) && inWord(next) || widths[utf8.RuneCountInString(want)] || widths[len(want)]
}
