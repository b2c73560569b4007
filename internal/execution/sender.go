package execution

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"twinning/internal/connector"
	"twinning/internal/connector/outbound"
	"twinning/internal/core/planning"
	"twinning/internal/store"
)

// sender sends one change.
type sender struct {
	*queue
	ctx      context.Context
	c        store.Change
	r        store.Receipt
	edits    []connector.Edit
	intended bool      // an intent was recorded, by us or by whoever was at it before
	broke    error     // what kept a secret that is set from being handed over
	asked    time.Time // when the newest intent was asked for
	maybe    bool      // and something of it may have been done
	unmarked bool      // the system said, before it was sent, that no account carries its mark
	give     func()    // takes back that the change is counted as done; nil: it is not counted
	own      *asRead   // the account as it was read before; nil before that, and of one that is yet to be made
	// delivering is what its holder is sent; nil: nothing, or it is not ready
	delivering *delivering
}

// change carries one change out and returns its receipt with an outcome, and what
// the lane remembers of it. An error says that nothing was done about it, and why
// nothing more may be done now.
func (q *queue) change(ctx context.Context, c store.Change) (store.Receipt, store.Effects, error) {
	s := &sender{queue: q, ctx: ctx, c: c, r: store.Receipt{RunID: q.params.Run, Number: c.Number, Change: c.ID, Account: c.Account}}
	if c.Account == "" && c.Verb != planning.Create {
		s.c.Account = q.madeFor(c)
		s.r.Account = s.c.Account
	}
	prior, intended := q.prior[c.Number]
	if intended {
		s.r, s.intended, s.maybe = prior, true, true
		s.r.RunID = q.params.Run
	}
	err := s.carryOut(prior.Intended)
	if s.give != nil && (err != nil || !planning.IsFinal(s.r.Outcome)) {
		s.give()
	}
	return s.r, s.effects(), err
}

func (s *sender) carryOut(sent time.Time) error {
	defer func() { s.delivering.drop() }()
	if s.intended && s.c.Body.V.Delivers != nil {
		if goesOn, err := s.resume(); err != nil || !goesOn {
			return err
		}
		s.maybe = false
	} else if s.intended {
		if s.c.Verb == planning.Create { // it is found again by what it was given
			edits, err := s.nativeEdits(nil)
			if err != nil {
				s.conclude("in-doubt", "sent without an answer, and can't be looked up: %v", err)
				return nil
			}
			s.edits = edits
		}
		if !s.lookUp(sent, false) {
			return s.ctx.Err()
		}
		s.maybe = false
	}
	if why := s.unmet(s.c); why != "" {
		s.conclude("passed-over", "%s", why)
		return nil
	}
	if s.c.Account == "" && s.c.Verb != planning.Create {
		s.conclude("passed-over", "the account was made by an earlier run: the next plan goes on from there")
		return nil
	}
	return s.deliver()
}

func (s *sender) conclude(outcome, format string, args ...any) {
	s.r.Outcome, s.r.Detail = outcome, outbound.Clear(fmt.Sprintf(format, args...))
}

func (s *sender) trace(format string, args ...any) {
	s.r.Trace.V = append(s.r.Trace.V, time.Now().UTC().Format("15:04:05.000 ")+outbound.Clear(fmt.Sprintf(format, args...)))
}

// stopped ends the attempts at a change when the run is to stop. What was tried
// and certainly not done is told; what was not tried stays as it was. Where only
// PostgreSQL went away nobody stopped anything: the intent stays open, and whoever
// goes on looks it up.
func (s *sender) stopped(why string) error {
	if !s.intended || s.interrupted() {
		return &stop{why}
	}
	s.conclude("passed-over", "not sent again: %s", why)
	return nil
}

// deliver sends the change until there is an answer that settles it.
func (s *sender) deliver() error {
	for attempt := 1; ; attempt++ {
		if why := s.patient(s.ctx, s.closing()); why != "" {
			return s.stopped(why)
		}
		if s.declared.Deferred && s.c.Verb == planning.Create && s.pending.creates[s.c.Person] > 0 {
			s.conclude("waiting", "run %d asked for it already, and no roster shows it yet", s.pending.creates[s.c.Person])
			return nil
		}
		var write connector.Write
		if s.c.Verb != planning.Create {
			s.shown(s.ctx, s.c.Account)
			rec, settled, err := s.before()
			if settled || err != nil {
				return errors.Join(err, s.ctx.Err())
			}
			write.Record = &rec
		}
		var err error
		if s.edits, err = s.nativeEdits(write.Record); err != nil {
			s.conclude("refused", "%v", err)
			return nil
		}
		if attempt == 1 && s.taken() {
			return s.ctx.Err()
		}
		write.Edits = s.edits
		if s.c.Body.V.Delivers != nil && s.prepare(*write.Record) {
			return s.ctx.Err()
		}
		if done, err := s.intend(); done || err != nil {
			return err
		}
		began := time.Now()
		after, err := s.sendBy(s.asked.Add(s.sendWithin()), write)
		if s.ctx.Err() != nil {
			return s.ctx.Err() // this node is stopping; whoever goes on looks it up
		}
		if err == nil {
			s.answered()
			if s.c.Body.V.Delivers != nil {
				return s.handOver(after)
			}
			if s.declared.Deferred {
				s.pending.note(after.ID, s.r.Sent.V)
				s.conclude("waiting", "it stands in the upload file; it is done when a roster shows it")
				return nil
			}
			s.trace("answered in %d ms", time.Since(began).Milliseconds())
			s.shows(after)
			return nil
		}
		if connector.KindOf(err) == connector.Incomplete && after.ID != "" {
			s.answered()
			s.written(after)
			s.r.Detail = strings.TrimPrefix(s.r.Detail+"; "+err.Error(), "; ")
			return nil
		}
		s.trace("%v", err)
		if settled, err := s.refused(err, began, attempt); settled || err != nil {
			return err
		}
	}
}

