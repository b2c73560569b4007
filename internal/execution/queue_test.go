package execution

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"twinning/internal/core/charter"
	"twinning/internal/core/planning"
	"twinning/internal/store"
	"twinning/internal/work"
)

// make test is repeatable; make soak and -rapid.seed look elsewhere.
func init() { _ = flag.Set("rapid.seed", "20261126") }

// queued is a queue of these changes, whose turn it is to write.
func queued(changes []store.Change) *queue {
	x := underRules(&run{w: work.New(nil, store.Task{}), order: changes})
	q := x.emptyQueue()
	q.turn.mine = true
	q.fill()
	return q
}

// underRules has a run pause after its first wave.
func underRules(x *run) *run {
	x.charter = &charter.Charter{Waves: []charter.Wave{{Name: "pilot", Pause: time.Nanosecond}, {Name: "late"}, {Name: "last"}}}
	x.Engine, x.scarce = New(Config{Now: time.Now}), &scarce{run: x}
	return x
}

func change(n int, account string, needs ...string) store.Change {
	c := store.Change{ID: fmt.Sprintf("c%d", n), Number: n, Account: account, Verb: planning.Set}
	c.Body.V.Needs = needs
	return c
}

// Whatever changes need, and however many workers there are: each is taken once,
// after all it needs and after the earlier ones of its account; what needs itself
// in a circle is taken all the same, and found unmet.
func TestQueueOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 40).Draw(t, "n")
		var changes []store.Change
		for i := range n {
			var needs []string
			for range rapid.IntRange(0, 2).Draw(t, "needs") {
				needs = append(needs, fmt.Sprintf("c%d", rapid.IntRange(0, n+1).Draw(t, "need"))) // one may not be planned, or itself
			}
			slices.Sort(needs)
			c := change(i, fmt.Sprintf("u%d", rapid.IntRange(0, n/2).Draw(t, "account")), slices.Compact(needs)...)
			c.Wave = []string{"pilot", "late", "last"}[3*i/n]
			changes = append(changes, c)
		}
		q := queued(changes)
		var busy []int
		taken, settled := map[int]bool{}, map[int]bool{}
		circle := false
		for len(settled) < n {
			if barred, behind := q.barred(); len(busy) < 3 && len(q.ready) > 0 && !barred || len(busy) == 0 {
				before := len(q.ready)
				i, ok := q.next(context.Background())
				require.True(t, ok, "%d of %d are left", n-len(settled), n)
				circle = circle || before == 0 || behind
				require.False(t, taken[i], "taken twice")
				taken[i] = true
				for j := range i {
					require.True(t, settled[j] || changes[j].Wave != "pilot" || changes[i].Wave == "pilot", "%d of the next wave before %d", i, j)
					require.True(t, circle || settled[j] || place(changes[j]) != place(changes[i]), "%d before %d of the same account", i, j)
				}
				for _, need := range changes[i].Body.V.Needs {
					if c := q.byID[need]; c != nil {
						require.True(t, circle || settled[c.Number], "%d before %s, which it needs", i, need)
					}
				}
				busy = append(busy, i)
				continue
			}
			at := rapid.IntRange(0, len(busy)-1).Draw(t, "which ends")
			i := busy[at]
			busy = slices.Delete(busy, at, at+1)
			q.mu.Lock()
			q.running--
			q.count(changes[i], "done")
			q.waves.settled(q.charter.WaveAt(changes[i].Wave), time.Now().Add(-time.Second))
			q.passed(i)
			q.mu.Unlock()
			settled[i] = true
		}
		_, ok := q.next(context.Background())
		require.False(t, ok)
	})
}

// What an earlier run, or another wave, did is not done again, and what it left is.
func TestQueueGoesOn(t *testing.T) {
	for outcome, again := range map[string]bool{"": true, "done": false, "unchanged": false, "waiting": false, "in-doubt": false, "failed": true, "refused": true, "stale": true, "passed-over": true} {
		c := change(0, "u")
		c.Outcome = outcome
		q := queued([]store.Change{c})
		_, ok := q.next(context.Background())
		require.Equal(t, again, ok, "after %q", outcome)
	}
	x := underRules(&run{w: work.New(nil, store.Task{}), order: []store.Change{change(0, "u"), change(1, "v", "c0")}, params: Params{Wave: "pilot"}})
	x.order[0].Wave, x.order[1].Wave = "late", "pilot"
	q := x.emptyQueue()
	q.turn.mine = true
	q.fill()
	i, ok := q.next(context.Background())
	require.True(t, ok)
	require.Equal(t, 1, i)
	require.Contains(t, q.unmet(q.order[i]), "must come first and is not done")
	require.Equal(t, 1, q.beyond)
}

