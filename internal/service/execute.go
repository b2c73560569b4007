package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"time"

	"twinning/internal/connector"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// run carries a sealed plan out. Every change goes the same way: what it needs
// must be done, the person and the account must be as they were when the plan
// was made, the intent is recorded, it is sent, the answer is read and
// recorded. A run that was cut off goes on behind its last receipt; what was
// sent without an answer is looked up before anything is sent again.
func (s *Service) run(ctx context.Context, w *work) error {
	var p runParams
	if err := json.Unmarshal(w.Params, &p); err != nil {
		return err
	}
	e, err := s.newExecution(ctx, w, p)
	if err != nil {
		return errors.Join(err, s.Store.MovePlan(context.WithoutCancel(ctx), p.Plan, []string{"running"}, "halted"))
	}
	q, err := e.queue(ctx)
	if err != nil {
		return err
	}
	stopped := q.work(ctx)
	if ctx.Err() != nil || w.fenced.Load() {
		return ctx.Err() // another node goes on from here
	}
	if err := e.end(ctx, q, stopped); err != nil {
		return err
	}
	if stopped != "" {
		w.say("%s", stopped)
		return errHalted
	}
	return nil
}

// end closes a run: memory, bonds and the plan's state change together, once.
func (e *execution) end(ctx context.Context, q *queue, stopped string) error {
	return e.s.Store.InTx(ctx, func(tx *store.Store) error {
		state := "finished"
		switch {
		case stopped != "":
			state = "halted"
		case e.params.Wave != "" && q.beyond > 0:
			state = "sealed" // other waves are left to run
		}
		if err := tx.MovePlan(ctx, e.plan.ID, []string{"running"}, state); err != nil {
			return nil // an earlier holder of this task ended it already
		}
		receipts, err := tx.AllReceipts(ctx, e.params.Run)
		if err != nil {
			return err
		}
		by := fmt.Sprintf("run %d", e.params.Run)
		for _, r := range receipts {
			c := e.changes[r.Number]
			if (r.Outcome == "done" || r.Outcome == "unchanged") && c.Verb == planning.Create {
				if err := tx.AddBond(ctx, e.lane.ID, c.Person, r.Account, by); err != nil {
					return err
				}
			}
		}
		if err := tx.AddBondsOf(ctx, e.lane.ID, e.result.ID, by); err != nil {
			return err
		}
		today := e.s.Now().Format(time.DateOnly)
		return tx.ChangeMemory(ctx, e.lane.ID, func(m *reconcile.Memory) { remember(m, receipts, e.changes, today) })
	})
}

// queue hands changes to a few workers: a change is ready when all it needs,
// and the earlier changes of the same account, have an outcome.
type queue struct {
	e        *execution
	mu       sync.Mutex
	free     *sync.Cond
	waiting  []*store.Change
	prior    map[int]store.Receipt // receipts of this run that are there already
	outcome  map[string]string     // change id -> outcome
	busy     map[string]bool       // accounts being worked on
	running  int
	stopped  string
	failures int // in a row
	done     int
	total    int
	good     int
	bad      int
	beyond   int // changes of other waves
	told     time.Time
}

// maxFailures in a row stop a run: something is wrong with more than a record.
const maxFailures = 10

func (e *execution) queue(ctx context.Context) (*queue, error) {
	q := &queue{e: e, prior: map[int]store.Receipt{}, outcome: map[string]string{}, busy: map[string]bool{}}
	q.free = sync.NewCond(&q.mu)
	receipts, err := e.s.Store.AllReceipts(ctx, e.params.Run)
	if err != nil {
		return nil, err
	}
	for _, r := range receipts {
		q.prior[r.Number] = r
	}
	for i, c := range e.order {
		switch r, ok := q.prior[c.Number]; {
		case e.params.Wave != "" && c.Wave != e.params.Wave:
			q.outcome[c.ID] = c.Outcome // of an earlier run of that wave
			if c.Outcome == "" {
				q.beyond++
			}
			continue
		case ok && r.Outcome != "":
			q.count(c, r.Outcome)
		case !ok && (c.Outcome == "done" || c.Outcome == "unchanged"):
			q.count(c, c.Outcome) // an earlier run of this plan did it
		case !ok && c.Outcome == "in-doubt":
			q.count(c, c.Outcome) // never sent again: a human decides
		default:
			q.waiting = append(q.waiting, &e.order[i])
		}
		q.total++
	}
	return q, nil
}

func (q *queue) count(c store.Change, outcome string) {
	q.outcome[c.ID] = outcome
	q.done++
	switch outcome {
	case "done", "unchanged", "waiting":
		q.good++
		q.failures = 0
	case "failed", "refused":
		q.bad++
		q.failures++
	default:
		q.bad++
	}
}

// next takes a change that is ready; ok is false when there is none left or
// the run has been stopped.
func (q *queue) next() (c store.Change, ok bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for {
		if q.e.w.halt.Load() && q.stopped == "" {
			q.stopped = "halted as asked"
		}
		if len(q.waiting) == 0 || q.stopped != "" {
			q.free.Broadcast()
			return c, false
		}
		ahead := map[string]bool{}
		for i, c := range q.waiting {
			if key := place(*c); !q.busy[key] && !ahead[key] && q.ready(*c) {
				return q.take(i), true
			} else {
				ahead[key] = true
			}
		}
		if q.running == 0 { // whatever is left needs something that will never come
			return q.take(0), true
		}
		q.free.Wait()
	}
}

// place is what a change must have for itself: its account, or the person who
// is to get one.
func place(c store.Change) string {
	if c.Account == "" {
		return "person " + c.Person
	}
	return c.Account
}

