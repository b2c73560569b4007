// Package pairing decides which person and which account are the same human.
//
// It looks at rulings (human decisions), bonds (earlier twins by native ids),
// keys (values that identify) and evidence (everything else that two records
// say, weighed), over all records of both sides. A key pairs only when its value
// is carried by exactly one person and one account of all; the order of the four
// decides the basis that is told, never what is looked at. Whatever points in two
// directions is contested: a human is asked and nobody concerned is touched.
// Records left over are compared with those already paired, which is how
// duplicates show.
//
// Evidence (package evidence) weighs what keys leave over: blocking brings records
// together, comparing gives a weight in bits, and package assignment turns the
// weights of all candidates around a pair into its probability. It may settle
// what keys leave unsure, and never what a ruling, a bond or a claim does.
//
// The account of somebody who is bonded is nobody else's, also when they have
// vanished: keys and evidence may ask about it, and never give it away. A lane
// that weighs no evidence still uses it to ask.
//
// Accounts outside the lane (charter, claims of other lanes) take no part, so
// that a second lane may own another account of the same human.
//
// Cost: one hash table a key, about 200 ns a record and key; records that
// point one way are decided by array look-ups, only the others walk a graph.
// Evidence counts the values of all records, about 2 µs each, and compares each
// record that is left over with 24 others at the most, about 2 µs each.
package pairing

import (
	"sync"

	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/record"
)

// Basis says why a person and an account are twins.
type Basis uint8

const (
	NoBasis Basis = iota
	Ruled
	Bonded
	Keyed
	Weighed
)

func (b Basis) String() string {
	return [...]string{"", "ruled", "bonded", "keyed", "weighed"}[b]
}

// State is the column of the balance that a record stands in.
type State uint8

const (
	Undecided State = iota
	Twinned
	Missing   // a person without account
	Orphan    // an account without person
	Duplicate // listed again, or a second account of a human
	Contested // in doubt: asked, not touched
	Exempt    // left alone, with the reason
)

func (s State) String() string {
	return [...]string{"", "twinned", "missing", "orphan", "duplicate", "contested", "exempt"}[s]
}

// Pair names a person and an account by their native ids.
type Pair struct {
	Person  string `json:"person"`
	Account string `json:"account"`
}

// Bond is the lasting record of a twin, with what first held it to be one.
type Bond struct {
	Person  string `json:"person"`
	Account string `json:"account"`
	Basis   string `json:"basis,omitempty"` // a Basis in words, or Created; "" when it is not known
}

// Created is the basis of a bond with an account that a run made for the person: it says
// what was written there, and nothing of how the lists differ by themselves.
const Created = "created"

// Key is one key of the charter, evaluated: per row the normalised values.
type Key struct {
	Name             string
	People, Accounts *record.Column
	Attributes       []string // canonical attributes that it is made of, on either side
	Exact            bool     // upper and lower case are two values
}

// Evidence says how what no key pairs is weighed.
type Evidence struct {
	Accept, Review float64             // probabilities: from Accept on two are twins, from Review on they are asked about
	Weights        *evidence.Weights   // nil: learnt from these rosters
	Declared       []evidence.Declared // attributes that are looked at beside those that are anyway
	// Asks: nobody is joined by it. A person and an account that are left over
	// and resemble each other are asked about, and nothing else is said.
	Asks bool
}

// Input is all that pairing looks at.
type Input struct {
	People, Accounts *record.Roster
	Keys             []Key
	Same, Different  []Pair            // rulings
	LeftPeople       map[string]string // person id -> reason of a leave-alone ruling
	LeftAccounts     map[string]string
	Bonds            []Bond
	Claims           map[string][]string // account id -> other lanes that hold it
	Outside          []bool              // account row is not this lane's; nil: all are
	Unclear          map[int]string      // account row -> why it can't be told whose it is
	Evidence         *Evidence           // nil: keys alone
	Weighed          []Pair              // twins by evidence at the last reconciliation
	Parted           []Pair              // bonded until a human ruled them different, and no plan sealed since
	Ended            func(p int) Ending  // whether the person row says that they have left; nil: nobody's does
	Tell             bool                // what explains the verdicts is told as well
	Cores            int
}

