// Package naming gives out names: logins and e-mail addresses of one
// namespace, in which a name is taken when any account (ours, exempt, claimed,
// hidden) carries it as login, primary address or alias.
//
// Names are asked for in units, which are granted whole or not at all: a new
// account needs both its login and its address. A name that an account holds is
// free only when the account keeps it in no attribute, and every change by which
// it gives the name up is itself granted (A takes what B frees: B's change must
// come before A's). Units are granted in the order given (callers sort them),
// each name the first candidate that is free. Names that move in a circle are
// granted together, where values in between may be used.
package naming

import (
	"cmp"
	"slices"
	"strings"

	"twinning/internal/core/record"

	"twinning/internal/core/parallel"
)

// Attribute is one in which an account holds names.
type Attribute uint8

const (
	Login Attribute = iota
	Primary
	Alias
)

// Request asks for one name.
type Request struct {
	Unit       int      // requests of one unit stand together, and are granted together
	Owner      string   // whose request it is; two requests of one owner may share a name
	Account    int      // row that asks, -1 for an account yet to be created
	Candidates []string // real spellings, best first
	Folded     []string // the candidates as Fold makes them; nil: made when they are wanted
	Attribute  Attribute
	Frees      string   // what the account's attribute holds now, given up if this is granted
	Gives      []string // aliases that the account gives up with it
	Optional   bool     // its unit does without it where none can be had
	From       string   // whose it was, where it is handed over: it does not rest then
}

// onlyGives: it asks for nothing, and gives names up.
func (r *Request) onlyGives() bool {
	return len(r.Candidates) == 0 && (r.Frees != "" || len(r.Gives) > 0)
}

// Grant answers a request. It is granted without a name where it asks for none, or can do
// without; it is refused because all candidates are taken, or another request of its unit is
// refused.
type Grant struct {
	Granted    bool
	Name       string
	After      []int      // units that must be carried out first
	Holder     int        // when refused: an account that holds a candidate, -1 none
	Rival      int        // when refused: the request that was granted it, -1 none
	RivalOwner string     // whose that is
	Elsewhere  *Elsewhere // when refused: who holds a candidate in another system, nil none
	First      int        // an account that holds the first candidate and keeps it, -1 none
	Rest       *Rest      // when refused: the rest of a candidate, nil when none rests
}

// Ledger knows who holds which of the names that matter to a plan, and in which
// attributes, and which rest.
type Ledger struct {
	holders map[string][]Holding
	rests   map[string]Rest // nil: a name that is given up is free at once
	until   string          // what is given up now is free from this day on
	// names may move in a circle; some would have, and may not
	mayCircle, circled bool
	alike              Alike
	elsewhere          map[string][]Elsewhere
}

// Rest is a name that was somebody's until lately: for a time it is given to nobody else.
type Rest struct {
	Owner string     // whose it was, "" when that is not known
	Row   record.Row // the account that held it, -1 when it is gone
	Until string     // day from which it is free
}

// mayHave: the name is the asker's own.
func (x Rest) mayHave(r *Request) bool {
	return x.Owner != "" && x.Owner == r.Owner || x.Row >= 0 && int(x.Row) == r.Account
}

// LetRest has names rest, by their folded form; what the requests themselves give up rests
// as well, until a day.
func (l *Ledger) LetRest(names map[string]Rest, until string) { l.rests, l.until = names, until }

// Holding is one attribute of an account that holds a name.
type Holding struct {
	Row       record.Row
	Attribute Attribute
}

// Fold is the form under which two names are one.
func Fold(name string) string { return record.Normal(record.Email, name) }

// NewLedger looks up the holders of all names that the requests mention.
// Names nobody asks for need no entry: at a million accounts that is nearly
// all of them. Accounts that could not be read hold what is known of them.
//
// The look-up is shared between so many goroutines.
func NewLedger(accounts *record.Roster, requests []Request, alike Alike, cores int) *Ledger {
	l := &Ledger{holders: map[string][]Holding{}, alike: alike, elsewhere: map[string][]Elsewhere{}}
	for _, names := range l.folded(requests) {
		for _, name := range names {
			l.holders[name] = nil
		}
	}
	if len(l.holders) == 0 {
		return l
	}
	parts := make([][]named, max(cores, 1))
	var wg parallel.Group
	for i := range parts {
		wg.Go(func() { parts[i] = l.scan(accounts, accounts.Len()*i/len(parts), accounts.Len()*(i+1)/len(parts)) })
	}
	wg.Wait()
	parts = append(parts, l.unread(accounts), l.beside(accounts))
	for _, part := range parts {
		for _, h := range part {
			if held := l.holders[h.name]; !slices.Contains(held, h.Holding) {
				l.holders[h.name] = append(held, h.Holding)
			}
		}
	}
	for _, held := range l.holders { // in whatever order the rows came, the same one is told
		if len(held) > 1 {
			slices.SortFunc(held, func(a, b Holding) int {
				return cmp.Or(strings.Compare(accounts.ID(int(a.Row)), accounts.ID(int(b.Row))), cmp.Compare(a.Attribute, b.Attribute))
			})
		}
	}
	return l
}

