// Package connector is the contract between Twinning and a system that holds
// identities: what can be read, what can be written, and what each kind of
// system must declare so that a run can tell afterwards what happened.
//
// A reading is whole or an error, never something between. A write answers
// with the record as the system now has it, or with an *Error that says
// whether anything can have been written.
//
// What only some systems can do (groups, deleting, secrets, probing) stands in
// small interfaces of its own; the verbs a connector declares are those it has
// the interfaces for, and connectortest holds it to that.
package connector

import (
	"context"
	"errors"
	"fmt"
	"time"

	"twinning/internal/connector/outbound"
	"twinning/internal/core/record"
	"twinning/internal/format"
	"twinning/internal/format/ldif"
)

// Record is one record as the system gives it.
type Record struct {
	ID      string
	Values  map[string][]string // by native attribute; never holds a secret
	Version string              // the system's own version of the record, "" when it has none
	Line    int                 // where in a file it stands, 0 elsewhere
	Raw     []byte              // as it came, for systems that want the whole back
}

// MostEmptyPages bounds how many pages of a list may come one after the other without a record: a
// server that goes on after them never ends.
const MostEmptyPages = 1000

// Sink takes what a reading finds.
type Sink interface {
	// Expect says how many records will come, when the system tells.
	Expect(n int)
	// Record takes one record; it may keep what it is given.
	Record(r Record) error
	// Reject notes a record that is present but can't be understood.
	Reject(r record.Rejection) error
	// Gone notes that the system says of a record that it is deleted; only a
	// reading of changes does.
	Gone(id string) error
	// Restart forgets all it was given: the reading begins anew, since the list
	// shifted while it was read, say.
	Restart() error
	// LeftOut notes what is there and was not read, or is suspected to be, and
	// why; it is listed with the roster.
	LeftOut(l Left) error
}

// Left is something that a reading left out: a gap of its roster. The same
// reason has the same words: they are counted.
type Left = record.Gap

// Extents of a reading.
const (
	Whole   = "whole"   // every record of the scope
	Changes = "changes" // what changed since the cursor; absence means nothing
	Sample  = "sample"  // some, for looking
)

// Reading says what to read.
type Reading struct {
	Extent string // "" is Whole
	Cursor string // for Changes: what the reading before gave back
	Skip   int    // for Sample: how many records to pass over
	Limit  int    // for Sample: how many to give
}

// Edit changes one native attribute. An empty New clears it.
type Edit struct {
	Native   string
	Old, New []string
}

// Write changes one record. Record is the one just read; nil for a create.
type Write struct {
	Record *Record
	Edits  []Edit
}

// Declaration is what a kind of system says about itself.
type Declaration struct {
	Kind  string
	Shape record.Shape // used when the system has none of its own
	// Extents are the readings it can give; only a whole one is reconciled.
	Extents []string
	Writes  bool
	// Verbs are what can be written: create, set, rename, place, enrol,
	// withdraw, suspend, reinstate, reissue, delete.
	Verbs []string
	// Deferred: a write shows only in a later roster; its change stays waiting.
	Deferred bool
	// Scope is the part of the system that is read, in words; when it changes,
	// what is absent may only be out of scope.
	Scope string
	// Reaches names the settings that say where the system is and whom it is taken
	// for: a secret is meant for what they were when it was given.
	Reaches []string
	// Origin is the address that is read from; the same scope of another address
	// is another system.
	Origin string
	// ReadsOne: a single record can be read before writing and again after.
	ReadsOne bool
	// Finds names the native attribute by whose value a lost create is found
	// again; "" when it can't be.
	Finds string
	// Place names the native attribute by which other records refer to one, and which
	// a change may move; "" when nothing refers.
	Place string
	// Lag is how long a write may take to show in reading.
	Lag time.Duration
	// SideEffects tells, by verb, what else happens (a mail to the user, say).
	SideEffects map[string]string
}

// Connector reaches one system.
type Connector interface {
	Declare() Declaration
	// Read gives every record that is asked for to the sink; an error means that
	// the reading is not whole and must not be used. The cursor, "" when the
	// system has none, is where a reading of changes would go on; an *Error of
	// kind Expired says that it no longer can.
	Read(ctx context.Context, what Reading, sink Sink) (cursor string, err error)
	// One reads a single record; an *Error of kind NotFound when it is gone.
	One(ctx context.Context, id string) (Record, error)
	// Find reads the records whose attribute has the value.
	Find(ctx context.Context, native, value string) ([]Record, error)
	// Write creates or changes a record and returns it as it is now.
	Write(ctx context.Context, w Write) (Record, error)
}

// NameHolder tells who holds a name anywhere in the system, also where the scope
// does not reach.
type NameHolder interface {
	// Holders names the records, by id where it is known, that hold a login, or
	// an e-mail address as login, primary or alias. An *Error of kind
	// Unsupported or Refused says that it can't be asked.
	Holders(ctx context.Context, name string) ([]string, error)
}

// Mender changes what refers to a record by what it was before.
type Mender interface {
	Mend(ctx context.Context, before, after Record) error
}

// ChangeRecord says what is done to an entry of a directory.
type ChangeRecord = ldif.Change

