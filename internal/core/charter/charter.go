// Package charter reads a lane's rules: one YAML document, parsed, checked as a
// whole and compiled. Expressions are CEL; the common subset is compiled to
// column functions that agree with CEL (a property test holds them to it), the
// rest is evaluated by CEL itself.
//
// Missing attributes are null. Any function or operator given a null is an
// error that names the attribute, as in CEL: a value expression then reads as
// blank (a blank never clears anything unless the charter says so), and a
// condition as unknown (the record is contested, never guessed).
package charter

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"sync/atomic"
	"time"

	"twinning/internal/core/calendar"
	"twinning/internal/core/document"
	"twinning/internal/core/naming"
	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/record"
)

// Charter is a checked document.
type Charter struct {
	Lane        string
	Title       string // what people call it
	Zone        *time.Location
	From        string // system of the people
	In          string // system of the accounts
	People      *Expr  // which people the lane serves; nil: all
	Accounts    *Expr  // which accounts the lane owns; nil: all
	Pending     int    // days for which an invitation may be open
	Unused      int    // days after which an account that nobody has signed in with is told; 0: never
	Most        int    // groups that an account may be in; 0: any number
	Seats       int    // accounts that may sign in; 0: any number
	Owns        *Expr  // what an account owns: the last owner is never shut; nil: not known
	Admins      *Expr  // which accounts administer the downstream: the last one is never shut; nil: not known
	Appear      *Wait  // accounts are made by somebody else, and appear within some days; nil: they are made here
	After       *Wait  // the lane in which people have an account before they are given one here; nil: none
	OutOf       string // what happens to the twin of somebody out of scope: leave or suspend
	Keys        []Key
	Evidence    *Evidence       // nil: only rulings, bonds and keys pair
	Intent      string          // add, update or both
	Mark        *Expr           // value of our mark; nil: the person's id
	Rules       []AttributeRule // attributes other than e-mail, in the order written
	Emails      *EmailRule
	Groups      []GroupRule
	Classes     []Class // whose accounts are ruled otherwise
	SignIn      *SignIn
	Leavers     *Leavers
	Orphans     string // report or suspend
	Guards      []Guard
	First       bool // a first load may create without a guard
	Drop        float64
	Coverage    float64
	Age         int // days after which a roster is told to be old
	Waves       []Wave
	Windows     []calendar.Window // in which runs write; none: at any time
	Seals       Seals
	Secrets     *Secrets           // nil: nobody is given one
	Invitations *Invitations       // nil: nobody is invited
	Failures    float64            // share of a run's changes; when more of them fail, of FewestTried at least, it stops
	Notes       []document.Problem // accepted, and not as its writer may expect
	tables      map[string]map[string]string
	Between     string          // domain of the addresses that stand in while names move in a circle; "": they don't
	Alike       naming.Alike    // spellings of an address that the downstream holds to be one
	reserved    map[string]bool // folded names that nobody is given
	stopped     *atomic.Bool    // of whoever evaluates its expressions
}

// ErrStopped is what an evaluation panics with once the charter is stopped.
var ErrStopped = errors.New("stopped")

// Stop lets whoever still evaluates an expression of this charter panic with
// ErrStopped: a computation that nobody waits for any more ends.
func (c *Charter) Stop() { c.stopped.Store(true) }

// Key identifies: a person and an account that carry the same normalised value
// are the same human, if nobody else carries it.
type Key struct {
	Name    string
	Person  *Expr
	Account *Expr
	Kind    record.Kind
	Line    int
}

// Evidence is how sure one must be of a pair that no key makes, as
// probabilities: from Accept on two are twins, from Review on they are asked
// about. Weights, when given, are gone by and not learnt.
type Evidence struct {
	Accept, Review float64
	Weights        *evidence.Weights
	Declared       []evidence.Declared // attributes that are looked at beside those that are anyway
}

// Attributes lists the canonical attributes that a key is made of.
func (k *Key) Attributes() []string {
	person, _ := k.Person.Reads()
	_, account := k.Account.Reads()
	return slices.Concat(person, account)
}

// Rules of an attribute.
const (
	Own      = "own"      // ours always
	Fill     = "fill"     // only when empty
	Once     = "once"     // only at creation
	Watch    = "watch"    // reported, never written
	Upstream = "upstream" // mastered elsewhere: a difference is reported, and never written here
)

// AttributeRule says what one attribute of an account should hold.
type AttributeRule struct {
	Attribute  string
	Candidates []*Expr // the first usable one is taken; several only for userName
	Rule       string
	Clear      bool // a blank source clears the value
	Required   bool
	After      []string // attributes that are written before
	Longest    int      // letters; 0: as many as there are
	Seats      int      // accounts that may hold each value; 0: any number
	// Of a list, only what our own receipts added is taken away, and what Ours
	// matches as a whole; with All, whatever the rule does not want.
	All  bool
	Ours *regexp.Regexp
	Line int    // for messages alone
	Path string // in the document: which rule it is
}