// Columns are where accounts hold names, by attribute.
func Columns(accounts *record.Roster) [3]*record.Column {
	return [...]*record.Column{Login: accounts.Column("userName"), Primary: accounts.Column("email"), Alias: accounts.Column("aliases")}
}

type named struct {
	name string
	Holding
}

// scan finds who among the rows holds an asked name; it only reads the ledger.
func (l *Ledger) scan(accounts *record.Roster, from, to int) (found []named) {
	columns := Columns(accounts)
	var folded []byte
	for row := from; row < to; row++ {
		for attribute, c := range columns {
			record.EachValue(c.Cell(row), func(value string) {
				if folded = record.AppendNormal(folded[:0], record.Email, value); l.alike != (Alike{}) {
					folded = append(folded[:0], l.alike.Fold(value)...)
				}
				if _, asked := l.holders[string(folded)]; asked {
					found = append(found, named{string(folded), Holding{record.Row(row), Attribute(attribute)}})
				}
			})
		}
	}
	return found
}

// beside finds the names that accounts hold beside the one that their cells show.
func (l *Ledger) beside(accounts *record.Roster) (found []named) {
	accounts.EachSeveral(func(row int, attribute string, others []string) {
		as, names := map[string]Attribute{"userName": Login, "email": Primary}[attribute], attribute == "userName" || attribute == "email"
		for _, n := range others {
			if _, asked := l.holders[l.alike.Fold(n)]; asked && names {
				found = append(found, named{l.alike.Fold(n), Holding{record.Row(row), as}})
			}
		}
	})
	return found
}

// unread finds what is known to be held by accounts that could not be read.
func (l *Ledger) unread(accounts *record.Roster) (found []named) {
	accounts.EachUnread(func(row int, rej record.Rejection) {
		for _, n := range rej.Names {
			if _, asked := l.holders[l.alike.Fold(n)]; asked {
				found = append(found, named{l.alike.Fold(n), Holding{record.Row(row), Alias}})
			}
		}
	})
	return found
}

// Holders lists who holds a name.
func (l *Ledger) Holders(name string) []Holding { return l.holders[l.alike.Fold(name)] }

// allocation is one round of granting.
type allocation struct {
	*Ledger
	requests []Request
	folded   [][]string // candidates by request
	grants   []Grant
	frees    map[frees]int // an account's attribute -> the request that gives its value up
	given    map[string]int
	granted  []bool // by unit
}

// span is where the requests of a unit stand, from and to.
type span [2]int

type frees struct {
	row       record.Row
	attribute Attribute
}

// Allocate grants what can be granted.
func (l *Ledger) Allocate(requests []Request) []Grant {
	a := &allocation{
		Ledger: l, requests: requests, folded: l.folded(requests), grants: make([]Grant, len(requests)),
		frees: map[frees]int{}, given: make(map[string]int, len(requests)),
	}
	var order []span
	units := 0
	for i, r := range requests {
		units = max(units, r.Unit+1)
		a.grants[i] = Grant{Holder: -1, Rival: -1, First: -1}
		if r.Frees != "" && r.Account >= 0 {
			a.frees[frees{record.Row(r.Account), r.Attribute}] = i
		}
		if len(r.Gives) > 0 {
			a.frees[frees{record.Row(r.Account), Alias}] = i
		}
		if i == 0 || requests[i-1].Unit != r.Unit {
			order = append(order, span{i, i})
		}
		order[len(order)-1][1]++
	}
	a.granted = make([]bool, units)
	// Patient rounds wait for names that may yet be freed; when nothing moves any
	// more, units take their next best names, and at last do without.
	for how := waiting; len(order) > 0; {
		before := len(order)
		rest := make([]span, 0, before)
		for _, unit := range order {
			if !a.grant(unit, how) {
				rest = append(rest, unit)
			}
		}
		order = rest
		moved := len(rest) < before
		if !moved && how != nextBest {
			order, moved = a.circle(rest, how)
		}
		switch {
		case moved:
			how = waiting
		case how == without:
			order = nil
		default:
			how++
		}
	}
	for i := range requests {
		a.grants[i].Granted = a.granted[requests[i].Unit]
		a.explain(i, !a.grants[i].Granted || requests[i].Optional && a.grants[i].Name == "")
	}
	return a.grants
}

func (l *Ledger) folded(requests []Request) [][]string {
	list := make([][]string, len(requests))
	for i, r := range requests {
		if list[i] = r.Folded; list[i] == nil {
			list[i] = l.alike.FoldAll(r.Candidates)
		}
	}
	return list
}

// patience is what a request does whose best name may yet be freed.
type patience uint8

const (
	waiting  patience = iota // it waits
	nextBest                 // it takes another that is free
	without                  // it does without, if it can
)

// grant tries a unit as a whole.
func (a *allocation) grant(unit span, how patience) bool {
	var room [4]int
	var lists [4][]int
	chosen, afters := room[:0], lists[:0]
	for i := unit[0]; i < unit[1]; i++ {
		candidate, after, state := a.try(i, how)
		if state != granted {
			return false
		}
		chosen, afters = append(chosen, candidate), append(afters, after)
	}
	for n := range chosen {
		if chosen[n] >= 0 {
			a.give(unit[0]+n, pick{chosen[n], afters[n]})
		}
	}
	a.granted[a.requests[unit[0]].Unit] = true
	return true
}

