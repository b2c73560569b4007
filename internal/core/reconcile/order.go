package reconcile

import (
	"fmt"
	"slices"

	"twinning/internal/core/planning"
)

// Some systems take a value only once another is there: a licence once the account has a
// region. What the charter has come after something is a change of its own, which needs the
// one before.

// inOrder takes the edits of an account that come after others into changes of their own;
// create is the draft that makes the account, nil when it is there.
func (w *walker) inOrder(create *draft, p, a int) {
	after := map[string][]string{}
	for i := range w.class.rules {
		if x := &w.class.rules[i]; len(x.After) > 0 {
			after[x.Attribute] = x.After
		}
	}
	if len(after) == 0 {
		return
	}
	of := create
	if of == nil {
		if of = w.drafted(planning.Set, p, a); of == nil {
			return
		}
	}
	of.Edits = slices.DeleteFunc(of.Edits, func(e planning.Edit) bool {
		blank := w.missingBefore(after[e.Attribute], create, p, a)
		if blank != "" {
			w.withhold(planning.Set, p, a, fmt.Sprintf("%s must be there before %s is written", blank, e.Attribute))
		}
		return blank != ""
	})
	level := map[string]int{}
	var levelOf func(attribute string) int
	levelOf = func(attribute string) int {
		n, known := level[attribute]
		if known {
			return n
		}
		for _, before := range after[attribute] {
			if w.writes(create, p, a, before) != nil {
				n = max(n, levelOf(before)+1)
			}
		}
		level[attribute] = n
		return n
	}
	deepest := 0
	for _, e := range of.Edits {
		deepest = max(deepest, levelOf(e.Attribute))
	}
	if len(of.Edits) == 0 { // only of a set: an account is made whatever comes after
		w.drafts = slices.DeleteFunc(w.drafts, func(d *draft) bool { return d == of })
		return
	}
	edits, last := of.Edits, of
	of.Edits = nil
	for n := 0; n <= deepest; n++ {
		into := last
		if n > 0 {
			into = w.draft(planning.Set, p, a)
			into.ID = planning.ChangeID(fmt.Sprintf("%s %d", planning.Set, n), into.Person, into.Account)
			into.Premises = slices.Clone(of.Premises)
			into.need(last.ID)
			if create != nil {
				into.need(create.ID)
			}
		}
		for _, e := range edits {
			if level[e.Attribute] == n {
				into.Edits = append(into.Edits, e)
				into.comesAfter(after[e.Attribute])
				for _, before := range after[e.Attribute] {
					if d := w.writes(create, p, a, before); d != nil && d != into {
						into.need(d.ID)
					}
				}
			}
		}
		last = into
	}
}

// comesAfter notes what the account must hold before.
func (d *draft) comesAfter(attributes []string) {
	for _, name := range attributes {
		if !slices.Contains(d.After, name) {
			d.After = append(d.After, name)
		}
	}
}

// afterValues withholds what comes after a value that is not there, and that no change gives any
// more: it may have been taken out of one since, for want of a seat or by a human.
func (r *run) afterValues(drafts []*draft) []*draft {
	for {
		given := r.givenBefore(drafts)
		left := len(drafts)
		drafts = slices.DeleteFunc(drafts, func(d *draft) bool {
			for _, name := range d.After {
				if given[spot{d.p, d.a, name}] {
					continue
				}
				r.out.Withheld = append(r.out.Withheld, planning.Withheld{Verb: d.Verb, Person: d.Person, Account: d.Account, Reason: name + " must be there before"})
				return true
			}
			return false
		})
		if len(drafts) == left {
			return drafts
		}
	}
}

// spot is an attribute of an account, or of the one that a person will have.
type spot struct {
	p, a      int
	attribute string
}

// givenBefore are the places that changes wait for, and whether there is a value, or one of the
// drafts gives one. Few changes wait for any.
func (r *run) givenBefore(drafts []*draft) map[spot]bool {
	given := map[spot]bool{}
	for _, d := range drafts {
		for _, name := range d.After {
			given[spot{d.p, d.a, name}] = d.a >= 0 && r.Accounts.Column(name).Cell(d.a) != ""
		}
	}
	if len(given) == 0 {
		return given
	}
	gives := func(d *draft, attribute string) {
		if at := (spot{d.p, d.a, attribute}); !given[at] {
			if _, waited := given[at]; waited {
				given[at] = true
			}
		}
	}
	for _, d := range drafts {
		for _, e := range d.Edits {
			if e.New != "" {
				gives(d, e.Attribute)
			}
		}
		for _, target := range d.targets {
			gives(d, target)
		}
	}
	return given
}

// missingBefore is the first of some attributes that an account does not hold and is not given.
func (w *walker) missingBefore(attributes []string, create *draft, p, a int) string {
	for _, attribute := range attributes {
		if column := w.Accounts.Column(attribute); w.writes(create, p, a, attribute) == nil && (a < 0 || column == nil || column.Cell(a) == "") {
			return attribute
		}
	}
	return ""
}

// drafted is the draft of a verb that was begun for an account, nil when there is none.
func (w *walker) drafted(verb string, p, a int) *draft {
	for i := len(w.drafts) - 1; i >= 0 && w.drafts[i].a == a && w.drafts[i].p == p; i-- {
		if w.drafts[i].Verb == verb {
			return w.drafts[i]
		}
	}
	return nil
}

// writes is the draft that gives an account an attribute, nil when none does.
func (w *walker) writes(create *draft, p, a int, attribute string) *draft {
	gives := func(d *draft) bool {
		return slices.Contains(d.targets, attribute) || slices.ContainsFunc(d.Edits, func(e planning.Edit) bool { return e.Attribute == attribute })
	}
	for i := len(w.drafts) - 1; i >= 0 && w.drafts[i].a == a && w.drafts[i].p == p; i-- {
		if gives(w.drafts[i]) {
			return w.drafts[i]
		}
	}
	if create != nil && gives(create) {
		return create
	}
	return nil
}
