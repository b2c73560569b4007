// Package connector is the contract between Twinning and a system that holds
// identities: what can be read, what can be written, and what each kind of
// system must declare so that a run can tell afterwards what happened.
//
// A reading is whole or an error, never something between. A write answers
// with the record as the system now has it, or with an *Error that says
// whether anything can have been written.
package connector

import (
	"context"
	"errors"
	"fmt"
	"time"

	"twinning/internal/core/record"
)

// Record is one record as the system gives it.
type Record struct {
	ID      string
	Values  map[string][]string // by native attribute; never holds a secret
	Version string              // the system's own version of the record, "" when it has none
	Line    int                 // where in a file it stands, 0 elsewhere
	Raw     []byte              // as it came, for systems that want the whole back
}

// Sink takes what a reading finds.
type Sink interface {
	// Expect says how many records will come, when the system tells.
	Expect(n int)
	Record(r Record) error
	// Reject notes a record that is present but can't be understood.
	Reject(r record.Rejection) error
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
	// ReadsOne: a single record can be read before writing and again after.
	ReadsOne bool
	// Finds names the native attribute by whose value a lost create is found
	// again; "" when it can't be.
	Finds string
	// Lag is how long a write may take to show in reading.
	Lag time.Duration
	// SideEffects tells, by verb, what else happens (a mail to the user, say).
	SideEffects map[string]string
}

// Connector reaches one system.
type Connector interface {
	Declare() Declaration
	// Read gives every record to the sink; an error means that the reading is
	// not whole and must not be used.
	Read(ctx context.Context, sink Sink) error
	// One reads a single record; an *Error of kind NotFound when it is gone.
	One(ctx context.Context, id string) (Record, error)
	// Find reads the records whose attribute has the value.
	Find(ctx context.Context, native, value string) ([]Record, error)
	// Write creates or changes a record and returns it as it is now.
	Write(ctx context.Context, w Write) (Record, error)
}

// Kind of an error answers what may be done next.
type Kind uint8

const (
	Broken      Kind = iota // the answer can't be understood
	Unreachable             // nothing was sent
	Denied                  // secret or right is wrong; nothing was done
	NotFound                // the record does not exist
	Conflict                // a value must be unique and is in use; nothing was done
	Refused                 // the system does not want this change; nothing was done
	Throttled               // too fast or briefly unavailable; nothing was done
	Stale                   // the record changed since it was read; nothing was done
	Unanswered              // sent, but no usable answer: it may or may not have been done
	Unsupported             // this kind of system can't do that
)

// Error says what was attempted, on what, what is wrong and what to do.
type Error struct {
	Kind   Kind
	Doing  string // "read the list", "create asoto"
	Target string // the system's address
	Reason string
	Next   string        // what to do, or whom to ask for what
	After  time.Duration // for Throttled: how long to wait
}

func (e *Error) Error() string {
	s := fmt.Sprintf("%s at %s: %s", e.Doing, e.Target, e.Reason)
	if e.Next != "" {
		s += "; " + e.Next
	}
	return s
}

// KindOf returns the kind of a connector's error; anything else is Broken.
func KindOf(err error) Kind {
	var e *Error
	if errors.As(err, &e) {
		return e.Kind
	}
	return Broken
}

// Config is what a connector is made from.
type Config struct {
	Name     string
	Settings map[string]string
	Secret   string
}

// Factory makes a connector or says which setting is wrong.
type Factory func(Config) (Connector, error)