// send carries out what the change says.
func (s *sender) send(write connector.Write) (connector.Record, error) {
	switch {
	case s.c.Body.V.Delivers != nil:
		return s.reissue(write)
	case s.byGroups(s.c):
		return s.enrol()
	case s.c.Verb != planning.Delete:
		return s.conn.Write(s.ctx, write)
	}
	deleter, ok := s.conn.(connector.Deleter)
	if !ok {
		return connector.Record{}, &connector.Error{Kind: connector.Unsupported, Doing: "delete " + s.c.Account, Target: s.system.Name, Reason: "this kind of system deletes nothing", Next: "take delete out of the charter's leavers"}
	}
	return connector.Record{ID: s.c.Account}, deleter.Delete(s.ctx, *write.Record)
}

// shows concludes from the record as it is after the change.
func (s *sender) shows(after connector.Record) {
	switch {
	case s.c.Verb == planning.Delete:
		s.conclude("done", "")
	case s.byGroups(s.c):
		s.groupsShow()
	default:
		s.written(after)
	}
}

// sendBy carries out what the change says, if it is on its way by an instant.
func (s *sender) sendBy(at time.Time, write connector.Write) (connector.Record, error) {
	whole := s.ctx
	defer func() { s.ctx = whole }()
	s.ctx = connector.StartBy(whole, at)
	return s.send(write)
}

// sendWithin is how soon after its intent a change is on its way: whoever looks an intent up
// takes it for sent by then, and this node sends nothing later. Where requests are few and far
// between, each worker may have to wait for the turns of all others.
func (x *run) sendWithin() time.Duration {
	within := 5 * time.Second
	if x.system.PerSecond > 0 {
		within += time.Duration(min(float64(x.workers())/x.system.PerSecond, 3600) * float64(time.Second))
	}
	return within
}

// intend looks at everything the change rests on, and records that it is sent.
// done says that it is settled instead.
func (s *sender) intend() (done bool, err error) {
	premises, about := s.premises()
	for newer := false; ; {
		if err := s.since.look(s.ctx, newer); err != nil {
			return false, err
		}
		newer = false
		if err := s.scarce.count(s.ctx, s.since.accountsRoster()); err != nil {
			return false, err
		}
		carried := map[planning.Fact]string{}
		for _, c := range about {
			own := s.own
			if c.Account != s.c.Account {
				own = nil
			}
			facts, err := s.since.facts(s.ctx, c, own)
			if err != nil {
				return false, err
			}
			maps.Copy(carried, facts)
		}
		before := s.sent()
		asked := time.Now()
		err := s.Store.Intend(s.ctx, s.ground, s.w.Task, before, premises, s.judge(premises, carried, s.closing(), s.fits))
		var fell *fallen
		var halt *stop
		switch {
		case err == nil && time.Since(asked) > s.sendWithin(): // this process stood still: who looks it up must not be overtaken
			s.intended = true
			continue
		case err == nil:
			s.asked = asked
			s.r.Attempts++
			s.intended, s.maybe = true, true
			return false, nil
		case errors.Is(err, errNewer):
			newer = true
			continue
		case errors.As(err, &fell):
			s.conclude("stale", "%s", fell.why)
			return true, nil
		case errors.As(err, &halt):
			if err := s.stopped(halt.why); err != nil {
				return false, err
			}
			s.stop(halt.why)
			return true, nil
		}
		return false, err
	}
}

// fits counts the change among what the downstream can bear, once.
func (s *sender) fits() error {
	if s.give != nil {
		return nil
	}
	why, give := s.scarce.take(s.c)
	if why != "" {
		return &fallen{why}
	}
	s.give = give
	return nil
}

