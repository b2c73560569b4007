package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/internal/cluster"
	"twinning/internal/core/lifecycle"
	"twinning/internal/core/planning"
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
		if err := shared.KeyTrail(ctx, []byte("a key for tests"), false); err != nil {
			panic(err)
		}
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

// noise is a text that can't be packed.
func noise(n int) string {
	b := make([]byte, n)
	rng := rand.New(rand.NewPCG(1, 2)) // repeatable on purpose
	for i := range b {
		b[i] = byte('!' + rng.IntN(90))
	}
	return string(b)
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
		{map[string]string{"a": "1", "d": "1"}, []record.Rejection{{Line: 9, Reason: "no id"}, {Line: 10, ID: noise(6000), Reason: "too long an id for any index"}}, []string{"b", "c"}, 1, 2, 0},
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

	for i, unread := range []bool{false, true} {
		c, err := shared.RecordAt(ctx, x.ID, ids[i], "c")
		require.NoError(t, err)
		require.Equal(t, unread, c.Unread != nil)
	}

	// records are searched by id and value, and not by the names of their columns
	found := func(roster int64, text string) (ids string) {
		r, err := shared.Roster(ctx, roster)
		require.NoError(t, err)
		list, _, err := shared.Records(ctx, r, Page{Text: text})
		require.NoError(t, err)
		for _, x := range list {
			ids += x.ID
		}
		return ids
	}
	for range 2 { // without an index, and with one
		require.Equal(t, []string{"abc", "b", "ad", "", "d"}, []string{found(ids[0], "1"), found(ids[1], "2"), found(ids[2], "1"), found(ids[0], "v"), found(ids[2], "D")})
		require.NoError(t, shared.furnishRecords(ctx, x.ID, 1))
	}
	bare, err := shared.bare(ctx, x.ID, 1)
	require.NoError(t, err)
	require.False(t, bare, "it has its index")

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
			got, err := shared.ClaimTask(ctx, node, node, time.Second, nil)
			require.NoError(t, err)
			if got.ID == queued.ID {
				return got
			}
			require.NoError(t, shared.EndTask(ctx, got, lifecycle.End, ""))
		}
	}
	first := claim("one")
	_, err = shared.ClaimTask(ctx, "two", "two", time.Second, nil)
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
	same, err := shared.ClaimTask(ctx, "two", "two", time.Second, nil)
	require.NoError(t, err, "a restarted node takes its own work over at once")
	require.Equal(t, queued.ID, same.ID)
	require.NoError(t, shared.EndTask(ctx, same, lifecycle.Cancel, "asked"))
}

// Processes that end over a task are counted while it gets no further; one that
// was left in order cost none.
func TestDeaths(t *testing.T) {
	ctx := context.Background()
	queued, err := shared.AddTask(ctx, "run", "deadly", "test", struct{}{})
	require.NoError(t, err)
	var x Task
	claim := func(boot string) int {
		for {
			x, err = shared.ClaimTask(ctx, "elsewhere", boot, -time.Second, nil) // its lease has run out already
			require.NoError(t, err)
			if x.ID == queued.ID {
				return x.Deaths
			}
			require.NoError(t, shared.EndTask(ctx, x, lifecycle.End, ""))
		}
	}
	for i, c := range []struct {
		boot   string
		deaths int
	}{{"a", 0}, {"b", 1}, {"b", 1}, {"c", 2}, {"d", 3}} {
		require.Equal(t, c.deaths, claim(c.boot), i)
	}
	require.NoError(t, shared.Progress(ctx, x, 5, 10, 0, 0))
	require.Equal(t, 1, claim("e"), "it got further")
	require.NoError(t, shared.LeaveTask(ctx, x))
	require.Equal(t, 1, claim("f"), "it was left in order")
	require.NoError(t, shared.EndTask(ctx, x, lifecycle.End, ""))
}

// The audit chain notices a changed, a removed and a forged entry, also when the
// forger computes the chain anew without the key; cut or emptied, it lacks the
// head that was kept.
func TestAuditChain(t *testing.T) {
	ctx := context.Background()
	for i := range 3 {
		require.NoError(t, shared.Audit(ctx, "test", "act", fmt.Sprint(i), map[string]string{"n": fmt.Sprint(i)}))
	}
	head, err := shared.AuditHead(ctx)
	require.NoError(t, err)
	whole, err := shared.CheckAudit(ctx, head)
	require.NoError(t, err)
	require.Equal(t, Checked{Entries: head.Seq, Head: true}, whole)
	forge := func(tx *Store) error { // alter, and compute all that follows as it was done before there was a key
		if _, err := tx.exec(ctx, `UPDATE audit SET actor = 'nobody' WHERE seq = 2`); err != nil {
			return err
		}
		var previous []byte
		var rows []AuditEntry
		if err := tx.list(ctx, &rows, `SELECT * FROM audit ORDER BY seq`); err != nil {
			return err
		}
		for _, e := range rows {
			digest := e.digest()
			previous = plainLink(previous, e.Seq, digest)
			if _, err := tx.exec(ctx, `UPDATE audit SET digest = $2, hash = $3, keyed = false WHERE seq = $1`, e.Seq, digest, previous); err != nil {
				return err
			}
		}
		return nil
	}
	sql := func(statement string) func(tx *Store) error {
		return func(tx *Store) error { _, err := tx.exec(ctx, statement); return err }
	}
	for name, c := range map[string]struct {
		tamper func(tx *Store) error
		broken int64
		head   bool
	}{
		"another actor":  {sql(`UPDATE audit SET actor = 'nobody' WHERE seq = 2`), 2, false},
		"another detail": {sql(`UPDATE audit SET detail = '{"n": "9"}' WHERE seq = 2`), 2, false},
		"one is gone":    {sql(`DELETE FROM audit WHERE seq = 2`), 2, false},
		"computed anew":  {forge, 1, false},
		"cut":            {sql(fmt.Sprintf(`DELETE FROM audit WHERE seq = %d`, head.Seq)), 0, false},
		"emptied":        {sql(`DELETE FROM audit`), 0, false},
		"gone on with":   {func(tx *Store) error { return tx.Audit(ctx, "test", "act", "more", nil) }, 0, true},
		"emptied, renewed": {func(tx *Store) error {
			_, err := tx.exec(ctx, `DELETE FROM audit`)
			for range head.Seq + 1 {
				err = errors.Join(err, tx.Audit(ctx, "test", "act", "anew", nil))
			}
			return err
		}, 0, false},
	} {
		t.Run(name, func(t *testing.T) {
			undo := errors.New("undo")
			require.ErrorIs(t, shared.InTx(ctx, func(tx *Store) error {
				require.NoError(t, c.tamper(tx))
				got, err := tx.CheckAudit(ctx, head)
				require.NoError(t, err)
				require.Equal(t, c.broken, got.Broken)
				require.Equal(t, c.head, got.Head)
				return undo
			}), undo)
		})
	}
}

