package record

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// IDVerdict says whether an attribute identifies records.
type IDVerdict struct {
	Native string `json:"native"`
	Unique bool   `json:"unique"`
	Stable bool   `json:"stable"` // nothing speaks against it surviving a rename
	Said   string `json:"said"`
}

// JudgeID looks at what is to be the id.
func JudgeID(list []Understood, shape Shape, records int) IDVerdict {
	v := IDVerdict{Native: shape.Attributes["id"].Native}
	i := slices.IndexFunc(list, func(u Understood) bool { return u.Native == v.Native })
	if v.Native == "" || i < 0 {
		v.Said = "no column identifies a record; name one: `id: COLUMN`"
		if best := identifying(list, records); best != "" {
			v.Said = fmt.Sprintf("no column is recognised as the id; %s is filled and different in every record: `id: %s`", best, best)
		}
		return v
	}
	u := list[i]
	v.Unique, v.Stable = u.Filled == records && u.Distinct == u.Filled, true
	changing := ""
	switch {
	case u.Kind == "addresses":
		changing = "it holds addresses; since they change when people marry or move"
	case u.Attribute == "userName" || u.Attribute == "displayName":
		changing = "it holds names; if they may change"
	}
	switch {
	case u.Filled < records:
		v.Said = fmt.Sprintf("%d of %d records have none", records-u.Filled, records)
	case u.Distinct < u.Filled:
		v.Said = fmt.Sprintf("%d records, but only %d different values", u.Filled, u.Distinct)
	case changing != "" && shape.Stable:
		v.Stable, v.Said = false, changing+", declare it with `stable: false`"
	case changing != "":
		v.Stable, v.Said = false, "it is declared not stable: bonds do not survive a change of it"
	default:
		v.Said = "different in every record that was looked at"
	}
	return v
}

// callsPeople: what people are called is nobody's alone for long.
func callsPeople(attribute string) bool {
	return slices.Contains([]string{"givenName", "middleName", "familyName", "displayName"}, attribute)
}

// identifying is the column most likely to be an id: a number rather than a
// text, a short one rather than a long one.
func identifying(list []Understood, records int) string {
	var fit []Understood
	for _, u := range list {
		if u.Filled == records && u.Distinct == records && records > 1 && u.Kind != "addresses" && u.Kind != "days" && !u.Counts && !callsPeople(u.Attribute) {
			fit = append(fit, u)
		}
	}
	if len(fit) == 0 {
		return ""
	}
	return slices.MinFunc(fit, func(a, b Understood) int {
		return cmp.Or(strings.Compare(map[string]string{"numbers": "0"}[b.Kind], map[string]string{"numbers": "0"}[a.Kind]), len(a.Examples[0])-len(b.Examples[0]))
	}).Native
}
