package execution

import (
	"cmp"
	"container/heap"
	"context"
	"fmt"
	"sync"
	"time"

	"twinning/internal/core/charter"
	"twinning/internal/core/parallel"
	"twinning/internal/core/planning"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// queue hands changes to a few workers: a change is ready when all it needs, and
// the earlier changes of the same account, have an outcome. It costs the same per
// change however many there are: each waits on a count of what it waits for, and
// who is ready stands in a heap in the plan's order.
type queue struct {
	*run
	mu         sync.Mutex
	free       *sync.Cond
	ready      places           // of changes that can be taken
	waitsFor   map[int]int      // place of a change -> how much it waits for
	then       map[string][]int // change id -> places of what waits for its outcome
	sameAs     map[int]int      // place -> place of the next change of the same account
	left       int              // not taken yet
	prior      map[int]store.Receipt
	outcome    map[string]string // change id -> outcome
	hinders    map[string]bool   // change id -> what others wait for shows otherwise than it was sent
	byID       map[string]*store.Change
	rebased    map[string][]planning.Edit // change id -> what it wrote, where that is not what was drafted
	made       map[string]string          // create's id -> the account that it made
	units      map[string][]int           // places of the changes of each unit
	running    int
	stopped    string
	halting    bool   // it is stopped by what lets a unit come to its end
	away       error  // PostgreSQL went away
	failures   int    // in a row
	tried      int    // by this run
	failed     int    // of those tried, failed or refused
	forbidden  int    // in a row
	lastBad    string // what the last failure or refusal says
	did        bool
	done       int
	total      int
	good       int
	bad        int
	beyond     int // changes of other waves
	waves      waves
	stopsAfter string // the wave after which a human says whether it goes on; "": none, the run goes to its end
	told       time.Time
	written    map[string]time.Time // account -> our last write, for systems that show writes late
	settled    int                  // changes that showed otherwise, see looksAgain
	patience   patience
	turn       turn
}

// places is a heap of places in the plan's order.
type places []int

func (p places) Len() int           { return len(p) }
func (p places) Less(i, j int) bool { return p[i] < p[j] }
func (p places) Swap(i, j int)      { p[i], p[j] = p[j], p[i] }
func (p *places) Push(x any)        { *p = append(*p, x.(int)) }
func (p *places) Pop() any {
	old := *p
	x := old[len(old)-1]
	*p = old[:len(old)-1]
	return x
}

// A run is stopped by so many failures in a row: something is wrong with more
// than a record. Refusals for want of rights say so sooner.
const (
	maxFailures  = 10
	maxForbidden = 5
)

func (x *run) newQueue(ctx context.Context) (*queue, error) {
	q := x.emptyQueue()
	receipts, err := x.Store.AllReceipts(ctx, x.params.Run)
	if err != nil {
		return nil, err
	}
	for _, r := range receipts {
		q.prior[r.Number] = r
		q.noteMade(x.changes[r.Number], r)
	}
	// what an earlier run of this plan meant to send, and did not hear of, is
	// looked up and not sent again
	open, err := x.Store.OpenIntents(ctx, x.plan.ID)
	if err != nil {
		return nil, err
	}
	for _, r := range open {
		if _, ours := q.prior[r.Number]; !ours {
			r.RunID, r.LookedUp = x.params.Run, true
			q.prior[r.Number] = r
		}
	}
	q.fill()
	return q, x.Store.Writes(ctx, x.w.ID, x.system.ID, q.total-q.done)
}

func (x *run) emptyQueue() *queue {
	q := &queue{run: x, made: map[string]string{}, units: unitsOf(x.order), waitsFor: map[int]int{}, then: map[string][]int{}, sameAs: map[int]int{}, prior: map[int]store.Receipt{}, outcome: map[string]string{}, hinders: map[string]bool{}, byID: map[string]*store.Change{}, rebased: map[string][]planning.Edit{}, written: map[string]time.Time{}}
	q.free = sync.NewCond(&q.mu)
	return q
}

// fill sorts the changes into those with an outcome and those still to be done.
func (q *queue) fill() {
	for i := range q.order {
		c := &q.order[i]
		q.byID[c.ID], q.hinders[c.ID] = c, c.Hinders
	}
	q.stopsAfter = q.goAhead()
	var todo []int
	for i, c := range q.order {
		switch r, ok := q.prior[c.Number]; {
		case q.params.Wave != "" && c.Wave != q.params.Wave, q.stopsAfter != "" && q.charter.WaveAt(c.Wave) > q.charter.WaveAt(q.stopsAfter):
			q.outcome[c.ID] = c.Outcome // of an earlier run of that wave
			if c.Outcome == "" {
				q.beyond++
			}
			continue
		case ok && r.Outcome != "":
			q.hinders[c.ID] = hinders(r)
			q.count(c, r.Outcome)
		case !ok && planning.IsFinal(c.Outcome): // by an earlier run of the plan
			q.count(c, c.Outcome)
		default:
			todo = append(todo, i)
		}
		q.total++
	}
	q.failures, q.forbidden = 0, 0
	q.tried, q.failed = 0, 0
	q.waves = q.wavesOf(todo)
	last := map[string]int{}
	for _, i := range todo {
		c := &q.order[i]
		for _, need := range c.Body.V.Needs {
			if _, settled := q.outcome[need]; settled || q.byID[need] == nil {
				continue
			}
			q.waitsFor[i]++
			q.then[need] = append(q.then[need], i)
		}
		if before, ok := last[place(*c)]; ok {
			q.sameAs[before] = i
			q.waitsFor[i]++
		}
		last[place(*c)] = i
		if q.waitsFor[i] == 0 {
			heap.Push(&q.ready, i)
		}
	}
	q.left = len(todo)
}

func (q *queue) count(c store.Change, outcome string) {
	q.outcome[c.ID] = outcome
	q.done++
	switch outcome {
	case "failed", "refused", "in-doubt":
		q.failed++
		fallthrough
	case "done", "unchanged", "different", "waiting":
		q.tried++
	}
	switch outcome {
	case "done", "unchanged", "waiting":
		q.good++
		q.failures, q.forbidden, q.did = 0, 0, true
	case "failed", "refused":
		q.bad++
		q.failures++
	default:
		q.bad++
	}
}

// next takes a change that is ready; ok is false when there is none left or the
// run has been stopped. Somebody who waits for a turn of their own is let in
// before another is taken.
func (q *queue) next(ctx context.Context) (i int, ok bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for {
		if q.w.Halted() {
			q.halt("halted as asked")
		}
		closing := q.stopped != "" && q.halting && q.anyUnderway()
		if q.left == 0 || q.stopped != "" && !closing || ctx.Err() != nil {
			q.free.Broadcast()
			return 0, false
		}
		barred, behind := q.barred()
		at := q.first(closing || q.turn.wanted)
		if barred && !closing {
			at = -1
		}
		if at < 0 && !closing && q.running == 0 && q.anyUnderway() {
			at = q.first(false) // what is to come to its end waits for another
		}
		if at >= 0 && q.turn.mine {
			q.left--
			q.running++
			return heap.Remove(&q.ready, at).(int), true
		}
		if closing && q.running == 0 && q.turn.mine {
			q.stopped, q.halting = q.stopped+"; it can't come to the end of what is done as one", false
			continue
		}
		if (len(q.ready) == 0 || behind) && q.running == 0 { // whatever is left waits for something that will never come
			for j := range q.order {
				if q.waitsFor[j] > 0 {
					q.waitsFor[j] = 0
					heap.Push(&q.ready, j)
					break
				}
			}
			continue
		}
		q.free.Wait()
	}
}

// first is where in the heap the change stands that is taken next: of a unit that is under
// way where only those are to come to their end; -1 when there is none.
func (q *queue) first(closing bool) int {
	if !closing {
		return min(len(q.ready), 1) - 1
	}
	wanted := map[string]bool{} // what else is to be done of their accounts may have to come before
	for unit, members := range q.units {
		if !q.underway(unit) {
			continue
		}
		for _, i := range members {
			wanted[place(q.order[i])] = true
		}
	}
	best := -1
	for at, i := range q.ready {
		if wanted[place(q.order[i])] && (best < 0 || i < q.ready[best]) {
			best = at
		}
	}
	return best
}

// halt stops the run, but for units that are under way. The caller holds the lock.
func (q *queue) halt(why string) {
	if q.stopped == "" {
		q.stopped, q.halting = why, true
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

// passed tells those who wait for a change that it has an outcome.
func (q *queue) passed(i int) {
	release := func(j int) {
		if q.waitsFor[j] == 0 {
			return // it was let go already
		}
		if q.waitsFor[j]--; q.waitsFor[j] == 0 {
			heap.Push(&q.ready, j)
		}
	}
	for _, j := range q.then[q.order[i].ID] {
		release(j)
	}
	if j, ok := q.sameAs[i]; ok {
		release(j)
	}
}

// shown waits until our last write to the account must show: what is read
// before is the account as it was, and our next write would look stale.
func (q *queue) shown(ctx context.Context, account string) {
	q.mu.Lock()
	wait := time.Until(q.written[account].Add(q.declared.Lag))
	q.mu.Unlock()
	if q.declared.Lag == 0 || wait <= 0 {
		return
	}
	q.sleep(ctx, wait)
}

// sleep waits, but not when the run is asked to stop; it reports whether the
// whole time has passed.
func (q *queue) sleep(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-q.w.Asked():
		return false
	case <-time.After(d):
		return true
	}
}

// putBack leaves a change as it was: nothing was sent, and nothing is said of it.
func (q *queue) putBack(i int) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.left++
	q.running--
	heap.Push(&q.ready, i)
	q.free.Broadcast()
}

// keep counts a settled change and lets go what waited for it.
func (q *queue) keep(ctx context.Context, i int, r store.Receipt) error {
	q.mu.Lock()
	defer q.mu.Unlock()
	c := q.order[i]
	q.running--
	q.written[r.Account] = time.Now()
	q.noteMade(c, r)
	q.hinders[c.ID] = hinders(r)
	q.count(c, r.Outcome)
	q.waves.settled(q.charter.WaveAt(c.Wave), q.Now())
	if r.Outcome == "failed" || r.Outcome == "refused" {
		q.lastBad = r.Detail
	}
	q.passed(i)
	if q.failures >= maxFailures {
		q.halt(fmt.Sprintf("stopped after %d failures in a row; the last: %s", q.failures, q.lastBad))
	}
	if share := q.charter.Failures; q.tried >= charter.FewestTried && float64(q.failed) > share*float64(q.tried) {
		q.halt(fmt.Sprintf("stopped: %d of %d changes failed or were refused, more than %g %%; the last: %s", q.failed, q.tried, 100*share, q.lastBad))
	}
	if q.forbidden >= maxForbidden {
		q.halt(fmt.Sprintf("stopped: %d changes in a row were forbidden; the last: %s", q.forbidden, q.lastBad))
	}
	q.free.Broadcast()
	if r.Outcome != "done" && r.Outcome != "unchanged" {
		level := map[bool]string{true: "error", false: "warning"}[r.Outcome == "failed" || r.Outcome == "in-doubt"]
		if err := q.w.Log(ctx, level, c.Label, c.Verb+" "+r.Outcome+": "+r.Detail); err != nil {
			return err
		}
	}
	if now := time.Now(); now.Sub(q.told) < progressPause && q.done < q.total {
		return nil
	} else {
		q.told = now
	}
	return q.w.Progress(q.done, q.total, q.good, q.bad)
}

// progressPause is how long watchers wait for the next count.
const progressPause = 200 * time.Millisecond

func (q *queue) stop(why string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.stopped == "" || q.halting {
		q.stopped, q.halting = cmp.Or(q.stopped, why), false
	}
	q.free.Broadcast()
}

// fail stops the run for an error that is about no single change. Where
// PostgreSQL went away, nobody has stopped anything: whoever finds it again, this
// node or another, goes on.
func (q *queue) fail(err error) {
	if store.Away(err) {
		q.mu.Lock()
		q.away = err
		q.mu.Unlock()
	}
	q.stop(err.Error())
}

// interrupted: PostgreSQL went away, and the run will be gone on with.
func (q *queue) interrupted() bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.away != nil
}