// Passage is a way into a group, or out of it.
type Passage struct {
	Group string // its id
	Made  bool   // it is not there yet: ScriptGroup made it
	In    bool
	Owns  bool // it is about who owns the group
}

// Scripter puts down what would be written, as change records of LDIF (RFC 2849), and writes
// nothing.
type Scripter interface {
	// Script is Write put down, with the record as it then would be.
	Script(w Write) ([]ChangeRecord, Record, error)
	// ScriptDelete is Delete put down, without what refers to the record.
	ScriptDelete(r Record) (ChangeRecord, error)
	// ScriptMember puts a record's way into a group down, or out of it.
	ScriptMember(ctx context.Context, who Record, way Passage) (ChangeRecord, error)
	// ScriptGroup is MakeGroup put down, with the id that the group would have.
	ScriptGroup(name string, first Record) (id string, made ChangeRecord, err error)
}

// Deleter removes records for good.
type Deleter interface {
	// Delete removes a record that was just read; one that is gone already is
	// no error.
	Delete(ctx context.Context, r Record) error
}

// Reissuer sets secrets.
type Reissuer interface {
	// Reissue gives a record a new secret, over an encrypted connection only.
	Reissue(ctx context.Context, r Record, secret string) error
}

// Prover can tell whether a record has a secret.
type Prover interface {
	// Proves signs in with it once, as its holder would. That it does proves that the secret was
	// set; that it does not proves nothing: the holder may be barred.
	Proves(ctx context.Context, r Record, secret string) (bool, error)
}

// Group is a named set of records.
type Group struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Owners are the ids of the records that own it, where the shape asks for that.
	Owners []string `json:"-"`
}

// Owner changes who owns groups.
type Owner interface {
	// Own adds and takes away owners by their ids, and nobody else.
	Own(ctx context.Context, group string, add, withdraw []string) error
}

// Grouper reads groups and changes who is in them.
type Grouper interface {
	Groups
	// Enrol adds and withdraws members by their ids, and nobody else: members
	// that are not named stay. Who is in already, or out, is no error.
	Enrol(ctx context.Context, group string, add, withdraw []string) error
	// MakeGroup makes one with its first member, by their id.
	MakeGroup(ctx context.Context, name, first string) (id string, err error)
}

// Bulker writes many records at once.
type Bulker interface {
	// WriteAll tells of each write, in their order, what became of it.
	WriteAll(ctx context.Context, writes []Write) ([]Written, error)
}

// Written is what became of one write: the record's id, or why not.
type Written struct {
	ID  string
	Err error
}

// Looker says what its file is, and which columns it has.
type Looker interface {
	Look(ctx context.Context) (format.About, []string, error)
}

// Closer gives back what a connector holds open.
type Closer interface{ Close() error }

// Kind of an error answers what may be done next.
type Kind uint8

const (
	NoError     Kind = iota // there is none
	Broken                  // the answer can't be understood
	Unreachable             // nothing was sent
	Denied                  // the secret is wrong, or nothing at all is allowed; nothing was done
	NotFound                // the record does not exist
	Conflict                // a value must be unique and is in use; nothing was done
	Refused                 // the system does not want this change; nothing was done
	Throttled               // too fast or briefly unavailable; nothing was done
	Stale                   // the record changed since it was read; nothing was done
	Unanswered              // sent, but no usable answer: it may or may not have been done
	Unsupported             // this kind of system can't do that
	Expired                 // the cursor no longer says what changed; read everything
	Forbidden               // this record, or this kind of change, is not ours to make; nothing was done
	Incomplete              // the record itself is changed, and what refers to it is not
)

// Error says what was attempted, on what, what is wrong and what to do.
type Error struct {
	Kind   Kind
	Doing  string // "read the list", "create asoto"
	Target string // the system's address
	Reason string
	Next   string        // what to do, or whom to ask for what
	After  time.Duration // how long to wait, where the system said so
	// Answered: for Unanswered, that an answer did come, and leaves open whether
	// anything was done: what was done shows by now.
	Answered bool
	Cause    error // for the connector itself; never told
}

func (e *Error) Unwrap() error { return e.Cause }

func (e *Error) Error() string {
	s := fmt.Sprintf("%s at %s: %s", e.Doing, e.Target, e.Reason)
	if e.Next != "" {
		s += "; " + e.Next
	}
	return s
}

// KindOf returns the kind of a connector's error; of nil, NoError; any other error is Broken.
func KindOf(err error) Kind {
	var e *Error
	switch {
	case err == nil:
		return NoError
	case errors.As(err, &e) && e.Kind != NoError:
		return e.Kind
	}
	return Broken
}

// Config is what a connector is made from.
type Config struct {
	Name     string
	Settings map[string]string
	Secret   string
	Shape    record.Shape     // of the system; without attributes when it has none
	Outbound *outbound.Policy // where connections may go; nil is the default policy
	Pace     *Pace            // shared by all connectors of one system; nil is no limit
	Folders  []string         // the only folders that files are read from and written to; none: anywhere
	Temp     string           // folder for what is kept while a file is read; "" is the machine's own
	Spool    string           // a file that was sent, in place of the one the settings name
	Batch    string           // names what is written together, a run say; a later connector of the same name goes on with it
}

// Factory makes a connector or says which setting is wrong.
type Factory func(Config) (Connector, error)