// Nobody else's mark or name: what a change gives out is what its own edits say.
// While another run waits for its turn, what is under way comes to its end and no unit is begun.
func TestQueueGivesWay(t *testing.T) {
	var changes []store.Change
	for i := range 6 {
		c := change(i, fmt.Sprintf("u%d", i/2))
		c.Body.V.Unit = fmt.Sprintf("unit %d", i/2)
		changes = append(changes, c)
	}
	q := queued(changes)
	i, ok := q.next(context.Background())
	require.True(t, ok)
	q.running--
	q.count(changes[i], "done")
	q.passed(i)
	require.False(t, q.givesWay(true))
	i, ok = q.next(context.Background())
	require.True(t, ok)
	require.Equal(t, 1, i, "the rest of the unit that is under way")
	q.running--
	q.count(changes[i], "done")
	q.passed(i)
	require.True(t, q.givesWay(true))
	require.Equal(t, -1, q.first(true))
	done := make(chan int)
	go func() { i, _ := q.next(context.Background()); done <- i }()
	q.setTurn(false)
	q.setTurn(true)
	require.Equal(t, 2, <-done, "the turn was given up, and has come back")
}

func TestEffects(t *testing.T) {
	c := store.Change{Verb: planning.Create, Person: "L1"}
	c.Body.V.Edits = []planning.Edit{{Attribute: "title", New: "Cook"}, {Attribute: "active", New: "true"}, {Attribute: "aliases", New: "a@l.example"}}
	for _, x := range []struct{ verb, outcome, account, want string }{
		{planning.Create, "done", "u1", "bond L1=u1 created, title=Cook"},
		{planning.Create, "refused", "u1", ""},
		{planning.Create, "in-doubt", "", ""},
		{planning.Set, "unchanged", "u1", "bond L1=u1 weighed"},
		{planning.Suspend, "done", "u1", "bond L1=u1 weighed, suspended, title=Cook"},
		{planning.Reinstate, "done", "u1", "bond L1=u1 weighed, opened, title=Cook"},
		{planning.Suspend, "stale", "u1", ""},
		{planning.Set, "waiting", "u1", ""},
	} {
		c.Body.V.Verb, c.Body.V.Person, c.Body.V.Basis = x.verb, "L1", "weighed"
		e := EffectsOf(7, c.Body.V, store.Receipt{RunID: 3, Account: x.account, Outcome: x.outcome})
		var got []string
		if e.Bond != nil {
			got = append(got, fmt.Sprintf("bond %s=%s %s", e.Bond.Person, e.Bond.Account, e.Bond.Basis))
		}
		if e.Suspended {
			got = append(got, "suspended")
		}
		if e.Opened {
			got = append(got, "opened")
		}
		for a, v := range e.Written {
			got = append(got, a+"="+v)
		}
		require.Equal(t, x.want, strings.Join(got, ", "), "%s %s", x.verb, x.outcome)
	}
}

// BenchmarkQueue tells what a change costs in queues of either size.
func BenchmarkQueue(b *testing.B) {
	for _, n := range []int{5000, 500000} {
		changes := make([]store.Change, n)
		for i := range changes {
			changes[i] = change(i, fmt.Sprint("u", i))
		}
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for range b.N {
				q := queued(changes)
				for {
					i, ok := q.next(context.Background())
					if !ok {
						break
					}
					q.running--
					q.passed(i)
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(n), "ns/change")
		})
	}
}

// A change that was sent, and certainly not done, is told as passed over when the
// run is stopped; where PostgreSQL went away in between, it stays to be gone on with.
func TestStoppedBetweenAttempts(t *testing.T) {
	gone := fmt.Errorf("asking: %w", &pgconn.PgError{Severity: "FATAL", Code: "57P01", Message: "terminating connection"})
	for name, c := range map[string]struct {
		err     error
		sent    bool
		outcome string
	}{
		"a failure, nothing sent":    {errors.New("the disk is full"), false, ""},
		"a failure, sent before":     {errors.New("the disk is full"), true, "passed-over"},
		"PostgreSQL, nothing sent":   {gone, false, ""},
		"PostgreSQL, sent before it": {gone, true, ""},
	} {
		t.Run(name, func(t *testing.T) {
			q := queued([]store.Change{change(0, "u0")})
			q.fail(c.err)
			s := &sender{queue: q, ctx: t.Context(), intended: c.sent}
			err := s.deliver()
			require.Equal(t, c.outcome, s.r.Outcome)
			require.Equal(t, c.outcome == "", err != nil, "what has no outcome is put back")
		})
	}
}