func saying(text string) func() ([]byte, error) {
	return func() ([]byte, error) { return []byte(text), nil }
}

// An act, its entry in the trail and the request that asked for it commit together,
// once, however many ask at the same moment.
func TestRequestsOnce(t *testing.T) {
	ctx := context.Background()
	before, err := shared.AuditHead(ctx)
	require.NoError(t, err)
	var wg sync.WaitGroup
	done := make(chan error, 8)
	for i := range 8 {
		wg.Go(func() {
			r := Request{Caller: "ana", Key: "one and the same", Digest: saying("d"), Nonce: fmt.Sprint(i)}
			done <- shared.InTx(WithRequest(ctx, r), func(tx *Store) error {
				if _, err := tx.AddSystem(ctx, System{Name: fmt.Sprintf("once-%d", i), Kind: "file"}); err != nil {
					return err
				}
				return tx.Audit(WithRequest(ctx, r), "ana", "system.put", "once", nil)
			})
		})
	}
	wg.Wait()
	close(done)
	refused := 0
	for err := range done {
		if err != nil {
			require.ErrorIs(t, err, ErrDone)
			refused++
		}
	}
	require.Equal(t, 7, refused)
	made, err := shared.Systems(ctx)
	require.NoError(t, err)
	require.Len(t, slices.DeleteFunc(made, func(x System) bool { return !strings.HasPrefix(x.Name, "once-") }), 1)
	after, err := shared.AuditHead(ctx)
	require.NoError(t, err)
	require.Equal(t, before.Seq+1, after.Seq)
	_, err = shared.FindRequest(ctx, Request{Caller: "ana", Key: "one and the same", Digest: saying("another")})
	require.ErrorIs(t, err, ErrOther)
	_, err = shared.FindRequest(ctx, Request{Caller: "eva", Key: "one and the same", Digest: saying("d")})
	require.ErrorIs(t, err, ErrNotFound, "keys are each caller's own")
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
		_, err = shared.AddCharter(ctx, l.ID, 0, "lane: conflict", "test", "")
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
	o.Drafted[0].Body.V.Edits = []planning.Edit{{Attribute: "title", New: "Co\x00ok\xff"}} // no text column takes these
	r, err := shared.AddReconciliation(ctx, Task{}, o)
	require.NoError(t, err)
	drafted, err := shared.DraftedChanges(ctx, r)
	require.NoError(t, err)
	plan := func() Plan {
		id, err := shared.AddPlan(ctx, nil, Plan{LaneID: l.ID, Reconciliation: r, By: "test", Hash: "h", Verbs: o.Changes, Waves: o.Changes, Guards: o.Changes}, drafted, nil)
		require.NoError(t, err)
		p, err := shared.Plan(ctx, id)
		require.NoError(t, err)
		return p
	}
	names := []Name{{"asoto", "p1"}}
	one := plan()
	require.NoError(t, shared.SealPlan(ctx, one, Lane{DownstreamID: b.ID}, Seal{By: "test", Overruled: "", Expires: time.Now().Add(time.Hour)}, names))
	require.ErrorIs(t, shared.SealPlan(ctx, one, Lane{DownstreamID: b.ID}, Seal{By: "test", Overruled: "", Expires: time.Now().Add(time.Hour)}, nil), ErrChanged, "sealed already")
	two := plan()
	require.ErrorIs(t, shared.SealPlan(ctx, two, Lane{DownstreamID: b.ID}, Seal{By: "test", Overruled: "", Expires: time.Now().Add(time.Hour)}, names), ErrTaken)
	require.NoError(t, shared.MovePlan(ctx, one.ID, lifecycle.Abandon))
	require.NoError(t, shared.SealPlan(ctx, two, Lane{DownstreamID: b.ID}, Seal{By: "test", Overruled: "", Expires: time.Now().Add(time.Hour)}, names))
	list, next, total, err := shared.Changes(ctx, two.ID, "create", "", Page{Text: "ana", Limit: 1, Count: true})
	require.NoError(t, err)
	require.Equal(t, 1, total)
	require.Empty(t, next)
	require.Equal(t, "Ana", list[0].Label)
	_, _, total, err = shared.Changes(ctx, two.ID, "create", "", Page{Text: "cook", Limit: 1, Count: true})
	require.NoError(t, err)
	require.Equal(t, 1, total, "found by what is left of it")
}
