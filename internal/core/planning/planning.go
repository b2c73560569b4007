// Package planning turns what is desired into ordered changes.
//
// A change is one verb on one account with the values it writes, old beside
// new, and the rule that wants it. Changes stand in waves; inside a wave a
// change that needs another's name freed comes after it. Guards count the
// changes of a verb against a limit and stop a plan as a whole.
package planning

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"twinning/internal/core/charter"
)

// Edit writes one attribute. Lists are joined by record.ListSep.
type Edit struct {
	Attribute string `json:"attribute"`
	Old       string `json:"old"`
	New       string `json:"new"`
	Reason    string `json:"reason"` // the rule, with the charter's line
}

// Change is one verb on one account.
type Change struct {
	ID      string   `json:"id"`
	Wave    int      `json:"wave"` // index into the charter's waves
	Verb    string   `json:"verb"`
	Person  string   `json:"personId,omitempty"`
	Account string   `json:"accountId,omitempty"` // "" for create
	Edits   []Edit   `json:"edits"`
	Needs   []string `json:"needs,omitempty"` // ids of changes that must be done first
	// Unit names the changes that are done together or not at all, "" for most; Between is
	// that it only frees names for the others of its unit, by a value in between.
	Unit    string `json:"unit,omitempty"`
	Between bool   `json:"between,omitempty"`
	// Class is the person's, by its place among those of the charter; whoever keeps the change
	// keeps its name.
	Class int16 `json:"-"`
	// HandsOver is that it gives addresses up for another change of its unit, and is taken
	// back where that can't be done.
	HandsOver bool `json:"handsOver,omitempty"`
	// Inherits is that it gives an account the addresses of somebody who has left.
	Inherits bool `json:"inherits,omitempty"`
	// Yields is that the address which it gives up would stay as an alias, were it not given to
	// somebody else.
	Yields bool `json:"yields,omitempty"`
	// After are attributes of which the account must hold something before.
	After []string `json:"after,omitempty"`
	// RestsOn are the account's values that the change's reason depends on, as
	// they were read: if one differs at writing time, the change is stale.
	RestsOn []Edit `json:"restsOn,omitempty"`
	// Kept says how the charter leaves what it writes as it is; nil: it does not.
	Kept *Kept `json:"kept,omitempty"`
	// Delivers is what its holder is sent by it; nil: nothing.
	Delivers *Delivery `json:"delivers,omitempty"`
	// Owes is of a create: its holder is to be given a secret, by this plan or, where that does
	// not come to it, by a later one.
	Owes bool `json:"owes,omitempty"`
	// Basis is why person and account are held to be one, "" where no person is.
	Basis string `json:"basis,omitempty"`
	// Premises are all else that it rests on; see StillHold.
	Premises []Premise `json:"premises,omitempty"`
}

// Writes are the values that carrying the change out writes: deleting writes none, and what is
// delivered stands in no attribute.
func (c *Change) Writes() []Edit {
	switch c.Verb {
	case Delete:
		return nil
	case Reissue, Invite:
		return slices.DeleteFunc(slices.Clone(c.Edits), func(e Edit) bool { return e.Attribute == Delivered[c.Verb] })
	}
	return c.Edits
}

// ChangeID is stable from draft to draft.
func ChangeID(verb, person, account string) string {
	sum := sha256.Sum256([]byte(verb + "\x00" + person + "\x00" + account))
	return "c-" + hex.EncodeToString(sum[:6])
}