func (q *queue) take(i int) store.Change {
	c := *q.waiting[i]
	q.waiting = append(q.waiting[:i:i], q.waiting[i+1:]...)
	q.busy[place(c)] = true
	q.running++
	return c
}

func (q *queue) ready(c store.Change) bool {
	for _, need := range c.Body.V.Needs {
		if _, settled := q.outcome[need]; !settled {
			return false
		}
	}
	return true
}

// unmet names a need that did not come about.
func (q *queue) unmet(c store.Change) string {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, need := range c.Body.V.Needs {
		if o := q.outcome[need]; o != "done" && o != "unchanged" {
			for _, other := range q.e.order {
				if other.ID == need {
					return fmt.Sprintf("%s of %s must come first and is %s", other.Verb, other.Label, orWord(o, "not done"))
				}
			}
			return "what must come first is not in this plan"
		}
	}
	return ""
}

func orWord(s, word string) string {
	if s == "" {
		return word
	}
	return s
}

func (q *queue) settle(ctx context.Context, c store.Change, r store.Receipt) error {
	q.mu.Lock()
	defer q.mu.Unlock()
	delete(q.busy, place(c))
	q.running--
	q.count(c, r.Outcome)
	if q.failures >= maxFailures && q.stopped == "" {
		q.stopped = fmt.Sprintf("stopped after %d failures in a row; the last: %s", q.failures, r.Detail)
	}
	q.free.Broadcast()
	if r.Outcome != "done" && r.Outcome != "unchanged" {
		if err := q.e.s.Store.Log(ctx, q.e.w.ID, map[bool]string{true: "error", false: "warning"}[r.Outcome == "failed" || r.Outcome == "in-doubt"], c.Label, c.Verb+" "+r.Outcome+": "+r.Detail); err != nil {
			return err
		}
	}
	if now := time.Now(); now.Sub(q.told) < progressPause && q.done < q.total {
		return nil
	} else {
		q.told = now
	}
	return q.e.w.progress(q.done, q.total, q.good, q.bad)
}

// progressPause is how long watchers wait for the next count.
const progressPause = 200 * time.Millisecond

func (q *queue) stop(why string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.stopped == "" {
		q.stopped = why
	}
	q.free.Broadcast()
}

// work runs the queue dry and returns why it stopped early, "" when it didn't.
func (q *queue) work(ctx context.Context) string {
	if err := q.e.w.progress(q.done, q.total, q.good, q.bad); err != nil {
		return err.Error()
	}
	var wg sync.WaitGroup
	for range max(1, int(q.e.setting("concurrency", 4)/time.Second)) {
		wg.Go(func() {
			for ctx.Err() == nil {
				freeze, err := q.e.s.Store.Freeze(ctx)
				if err != nil {
					q.stop("the database does not answer: " + err.Error())
					return
				}
				if freeze.On {
					q.stop("all writing was frozen by " + freeze.By)
				}
				c, ok := q.next()
				if !ok {
					return
				}
				r := q.e.change(ctx, q, c)
				if ctx.Err() != nil {
					return
				}
				if err := q.e.s.Store.Settle(ctx, q.e.w.Task, r); err != nil {
					q.stop("a receipt could not be kept: " + err.Error())
					return
				}
				if err := q.settle(ctx, c, r); err != nil {
					q.stop(err.Error())
					return
				}
			}
		})
	}
	wg.Wait()
	return q.stopped
}

// change carries one change out and returns its receipt with an outcome.
func (e *execution) change(ctx context.Context, q *queue, c store.Change) store.Receipt {
	r := store.Receipt{RunID: e.params.Run, Number: c.Number, Change: c.ID, Account: c.Account}
	prior, intended := q.prior[c.Number]
	if intended {
		r = prior
	}
	settle := func(outcome, format string, args ...any) store.Receipt {
		r.Outcome, r.Detail = outcome, fmt.Sprintf(format, args...)
		return r
	}
	if why := q.unmet(c); why != "" {
		return settle("passed-over", "%s", why)
	}
	if why := e.personChanged(ctx, c); why != "" && !intended {
		return settle("stale", "%s", why)
	}
	edits, err := e.edits(c)
	if err != nil {
		return settle("refused", "%v", err)
	}
	sender := &sender{e: e, ctx: ctx, c: c, r: &r, edits: edits, q: q}
	if intended {
		if !sender.lookUp(prior.Intended) {
			return r
		}
	}
	return sender.deliver()
}

// personChanged holds the person against the newest roster: somebody who
// changed since the plan was made is not acted upon.
func (e *execution) personChanged(ctx context.Context, c store.Change) string {
	if c.Person == "" || e.newest.ID == e.result.PeopleRoster {
		return ""
	}
	before, err1 := e.s.Store.RecordAt(ctx, e.lane.AuthorityID, e.result.PeopleRoster, c.Person)
	now, err2 := e.s.Store.RecordAt(ctx, e.lane.AuthorityID, e.newest.ID, c.Person)
	switch {
	case err1 != nil || err2 != nil:
		return "the person is not in the newest roster any more"
	case before.Since != now.Since:
		return "the person's record changed since the plan was made"
	}
	return ""
}

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
		write := connector.Write{Edits: s.edits}
		if s.c.Verb != planning.Create {
			rec, outcome, why := s.before()
			if outcome != "" {
				return s.settle(outcome, "%s", why)
			}
			write.Record = &rec
		}
		if err := s.e.s.Store.Intend(s.ctx, s.e.w.Task, s.withSent(), s.e.answer); err != nil {
			return s.settle("failed", "the intent could not be recorded: %v", err)
		}
		began := time.Now()
		after, err := s.e.conn.Write(s.ctx, write)
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
	rec, err := s.e.conn.One(s.ctx, s.c.Account)
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
		if mark == "" {
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
