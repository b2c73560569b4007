package store

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/internal/cluster"
	"twinning/internal/core/lifecycle"
	"twinning/internal/core/record"
)

// One real server for the package, one store for all tests; each test works on
// systems and lanes of its own.
var shared *Store

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "twinning-store-")
		if err != nil {
			panic(err)
		}
		defer func() { _ = os.RemoveAll(dir) }()
		ctx := context.Background()
		db, err := cluster.Start(ctx, cluster.Config{Dir: filepath.Join(dir, "db"), Volatile: true})
		if err != nil {
			panic(err)
		}
		defer func() { _ = db.Stop() }()
		for range 2 { // the second start finds the schema up to date
			if shared != nil {
				shared.Close()
			}
			if shared, err = Open(ctx, db.URL); err != nil {
				panic(err)
			}
		}
		defer shared.Close()
		return m.Run()
	}())
}

func newSystem(t *testing.T, name string) System {
	x, err := shared.AddSystem(context.Background(), System{Name: name, Kind: "file"})
	require.NoError(t, err)
	return x
}

func natives(rows map[string]string) (list []Native) {
	for id, value := range rows {
		list = append(list, Native{ID: id, Values: json.RawMessage(fmt.Sprintf(`{"v": [%q]}`, value)), Digest: []byte(value)})
	}
	return list
}

// Records are intervals: every past roster can be asked for, an absence ends
// an interval only in a whole reading, an unreadable record keeps its own.
func TestRostersAreIntervals(t *testing.T) {
	ctx := context.Background()
	x := newSystem(t, "intervals")
	var ids []int64
	for i, reading := range []struct {
		rows     map[string]string
		rejected []record.Rejection
		gone     []string
		came     int
		went     int
		changed  int
	}{
		{map[string]string{"a": "1", "b": "1", "c": "1"}, nil, nil, 3, 0, 0},
		{map[string]string{"a": "1", "b": "2"}, []record.Rejection{{Line: 4, ID: "c", Reason: "broken"}}, nil, 0, 0, 1},
		{map[string]string{"a": "1", "d": "1"}, []record.Rejection{{Line: 9, Reason: "no id"}}, []string{"b", "c"}, 1, 2, 0},
	} {
		task, err := shared.AddTask(ctx, "roster", "read", "test", struct{}{})
		require.NoError(t, err)
		id, err := shared.StartRoster(ctx, x.ID, "whole", "", "shape", task.ID)
		require.NoError(t, err)
		r1, err := shared.OpenReading(ctx, id, x.ID, i == 0)
		require.NoError(t, err)
		for _, n := range natives(reading.rows) {
			require.NoError(t, r1.Add(n))
		}
		require.NoError(t, r1.Reject(reading.rejected))
		for _, gone := range reading.gone {
			require.NoError(t, r1.Add(Native{ID: gone}))
		}
		_, err = r1.Commit(Ending{}, false, len(reading.rows))
		require.NoError(t, err)
		r, err := shared.Roster(ctx, id)
		require.NoError(t, err)
		require.Equal(t, []int{reading.came, reading.went, reading.changed}, []int{r.Came, r.Went, r.Changed}, "reading %d", i)
		ids = append(ids, id)
	}
	at := func(roster int64) map[string]string {
		seen := map[string]string{}
		require.NoError(t, shared.RosterRecords(ctx, x.ID, roster, func(id string, native map[string][]string, _ []byte) error { seen[id] = native["v"][0]; return nil }))
		return seen
	}
	require.Equal(t, map[string]string{"a": "1", "b": "1", "c": "1"}, at(ids[0]))
	require.Equal(t, map[string]string{"a": "1", "b": "2", "c": "1"}, at(ids[1]))
	require.Equal(t, map[string]string{"a": "1", "d": "1"}, at(ids[2]))

	// a reading that fails leaves nothing behind, and a dead reader's is closed
	task, err := shared.AddTask(ctx, "roster", "read", "test", struct{}{})
	require.NoError(t, err)
	dead, err := shared.StartRoster(ctx, x.ID, "whole", "", "shape", task.ID)
	require.NoError(t, err)
	_, err = shared.StartRoster(ctx, x.ID, "whole", "", "shape", task.ID)
	require.NoError(t, err)
	r, err := shared.Roster(ctx, dead)
	require.NoError(t, err)
	require.Equal(t, "failed", r.State)
	newest, err := shared.NewestRoster(ctx, x.ID)
	require.NoError(t, err)
	require.Equal(t, ids[2], newest.ID)
}

// A task that was taken over can no longer be written by its former holder.
func TestFencing(t *testing.T) {
	ctx := context.Background()
	queued, err := shared.AddTask(ctx, "run", "fenced", "test", struct{}{})
	require.NoError(t, err)
	claim := func(node string) Task {
		for {
			got, err := shared.ClaimTask(ctx, node, time.Second, nil)
			require.NoError(t, err)
			if got.ID == queued.ID {
				return got
			}
			require.NoError(t, shared.EndTask(ctx, got, lifecycle.End, ""))
		}
	}
	first := claim("one")
	_, err = shared.ClaimTask(ctx, "two", time.Second, nil)
	require.ErrorIs(t, err, ErrNotFound, "a living lease is respected")
	time.Sleep(1100 * time.Millisecond)
	second := claim("two")
	require.Greater(t, second.Fence, first.Fence)
	_, err = shared.RenewLease(ctx, first, time.Second)
	require.ErrorIs(t, err, ErrFenced)
	require.ErrorIs(t, shared.Progress(ctx, first, 1, 1, 1, 0), ErrFenced)
	require.ErrorIs(t, shared.EndTask(ctx, first, lifecycle.End, ""), ErrFenced)
	require.ErrorIs(t, shared.Settle(ctx, first, Receipt{RunID: 1}, Effects{}), ErrFenced)
	require.NoError(t, shared.AskHalt(ctx, queued.ID))
	halt, err := shared.RenewLease(ctx, second, time.Second)
	require.NoError(t, err)
	require.True(t, halt)
	same, err := shared.ClaimTask(ctx, "two", time.Second, nil)
	require.NoError(t, err, "a restarted node takes its own work over at once")
	require.Equal(t, queued.ID, same.ID)
	require.NoError(t, shared.EndTask(ctx, same, lifecycle.Cancel, "asked"))
}

