package reconcile

import (
	"twinning/internal/core/pairing"
	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/record"
)

// Comparison is one attribute, side by side.
type Comparison struct {
	Attribute string `json:"attribute"`
	Person    string `json:"person"`
	Account   string `json:"account"`
	Equal     bool   `json:"equal"`
	Said      string `json:"said,omitempty"` // how far they agree, in words
}

// SideBySide compares two rows attribute by attribute; a row of -1 says nothing.
func SideBySide(people, accounts *record.Roster, p, a int) []Comparison {
	list := []Comparison{}
	for _, name := range record.CanonicalNames() {
		left, right := cellOf(people, name, p), cellOf(accounts, name, a)
		if name == "id" || name == "emails" || left == "" && right == "" {
			continue
		}
		c := Comparison{Attribute: name, Person: record.PlainList(left), Account: record.PlainList(right), Equal: left != "" && record.Same(record.KindOf(name), left, right)}
		if !c.Equal && p >= 0 && a >= 0 {
			c.Said = likelySaid(people, accounts, name, left, right, p, a)
		}
		list = append(list, c)
	}
	return list
}

// likelySaid tells in words how far two values that are not the same agree.
func likelySaid(people, accounts *record.Roster, name, left, right string, p, a int) string {
	var v likeness.Verdict
	switch name {
	case "userName":
		v = likeness.Login(pairing.NameOf(people, p), right)
	case "displayName", "familyName":
		v = evidence.Names(pairing.NameOf(people, p), pairing.NameOf(accounts, a))
	case "email", "aliases":
		v = likeness.Emails(record.SplitList(cellOf(people, "emails", p)), record.SplitList(cellOf(accounts, "emails", a)))
	case "phoneNumbers":
		v = likeness.Phones(record.SplitList(left), record.SplitList(right))
	case "employeeNumber":
		v = likeness.Numbers(left, right)
	case "startsOn", "created":
		v = likeness.Days(cellOf(people, "startsOn", p), cellOf(accounts, "created", a))
	case "title", "department", "location":
		v = likeness.Texts(left, right)
	}
	if v.Level == likeness.Missing {
		return ""
	}
	return v.Words
}

func cellOf(r *record.Roster, name string, i int) string {
	if i < 0 {
		return ""
	}
	return r.Column(name).Cell(i)
}
