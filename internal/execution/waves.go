package execution

import (
	"slices"
	"time"

	"twinning/internal/core/planning"
)

// waves is how far a run has come with its waves. Where the charter pauses after one, nothing
// of the next is begun before all of it is settled and the pause is over; else they follow one
// another as their changes do.
type waves struct {
	at     int             // the place of the wave that is carried out
	left   map[int]int     // place -> changes that are not settled yet
	order  []int           // places of the waves that have any, from the first
	pause  []time.Duration // by place
	opens  time.Time       // when the pause before this wave is over
	before string          // the wave that it comes after
	names  []string
}

// goAhead is the wave of this run after which a human says whether the plan goes on, "" when
// there is none.
func (q *queue) goAhead() string {
	todo := map[string]bool{}
	for _, c := range q.order {
		switch r, ok := q.prior[c.Number]; {
		case q.params.Wave != "":
		case ok && r.Outcome != "": // by this very run, before it was taken over
			todo[c.Wave] = true
		case !planning.IsFinal(c.Outcome):
			todo[c.Wave] = true
		}
	}
	return q.charter.StopsAfter(q.plan.PausedAfter, func(w string) bool { return todo[w] })
}

// passes is the wave after which a human has been told to look, once the run has ended.
func (q *queue) passes() string {
	if q.params.Wave != "" {
		if at := q.charter.WaveAt(q.params.Wave); at >= 0 && q.charter.Waves[at].GoAhead && at > q.charter.WaveAt(q.plan.PausedAfter) {
			return q.params.Wave
		}
	}
	return q.stopsAfter
}

// wavesOf looks which waves are before the run, and since when one is through that a node
// before this one has carried out.
func (q *queue) wavesOf(todo []int) waves {
	w := waves{left: map[int]int{}}
	for _, x := range q.charter.Waves {
		w.pause, w.names = append(w.pause, x.Pause), append(w.names, x.Name)
	}
	for _, i := range todo {
		w.left[q.charter.WaveAt(q.order[i].Wave)]++
	}
	ended := map[int]time.Time{}
	for _, c := range q.order {
		if r, ok := q.prior[c.Number]; ok && r.Ended != nil {
			if at := q.charter.WaveAt(c.Wave); r.Ended.After(ended[at]) {
				ended[at] = *r.Ended
			}
		}
	}
	for at := range w.pause {
		if w.left[at] > 0 {
			w.order = append(w.order, at)
		}
	}
	if len(w.order) > 0 {
		w.at = w.order[0]
		for at := range w.at {
			if end, did := ended[at]; did {
				w.rest(at, end)
			}
		}
	}
	return w
}

// rest begins the pause after a wave that was through at an instant.
func (w *waves) rest(at int, end time.Time) {
	if w.pause[at] > 0 {
		w.opens, w.before = end.Add(w.pause[at]), w.names[at]
	}
}

// settled counts a change of a wave. The caller holds the lock.
func (w *waves) settled(at int, now time.Time) {
	w.left[at]--
	for len(w.order) > 1 && w.left[w.order[0]] <= 0 && w.order[0] == w.at {
		w.rest(w.at, now)
		w.order = w.order[1:]
		w.at = w.order[0]
	}
}

// pauses: some wave between this one and another is followed by a pause.
func (w *waves) pauses(before int) bool {
	return slices.ContainsFunc(w.pause[w.at:before], func(d time.Duration) bool { return d > 0 })
}

// barred: the next change is of a wave that may not be begun yet; behind says that the one
// before is not settled, else the pause is not over. The caller holds the lock.
func (q *queue) barred() (barred, behind bool) {
	if len(q.ready) == 0 {
		return false, false
	}
	next := q.charter.WaveAt(q.order[q.ready[0]].Wave)
	behind = next > q.waves.at && q.waves.pauses(next)
	return behind || next >= q.waves.at && q.waves.opens.After(q.Now()), behind
}
