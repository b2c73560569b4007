package planning

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/record"
)

// Intent is something that a human asks for of one account, beside what the charter wants of
// it: by an action on a selection, by a sheet, or by undoing a run. It is drafted with all the
// checks of any other change.
type Intent struct {
	Account string `json:"account,omitempty"` // id; "": the account of Person
	Person  string `json:"person,omitempty"`  // id; "": whoever's the account is
	// Verb is what is asked for; Set is whatever verbs the values take.
	Verb   string   `json:"verb"`
	Values []Wanted `json:"values,omitempty"`
	Reason string   `json:"reason"` // told with every edit
	// Until is the last day on which the charter leaves what comes of it as it is; "": it does
	// not, and an undo ends that it does.
	Until string `json:"until,omitempty"`
	// Updates is of a create: where the account is there already, it is given the values.
	Updates bool `json:"updates,omitempty"`
	// Undoes is that it gives back what was there: the charter's rules do not stand in its way.
	Undoes bool `json:"undoes,omitempty"`
}

// Wanted is what one attribute is to hold. Of a list it is what is added and what is taken.
type Wanted struct {
	Attribute string   `json:"attribute"`
	New       string   `json:"new,omitempty"` // "" clears it
	Old       *string  `json:"old,omitempty"` // what it held where it was seen; nil: whatever it holds
	Adds      []string `json:"adds,omitempty"`
	Takes     []string `json:"takes,omitempty"`
}

// Actions are the verbs that can be asked for as they are; the value says which attribute the
// verb writes, and what, where it needs no value.
var Actions = map[string]Wanted{
	Suspend:   {Attribute: "active", New: "false"},
	Reinstate: {Attribute: "active", New: "true"},
	Hide:      {Attribute: "hidden", New: "true"},
	Unhide:    {Attribute: "hidden", New: "false"},
	Enrol:     {Attribute: "groups"},
	Withdraw:  {Attribute: "groups"},
	Place:     {Attribute: "container"},
	Reissue:   {Attribute: Delivered[Reissue]},
	Invite:    {Attribute: Delivered[Invite]},
	Delete:    {Attribute: "id"},
}

// Returns are the actions after which the charter would want it otherwise the next night.
var Returns = map[string]bool{Suspend: true, Reinstate: true, Hide: true, Unhide: true}

// Keep is the verb of an intention by which the charter leaves something as it is until a day:
// a human has asked for it, or has undone what the charter did.
const Keep = "keep"

// Keeps says whether it keeps an attribute of its account as it is on a day.
func (i Intention) Keeps(attribute, today string) bool {
	return i.Verb == Keep && i.Attribute == attribute && i.Cancelled == "" && i.Due >= today
}

// Holds reports whether a value of a list is among those that an intention keeps.
func (i Intention) Holds(kind record.Kind, value string) bool {
	return slices.ContainsFunc(i.Values, func(v string) bool { return record.Same(kind, v, value) })
}

// Kept is until which day something is left as it is, that day included; "" ends that it is.
type Kept struct {
	Until string `json:"until,omitempty"`
}

// keeps names the intention to keep what an edit writes, and of a list the values that it
// moves: other values of the list are kept, and let go, by themselves. The way back of an edit
// has the same.
func (e *Edit) keeps(account string) (id string, values []string) {
	what := e.Attribute
	if kind := record.KindOf(e.Attribute); kind.Multi() {
		added, taken := Moved(kind, e.Old, e.New)
		values = slices.Concat(added, taken)
		slices.Sort(values)
		what += between + record.JoinList(values)
	}
	return IntentionID(Keep, what, account), values
}

// Frees are the ids of the intentions by which what a change gives back was kept.
func (c *Change) Frees(account string) (ids []string) {
	if c.Verb == Reissue {
		return []string{owedID(c.Person, account)}
	}
	if c.Kept == nil || c.Kept.Until != "" {
		return nil
	}
	for _, e := range c.Edits {
		id, _ := e.keeps(account)
		ids = append(ids, id)
	}
	return ids
}

// KeptBy are the intentions to keep what a change has written, until the day that it says.
func (c *Change) KeptBy(account, by string) (list []Intention) {
	if c.Kept == nil || c.Kept.Until == "" || c.Verb == Delete || c.Between {
		return nil
	}
	for _, e := range c.Edits {
		id, values := e.keeps(account)
		list = append(list, Intention{ID: id, Verb: Keep, Person: c.Person, Account: account, Attribute: e.Attribute, Values: values, Due: c.Kept.Until, Reason: fmt.Sprintf("%s (%s)", e.Reason, by)})
	}
	return list
}

// Moved are the values that one list has beyond another, and those that it lacks.
func Moved(kind record.Kind, old, now string) (added, taken []string) {
	return beyond(kind, now, old), beyond(kind, old, now)
}

func beyond(kind record.Kind, list, other string) (values []string) {
	has := map[string]bool{}
	record.EachValue(other, func(v string) { has[record.Normal(kind, v)] = true })
	record.EachValue(list, func(v string) {
		if !has[record.Normal(kind, v)] {
			values = append(values, strings.Clone(v))
		}
	})
	return values
}