// Issue is something pairing found wrong, by row.
type Issue struct {
	Code    string
	Person  int // -1: none
	Account int
	Subject string // tells issues of one code apart that name no record
	Detail  string
}

// Proposal is a pair that a human should judge.
type Proposal struct {
	Code            string // of the finding that it is asked for
	Person, Account int
	Reason          string
	Brief           string  // the reason without what evidence says; "" where it is all there is
	Probability     float32 // 0: not weighed
}

// Result gives every record's state. Slices are indexed by row.
type Result struct {
	PersonState, AccountState []State
	PersonTwin, AccountTwin   []record.Row // row of the twin, or of the record that a duplicate repeats; -1
	Basis                     []Basis      // by person
	By                        []uint8      // by person: index of the first key that agrees, for Keyed
	PersonNote, AccountNote   map[int]string
	Vanished                  map[int]string // account row -> id of its bonded person, gone from the roster
	Ours                      map[int]bool   // person row of a twin whose account a run made
	Guessed                   map[int]bool   // person row of a twin that evidence alone made, now or once, and no human confirmed
	Proposals                 []Proposal
	Probability               []float32 // by person, of a weighed twin; nil when none is
	Weights                   *evidence.Weights
	Prior                     float64 // odds of a pair of open records about which nothing is known
	Dropped                   evidence.Dropped
	Candidates                []Candidate // pairs that evidence speaks for, by person
	finder                    sync.Once
	found                     map[edge]int
	Issues                    []Issue
	Told                      *Told // nil when it is not asked for
}

func newResult(people, accounts int) *Result {
	r := &Result{
		PersonState: make([]State, people), AccountState: make([]State, accounts),
		PersonTwin: make([]record.Row, people), AccountTwin: make([]record.Row, accounts),
		Basis: make([]Basis, people), By: make([]uint8, people),
		PersonNote: map[int]string{}, AccountNote: map[int]string{}, Vanished: map[int]string{}, Guessed: map[int]bool{}, Ours: map[int]bool{},
	}
	for i := range r.PersonTwin {
		r.PersonTwin[i] = -1
	}
	for i := range r.AccountTwin {
		r.AccountTwin[i] = -1
	}
	return r
}

func (r *Result) join(p, a int, basis Basis) {
	r.PersonState[p], r.AccountState[a] = Twinned, Twinned
	r.PersonTwin[p], r.AccountTwin[a] = record.Row(a), record.Row(p)
	r.Basis[p] = basis
}

func (r *Result) contestPerson(p int, why string) {
	if a := r.PersonTwin[p]; a >= 0 && r.PersonState[p] == Twinned {
		r.PersonTwin[p], r.AccountTwin[a] = -1, -1
		r.AccountState[a], r.AccountNote[int(a)] = Contested, why
	}
	r.PersonState[p] = Contested
	if r.PersonNote[p] == "" {
		r.PersonNote[p] = why
	}
}

func (r *Result) contestAccount(a int, why string) {
	if p := r.AccountTwin[a]; p >= 0 && r.AccountState[a] == Twinned {
		r.contestPerson(int(p), why)
	}
	r.AccountState[a] = Contested
	if r.AccountNote[a] == "" {
		r.AccountNote[a] = why
	}
}

// Contest puts a pair in doubt after all: somebody has to judge it before what
// rests on it is done.
func (r *Result) Contest(code string, p, a int, why string) {
	if p >= 0 {
		r.contestPerson(p, why)
	}
	r.contestAccount(a, why)
	if p >= 0 {
		r.propose(code, p, a, why)
	}
}

func (r *Result) propose(code string, p, a int, why string) {
	r.Proposals = append(r.Proposals, Proposal{Code: code, Person: p, Account: a, Reason: why})
}

// certain pairs by what is no matter of likelihood.
func (m *matcher) certain() {
	m.rulings()
	m.bonds()
	m.keys()
	m.leftovers()
	m.cased()
}

// Run pairs. Apart from the order of Issues and Proposals, which the caller
// sorts, the result does not depend on the order of the rows.
func Run(in Input) *Result {
	m := newMatcher(in)
	m.certain()
	m.weigh()
	m.fallen()
	m.parted()
	m.remaining()
	m.rehired()
	m.repeated()
	m.doubtSeconds()
	m.exempt()
	if in.Tell {
		m.tell()
	}
	return m.Result
}
