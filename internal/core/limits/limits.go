// Package limits counts what a downstream cannot do without, and what it has no more of: its last
// administrator, the last owner of something, its seats. Several plans share these, so that they
// are counted over all lanes of the downstream: as its newest roster shows it, with what was done
// since, what other plans have sealed or are doing, and then the changes at hand, one by one.
//
// A State is not safe for concurrent use.
package limits

import (
	"fmt"
	"slices"

	"twinning/internal/core/charter"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// limit is one thing that is counted. An account contributes keys: nothing but "" where accounts
// are counted as such, what it owns, the groups and values that it holds.
type limit struct {
	most int // accounts that may contribute a key; 0: the last one that does may not be lost
	// keys are what an account contributes, for certain; maybe is that it may do so besides
	keys   func(v *view) (keys []string, maybe bool)
	words  func(key string) string // what is wrong when a change breaks it
	counts map[string]int
	held   map[string][]string // of accounts that a change was about
}

// view is an account as it will be.
type view struct {
	id     string
	cells  map[string]string // that changes gave it
	row    int               // in the roster; -1: it is yet to be made
	gone   bool
	unread bool
	of     *State
}

// State is a downstream as it will be.
type State struct {
	accounts *record.Roster
	today    string
	limits   []*limit
	views    map[string]*view
	bound    map[*charter.Expr]*charter.Bound // to the accounts
}

// New counts the accounts of a downstream by the limits that the charters of its lanes declare.
// Today is the day for expressions.
func New(charters []*charter.Charter, accounts *record.Roster, today string) *State {
	s := &State{accounts: accounts, today: today, views: map[string]*view{}, bound: map[*charter.Expr]*charter.Bound{}}
	for _, c := range charters {
		s.declare(c)
	}
	for row := range accounts.Len() {
		v := s.rowView(row)
		for _, l := range s.limits {
			keys, _ := l.keys(v)
			for _, k := range keys {
				l.counts[k]++
			}
		}
	}
	return s
}

// Needs lists the attributes of the accounts that a charter's limits look at; none where it
// declares no limit.
func Needs(c *charter.Charter) (attributes []string) {
	for _, e := range []*charter.Expr{c.Admins, c.Owns} {
		if e != nil {
			_, reads := e.Reads()
			attributes = append(append(attributes, "active"), reads...)
		}
	}
	if c.Seats > 0 {
		attributes = append(attributes, "active")
	}
	for _, g := range c.EveryGroup() {
		if g.Seats > 0 {
			attributes = append(attributes, "groups")
		}
	}
	c.EveryRule(func(r charter.AttributeRule) {
		if r.Seats > 0 {
			attributes = append(attributes, r.Attribute)
		}
	})
	return attributes
}

func (s *State) add(l *limit) {
	l.counts, l.held = map[string]int{}, map[string][]string{}
	s.limits = append(s.limits, l)
}

func (s *State) declare(c *charter.Charter) {
	if c.Admins != nil {
		s.add(&limit{
			keys: func(v *view) ([]string, bool) {
				if !v.open() || v.unread {
					return nil, false
				}
				holds, known := v.eval(c.Admins).True()
				if holds && v.surely() {
					return []string{""}, false
				}
				return nil, holds || !known
			},
			words: func(string) string { return "no administrator of " + c.In + " would be left who can sign in" },
		})
	}
	if c.Owns != nil {
		s.add(&limit{
			keys: func(v *view) (keys []string, _ bool) {
				if !v.open() || v.unread || !v.surely() {
					return nil, false
				}
				return normal(v.eval(c.Owns).Cell()), false
			},
			words: func(key string) string { return fmt.Sprintf("nobody else who can sign in owns %q", key) },
		})
	}
	if c.Seats > 0 {
		s.add(&limit{
			most: c.Seats,
			keys: func(v *view) ([]string, bool) {
				if v.open() {
					return []string{""}, false
				}
				return nil, false
			},
			words: func(string) string { return fmt.Sprintf("the seats of %s (%d) are taken", c.In, c.Seats) },
		})
	}
	for _, g := range c.EveryGroup() {
		if g.Seats > 0 {
			s.holders("groups", g.Seats, g.Enrol)
		}
	}
	c.EveryRule(func(r charter.AttributeRule) {
		if r.Seats > 0 {
			s.holders(r.Attribute, r.Seats, nil)
		}
	})
}

// holders limits how many accounts hold a value of an attribute; of all values, or of some.
func (s *State) holders(attribute string, most int, only []string) {
	if s.accounts.Column(attribute) == nil {
		return
	}
	s.add(&limit{
		most: most,
		keys: func(v *view) (keys []string, _ bool) {
			if v.gone {
				return nil, false
			}
			keys = normal(v.cell(attribute))
			if only == nil {
				return keys, false
			}
			return slices.DeleteFunc(keys, func(k string) bool {
				return !slices.ContainsFunc(only, func(name string) bool { return record.Normal(record.Text, name) == k })
			}), false
		},
		words: func(key string) string { return fmt.Sprintf("the seats of %q (%d) are taken", key, most) },
	})
}

// normal are the values of a cell in the form that is compared, each once.
func normal(cell string) (keys []string) {
	record.EachValue(cell, func(v string) {
		if n := record.Normal(record.Text, v); n != "" && !slices.Contains(keys, n) {
			keys = append(keys, n)
		}
	})
	return keys
}

func (s *State) rowView(row int) *view {
	_, unread := s.accounts.Present(row)
	return &view{id: s.accounts.ID(row), row: row, unread: unread, of: s}
}

func (v *view) cell(attribute string) string {
	if cell, changed := v.cells[attribute]; changed {
		return cell
	}
	if v.row < 0 {
		return ""
	}
	return record.JoinList(v.of.accounts.All(v.row, attribute))
}

// open: somebody can sign in with it, for all that is known.
func (v *view) open() bool { return !v.gone && v.cell("active") != "false" }

// surely: of several values of active none says otherwise.
func (v *view) surely() bool { return !slices.Contains(record.SplitList(v.cell("active")), "false") }

// eval evaluates an expression of the account alone.
func (v *view) eval(e *charter.Expr) charter.Value {
	if len(v.cells) == 0 && v.row >= 0 {
		b := v.of.bound[e]
		if b == nil {
			b = e.Bind(charter.Scope{People: &record.Roster{}, Accounts: v.of.accounts, Today: v.of.today})
			v.of.bound[e] = b
		}
		return b.Eval(-1, v.row)
	}
	names := slices.DeleteFunc(slices.Clone(v.of.accounts.Names()), func(n string) bool { return n == "id" })
	b := record.NewBuilder(names)
	cells := make([]string, len(b.Names()))
	for i, name := range b.Names() {
		cells[i] = v.cell(name)
	}
	cells[0] = v.id
	if err := b.Append(cells); err != nil {
		panic(err) // one record
	}
	one, err := b.Roster()
	if err != nil {
		panic(err) // one record
	}
	return e.Bind(charter.Scope{People: &record.Roster{}, Accounts: one, Today: v.of.today}).Eval(-1, 0)
}

// Step is how a change is counted.
type Step int

const (
	Done    Step = iota // it is done: what it gives and what it takes
	Pending             // another plan may do it: only what it takes of what is scarce
)

// Apply counts a change of an account; "" is one that it makes. Breaks says which limit it
// breaks, "" when none; undo takes back that it was counted.
func (s *State) Apply(c *planning.Change, account string, step Step) (breaks string, undo func()) {
	if c.Between || len(s.limits) == 0 {
		return "", func() {}
	}
	id := account
	if id == "" {
		id = "new " + c.Person
	}
	v := s.views[id]
	if v == nil {
		v = &view{id: id, row: -1, of: s}
		if row, there := s.accounts.Find(account); there && account != "" {
			v = s.rowView(row)
		}
		s.views[id] = v
	}
	before := *v
	type kept struct {
		keys  []string
		had   bool
		maybe bool
	}
	was := make([]kept, len(s.limits))
	for i, l := range s.limits {
		held, had := l.held[id]
		keys, maybe := l.keys(v)
		if had {
			keys = held
		} else if v.row < 0 {
			keys = nil
		}
		was[i] = kept{keys, had, maybe}
	}
	v.change(c)
	var undos []func()
	for i, l := range s.limits {
		now, maybe := l.keys(v)
		now = l.counted(step, was[i].keys, now)
		broken := l.move(was[i].keys, now)
		if broken == "" && l.most == 0 && was[i].maybe && !maybe && len(now) == 0 && l.counts[""] == 0 {
			broken = l.words("")
		}
		if breaks == "" {
			breaks = broken
		}
		l.held[id] = now
		undos = append(undos, func() {
			l.move(now, was[i].keys)
			if l.held[id] = was[i].keys; !was[i].had {
				delete(l.held, id)
			}
		})
	}
	return breaks, func() {
		for _, u := range undos {
			u()
		}
		*v = before
	}
}

// counted is what an account contributes by a change that is only pending: of what must not be
// lost no more than before, of what is scarce no less.
func (l *limit) counted(step Step, before, now []string) []string {
	switch {
	case step == Done:
		return now
	case l.most == 0:
		return slices.DeleteFunc(slices.Clone(now), func(k string) bool { return !slices.Contains(before, k) })
	}
	all := slices.Clone(before)
	for _, k := range now {
		if !slices.Contains(all, k) {
			all = append(all, k)
		}
	}
	return all
}

// move counts what an account contributes now instead of before; broken says which limit that
// breaks.
func (l *limit) move(before, now []string) (broken string) {
	for _, k := range before {
		if slices.Contains(now, k) {
			continue
		}
		if l.counts[k]--; l.most == 0 && l.counts[k] <= 0 && broken == "" {
			broken = l.words(k)
		}
	}
	for _, k := range now {
		if slices.Contains(before, k) {
			continue
		}
		if l.counts[k]++; l.most > 0 && l.counts[k] > l.most && broken == "" {
			broken = l.words(k)
		}
	}
	return broken
}

// change does to the account what a change does.
func (v *view) change(c *planning.Change) {
	cells := make(map[string]string, len(v.cells)+len(c.Edits))
	for name, cell := range v.cells {
		cells[name] = cell
	}
	if c.Verb == planning.Delete {
		v.gone, v.cells = true, cells
		return
	}
	for _, e := range c.Writes() {
		kind := record.KindOf(e.Attribute)
		if !kind.Multi() {
			cells[e.Attribute] = e.New
			continue
		}
		added, taken := planning.Moved(kind, e.Old, e.New)
		list := slices.DeleteFunc(record.SplitList(v.cell(e.Attribute)), func(o string) bool {
			return slices.ContainsFunc(taken, func(t string) bool { return record.Same(kind, t, o) })
		})
		for _, a := range added {
			if !slices.ContainsFunc(list, func(o string) bool { return record.Same(kind, a, o) }) {
				list = append(list, a)
			}
		}
		cells[e.Attribute] = record.JoinList(list)
	}
	v.cells = cells
}
