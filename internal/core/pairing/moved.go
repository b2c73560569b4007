package pairing

import (
	"fmt"

	"twinning/internal/core/record"
)

// Moved finds, in a list as it is now, what a record of a former list has become: the record
// of the same id, or, where ids are issued anew, the one that alone carries the same value of
// an attribute that identifies. why says what is in the way of telling.
func Moved(former, now *record.Roster, by string) func(id string) (to, why string) {
	if by == "" {
		return func(id string) (string, string) {
			row, there := now.Find(id)
			if !there {
				return "", "it is not there any more"
			}
			return id, unread(now, row)
		}
	}
	kind := record.KindOf(by)
	carried := func(r *record.Roster) (rows map[string][]int) {
		rows = map[string][]int{}
		for row := range r.Len() {
			record.EachValue(r.Column(by).Cell(row), func(v string) {
				if v = record.Normal(kind, v); v != "" {
					rows[v] = append(rows[v], row)
				}
			})
		}
		return rows
	}
	then, nowadays := carried(former), carried(now)
	return func(id string) (string, string) {
		row, known := former.Find(id)
		if !known {
			return "", fmt.Sprintf("it is not known what its %s was: no roster that is kept shows it", by)
		}
		if why := unread(former, row); why != "" {
			return "", why
		}
		found := map[int]bool{}
		to, why := "", ""
		record.EachValue(former.Column(by).Cell(row), func(v string) {
			n := record.Normal(kind, v)
			switch {
			case n == "":
			case len(then[n]) > 1:
				why = fmt.Sprintf("its %s %q was not its alone", by, v)
			case len(nowadays[n]) > 1:
				why = fmt.Sprintf("%d carry its %s %q now", len(nowadays[n]), by, v)
			case len(nowadays[n]) == 1:
				found[nowadays[n][0]] = true
				to = now.ID(nowadays[n][0])
				if unread := unread(now, nowadays[n][0]); unread != "" {
					why = unread
				}
			}
		})
		switch {
		case why != "":
			return "", why
		case len(found) > 1:
			return "", fmt.Sprintf("its values of %s lead to several", by)
		case to == "" && former.Column(by).Cell(row) == "":
			return "", fmt.Sprintf("it had no %s", by)
		case to == "":
			return "", fmt.Sprintf("nobody carries its %s %q now", by, record.PlainList(former.Column(by).Cell(row)))
		}
		return to, ""
	}
}

func unread(r *record.Roster, row int) string {
	if _, unread := r.Present(row); unread {
		return "it could not be read"
	}
	return ""
}
