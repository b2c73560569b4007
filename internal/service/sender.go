package service

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"twinning/internal/connector"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// sender sends one change.
type sender struct {
	e     *execution
	q     *queue
	ctx   context.Context
	c     store.Change
	r     *store.Receipt
	edits []connector.Edit
}

func (s *sender) settle(outcome, format string, args ...any) store.Receipt {
	s.r.Outcome, s.r.Detail = outcome, fmt.Sprintf(format, args...)
	return *s.r
}

func (s *sender) trace(format string, args ...any) {
	s.r.Trace.V = append(s.r.Trace.V, time.Now().UTC().Format("15:04:05.000 ")+fmt.Sprintf(format, args...))
}

// tries bounds how often one change is sent or put off.
const tries = 12

func (s *sender) deliver() store.Receipt {
	for attempt := 1; ; attempt++ {
		var write connector.Write
		if s.e.declared.Deferred && s.c.Verb == planning.Create && s.e.pending.creates[s.c.Person] > 0 {
			return s.settle("waiting", "run %d asked for it already, and no roster was taken since", s.e.pending.creates[s.c.Person])
		}
		if s.c.Verb != planning.Create {
			s.q.shown(s.ctx, s.c.Account)
			rec, outcome, why := s.before()
			if outcome != "" {
				return s.settle(outcome, "%s", why)
			}
			write.Record = &rec
		}
		var err error
		if s.edits, err = s.e.edits(s.c, write.Record); err != nil {
			return s.settle("refused", "%v", err)
		}
		write.Edits = s.edits
		if err := s.e.s.Store.Intend(s.ctx, s.e.w.Task, s.withSent(), s.e.answer); err != nil {
			return s.settle("failed", "the intent could not be recorded: %v", err)
		}
		began := time.Now()
		after, err := s.e.conn.Write(s.ctx, write)
		if err == nil && s.e.declared.Deferred {
			s.e.pending.note(after.ID, s.r.Sent.V)
			return s.settle("waiting", "it stands in the upload file; it is done when a roster shows it")
		}
		if err == nil {
			s.trace("answered in %d ms", time.Since(began).Milliseconds())
			return s.done(after)
		}
		s.trace("%v", err)
		var told *connector.Error
		errors.As(err, &told)
		switch connector.KindOf(err) {
		case connector.Throttled, connector.Unreachable:
			if attempt == tries {
				return s.settle("failed", "%v", err)
			}
			s.pause(attempt, told.After)
		case connector.Unanswered:
			if s.ctx.Err() != nil {
				return *s.r // this node is stopping; whoever goes on looks it up
			}
			if !s.lookUp(began) {
				return *s.r
			}
			if attempt >= 2 {
				return s.settle("in-doubt", "sent twice without an answer, and it does not show: %v", err)
			}
		case connector.Denied:
			s.q.stop(err.Error())
			return s.settle("refused", "%v", err)
		case connector.Stale, connector.NotFound:
			return s.settle("stale", "%v", err)
		case connector.Conflict:
			return s.conflict(err)
		case connector.Refused, connector.Unsupported:
			return s.settle("refused", "%v", err)
		default:
			if s.lookUp(began) {
				return s.settle("failed", "%v", err)
			}
			return *s.r
		}
		if s.ctx.Err() != nil {
			return *s.r
		}
	}
}

func (s *sender) pause(attempt int, asked time.Duration) {
	backoff := min(time.Duration(1<<attempt)*50*time.Millisecond, 5*time.Second)
	wait := max(asked, backoff/2+rand.N(backoff)) // jitter keeps the workers apart
	select {
	case <-s.ctx.Done():
	case <-time.After(min(wait, 30*time.Second)):
	}
}

// withSent is the receipt with what is about to go out; values of attributes
// that hold secrets never stand there, since plans never carry any.
func (s *sender) withSent() store.Receipt {
	s.r.Sent.V = map[string][]string{}
	for _, x := range s.edits {
		s.r.Sent.V[x.Native] = append([]string{}, x.New...)
	}
	if s.r.Before.V == nil {
		s.r.Before.V = map[string][]string{}
	}
	if s.r.Trace.V == nil {
		s.r.Trace.V = []string{}
	}
	return *s.r
}

// before reads the account and says whether it is still as the plan saw it.
func (s *sender) before() (rec connector.Record, outcome, why string) {
	rec, err := s.e.account(s.ctx, s.c.Account)
	switch kind := connector.KindOf(err); {
	case err == nil:
	case kind == connector.NotFound:
		return rec, "stale", "the account is gone"
	default:
		return rec, "failed", err.Error()
	}
	s.r.Before.V = s.values(rec)
	asWanted := true
	for _, x := range s.c.Body.V.Edits {
		now, bad := s.e.cell(rec, x.Attribute)
		kind := record.KindOf(x.Attribute)
		if bad == nil && record.Same(kind, now, x.New) {
			continue
		}
		asWanted = false
		if old := x.Old; bad != nil || !record.Same(kind, now, old) && !(x.Attribute == "active" && old == "" && now == "true") {
			why = fmt.Sprintf("%s is %q where the plan saw %q", x.Attribute, plainList(now), plainList(old))
		}
	}
	if asWanted {
		s.r.After.V = s.r.Before.V
		return rec, "unchanged", "it is already as wanted"
	}
	for _, x := range s.c.Body.V.RestsOn {
		if now, bad := s.e.cell(rec, x.Attribute); why == "" && (bad != nil || !record.Same(record.KindOf(x.Attribute), now, x.Old)) {
			why = fmt.Sprintf("%s is %q where it was %q (%s)", x.Attribute, plainList(now), plainList(x.Old), x.Reason)
		}
	}
	if why != "" {
		return rec, "stale", why
	}
	return rec, "", ""
}

