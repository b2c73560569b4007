package execution

import (
	"fmt"
	"strings"
	"time"

	"twinning/internal/connector"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// lookUp finds out what became of a change that was meant to be sent at an instant
// and about which nothing is known. It returns true when it certainly was not
// done, so that it may be sent; else the receipt is settled, or this node stops.
// Answered says that the system did answer, so that what was done shows by now.
func (s *sender) lookUp(intended time.Time, answered bool) bool {
	if s.c.Verb == planning.Reissue {
		s.broke = s.ask()
		return false
	}
	// an answer that was late may still be followed by the effect: until whoever
	// meant to send has sent, the time for an answer and the declared lag are over,
	// absence proves nothing
	deadline := intended.Add(s.sendWithin() + s.answer + s.declared.Lag)
	if answered {
		deadline = time.Now().Add(s.declared.Lag)
	}
	mixed := 0
	for pause := firstLook; ; pause = min(2*pause, lastLook) {
		found, rec, err := s.present()
		if s.ctx.Err() != nil {
			return false
		}
		if connector.KindOf(err) == connector.Broken {
			mixed++
		}
		switch kind := connector.KindOf(err); {
		case kind == connector.Broken && mixed < mostMixed: // another answer may be the right one
			s.trace("%v", err)
		case err != nil && kind != connector.Unreachable && kind != connector.Unanswered && kind != connector.Throttled:
			s.conclude("in-doubt", "sent without an answer, and reading can't tell: %v", err)
			return false
		case err == nil && found:
			s.trace("found done by reading")
			s.shows(rec)
			s.mend(rec)
			return false
		case err == nil && !time.Now().Before(deadline):
			s.trace("not done, by reading")
			return true
		case err != nil && time.Now().After(deadline.Add(max(s.answer, patienceToRead))):
			s.conclude("in-doubt", "sent without an answer, and reading fails: %v", err)
			return false
		}
		select {
		case <-s.ctx.Done():
			return false
		case <-time.After(max(min(pause, time.Until(deadline)), firstLook)):
		}
	}
}

// It is looked at once at first, then after pauses that grow: most of what shows
// late shows soon, and the rest costs few reads.
const (
	firstLook = 200 * time.Millisecond
	lastLook  = 5 * time.Second
)

// mostMixed is how many answers in a row to a reading may be about something else before nothing
// more is concluded from any.
const mostMixed = 4

// patienceToRead is how long a system that does not answer at all is asked what
// became of a change, before a human has to find out.
const patienceToRead = 30 * time.Second

// present reads whether the change shows.
func (s *sender) present() (bool, connector.Record, error) {
	if s.c.Verb == planning.Create {
		mark := s.mark()
		if mark == "" || s.declared.Deferred {
			return false, connector.Record{}, &connector.Error{Kind: connector.Unsupported, Doing: "find the new account", Target: s.system.Name, Reason: "it carries no mark by which it could be found again"}
		}
		list, err := s.found(s.ctx, s.declared.Finds, mark)
		if err != nil || len(list) == 0 {
			return false, connector.Record{}, err
		}
		if len(list) > 1 {
			return false, connector.Record{}, &connector.Error{Kind: connector.Broken, Doing: "find the new account", Target: s.system.Name, Reason: fmt.Sprintf("%d accounts carry its mark", len(list))}
		}
		return true, list[0], nil
	}
	rec, err := s.account(s.ctx, s.c.Account)
	if s.c.Verb == planning.Delete {
		if connector.KindOf(err) == connector.NotFound {
			return true, rec, nil
		}
		return false, rec, err
	}
	if err != nil {
		return false, rec, err
	}
	if s.byGroups(s.c) {
		not, err := s.enrolled(s.ctx, s.c, s.c.Account, true)
		return err == nil && not == "", rec, err
	}
	for _, x := range s.writes(s.c) {
		if src := s.shape.Attributes[x.Attribute]; src.Refers != "" {
			if wanted, _ := s.compareReference(src, rec, x); !wanted {
				return false, rec, nil
			}
			continue
		}
		if now, err := s.cell(rec, x.Attribute); err != nil || !record.Same(record.KindOf(x.Attribute), now, x.New) {
			return false, rec, nil
		}
	}
	return true, rec, nil
}

// mend changes what refers to an account by what it was before it was renamed:
// whoever meant to do it did not get so far.
func (s *sender) mend(now connector.Record) {
	mender, ok := s.conn.(connector.Mender)
	if !ok || s.c.Verb != planning.Rename {
		return
	}
	before := connector.Record{ID: now.ID, Values: s.r.Before.V}
	if err := mender.Mend(s.ctx, before, now); err != nil {
		s.r.Detail = strings.TrimPrefix(s.r.Detail+"; "+err.Error(), "; ")
	}
}

// mark is the value by which a lost create is found again.
func (s *sender) mark() string { return s.sends(s.declared.Finds) }

// sends is the one value that the change writes to a native attribute, "" where it writes none or
// several.
func (s *sender) sends(native string) string {
	for _, x := range s.edits {
		if x.Native == native && len(x.New) == 1 {
			return x.New[0]
		}
	}
	return ""
}

// sentTwice settles a change that a system refuses since it is so already: it was not just before,
// and whoever stands between us and the system has sent it twice. Where it matters whose it is, a
// suspension say, it is not taken for ours: somebody may have done the same at the same moment.
func (s *sender) sentTwice(err error) bool {
	if s.c.Verb == planning.Create {
		return s.madeTwice(err)
	}
	found, rec, e := s.present()
	if e != nil || !found {
		return false
	}
	s.trace("%v", err)
	switch s.c.Verb {
	case planning.Rename, planning.Readdress, planning.Place, planning.Set, planning.Mark, planning.Delete:
		if s.shows(rec); s.r.Outcome == "done" {
			s.r.Detail = "the answer was that it is so already: it was sent twice on its way, since all that was sent shows"
		}
	default:
		s.r.After.V = s.values(rec)
		s.conclude("unchanged", "it shows, and the answer was that it is so already: somebody may have done the same")
	}
	return true
}

// madeTwice settles a create. One answered by "exists" never adopts what is there, unless it may be
// of this very intent: an earlier attempt may have made it, or it was sent twice on its way. Then
// what carries our mark is ours, and in the second case all that we sent as well: nobody carried the
// mark just before.
func (s *sender) madeTwice(err error) bool {
	found, rec, e := s.present()
	switch {
	case e != nil || !found:
		return false
	case s.r.Attempts > 1:
		s.trace("it carries the mark of this intent")
		s.written(rec)
	case s.unmarked && len(s.differences(rec)) == 0:
		s.trace("%v", err)
		if s.written(rec); s.r.Outcome == "done" {
			s.r.Detail = "the answer was that it exists already: it was sent twice on its way, since it carries our mark and all that was sent"
		}
	default:
		s.conclude("refused", "account %q carries its mark since, and other values than were sent: %s", rec.ID, s.said(err))
	}
	return true
}
