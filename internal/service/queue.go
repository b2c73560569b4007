package service

import (
	"context"
	"fmt"
	"sync"
	"time"

	"twinning/internal/store"
)

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
	written  map[string]time.Time // account -> our last write, for systems that show writes late
}

// maxFailures in a row stop a run: something is wrong with more than a record.
const maxFailures = 10

func (e *execution) queue(ctx context.Context) (*queue, error) {
	q := &queue{e: e, prior: map[int]store.Receipt{}, outcome: map[string]string{}, busy: map[string]bool{}, written: map[string]time.Time{}}
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
		case !ok && (c.Outcome == "done" || c.Outcome == "unchanged" || c.Outcome == "waiting"):
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

// shown waits until our last write to the account must show: what is read
// before is the account as it was, and our next write would look stale.
func (q *queue) shown(ctx context.Context, account string) {
	q.mu.Lock()
	wait := time.Until(q.written[account].Add(q.e.declared.Lag))
	q.mu.Unlock()
	if q.e.declared.Lag == 0 || wait <= 0 {
		return
	}
	select {
	case <-ctx.Done():
	case <-time.After(wait):
	}
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
	q.written[r.Account] = time.Now()
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
	for range q.e.workers() {
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