// EmailRule says which address is an account's primary one.
type EmailRule struct {
	Primary []*Expr
	Rule    string
	Former  string // keep: the former primary stays as an alias; drop
	Kept    int    // days for which a former one stays, where we replaced it; 0: for ever
	Rest    int    // days for which a login or an address that was another's is given to nobody
	// Domains in which a primary address may be, and those where aliases alone may; nil: any
	Domains map[string]string
	Aliases []*Expr        // addresses that an account has beside its primary one
	Ours    *regexp.Regexp // an alias that it matches as a whole, and no rule wants, is taken away; nil: none is
	Most    int            // aliases that an account may have; 0: any number
	Line    int
}

// MayBePrimary reports whether an address is in a domain that takes primary addresses.
func (e *EmailRule) MayBePrimary(address string) bool {
	return e.Domains == nil || e.Domains[domainOf(address)] == "primary"
}

// MayBeAlias reports whether an address is in a domain that takes addresses at all.
func (e *EmailRule) MayBeAlias(address string) bool {
	return e.Domains == nil || e.Domains[domainOf(address)] != ""
}

// Takes reports whether an alias is ours to take away where nobody wants it.
func (e *EmailRule) Takes(alias string) bool {
	return e.Ours != nil && (e.Ours.MatchString(alias) || e.Ours.MatchString(record.Normal(record.Email, alias)))
}

// domainOf is an address's domain in the form that is compared.
func domainOf(address string) string {
	_, domain := cutAddress(record.Normal(record.Email, address))
	return domain
}

// SignIn says what the identity provider sends of somebody who signs in, and what the
// downstream finds the account by.
type SignIn struct {
	Subject, Account *Expr
}

// Leavers are bonded people who are inactive, past their end date or vanished.
type Leavers struct {
	Readings int // a vanished person must be absent from this many rosters
	Days     int // and for this many days
	Stages   []Stage
	Hold     *Expr // which accounts are under legal hold, and not deleted; nil: none
	HandOver *HandOver
	Line     int
}

// HandOver says who is given what somebody who has left had: their addresses, as aliases, and
// what else it names.
type HandOver struct {
	To      *Expr // the id of the person
	Address *Expr // what the account is addressed by from then on; nil: by nothing
	// Lists are attributes whose values pass on as well; References are those by which other
	// accounts refer to the leaver's.
	Lists, References []string
}

// handOver is the charter's, nil where it has none.
func (c *Charter) handOver() *HandOver {
	if c.Leavers == nil {
		return nil
	}
	return c.Leavers.HandOver
}

// Stage is what is done about the account of somebody who has left, some days after.
type Stage struct {
	After int      // days
	Do    []string // verbs
	Line  int
}

// Guard stops a plan with more changes of a verb than MoreThan or Share of the
// denominator, whichever is greater, within a rolling number of days.
type Guard struct {
	Verb     string
	MoreThan int
	Share    float64
	Within   int // days, today included; 1 when the charter does not say
	Line     int // 0: a default
}

// String is the guard as a charter says it.
func (g Guard) String() string {
	return fmt.Sprintf("%d or %g %% within %d d", g.MoreThan, 100*g.Share, g.Within)
}

// Defaults is what holds where a charter is silent. A first load is no exception to it: no
// default guard is against what a first load makes.
func Defaults() *Charter {
	return &Charter{Guards: DefaultGuards, Drop: DefaultDrop, Coverage: DefaultCoverage, First: true}
}

// LooserThan tells which guards allow more than another charter's did.
func (c *Charter) LooserThan(before *Charter) (list []string) {
	for _, g := range c.Guards {
		i := slices.IndexFunc(before.Guards, func(o Guard) bool { return o.Verb == g.Verb })
		if i < 0 {
			continue // there was none
		}
		o := before.Guards[i]
		times := max(1, (o.Within+g.Within-1)/max(g.Within, 1)) // how often it is reached within the days of the other
		if times*g.MoreThan > o.MoreThan || float64(times)*g.Share > o.Share {
			list = append(list, fmt.Sprintf("%s: %s, was %s", g.Verb, g, o))
		}
	}
	for _, o := range before.Guards {
		if !slices.ContainsFunc(c.Guards, func(g Guard) bool { return g.Verb == o.Verb }) {
			list = append(list, fmt.Sprintf("%s: none, was %s", o.Verb, o))
		}
	}
	if c.Drop > before.Drop {
		list = append(list, fmt.Sprintf("roster-drop: %g %%, was %g %%", 100*c.Drop, 100*before.Drop))
	}
	if c.Coverage > before.Coverage {
		list = append(list, fmt.Sprintf("coverage-drop: %g %%, was %g %%", 100*c.Coverage, 100*before.Coverage))
	}
	if c.First && !before.First {
		list = append(list, "first-load: true, was false")
	}
	return append(list, c.Seals.looserSeals(before.Seals)...)
}

// Allowed is the greatest count that passes.
func (g Guard) Allowed(denominator int) int {
	return max(g.MoreThan, int(g.Share*float64(denominator)))
}

// Wave is a part of a plan that is run by itself, in order.
type Wave struct {
	Name string
	When *Expr // nil: everybody not in an earlier wave, where no people are named
	// People are in it by their ids.
	People map[string]bool
	// Before the next wave comes so long a pause, or a human's go-ahead.
	Pause   time.Duration
	GoAhead bool
}