// Intention is a change that is not due yet: it is looked at again in every reconciliation,
// and drafted on its day if all that it rests on is still so.
type Intention struct {
	ID      string `json:"id"`
	Verb    string `json:"verb"`
	Person  string `json:"personId"`
	Account string `json:"accountId"`
	Due     string `json:"due"`   // day
	First   string `json:"first"` // day on which it was first told
	// Told is when that was; its zero is long ago.
	Told   time.Time `json:"told,omitzero"`
	Waits  string    `json:"waits,omitempty"` // what it waits for beside its day
	Reason string    `json:"reason"`          // the rule, with the charter's line
	// Attribute is what is kept by an intention to keep something; of a list only the Values.
	Attribute string   `json:"attribute,omitempty"`
	Values    []string `json:"values,omitempty"`
	// Cancelled is why a human has dropped it; it is not drafted then.
	Cancelled string `json:"cancelled,omitempty"`
}

// Comes reports whether it is drafted on a day.
func (i Intention) Comes(today string) bool {
	return !i.OfReceipts() && i.Due <= today && i.Waits == "" && i.Cancelled == ""
}

// IntentionID is stable from one reconciliation to the next: what a human has said of an
// intention belongs to its verb, person and account, and to no day.
func IntentionID(verb, person, account string) string {
	sum := sha256.Sum256([]byte(strings.Join([]string{verb, person, account, ""}, "\x00")))
	return "i-" + hex.EncodeToString(sum[:6])
}

// order of verbs inside a wave: what frees names first, what harms last.
var verbOrder = map[string]int{Mark: 0, Reinstate: 1, Unhide: 2, Rename: 3, Readdress: 4, Place: 5, Set: 6, Create: 7, Enrol: 8, Withdraw: 9, Reissue: 10, Invite: 11, Suspend: 12, Hide: 13, Delete: 14}

// Order sorts changes by wave, verb, person and account, then moves each
// behind what it needs, into a later wave if need be. A change whose need is not
// planned, or needs it in turn, is dropped; dropped ones are returned.
func Order(changes []*Change) (ordered []Change, dropped []*Change) {
	changes = sorted(changes)
	if slices.ContainsFunc(changes, func(c *Change) bool { return len(c.Needs) > 0 }) {
		changes, dropped = orderByNeed(changes)
	}
	ordered = make([]Change, len(changes))
	for i, c := range changes {
		ordered[i] = *c
	}
	return ordered, dropped
}

func sorted(changes []*Change) []*Change {
	type place struct {
		wave, verb, at int32 // no plan has more changes
	}
	places := make([]place, len(changes))
	for i, c := range changes {
		places[i] = place{int32(c.Wave), int32(verbOrder[c.Verb]), int32(i)}
	}
	slices.SortFunc(places, func(x, y place) int { return cmp.Or(int(x.wave-y.wave), int(x.verb-y.verb), int(x.at-y.at)) })
	byIDs := func(x, y place) int {
		a, b := changes[x.at], changes[y.at]
		return cmp.Or(strings.Compare(a.Person, b.Person), strings.Compare(a.Account, b.Account), int(x.at-y.at))
	}
	for from, to := 0, 0; from < len(places); from = to { // mostly they come in this order
		for to = from; to < len(places) && places[to].wave == places[from].wave && places[to].verb == places[from].verb; {
			to++
		}
		if part := places[from:to]; !slices.IsSortedFunc(part, byIDs) {
			slices.SortFunc(part, byIDs)
		}
	}
	out := make([]*Change, len(changes))
	for i, p := range places {
		out[i] = changes[p.at]
	}
	return out
}

func orderByNeed(changes []*Change) (ordered, dropped []*Change) {
	at := make(map[string]int, len(changes))
	for i, c := range changes {
		at[c.ID] = i
	}
	const (
		unseen = iota
		walking
		placed
		refused
	)
	state := make([]int, len(changes))
	var visit func(i int) bool
	visit = func(i int) bool {
		switch state[i] {
		case placed:
			return true
		case walking, refused:
			return false
		}
		state[i] = walking
		for _, need := range changes[i].Needs {
			j, planned := at[need]
			if !planned || !visit(j) {
				state[i] = refused
				dropped = append(dropped, changes[i])
				return false
			}
			changes[i].Wave = max(changes[i].Wave, changes[j].Wave)
		}
		state[i] = placed
		ordered = append(ordered, changes[i])
		return true
	}
	for i := range changes {
		visit(i)
	}
	slices.SortStableFunc(ordered, func(a, b *Change) int { return a.Wave - b.Wave })
	torn := map[string]bool{}
	for _, c := range dropped {
		torn[c.Unit] = c.Unit != ""
	}
	return slices.DeleteFunc(ordered, func(c *Change) bool {
		if torn[c.Unit] { // a unit is done as a whole
			dropped = append(dropped, c)
		}
		return torn[c.Unit]
	}), dropped
}