// The audit chain notices a changed, a removed and a forged entry.
func TestAuditChain(t *testing.T) {
	ctx := context.Background()
	for i := range 3 {
		require.NoError(t, shared.Audit(ctx, "test", "act", fmt.Sprint(i), map[string]string{"n": fmt.Sprint(i)}))
	}
	check := func() int64 {
		_, broken, err := shared.CheckAudit(ctx)
		require.NoError(t, err)
		return broken
	}
	require.Zero(t, check())
	for _, tamper := range []string{
		`UPDATE audit SET actor = 'nobody' WHERE seq = 2`, `UPDATE audit SET detail = '{"n": "9"}' WHERE seq = 2`, `DELETE FROM audit WHERE seq = 2`,
	} {
		tx, err := shared.db.BeginTxx(ctx, nil)
		require.NoError(t, err)
		_, err = tx.ExecContext(ctx, tamper)
		require.NoError(t, err)
		_, broken, err := (&Store{pool: shared.pool, db: shared.db, q: tx}).CheckAudit(ctx)
		require.NoError(t, err)
		require.Equal(t, int64(2), broken, tamper)
		require.NoError(t, tx.Rollback())
	}
	require.Zero(t, check())
}

// What people edit is not overwritten by somebody who looked at it earlier; a
// name that one sealed plan has reserved is not given to another.
func TestConflicts(t *testing.T) {
	ctx := context.Background()
	a, b := newSystem(t, "conflict-a"), newSystem(t, "conflict-b")
	_, err := shared.AddSystem(ctx, System{Name: "conflict-a", Kind: "file"})
	require.ErrorIs(t, err, ErrTaken)
	changed, err := shared.ChangeSystem(ctx, a, a.Version)
	require.NoError(t, err)
	require.Equal(t, a.Version+1, changed.Version)
	_, err = shared.ChangeSystem(ctx, a, a.Version)
	require.ErrorIs(t, err, ErrChanged)
	require.NoError(t, shared.AddLane(ctx, "conflict", a.ID, b.ID))
	require.ErrorIs(t, shared.RemoveSystem(ctx, "conflict-a"), ErrInUse)
	l, err := shared.LaneByName(ctx, "conflict")
	require.NoError(t, err)
	for range 2 {
		_, err = shared.AddCharter(ctx, l.ID, 0, "lane: conflict", "test")
	}
	require.ErrorIs(t, err, ErrTaken, "two first versions")

	require.NoError(t, shared.AddBond(ctx, l.ID, Bond{"p1", "a1", "keyed", "run 1"}))
	require.NoError(t, shared.AddBond(ctx, l.ID, Bond{"p1", "a2", "ruled", "ruling 1"}))
	bonds, err := shared.Bonds(ctx, l.ID)
	require.NoError(t, err)
	require.Equal(t, []Bond{{"p1", "a2", "ruled", "ruling 1"}}, bonds, "a person has one bond, the newest")

	o := &Outcome{}
	o.LaneID, o.At = l.ID, time.Now()
	for _, p := range []*json.RawMessage{&o.Balance, &o.Findings, &o.Changes, &o.Withheld, &o.Guards, &o.Notes} {
		*p = json.RawMessage(`{}`)
	}
	o.Inputs = []byte("x")
	o.Drafted = []Change{{ID: "c-1", Wave: "everybody", Verb: "create", Person: "p1", Label: "Ana"}}
	r, err := shared.AddReconciliation(ctx, Task{}, o)
	require.NoError(t, err)
	plan := func() Plan {
		id, err := shared.AddPlan(ctx, Plan{LaneID: l.ID, Reconciliation: r, By: "test", Hash: "h", Verbs: o.Changes, Waves: o.Changes, Guards: o.Changes}, o.Drafted)
		require.NoError(t, err)
		p, err := shared.Plan(ctx, id)
		require.NoError(t, err)
		return p
	}
	names := []Name{{"asoto", "p1"}}
	one := plan()
	require.NoError(t, shared.SealPlan(ctx, one, b.ID, "test", "", time.Now().Add(time.Hour), names))
	require.ErrorIs(t, shared.SealPlan(ctx, one, b.ID, "test", "", time.Now().Add(time.Hour), nil), ErrChanged, "sealed already")
	two := plan()
	require.ErrorIs(t, shared.SealPlan(ctx, two, b.ID, "test", "", time.Now().Add(time.Hour), names), ErrTaken)
	require.NoError(t, shared.MovePlan(ctx, one.ID, lifecycle.Abandon))
	require.NoError(t, shared.SealPlan(ctx, two, b.ID, "test", "", time.Now().Add(time.Hour), names))
	list, next, total, err := shared.Changes(ctx, two.ID, "create", "", Page{Text: "ana", Limit: 1})
	require.NoError(t, err)
	require.Equal(t, 1, total)
	require.Empty(t, next)
	require.Equal(t, "Ana", list[0].Label)
}
