package planning

import (
	"slices"
	"strings"

	"twinning/internal/core/record"
)

// Move is one name that changes hands, or attributes, in a plan: a login, a primary address or
// an alias.
type Move struct {
	Name string  `json:"name"`
	From *NameAt `json:"from,omitempty"` // who gives it up; nil: nobody has it before
	To   *NameAt `json:"to,omitempty"`   // who has it then; nil: nobody, it is given up
}

// NameAt is where an account holds a name.
type NameAt struct {
	Account   string `json:"account,omitempty"` // "" of one that is made
	Person    string `json:"person,omitempty"`
	Attribute string `json:"attribute"`
	Change    string `json:"change"`
}

// Moves tells of the names in some changes, which stand in their order, who gives what to whom.
// Values in between, that only free names, are left out.
func Moves(changes []*Change) []Move {
	type hands struct {
		name     string
		from, to *NameAt
	}
	by, order := map[string]*hands{}, []string{}
	of := func(name string) *hands {
		key := record.Normal(record.Email, name)
		if by[key] == nil {
			by[key] = &hands{name: name}
			order = append(order, key)
		}
		return by[key]
	}
	between := map[string]bool{}
	for _, c := range changes {
		for _, e := range c.Edits {
			if c.Between && !e.list() && e.New != "" {
				between[record.Normal(record.Email, e.New)] = true
			}
		}
	}
	for _, c := range changes {
		for _, e := range c.Edits {
			if !e.names() {
				continue
			}
			at := &NameAt{Account: c.Account, Person: c.Person, Attribute: e.Attribute, Change: c.ID}
			gained, lost := e.gains()
			for _, n := range lost {
				if h := of(n); h.from == nil {
					h.from = at
				}
			}
			for _, n := range gained {
				of(n).to = at
			}
		}
	}
	var list []Move
	for _, key := range order {
		if h := by[key]; !between[key] {
			list = append(list, Move{Name: h.name, From: h.from, To: h.to})
		}
	}
	slices.SortStableFunc(list, func(a, b Move) int { return strings.Compare(a.Name, b.Name) })
	return list
}

func (e *Edit) list() bool { return e.Attribute == "aliases" }

// gains are the names that an edit gives, and those that it takes away.
func (e *Edit) gains() (gained, lost []string) {
	if e.list() {
		return Moved(record.Emails, e.Old, e.New)
	}
	if e.New != "" {
		gained = append(gained, e.New)
	}
	if e.Old != "" {
		lost = append(lost, e.Old)
	}
	return gained, lost
}
