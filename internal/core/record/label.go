package record

import (
	"cmp"
	"strings"
)

// Label is how a record is called in lists.
func Label(r *Roster, i int) string {
	if name := r.Column("displayName").Cell(i); name != "" {
		return name
	}
	if name := strings.TrimSpace(r.Column("givenName").Cell(i) + " " + r.Column("familyName").Cell(i)); name != "" {
		return name
	}
	return cmp.Or(r.Column("userName").Cell(i), r.Column("email").Cell(i))
}

// PlainList shows a cell's values to people.
func PlainList(cell string) string { return strings.ReplaceAll(cell, string(ListSep), "; ") }