func (q *queue) halted() string {
	why, _ := q.stopping()
	return why
}

// stopping tells why the run stops, and whether units that are under way come to their end.
func (q *queue) stopping() (why string, halting bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.stopped, q.halting
}

// work runs the queue dry and returns why it stopped early, "" when it didn't.
func (q *queue) work(ctx context.Context) string {
	if err := q.w.Progress(q.done, q.total, q.good, q.bad); err != nil {
		q.fail(err)
		return q.halted()
	}
	working, cancel := context.WithCancel(ctx)
	defer cancel()
	var turns parallel.Group
	turns.Go(func() { q.takeTurns(working) })
	go func() { // whoever sleeps hears that the work is over
		select {
		case <-working.Done():
		case <-q.w.Asked():
		}
		q.mu.Lock()
		if working.Err() == nil {
			q.halt("halted as asked")
		}
		q.free.Broadcast()
		q.mu.Unlock()
	}()
	q.settleUnits(working)
	var wg parallel.Group
	for range q.workers() {
		wg.Go(func() {
			for working.Err() == nil {
				i, ok := q.next(working)
				if !ok {
					return
				}
				q.one(working, i)
			}
		})
	}
	wg.Wait()
	cancel()
	turns.Wait()
	return q.halted()
}

// safely is change; a panic stops the run as any error of ours does, with the
// intent kept.
func (q *queue) safely(ctx context.Context, c store.Change) (r store.Receipt, effects store.Effects, err error) {
	err = parallel.Try(func() (err error) {
		r, effects, err = q.change(ctx, c)
		return err
	})
	return r, effects, fault.Ours(q.Log, "change "+c.ID, err)
}

// one carries out a change and keeps what came of it.
func (q *queue) one(ctx context.Context, i int) {
	c := q.order[i]
	r, effects, err := q.safely(ctx, c)
	if ctx.Err() != nil {
		return
	}
	if err == nil {
		if err = q.Store.Settle(ctx, q.w.Task, r, effects); err == nil {
			q.scarce.landed(c.ID)
			if err = q.keep(ctx, i, r); err == nil && c.Body.V.Unit != "" {
				err = q.settleUnit(ctx, c.Body.V.Unit)
			}
		} else {
			err = fmt.Errorf("a receipt could not be kept: %w", err)
		}
		if err != nil {
			q.fail(err)
		}
		return
	}
	if _, waits := err.(notOurs); !waits {
		q.fail(err)
	}
	q.putBack(i)
}