// values keeps of a record what the change writes or rests on, and what
// identifies it.
func (s *sender) values(rec connector.Record) map[string][]string {
	kept := map[string][]string{}
	names := []string{"userName", "email", "active"}
	for _, x := range s.c.Body.V.Edits {
		names = append(names, x.Attribute)
	}
	for _, x := range s.c.Body.V.RestsOn {
		names = append(names, x.Attribute)
	}
	for _, n := range names {
		if src, ok := s.e.shape.Attributes[n]; ok && rec.Values[src.Native] != nil {
			kept[src.Native] = rec.Values[src.Native]
		}
	}
	return kept
}

func (s *sender) done(after connector.Record) store.Receipt {
	s.r.Account, s.r.After.V = after.ID, s.values(after)
	var altered []string
	for _, x := range s.c.Body.V.Edits {
		if now, err := s.e.cell(after, x.Attribute); err != nil || !record.Same(record.KindOf(x.Attribute), now, x.New) {
			altered = append(altered, fmt.Sprintf("%s shows as %q", x.Attribute, plainList(now)))
		}
	}
	return s.settle("done", "%s", strings.Join(altered, "; "))
}

// lookUp finds out what became of a change that was sent at an instant without
// an answer. It returns true when it certainly was not done, so that it may be
// sent; else the receipt is settled.
func (s *sender) lookUp(sent time.Time) bool {
	// an answer that was late may still be followed by the effect: until the
	// time for an answer and the declared lag are over, absence proves nothing
	deadline := sent.Add(s.e.answer + s.e.declared.Lag)
	for {
		found, rec, err := s.present()
		switch {
		case err != nil && connector.KindOf(err) != connector.Unreachable && connector.KindOf(err) != connector.Unanswered && connector.KindOf(err) != connector.Throttled:
			s.settle("in-doubt", "sent without an answer, and reading can't tell: %v", err)
			return false
		case err == nil && found:
			s.trace("found done by reading")
			s.done(rec)
			return false
		case err == nil && time.Now().After(deadline):
			s.trace("not done, by reading")
			return true
		case err != nil && time.Now().After(deadline.Add(s.e.answer)):
			s.settle("in-doubt", "sent without an answer, and reading fails: %v", err)
			return false
		}
		select {
		case <-s.ctx.Done():
			return false
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// present reads whether the change shows.
func (s *sender) present() (bool, connector.Record, error) {
	if s.c.Verb == planning.Create {
		mark := s.mark()
		if mark == "" || s.e.declared.Deferred {
			return false, connector.Record{}, &connector.Error{Kind: connector.Unsupported, Doing: "find the new account", Target: s.e.system.Name, Reason: "it carries no mark by which it could be found again"}
		}
		list, err := s.e.conn.Find(s.ctx, s.e.declared.Finds, mark)
		if err != nil || len(list) == 0 {
			return false, connector.Record{}, err
		}
		if len(list) > 1 {
			return false, connector.Record{}, &connector.Error{Kind: connector.Broken, Doing: "find the new account", Target: s.e.system.Name, Reason: fmt.Sprintf("%d accounts carry its mark", len(list))}
		}
		return true, list[0], nil
	}
	rec, err := s.e.conn.One(s.ctx, s.c.Account)
	if err != nil {
		return false, rec, err
	}
	for _, x := range s.c.Body.V.Edits {
		if now, err := s.e.cell(rec, x.Attribute); err != nil || !record.Same(record.KindOf(x.Attribute), now, x.New) {
			return false, rec, nil
		}
	}
	return true, rec, nil
}

// mark is the value by which a lost create is found again.
func (s *sender) mark() string {
	for _, x := range s.edits {
		if x.Native == s.e.declared.Finds && len(x.New) == 1 {
			return x.New[0]
		}
	}
	return ""
}

// conflict: a create answered by "exists" never adopts what is there, unless
// this very intent made it: then an attempt before this one was recorded.
func (s *sender) conflict(err error) store.Receipt {
	if s.c.Verb == planning.Create && s.r.Attempts > 0 {
		if found, rec, e := s.present(); e == nil && found {
			s.trace("it carries the mark of this intent")
			return s.done(rec)
		}
	}
	return s.settle("refused", "%v", err)
}
