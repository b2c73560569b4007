package reconcile

import (
	"errors"
	"fmt"
	"time"

	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/pairing"
	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/planning"
)

// Memory is what a lane knows beyond its two rosters. It is one value that
// goes in and comes out; its zero value is that of a new lane.
type Memory struct {
	Lane         string                         `json:"lane,omitempty"`       // whose memory it is, with its systems; "" where nothing else keeps it apart
	Authority    string                         `json:"authority,omitempty"`  // system of the people
	Downstream   string                         `json:"downstream,omitempty"` // system of the accounts
	Bonds        []pairing.Bond                 `json:"bonds,omitempty"`
	Same         []pairing.Pair                 `json:"same,omitempty"`      // rulings
	Different    []pairing.Pair                 `json:"different,omitempty"` // rulings
	Reasons      []Reason                       `json:"reasons,omitempty"`   // of rulings on pairs, where nothing else keeps them
	Weighed      []pairing.Pair                 `json:"weighed,omitempty"`   // twins by evidence alone at the last reconciliation
	Parted       []pairing.Pair                 `json:"parted,omitempty"`    // bonded until ruled different, and no plan sealed since
	Weights      *evidence.Weights              `json:"weights,omitempty"`   // what evidence is worth; nil: to be learnt
	LeftPeople   map[string]Leave               `json:"leavePeople,omitempty"`
	LeftAccounts map[string]Leave               `json:"leaveAccounts,omitempty"`
	Claims       map[string][]string            `json:"claims,omitempty"`    // account -> other lanes that hold it
	Twinned      map[string][]Owner             `json:"twinned,omitempty"`   // account -> whose it is, or may be, by the newest results of other lanes
	Elsewhere    map[string]string              `json:"elsewhere,omitempty"` // account -> why it may be that of another lane's people: it is nobody's orphan here
	Absent       map[string]Absence             `json:"absent,omitempty"`    // bonded person -> since when they are gone
	Inactive     map[string]string              `json:"inactive,omitempty"`  // twinned person who is inactive -> day on which they were first seen so
	Accepted     map[string]string              `json:"accepted,omitempty"`  // finding -> last day on which it is accepted, "" for ever
	Counts       map[string]int                 `json:"counts,omitempty"`    // records per side at the last reading
	Filled       map[string]float64             `json:"filled,omitempty"`    // side.attribute -> share of records that carried it
	Suspended    map[string]bool                `json:"suspended,omitempty"`
	Written      map[string]map[string]Sent     `json:"written,omitempty"`    // account -> attribute -> what our receipts say
	Halfway      map[string]map[string]Halfway  `json:"halfway,omitempty"`    // account -> attribute -> a value in between that our receipts say was written
	Added        map[string]map[string][]string `json:"added,omitempty"`      // account -> list attribute -> values that our receipts added
	Former       map[string]map[string]string   `json:"former,omitempty"`     // account -> former primary address that our receipts made an alias -> day
	Inherited    map[string][]string            `json:"inherited,omitempty"`  // account -> addresses that were handed over to it: they identify whose they were, and nobody any more
	Open         map[string]Open                `json:"open,omitempty"`       // change id -> what was sent and is not known to have come about
	Freed        []Freed                        `json:"freed,omitempty"`      // names that accounts no longer hold; nil: nobody knows
	Intentions   []planning.Intention           `json:"intentions,omitempty"` // what is to come, or has come and is not done yet
	TakenBack    map[string]int                 `json:"takenBack,omitempty"`  // change, by its TriedKey -> how often it was done and taken back since it was last done
	Done         []Tally                        `json:"done,omitempty"`
}

// ErrNameless is that a memory does not say whose it is.
var ErrNameless = errors.New("it does not say of which lane it is")

// Claim makes a memory that lies in a file a lane's own. One of another lane, or of other systems,
// is refused: its ids are other people's. One that has been reconciled by and does not say whose
// it is gives ErrNameless, unless it is adopted.
func (m *Memory) Claim(c *charter.Charter, adopt bool) error {
	switch {
	case m.Lane == "" && m.Counts != nil && !adopt:
		return ErrNameless
	case m.Lane != "" && (m.Lane != c.Lane || m.Authority != c.From || m.Downstream != c.In):
		return fmt.Errorf("it is of lane %q (%s → %s), and the charter is of lane %q (%s → %s)", m.Lane, m.Authority, m.Downstream, c.Lane, c.From, c.In)
	}
	m.Lane, m.Authority, m.Downstream = c.Lane, c.From, c.In
	return nil
}

// Reason is why a human ruled on a pair.
type Reason struct {
	pairing.Pair
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// Freed is a login or an address that an account held and holds no longer.
type Freed struct {
	System  string `json:"system,omitempty"` // of the namespace; "" is the downstream itself
	Person  string `json:"person,omitempty"` // whose it was in another system, "" when that is not known
	Name    string `json:"name"`
	Account string `json:"account"`
	On      string `json:"on"` // day
}

// Owner is whose an account is in another lane: Person is an id of the people of this lane, ""
// where those are others.
type Owner struct {
	Lane      string `json:"lane"`
	Person    string `json:"person,omitempty"`
	Contested bool   `json:"contested,omitempty"` // it may be that of somebody there: whose, is asked
}

// Leave is a leave-alone ruling.
type Leave struct {
	Reason string `json:"reason"`
	Until  string `json:"until,omitempty"` // last day, inclusive; "" for ever
}

// Absence counts the readings without a bonded person.
type Absence struct {
	Since    string `json:"since"` // day of the first reading without them
	Readings int    `json:"readings"`
	Last     string `json:"last"` // instant of the last reading counted
}

// Sent is the last value that a receipt says we wrote, and how often.
type Sent struct {
	Value  string `json:"value"`
	Rounds int    `json:"rounds"`
}

// Open is a change that was sent, and of which it is not known whether it has come
// about: it is not asked for a second time.
type Open struct {
	Why    string            `json:"why"`
	Waits  bool              `json:"waits"`  // it stands in an upload file; what is another value by now may be asked for all the same
	Values map[string]string `json:"values"` // canonical attribute -> what was asked for
}

// Tally is how many changes of a verb were carried out on a day.
type Tally struct {
	Day   string `json:"day"`
	Verb  string `json:"verb"`
	Count int    `json:"count"`
}

// Recent counts the changes of a verb done in the days up to and including
// today.
func (m *Memory) Recent(verb string, today time.Time, days int) int {
	n := 0
	first := calendar.Add(calendar.Day(today, today.Location()), -days+1)
	for _, t := range m.Done {
		if t.Verb == verb && t.Day >= first {
			n += t.Count
		}
	}
	return n
}

func reasons(leaves map[string]Leave, today string) map[string]string {
	out := make(map[string]string, len(leaves))
	for id, l := range leaves {
		if l.Until == "" || l.Until >= today {
			out[id] = l.Reason
		}
	}
	return out
}

func (m *Memory) accepts(finding, today string) bool {
	until, ok := m.Accepted[finding]
	return ok && (until == "" || until >= today)
}