// refused decides what an error of the system means. settled says that nothing is
// tried any more.
func (s *sender) refused(err error, began time.Time, attempt int) (settled bool, _ error) {
	var told *connector.Error
	errors.As(err, &told)
	if told == nil {
		told = &connector.Error{}
	}
	kind := connector.KindOf(err)
	s.maybe = kind == connector.Unanswered || kind == connector.Broken
	switch kind {
	case connector.Throttled, connector.Unreachable:
		if kind == connector.Unreachable {
			s.unreached()
		}
		if kind == connector.Unreachable && attempt >= tries {
			s.conclude("failed", "%s", s.said(err))
			return true, nil
		}
		if why := s.slower(s.ctx, attempt, told.After, s.closing()); why != "" {
			s.stop(why)
			return true, s.stopped(why)
		}
		return false, nil
	case connector.Unanswered:
		if !s.lookUp(began, told.Answered) {
			return true, errors.Join(s.broke, s.ctx.Err())
		}
		s.maybe = false // certainly not done: it is as if the system had put it off
		if attempt >= tries {
			s.conclude("failed", "sent %d times, and certainly not done: %v", attempt, err)
			return true, nil
		}
		if why := s.slower(s.ctx, attempt, told.After, s.closing()); why != "" {
			s.stop(why)
			return true, s.stopped(why)
		}
		return false, nil
	case connector.Denied:
		s.stop(s.said(err))
		s.conclude("refused", "%s", s.said(err))
	case connector.Forbidden:
		s.forbid()
		s.conclude("refused", "%s", s.said(err))
	case connector.Stale, connector.NotFound:
		if !s.sentTwice(err) {
			s.conclude("stale", "%s", s.said(err))
		}
	case connector.Conflict:
		if !s.sentTwice(err) {
			s.conclude("refused", "%s", s.said(err))
		}
	case connector.Refused, connector.Unsupported:
		s.conclude("refused", "%s", s.said(err))
	default:
		if s.lookUp(began, true) {
			s.conclude("failed", "%s", s.said(err))
		}
		return true, errors.Join(s.broke, s.ctx.Err())
	}
	return true, nil
}

// said is what an error says, and what to do about it where the system does not say.
func (s *sender) said(err error) string {
	var told *connector.Error
	if errors.As(err, &told) && told.Next != "" {
		return err.Error()
	}
	next := ""
	switch connector.KindOf(err) {
	case connector.Stale, connector.NotFound:
		next = "take a roster of " + s.system.Name + ", reconcile, and draft it again as it then is"
	case connector.Conflict:
		next = "somebody else has one of its values by now: take a roster of " + s.system.Name + " and reconcile"
	case connector.Refused:
		if s.c.Verb == planning.Reissue {
			next = "have secrets made as the policy of " + s.system.Name + " wants them (secrets: length, letters)"
			break
		}
		next = "change what gives the value (the reason names the charter's line), or ask whoever runs " + s.system.Name
	case connector.Denied:
		next = "give " + s.system.Name + " a secret with the right to write, then start the run again"
	case connector.Forbidden:
		next = "ask whoever runs " + s.system.Name + " for the right to write this, or leave the account alone (twin rule leave-alone)"
	case connector.Unsupported:
		next = "take it out of the charter: " + s.system.Name + " can't do it"
	case connector.Unreachable:
		next = "start the run again once " + s.system.Name + " answers (twinning system probe " + s.system.Name + ")"
	default:
		next = "its trace has more; start the run again, and it is looked up before anything is sent"
	}
	return err.Error() + "; " + next
}

// tries bounds how often one change is sent or put off where nobody says how
// long to wait.
const tries = 12

// forbid counts refusals for want of rights: one is about its record, many are
// about us.
func (q *queue) forbid() {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.forbidden++
}

// taken asks the system once whether a new account's mark, or a new name, is in
// use there meanwhile. It settles the change when it is.
func (s *sender) taken() bool {
	if s.declared.Deferred || s.intended {
		return false // who was at it before asked
	}
	if mark := s.mark(); s.c.Verb == planning.Create && mark != "" {
		list, err := s.found(s.ctx, s.declared.Finds, mark)
		if err == nil && len(list) > 0 {
			s.conclude("stale", "account %q carries the mark %q already; take a roster and reconcile", list[0].ID, mark)
			return true
		}
		s.unmarked = err == nil
	}
	asked, ok := s.conn.(connector.NameHolder)
	if !ok {
		return false
	}
	for _, e := range s.c.Body.V.Edits {
		if slices.ContainsFunc(e.NewNames(), func(name string) bool { return s.held(asked, e.Attribute, name) }) {
			return true
		}
	}
	return false
}

// held settles the change when somebody else has the name.
func (s *sender) held(asked connector.NameHolder, attribute, name string) bool {
	holders, err := asked.Holders(s.ctx, name)
	if err != nil {
		return false // not every system can be asked so; it refuses what is in use
	}
	for _, h := range holders {
		if h == s.c.Account {
			continue
		}
		if s.gaveUp(h) {
			s.shown(s.ctx, h)
			continue
		}
		s.conclude("stale", "%s %q is held by account %q now; take a roster and reconcile", attribute, name, h)
		return true
	}
	return false
}

// gaveUp: the account's own change, which this one needed, has just freed a name,
// and systems that show changes late show it still.
func (s *sender) gaveUp(account string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.declared.Lag > 0 && slices.ContainsFunc(s.c.Body.V.Needs, func(need string) bool {
		other := s.byID[need]
		return other != nil && other.Account == account && s.cameAbout(need)
	})
}

// sent is the receipt with what is about to go out; values of attributes that
// hold secrets never stand there, since plans never carry any.
func (s *sender) sent() store.Receipt {
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
	s.r.Delivery = s.meant()
	return s.r
}
