package planning

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Summary is a plan as a whole: how many of which kind, beside what is usual in its lane. What
// is unusual is said first, in words.
type Summary struct {
	Unusual     []string `json:"unusual"`
	Verbs       []Usual  `json:"verbs"`
	Classes     []Share  `json:"classes"`     // of people; "" are those in none
	Departments []Share  `json:"departments"` // of people, or of accounts that nobody owns; the largest first
}

// Usual is a count beside those of the plans before.
type Usual struct {
	Name  string `json:"name"`
	Count int    `json:"count"`
	Low   int    `json:"low"` // of the plans before; -1 where there are too few to say
	High  int    `json:"high"`
}

// Share is how many changes concern one kind of people, by verb.
type Share struct {
	Name  string         `json:"name"`
	Count int            `json:"count"`
	Verbs map[string]int `json:"verbs"`
}

// Whose says of whom a change is.
type Whose struct{ Verb, Class, Department string }

const (
	// fewPlans is how many plans must be known before anything is called usual.
	fewPlans = 3
	// fewChanges: so many of a verb say nothing about where they come from.
	fewChanges = 5
	// mostDepartments are told by name; the rest is in none of the lists.
	mostDepartments = 50
)

// Harmful are the verbs that take something from somebody.
var Harmful = []string{Suspend, Delete, Withdraw, Hide}

// Summarise counts changes, beside those of the lane's last plans by verb, the newest first.
func Summarise(changes []Whose, past []map[string]int) Summary {
	verbs := map[string]int{}
	classes, departments := map[string]*Share{}, map[string]*Share{}
	count := func(in map[string]*Share, name, verb string) {
		if in[name] == nil {
			in[name] = &Share{Name: name, Verbs: map[string]int{}}
		}
		in[name].Count++
		in[name].Verbs[verb]++
	}
	for _, c := range changes {
		verbs[c.Verb]++
		count(classes, c.Class, c.Verb)
		count(departments, c.Department, c.Verb)
	}
	s := Summary{Unusual: []string{}, Verbs: []Usual{}, Classes: ranked(classes), Departments: ranked(departments)}
	for _, verb := range slices.SortedFunc(maps.Keys(verbs), func(a, b string) int { return cmp.Or(harm(b)-harm(a), verbOrder[a]-verbOrder[b]) }) {
		u := Usual{Name: verb, Count: verbs[verb], Low: -1, High: -1}
		if len(past) >= fewPlans {
			u.Low, u.High = past[0][verb], past[0][verb]
			for _, p := range past {
				u.Low, u.High = min(u.Low, p[verb]), max(u.High, p[verb])
			}
		}
		s.Verbs = append(s.Verbs, u)
		if said := u.unusual(s.Departments, len(past)); said != "" {
			s.Unusual = append(s.Unusual, said)
		}
	}
	if len(s.Departments) > mostDepartments {
		s.Departments = s.Departments[:mostDepartments]
	}
	return s
}

func harm(verb string) int {
	if slices.Contains(Harmful, verb) {
		return 1
	}
	return 0
}

func ranked(by map[string]*Share) []Share {
	list := []Share{}
	for _, name := range slices.Sorted(maps.Keys(by)) {
		list = append(list, *by[name])
	}
	slices.SortStableFunc(list, func(a, b Share) int { return b.Count - a.Count })
	return list
}

// unusual says what of a verb is: more than the plans before had, or of one department alone
// what takes something away. "" where nothing is.
func (u Usual) unusual(departments []Share, plans int) string {
	said := ""
	switch {
	case u.High < 0:
	case u.High == 0 && harm(u.Name) > 0:
		said = fmt.Sprintf("%d × %s, and none in the last %d plans", u.Count, u.Name, plans)
	case u.Count > u.High+max(2, u.High/2):
		said = fmt.Sprintf("%d × %s, usually %s", u.Count, u.Name, span(u.Low, u.High))
	}
	if harm(u.Name) == 0 || u.Count < fewChanges || said == "" && len(departments) < 2 {
		return said // of a house of one department that says nothing
	}
	for _, d := range departments {
		if n := d.Verbs[u.Name]; n*10 >= u.Count*9 && d.Name != "" {
			who := "all"
			if n < u.Count {
				who = fmt.Sprintf("%d of them", n)
			}
			if said == "" {
				said = fmt.Sprintf("%d × %s", u.Count, u.Name)
			}
			return said + fmt.Sprintf(", %s from one department: %s", who, d.Name)
		}
	}
	return said
}

func span(low, high int) string {
	if low == high {
		return fmt.Sprint(low)
	}
	return strings.Join([]string{fmt.Sprint(low), fmt.Sprint(high)}, "–")
}
