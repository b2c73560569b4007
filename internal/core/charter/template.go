package charter

import (
	"maps"
	"regexp"
	"slices"
	"strings"

	"twinning/internal/core/record"
)

// Wanted is a column that whoever keeps the list of people must give.
type Wanted struct {
	Native    string
	Attribute string
	Required  bool     // without it nobody gets an account, or nobody is recognised
	Form      string   // in words: a day as DD.MM.YYYY, an address
	Allowed   []string // nil: any
	Known     []string // values that the charter's rules speak of
	Example   string
}

// examples of a value, for a person who does not exist.
var examples = map[string]string{
	"id": "L0001", "externalId": "L0001", "employeeNumber": "L0001", "userName": "mthorne", "givenName": "Matilda", "middleName": "R.", "familyName": "Thorne",
	"displayName": "Matilda Thorne", "email": "matilda.thorne@larkspur.example", "aliases": "m.thorne@larkspur.example", "personalEmail": "mt@home.example",
	"phoneNumbers": "+56 2 5550 0101", "userType": "staff", "active": "true", "startsOn": "2026-03-01", "endsOn": "2027-02-28", "title": "Astronomer",
	"department": "Science", "location": "Cerro Alto", "country": "CL", "manager": "L0002",
}

// Template lists what the charter needs of the people, as their system's shape
// names it: the id first, then what is required, then the rest by name.
func (c *Charter) Template(shape record.Shape) []Wanted {
	needed, _ := c.Needs()
	required := c.required()
	byNative := map[string]*Wanted{}
	for _, name := range append([]string{"id"}, needed...) {
		src, ok := shape.Attributes[name]
		if !ok || src.Native == "" {
			continue
		}
		w := byNative[src.Native]
		if w == nil {
			w = &Wanted{Native: src.Native, Attribute: name, Form: form(name, src), Example: example(name, src)}
			byNative[src.Native] = w
		}
		w.Required = w.Required || required[name]
		switch {
		case len(src.True)+len(src.False) > 0:
			w.Allowed = slices.Concat(src.True, src.False)
		case record.KindOf(name) == record.Bool && src.Bit == 0 && src.Present == "":
			w.Allowed = []string{"true", "false"}
		}
		w.Known = append(w.Known, c.spokenOf(name)...)
		slices.Sort(w.Known)
		w.Known = slices.Compact(w.Known)
	}
	id := shape.Attributes["id"].Native
	list := make([]Wanted, 0, len(byNative))
	for _, native := range slices.Sorted(maps.Keys(byNative)) {
		list = append(list, *byNative[native])
	}
	rank := func(w Wanted) int {
		switch {
		case w.Native == id:
			return 0
		case w.Required:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(list, func(a, b Wanted) int { return rank(a) - rank(b) })
	return list
}

// required are the attributes without which nobody can be recognised or given
// an account: keys, the login, the address, and what the charter says.
func (c *Charter) required() map[string]bool {
	out := map[string]bool{"id": true}
	note := func(list ...*Expr) {
		for _, e := range list {
			person, _ := e.Reads()
			for _, n := range person {
				out[n] = true
			}
		}
	}
	if len(c.Keys) > 0 {
		note(c.Keys[0].Person) // the others are what it falls back on
	}
	if c.Mark != nil {
		note(c.Mark)
	}
	c.EveryRule(func(r AttributeRule) {
		if r.Required || r.Attribute == "userName" {
			note(r.Candidates...)
		}
	})
	c.everyEmail(func(e *EmailRule) { note(e.Primary...) })
	return out
}

// spokenOf are the values that conditions compare an attribute with.
func (c *Charter) spokenOf(attribute string) (values []string) {
	name := regexp.QuoteMeta("person." + attribute)
	patterns := []*regexp.Regexp{
		regexp.MustCompile(name + `\s*[!=]=\s*'([^']*)'`),
		regexp.MustCompile(`'([^']*)'\s*in\s*` + name + `\b`),
		regexp.MustCompile(name + `\s*in\s*\[([^\]]*)\]`),
	}
	for _, e := range c.exprs() {
		if e == nil {
			continue
		}
		for i, p := range patterns {
			for _, m := range p.FindAllStringSubmatch(e.Source, -1) {
				if i < 2 {
					values = append(values, m[1])
					continue
				}
				for _, v := range strings.Split(m[1], ",") {
					values = append(values, strings.Trim(strings.TrimSpace(v), `'"`))
				}
			}
		}
	}
	return values
}

func form(name string, src record.Source) string {
	switch kind := record.KindOf(name); {
	case kind == record.Date && src.Date != "":
		return "a day as " + src.Date
	case kind == record.Date:
		return "a day as YYYY-MM-DD"
	case kind == record.Email:
		return "an e-mail address"
	case kind == record.Bool:
		return "one of the allowed values"
	case kind.Multi() && src.Split != "":
		return "any number of values, separated by " + src.Split
	case name == "id" && src.Native != "":
		return "different for everybody, and never changed"
	}
	return "text"
}

func example(name string, src record.Source) string {
	v := examples[name]
	if v == "" {
		return ""
	}
	encoded, err := src.Encode(record.KindOf(name), record.SplitList(v), nil, nil)
	if err != nil || len(encoded) == 0 {
		return v
	}
	return strings.Join(encoded, src.Split)
}
