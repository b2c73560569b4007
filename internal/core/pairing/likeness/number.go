package likeness

import (
	"strings"

	"twinning/internal/core/record"
)

// ShortNumber: what has fewer digits is found in anybody's number.
const ShortNumber = 3

// Number is a staff number taken apart: normalised, its digits without the .0 of a
// spreadsheet and zeros in front, and its letters.
type Number struct{ Text, Core, Letters string }

// NumberOf takes a number apart.
func NumberOf(s string) Number {
	n := Number{Text: record.Normal(record.Text, s)}
	n.Core, n.Letters = NumberCore(n.Text)
	return n
}

// Compare two staff numbers: the same, or written otherwise (a prefix, zeros in front, the
// ending of a spreadsheet, a check digit). Numbers that merely look alike are different:
// they are somebody else's.
func (x *Number) Compare(y *Number) Level {
	long, short := x.Core, y.Core
	if len(long) < len(short) {
		long, short = short, long
	}
	switch {
	case x.Text == "" || y.Text == "":
		return Missing
	case x.Text == y.Text:
		return Same
	case len(short) < ShortNumber:
		return Differ
	case x.Core == y.Core && (x.Letters == y.Letters || x.Letters == "" || y.Letters == ""):
		return Variant
	case x.Core == y.Core:
		return Faint
	case len(short) >= 5 && len(long) == len(short)+1 && strings.HasPrefix(long, short) && x.Letters == y.Letters:
		return Part
	}
	return Differ
}

// Numbers compares two staff numbers.
func Numbers(a, b string) Verdict {
	x, y := NumberOf(a), NumberOf(b)
	level := x.Compare(&y)
	return Verdict{level, map[Level]string{
		Missing: "one of them has no number", Differ: "different numbers", Faint: "the digits are the same, the letters are not: two series?",
		Part: "one has a digit more at its end: a check digit?", Variant: "one number, written in two ways", Same: "one number",
	}[level]}
}

// NumberCore takes the digits and letters of a normalised number.
func NumberCore(s string) (digits, letters string) {
	s = strings.TrimSuffix(s, ".0")
	letters = strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' {
			return r
		}
		return -1
	}, s)
	return strings.TrimLeft(record.Digits(s), "0"), letters
}