// Takes reports whether the wave is for whoever is in none before.
func (w Wave) Takes() bool { return w.When == nil && len(w.People) == 0 }

// DefaultGuards hold where a charter is silent, for the verbs that lock people out,
// take their names away or let them in again.
var DefaultGuards = []Guard{
	{Verb: "suspend", MoreThan: 10, Share: 0.05, Within: 7},
	{Verb: "rename", MoreThan: 10, Share: 0.05, Within: 7},
	{Verb: "readdress", MoreThan: 10, Share: 0.05, Within: 7},
	{Verb: "reinstate", MoreThan: 10, Share: 0.05, Within: 7},
	{Verb: "withdraw", MoreThan: 10, Share: 0.05, Within: 7},
	{Verb: "reissue", MoreThan: 10, Share: 0.05, Within: 7},
	{Verb: "delete", MoreThan: 0, Within: 7},
}

// What else holds where a charter is silent.
const (
	DefaultDrop     = 0.10
	DefaultCoverage = 0.10
	DefaultAccept   = 0.95
	DefaultReview   = 0.60
	DefaultPending  = 14 // days
	DefaultAge      = 7  // days
)

// Needs lists the canonical attributes that the charter reads on either side,
// with all that the reconciliation itself looks at. A roster that lacks some
// of them reads as absent there.
func (c *Charter) Needs() (people, accounts []string) {
	p := map[string]bool{"id": true, "active": true, "endsOn": true, "startsOn": true, "displayName": true, "givenName": true, "familyName": true, "email": true}
	a := map[string]bool{"id": true, "externalId": true, "active": true, "userName": true, "displayName": true, "givenName": true, "familyName": true, "email": true, "aliases": true, "emails": true, "pending": true, "locked": true, "lastSignIn": true, "created": true}
	for _, e := range c.exprs() {
		for _, n := range e.person {
			p[n] = true
		}
		for _, n := range slices.Concat(e.account, e.others) {
			a[n] = true
		}
	}
	for _, g := range c.Given() {
		a[g.Attribute] = true
	}
	if h := c.handOver(); h != nil {
		for _, name := range slices.Concat(h.Lists, h.References) {
			a[name] = true
		}
	}
	if c.Secrets != nil && c.Secrets.MustChange != "" {
		a[c.Secrets.MustChange] = true
	}
	if len(c.letters()) > 0 { // what is mailed to an address that is somebody else's too reaches them
		p["personalEmail"], p["aliases"] = true, true
	}
	if a["groups"] {
		a["nestedGroups"] = true
	}
	if c.Leavers != nil { // who comes back is listed again
		a["hidden"] = true
	}
	left, right := evidence.Attributes()
	if c.Evidence == nil { // it only asks, by who somebody is
		left, right = evidence.Identity()
	}
	if c.Evidence != nil {
		for _, d := range c.Evidence.Declared {
			p[d.Attribute], a[d.Attribute] = true, true
		}
	}
	for _, n := range left {
		p[n] = true
	}
	for _, n := range right {
		a[n] = true
	}
	if p["emails"] {
		p["aliases"] = true
	}
	return slices.Sorted(maps.Keys(p)), slices.Sorted(maps.Keys(a))
}

// Lanes lists the other lanes that the charter asks for, with the attributes of accounts
// that it looks at there.
func (c *Charter) Lanes() map[string][]string {
	lanes := map[string][]string{}
	for _, e := range c.exprs() {
		for lane, attributes := range e.lanes {
			lanes[lane] = append(lanes[lane], attributes...)
		}
	}
	if c.After != nil {
		lanes[c.After.Lane] = append(lanes[c.After.Lane], "id")
	}
	return lanes
}

// Expressions lists all that the charter reads records by.
func (c *Charter) Expressions() []*Expr { return c.exprs() }

// ByPath finds the expressions by their place in the document.
func (c *Charter) ByPath() map[string]*Expr {
	by := map[string]*Expr{}
	for _, e := range c.exprs() {
		by[e.Path] = e
	}
	return by
}

func (c *Charter) exprs() []*Expr {
	out := []*Expr{c.People, c.Accounts, c.Admins, c.Owns, c.Mark}
	for _, k := range c.Keys {
		out = append(out, k.Person, k.Account)
	}
	out = append(out, c.Values()...)
	for _, x := range c.Classes {
		out = append(out, x.When)
	}
	if c.SignIn != nil {
		out = append(out, c.SignIn.Subject, c.SignIn.Account)
	}
	for _, g := range c.EveryGroup() {
		out = append(out, g.When)
	}
	if c.Leavers != nil {
		out = append(out, c.Leavers.Hold)
		if h := c.handOver(); h != nil {
			out = append(out, h.To, h.Address)
		}
	}
	for _, w := range c.Waves {
		out = append(out, w.When)
	}
	out = append(out, c.Letters()...)
	return slices.DeleteFunc(out, func(e *Expr) bool { return e == nil })
}
