package record

import (
	"cmp"
	"strings"
	"unicode/utf8"
)

// longestLabel is how many characters of a name a list shows: what is longer is no name.
const longestLabel = 200

// Label is how a record is called in lists.
func Label(r *Roster, i int) string {
	label := r.Column("displayName").Cell(i)
	if label == "" {
		label = strings.TrimSpace(r.Column("givenName").Cell(i) + " " + r.Column("familyName").Cell(i))
	}
	if label == "" {
		label = cmp.Or(r.Column("userName").Cell(i), r.Column("email").Cell(i))
	}
	if len(label) > longestLabel && utf8.RuneCountInString(label) > longestLabel {
		return string([]rune(label)[:longestLabel-1]) + "…"
	}
	return label
}

// PlainList shows a cell's values to people.
func PlainList(cell string) string { return strings.ReplaceAll(cell, string(ListSep), "; ") }
