package likeness

import (
	"strings"

	"twinning/internal/core/record"
)

// LineDigits are what tells one line from another in one place.
const LineDigits = 7

// shortExtension: what has fewer digits is found at the end of anybody's number.
const shortExtension = 3

// Line is a telephone number taken apart: its digits without the way out of one's own
// country, and the extension behind a switchboard. A number that is too short to be one
// is an extension alone.
type Line struct{ Digits, Extension string }

// extensions are the words by which an extension is told.
var extensions = []string{"ext", "anexo", "dahili", "durchwahl", "interno", "poste", "x", "#"}

// wordy: a sign that the word for an extension may hold.
func wordy(r rune) bool {
	return r > '9' || r == '#'
}

// LineOf takes a number apart; what holds no digits that tell anything is empty.
func LineOf(s string) (l Line) {
	number, extension := s, ""
	if strings.ContainsFunc(s, wordy) {
		s = strings.ToLower(s)
		for _, word := range extensions {
			if before, after, found := strings.Cut(s, word); found {
				number, extension = before, after
				break
			}
		}
	}
	l.Digits, l.Extension = record.Digits(number), record.Digits(extension)
	if len(strings.TrimLeft(l.Digits, "0")) < LineDigits {
		if l.Extension == "" {
			l.Extension = l.Digits
		}
		l.Digits = ""
	}
	l.Digits = strings.TrimLeft(l.Digits, "0")
	if len(l.Extension) < shortExtension {
		l.Extension = ""
	}
	return l
}

// Known reports whether the line says anything.
func (l *Line) Known() bool { return l.Digits != "" || l.Extension != "" }

// End is what the line has in common with its extension alone.
func (l *Line) End() string {
	if l.Extension != "" {
		return l.Extension
	}
	return l.Digits
}

// Compare two lines: the whole, the end where one of them lacks the country, or the
// extension where one of them is no more.
func (l *Line) Compare(o *Line) Level {
	switch {
	case !l.Known() || !o.Known():
		return Missing
	case l.Digits == "" || o.Digits == "":
		short, long := l.End(), o.End()
		if len(short) > len(long) {
			short, long = long, short
		}
		if strings.HasSuffix(long, short) {
			return Part
		}
		return Differ
	case l.Extension != "" && o.Extension != "" && l.Extension != o.Extension:
		return Differ
	case l.Digits == o.Digits:
		return Same
	case l.Digits[len(l.Digits)-LineDigits:] == o.Digits[len(o.Digits)-LineDigits:] && len(l.Digits) != len(o.Digits):
		return Variant
	}
	return Differ
}

// Phones compares two sets of phone numbers by their digits.
func Phones(a, b []string) Verdict {
	best := Missing
	for _, x := range a {
		for _, y := range b {
			l, o := LineOf(x), LineOf(y)
			best = max(best, l.Compare(&o))
		}
	}
	return Verdict{best, map[Level]string{
		Missing: "one of them has no phone number", Differ: "different phone numbers", Part: "one is the extension of the other", Variant: "one phone number, with and without its beginning", Same: "one phone number",
	}[best]}
}