// give grants a request one of its candidates.
func (a *allocation) give(i int, p pick) {
	a.grants[i].Name, a.grants[i].After = a.requests[i].Candidates[p.candidate], p.after
	a.given[a.folded[i][p.candidate]] = i
}

type outcome uint8

const (
	refused outcome = iota
	granted
	later // a candidate is held by somebody who may yet give it up
)

// try finds the first of the candidates that is free; candidate is -1 where the request is
// granted without.
func (a *allocation) try(i int, how patience) (candidate int, after []int, state outcome) {
	if a.requests[i].onlyGives() {
		return -1, nil, granted
	}
	held := false
	for n, name := range a.folded[i] {
		if rival, ok := a.given[name]; name == "" || ok && a.requests[rival].Owner != a.requests[i].Owner {
			continue
		}
		after, state := a.free(i, name)
		if state == granted {
			return n, after, granted
		}
		held = held || state == later
		if state == later && how == waiting {
			return 0, nil, later // wait rather than take a worse name
		}
	}
	switch {
	case a.requests[i].Optional && held && how != without:
		return 0, nil, later
	case a.requests[i].Optional:
		return -1, nil, granted
	}
	return 0, nil, refused
}

// free tells whether a name is free for a request: of every attribute that
// holds it now, the change that gives it up must be granted, and must not take
// the name again. What is given up may have to rest.
func (a *allocation) free(i int, name string) (after []int, state outcome) {
	after, state = a.givers(i, name)
	if len(after) > 0 && a.rests != nil && a.requests[i].From == "" {
		return nil, refused
	}
	return after, state
}

// givers are the units that give a name up for a request, granted or not; refused is that
// somebody keeps it.
func (a *allocation) givers(i int, name string) (units []int, state outcome) {
	state = granted
	if rest, rests := a.rests[name]; rests && !rest.mayHave(&a.requests[i]) {
		return nil, refused
	}
	if a.heldElsewhere(&a.requests[i], name) != nil {
		return nil, refused
	}
	for _, h := range a.holders[name] {
		if int(h.Row) == a.requests[i].Account {
			continue
		}
		mover, moves := a.mover(h, name)
		if !moves {
			return nil, refused
		}
		unit := a.requests[mover].Unit
		switch {
		case unit == a.requests[i].Unit && mover > i: // within a unit, whoever gives stands before
			return nil, refused
		case unit == a.requests[i].Unit: // they are granted together
			continue
		case !a.granted[unit]:
			state = later
		case a.alike.Fold(a.grants[mover].Name) == name:
			return nil, refused
		}
		if !slices.Contains(units, unit) {
			units = append(units, unit)
		}
	}
	return units, state
}

// mover is the request that would give up what holds a name.
func (a *allocation) mover(h Holding, name string) (mover int, moves bool) {
	mover, moves = a.frees[frees{h.Row, h.Attribute}]
	switch {
	case !moves:
	case h.Attribute == Alias:
		moves = slices.ContainsFunc(a.requests[mover].Gives, func(v string) bool { return a.alike.Fold(v) == name })
	default:
		moves = a.alike.Fold(a.requests[mover].Frees) == name
	}
	return mover, moves
}

// givesUp: an account is to have another name in place of all that it holds of this one.
func (a *allocation) givesUp(row int, name string) bool {
	return !slices.ContainsFunc(a.holders[name], func(h Holding) bool {
		mover, moves := a.mover(h, name)
		return int(h.Row) == row && (!moves || !a.granted[a.requests[mover].Unit] || a.alike.Fold(a.grants[mover].Name) == name)
	})
}

// explain says what stood in the way of a request.
func (a *allocation) explain(i int, denied bool) {
	r, g := a.requests[i], &a.grants[i]
	keeps := func(name string) int {
		for _, h := range a.holders[name] {
			if int(h.Row) != r.Account {
				return int(h.Row)
			}
		}
		return -1
	}
	if len(r.Candidates) > 0 && !strings.EqualFold(g.Name, r.Candidates[0]) {
		g.First = keeps(a.folded[i][0])
	}
	if !denied {
		return
	}
	if candidate, _, state := a.try(i, nextBest); !g.Granted && state == granted && (candidate >= 0 || r.onlyGives()) {
		return // another name of the unit is what it was refused for
	}
	for _, name := range a.folded[i] {
		if rival, ok := a.given[name]; ok {
			g.Rival, g.RivalOwner = rival, a.requests[rival].Owner
		}
		if g.Elsewhere == nil {
			g.Elsewhere = a.heldElsewhere(&r, name)
		}
		if h := keeps(name); h >= 0 {
			g.Holder = h
			if a.rests != nil && a.givesUp(h, name) {
				g.Rest = &Rest{Row: record.Row(h), Until: a.until}
			}
		} else if rest, rests := a.rests[name]; rests && !rest.mayHave(&r) {
			g.Rest = &rest
		}
	}
}
