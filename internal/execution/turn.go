package execution

import (
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"twinning/internal/store"
)

// turn is whether this run is the one that writes to the system now.
type turn struct {
	mine   bool
	wanted bool      // by another run, or a window has closed: no unit is begun any more
	waits  bool      // for a window; of takeTurns alone
	opens  time.Time // the window that is waited for; of takeTurns alone
}

// turnPause is how often a run asks for its turn, or whether another waits.
const turnPause = 250 * time.Millisecond

// takeTurns takes the turn, and gives it up between two changes whenever a run
// waits that has much less to do, or a window closes: the database knows whose it is.
func (q *queue) takeTurns(ctx context.Context) {
	for ctx.Err() == nil {
		if err := q.turns(ctx); err != nil && ctx.Err() == nil {
			q.fail(err)
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(turnPause):
		}
	}
	q.setTurn(false)
}

func (q *queue) turns(ctx context.Context) error {
	q.mu.Lock()
	mine := q.turn.mine
	q.free.Broadcast() // a pause may be over that nobody has waited for here
	q.mu.Unlock()
	closed, err := q.closed(ctx, mine)
	switch {
	case err != nil || closed && !mine:
		return err
	case !mine:
		ok, err := q.Store.TakeTurn(ctx, q.w.Task)
		if err == nil {
			q.setTurn(ok)
		}
		return err
	}
	wanted, err := q.Store.Wanted(ctx, q.w.Task)
	if err != nil || !q.givesWay(wanted || closed) {
		return err
	}
	q.setTurn(false)
	q.idle(ctx)
	return q.Store.GiveTurn(ctx, q.w.Task)
}

// givesWay reports whether the run stops writing for now, as it is wanted to: nothing may come
// in between the changes of a unit that is under way. None is begun while that is so.
func (q *queue) givesWay(wanted bool) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.turn.wanted != wanted {
		q.turn.wanted = wanted
		q.free.Broadcast()
	}
	return wanted && !q.anyUnderway()
}

// closed reports whether no window is open. Whoever looks at the run is told what it waits
// for, and while it does it is in nobody's way.
func (q *queue) closed(ctx context.Context, mine bool) (closed bool, err error) {
	now := q.Now()
	if !q.turn.opens.After(now) { // else it is known
		q.turn.opens = q.opens(now)
	}
	opens := q.turn.opens
	q.mu.Lock()
	left, why := q.total-q.done, "the window that opens on"
	if pause := q.waves.opens; pause.After(opens) {
		opens, why = pause, "the end of the pause after wave "+q.waves.before+" on"
	}
	q.mu.Unlock()
	closed = opens.After(now)
	switch waits := closed && !mine; {
	case waits == q.turn.waits:
	case waits:
		if err = q.Store.Writes(ctx, q.w.ID, q.system.ID, store.Last); err == nil {
			err = q.w.Tell(ctx, fmt.Sprintf("waits for %s %s", why, opens.In(q.charter.Zone).Format("Mon 2006-01-02 15:04 MST")))
		}
		q.turn.waits = err == nil
	default:
		if err = q.Store.Writes(ctx, q.w.ID, q.system.ID, left); err == nil {
			err = q.w.Tell(ctx, "")
		}
		q.turn.waits = err != nil
	}
	return closed, err
}

func (q *queue) setTurn(mine bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.turn.mine != mine {
		q.turn.mine, q.turn.wanted = mine, false
		q.scarce.forget()
		q.free.Broadcast()
	}
}

// idle waits until no change is under way.
func (q *queue) idle(ctx context.Context) {
	for ctx.Err() == nil {
		q.mu.Lock()
		running := q.running
		q.mu.Unlock()
		if running == 0 {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// patience is what all workers have with a system that asks for a slower pace.
type patience struct {
	until time.Time // nobody sends before
	away  int       // answers in a row that never came, of all workers
	since time.Time // of the first refusal in a row
}

// A system that so many answers in a row did not come from is left alone by all workers, for
// longer each time.
const (
	mostAway = 8
	mostRest = 30 * time.Second
)

// mostPatience is how long a system is waited for; beyond, the run halts.
const mostPatience = 15 * time.Minute

// slower notes that the system asks for patience, and lets this worker wait: so
// long as the system says, or, where it does not say, longer each time. why says
// that it takes too long, or that the run is asked to stop; what is closing is not held up
// by that.
func (q *queue) slower(ctx context.Context, attempt int, asked time.Duration, closing bool) (why string) {
	q.mu.Lock()
	now := time.Now()
	if q.patience.since.IsZero() {
		q.patience.since = now
	}
	backoff := min(time.Duration(1<<min(attempt, 8))*50*time.Millisecond, 10*time.Second)
	until := now.Add(max(asked, backoff/2+rand.N(backoff))) // jitter keeps the workers apart
	since := q.patience.since
	if q.patience.away >= mostAway { // it is down: nobody knocks at it faster than one alone would
		until = now.Add(min(time.Duration(1<<min(q.patience.away-mostAway, 8))*time.Second, mostRest))
		asked = until.Sub(now)
	}
	if asked > 0 && until.After(q.patience.until) {
		q.patience.until = until // said by the system: for all workers
	}
	q.mu.Unlock()
	if until.Sub(since) > mostPatience {
		return fmt.Sprintf("%s asks for patience until %s, longer than %s in all; start the plan again then", q.system.Name, until.UTC().Format(time.RFC3339), mostPatience)
	}
	return q.until(ctx, until, closing)
}

// patient waits as long as the system has asked all workers to.
func (q *queue) patient(ctx context.Context, closing bool) (why string) {
	q.mu.Lock()
	until := q.patience.until
	q.mu.Unlock()
	return q.until(ctx, until, closing)
}

func (q *queue) until(ctx context.Context, at time.Time, closing bool) (why string) {
	for {
		d := time.Until(at)
		stopped, halting := q.stopping()
		switch {
		case stopped != "" && !(closing && halting):
			return stopped
		case d <= 0:
			return ""
		case closing:
			select {
			case <-ctx.Done():
				return "halted as asked"
			case <-time.After(min(d, time.Second)):
			}
		case !q.sleep(ctx, min(d, time.Second)):
			return "halted as asked"
		}
	}
}

// answered notes that the system takes changes again.
func (q *queue) answered() {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.patience.since, q.patience.away = time.Time{}, 0
}

// unreached notes that it can't be reached.
func (q *queue) unreached() {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.patience.away++
}