// Done is a change that was carried out, as its receipt says: what is to be undone.
type Done struct {
	Change
	Account string // also of one that it made
}

// Lasting says why something of a change can't be undone.
type Lasting struct {
	Verb, Person, Account string
	Reason                string
}

// Seen tells what readings since have shown an account to hold of an attribute, in their order.
type Seen func(account, attribute string) (cells []string)

// Undo asks for what gives back the state before some changes, which were carried out in this
// order: of each account and attribute, what it held before the first of them, where it still
// holds what the last one wrote and nobody has written it since; of a list value by value. What
// can't be undone is told.
func Undo(done []Done, reason, until string, seen Seen) (intents []Intent, lasting []Lasting) {
	accounts, order := map[string]*touched{}, []string{}
	for _, d := range done {
		t := accounts[d.Account]
		if t == nil {
			t = &touched{by: map[string]*written{}}
			accounts[d.Account], order = t, append(order, d.Account)
		}
		if t.person == "" {
			t.person = d.Person
		}
		if why := lasts[d.Verb]; why != "" {
			lasting = append(lasting, Lasting{d.Verb, d.Person, d.Account, why})
		}
		switch d.Verb {
		case Delete:
			t.deleted = true
		case Create:
			t.made = true
		case Reissue, Invite:
		default:
			t.note(d.Writes())
		}
	}
	for _, id := range order {
		t := accounts[id]
		if t.deleted {
			continue
		}
		i := Intent{Account: id, Person: t.person, Verb: Set, Reason: reason, Until: until, Undoes: true}
		others := func(what string) {
			lasting = append(lasting, Lasting{Set, t.person, id, fmt.Sprintf("%s was written by somebody else since: it is left as it is", what)})
		}
		if t.made { // what else it was given does no harm to whoever can't use it
			i.Values, t.order = []Wanted{Actions[Suspend]}, nil
		}
		for _, attribute := range t.order {
			if x := t.by[attribute].givenBack(attribute, seen(id, attribute), others); x != nil {
				i.Values = append(i.Values, *x)
			}
		}
		if len(i.Values) > 0 {
			intents = append(intents, i)
		}
	}
	return intents, lasting
}

// lasts says of verbs what of them can't be undone.
var lasts = map[string]string{
	Delete:  "an account that was deleted does not come back: its holder needs a new one",
	Reissue: "the secret that was before is not known, and does not come back: reissue another one",
	Invite:  "an invitation that was sent stays sent",
	Create:  "an account that was made is not deleted by an undo: it is suspended, and what was sent to its holder stays sent",
}

// touched is what some changes did to an account.
type touched struct {
	person        string
	order         []string // attributes, as they were first written
	by            map[string]*written
	made, deleted bool
}

// written is what some changes wrote to an attribute: from what to what, and of a list which
// values were moved.
type written struct {
	old, now string
	values   []string         // of a list, in normalised form, as they were first moved
	moved    map[string]*move // by value
}

// move is what became of a value of a list.
type move struct {
	value       string
	before, now bool // it is in the list
}

func (t *touched) note(edits []Edit) {
	for _, e := range edits {
		w := t.by[e.Attribute]
		if w == nil {
			w = &written{old: e.Old, moved: map[string]*move{}}
			t.by[e.Attribute], t.order = w, append(t.order, e.Attribute)
		}
		w.now = e.New
		if kind := record.KindOf(e.Attribute); kind.Multi() { // each change says what the list was when it was drafted, so that only what it moves counts
			added, taken := Moved(kind, e.Old, e.New)
			w.note(kind, added, true)
			w.note(kind, taken, false)
		}
	}
}

func (w *written) note(kind record.Kind, values []string, there bool) {
	for _, v := range values {
		key := record.Normal(kind, v)
		if w.moved[key] == nil {
			w.moved[key], w.values = &move{value: v, before: !there}, append(w.values, key)
		}
		w.moved[key].now = there
	}
}

// givenBack is what an attribute is to hold again; nil where nothing is left to do. Others is
// told what a reading since has shown otherwise than it was left.
func (w *written) givenBack(attribute string, seen []string, others func(what string)) *Wanted {
	kind := record.KindOf(attribute)
	if !kind.Multi() {
		switch {
		case w.old == w.now:
			return nil
		case slices.ContainsFunc(seen, func(cell string) bool { return !record.Same(kind, cell, w.now) }):
			others(attribute)
			return nil
		}
		return &Wanted{Attribute: attribute, New: w.old, Old: &w.now}
	}
	x := Wanted{Attribute: attribute}
	for _, key := range w.values {
		m := w.moved[key]
		holds := func(cell string) bool {
			return slices.ContainsFunc(record.SplitList(cell), func(o string) bool { return record.Same(kind, o, m.value) })
		}
		switch {
		case m.before == m.now:
		case slices.ContainsFunc(seen, func(cell string) bool { return holds(cell) != m.now }):
			others(fmt.Sprintf("%q of %s", m.value, attribute))
		case m.now:
			x.Takes = append(x.Takes, m.value)
		default:
			x.Adds = append(x.Adds, m.value)
		}
	}
	if len(x.Takes)+len(x.Adds) == 0 {
		return nil
	}
	return &x
}