// Reading is one guard held against a plan.
type Reading struct {
	Verb        string `json:"verb"` // or roster-drop, coverage-drop
	Count       int    `json:"count"`
	Recent      int    `json:"recent"`  // done in the guard's days, whatever plan did it
	Pending     int    `json:"pending"` // that other plans are doing or have sealed
	Allowed     int    `json:"allowed"`
	Denominator int    `json:"denominator"`
	Of          string `json:"of"` // what the denominator counts
	Tripped     bool   `json:"tripped"`
	FirstLoad   bool   `json:"firstLoad,omitempty"` // it would have tripped, and a first load may go over it
	Message     string `json:"message"`
}

// Totals gives the denominators.
type Totals struct{ People, Twins int }

// String tells the sum and what is allowed, and of a guard that stops, what can be
// done about it.
func (g Reading) String() string {
	s := fmt.Sprintf("%d × %s", g.Count, g.Verb)
	if g.Recent > 0 {
		s += fmt.Sprintf(", %d in the days before", g.Recent)
	}
	if g.Pending > 0 {
		s += fmt.Sprintf(", %d by other sealed plans", g.Pending)
	}
	s += fmt.Sprintf("; %d allowed of %d %s", g.Allowed, g.Denominator, g.Of)
	if g.FirstLoad {
		s += ", more for a first load (first-load: true)"
	}
	switch room := g.Allowed - g.Recent - g.Pending; {
	case !g.Tripped:
	case room > 0:
		s += fmt.Sprintf(": draft %d at most (plan draft --person, --wave)", room)
	case g.Recent > 0:
		s += ": wait until the days before are over"
	case g.Pending > 0:
		s += ": run or give up the other plans first"
	default:
		s += ": raise it in the charter if so many are meant"
	}
	return s
}

// Past tells guards what happens beside the plan at hand; either may be nil.
type Past struct {
	Recent  func(verb string, days int) int // done to the system in the last so many days
	Pending func(verb string) int           // being done, or sealed, by other plans
}

// Guards holds the charter's guards against the changes and what happens beside
// them.
func Guards(guards []charter.Guard, changes []Change, totals Totals, firstLoad bool, past Past) []Reading {
	counts := map[string]int{}
	for _, c := range changes {
		if !c.Between && !(c.Verb == Reissue && c.Account == "") { // the same account's, and counted with its other change
			counts[c.Verb]++
		}
	}
	out := make([]Reading, 0, len(guards))
	for _, g := range guards {
		r := Reading{Verb: g.Verb, Count: counts[g.Verb], Denominator: totals.Twins, Of: "twins"}
		if g.Verb == Create {
			r.Denominator, r.Of = totals.People, "people in scope"
		}
		if g.Within > 0 && past.Recent != nil {
			r.Recent = past.Recent(g.Verb, g.Within)
		}
		if past.Pending != nil {
			r.Pending = past.Pending(g.Verb)
		}
		r.Allowed = g.Allowed(r.Denominator)
		exempt := firstLoad && (g.Verb == Create || g.Verb == Mark || g.Verb == Set)
		over := r.Count > 0 && r.Count+r.Recent+r.Pending > r.Allowed
		r.Tripped, r.FirstLoad = over && !exempt, over && exempt
		out = append(out, r)
	}
	return out
}
