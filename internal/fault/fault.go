// Package fault is what is told to whoever asked for something that can't be
// done: what was attempted, what is wrong, what to do.
package fault

import (
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"strings"
	"time"

	"twinning/internal/core/document"
	"twinning/internal/core/parallel"
	"twinning/internal/crypt"
	"twinning/internal/store"
)

// Kind of an error, which doors turn into a status of their own.
type Kind string

const (
	Invalid   Kind = "invalid"    // the request can't be understood or done as it stands
	Malformed Kind = "malformed"  // the request can't even be read
	Media     Kind = "media-type" // its body is of another type than the operation takes
	NotFound  Kind = "not-found"  // what it names does not exist
	Conflict  Kind = "conflict"   // somebody or something else was there first
	Changed   Kind = "changed"    // it is no longer what the change was made from
	Denied    Kind = "denied"     // the caller lacks a right
	NotSigned Kind = "not-signed" // nobody knows who is asking
	Slow      Kind = "slow-down"  // too many attempts
	Internal  Kind = "internal"   // a mistake of ours
	Stopped   Kind = "stopped"    // a guard, a freeze or an obstacle stands in the way
)

// Error says what was attempted, what is wrong and what to do.
type Error struct {
	Kind     Kind
	Cause    string // one of Causes, by which a program can tell what is wrong; "" where the kind says it
	Title    string
	Detail   string
	Field    string
	Next     string
	Problems document.Problems
	Wait     time.Duration // how long to wait before it is asked again; 0: nobody knows
}

func (e *Error) Error() string {
	s := e.Title
	if e.Detail != "" {
		s += ": " + e.Detail
	}
	if e.Next != "" {
		s += "; " + e.Next
	}
	return s
}

// Mistake logs a mistake of ours, a panic or an error that nobody foresaw, under a
// number by which it is told.
func Mistake(log *slog.Logger, doing string, what any) *Error {
	id := crypt.NewID()
	log.Error("a mistake of ours", "id", id, "doing", doing, "what", fmt.Sprint(what), "stack", string(debug.Stack()))
	return New(Internal, "an internal error ended it", "", "the service's log has more under "+id)
}

// Ours tells a panic in a part of something as a mistake of ours; any other error
// stays what it is.
func Ours(log *slog.Logger, doing string, err error) error {
	var inside *parallel.Panic
	if errors.As(err, &inside) {
		return Mistake(log, doing, inside)
	}
	return err
}

// New makes one without a field.
func New(kind Kind, title, detail, next string) *Error {
	return &Error{Kind: kind, Title: title, Detail: detail, Next: next}
}

// Because names the cause, one of Causes.
func (e *Error) Because(cause string) *Error {
	e.Cause = cause
	return e
}

// Cause is what is wrong, for programs.
type Cause struct{ Name, Meaning string }

// Causes are those that a program may want to tell apart, with what each means.
var Causes = []Cause{
	{"document-invalid", "a charter or a shape is not in order; `errors` has every mistake with its place"},
	{"settings-invalid", `the settings of a system are not in order`},
	{"request-invalid", "the request is not of the contract's form; `errors` has every fault"},
	{"cursor-of-another-list", `the cursor was given under other filters, or before there was a newer result`},
	{"precondition-required", `it exists already: send the ETag of what you change as If-Match`},
	{"changed", `it is no longer what the change was made from`},
	{"password-weak", `the password is too short, too long or too easy to guess`},
	{"credentials-wrong", `name or password is wrong, or the token has run out`},
	{"second-person", `whoever made the plan what it is may not seal it`},
	{"not-ordinary", `the charter does not let the plan be sealed without a human`},
	{"right-missing", `the caller lacks the right`},
	{"no-roster", `a system that is needed has no roster yet`},
	{"not-reconciled", `the lane has not been reconciled yet`},
	{"nothing-to-do", `there is nothing that a plan could change`},
	{"plan-state", `the plan is in a state that does not allow it`},
	{"hash-differs", `the hash is not that of the plan as it is`},
	{"premises-fell", `what the plan rests on is no longer so`},
	{"obstacle", `something that is named stands in the way of the plan`},
	{"guard-exceeded", `a guard stops the plan`},
	{"frozen", `all writing is frozen`},
	{"name-reserved", `another sealed plan gives out one of the names`},
	{"busy", `it is at work: wait for the end, or halt it`},
	{"scope-changed", `the scope has changed since the last roster`},
	{"system-moved", `the system is read from another address, or does not look like the same`},
	{"identity-changed", `ids would mean other records`},
	{"ruling-contradicted", `another ruling says otherwise`},
	{"moved-on", `what was looked at has changed; look again`},
	{"key-reused", `another request was sent under this Idempotency-Key`},
	{"list-empty", `a list is empty, which is never taken for "everybody left"`},
}

// About turns the store's sentinels into words about a thing.
func About(err error, what, name string) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, store.ErrNotFound):
		return New(NotFound, fmt.Sprintf("there is no %s %q", what, name), "", "list what there is, and check the spelling")
	case errors.Is(err, store.ErrTaken):
		return New(Conflict, fmt.Sprintf("%s %q exists already", what, name), "", "choose another name")
	case errors.Is(err, store.ErrInUse):
		return New(Conflict, fmt.Sprintf("%s %q is in use", what, name), "", "remove what uses it first")
	case errors.Is(err, store.ErrChanged):
		return New(Changed, fmt.Sprintf("%s %q was changed by somebody else meanwhile", what, name), "", "read it again and repeat your change")
	}
	return err
}

// Document tells of all that is wrong with a document.
func Document(title, field string, err error) error {
	e := &Error{Kind: Invalid, Cause: "document-invalid", Title: title, Field: field}
	if !errors.As(err, &e.Problems) {
		e.Detail = err.Error()
		return e
	}
	lines := make([]string, len(e.Problems))
	for i, p := range e.Problems {
		lines[i] = p.String()
	}
	e.Detail = strings.Join(lines, "\n")
	return e
}
