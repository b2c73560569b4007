package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/internal/access"
	"twinning/internal/core/budget"
	"twinning/internal/core/lifecycle"
	"twinning/internal/store"
)

// Whoever asks to halt, and a node that is told to stop, are heard within a second
// in the middle of a computation, and the computation ends soon after.
func TestHaltIsHeard(t *testing.T) {
	require.NoError(t, budget.Set("cost=1000000000000"))
	t.Cleanup(func() { require.NoError(t, budget.Set("cost=100000")) })
	s, clock := shiftingClock(t)
	d := newDays(t, s, clock, 1)
	var people, accounts []string
	for i := range 400 {
		people = append(people, fmt.Sprintf("L%d Ana Soto%d Cook a%d@larkspur.example true", i, i, i))
		accounts = append(accounts, fmt.Sprintf("u%d a%d - Ana Soto%d Cook a%d@larkspur.example - true", i, i, i, i))
	}
	d.begin("people hq", people)
	d.begin("accounts app", accounts)
	long := strings.Repeat("['1','2','3','4','5','6','7','8'].all(x, ", 6) + "person.id != ''" + strings.Repeat(")", 6)
	d.begin("lane ops hq app", []string{"pairing: {keys: [{name: long, person: \"" + long + " ? person.email : ''\", account: account.emails}]}"})
	require.Empty(t, d.do("take hq"))
	require.Empty(t, d.do("take app"))
	for _, stop := range []string{"halt", "node"} {
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		queued, err := d.service.Reconcile(ctx, tester, d.own("ops"), false)
		require.NoError(t, err)
		ended := make(chan error, 1)
		go func() {
			_, err := d.service.Perform(ctx)
			ended <- err
		}()
		require.Eventually(t, func() bool { return len(d.service.computing) == 1 }, 20*time.Second, 10*time.Millisecond)
		time.Sleep(300 * time.Millisecond)
		require.Len(t, d.service.computing, 1, "it takes long")
		asked := time.Now()
		if stop == "node" {
			cancel()
		} else {
			_, err = d.service.HaltTask(ctx, tester, queued.ID)
			require.NoError(t, err)
		}
		require.NoError(t, <-ended)
		require.Less(t, time.Since(asked), 3*time.Second, "a second, on a machine that has other things to do")
		require.Eventually(t, func() bool { return len(d.service.computing) == 0 }, 20*time.Second, 10*time.Millisecond, "nobody waits for it any more")
		got, err := d.service.Task(context.Background(), queued.ID)
		require.NoError(t, err)
		if stop == "node" {
			require.Equal(t, lifecycle.Running, got.State, "another node goes on")
			next, err := s.ClaimTask(context.Background(), "elsewhere", "b", time.Minute, nil)
			require.NoError(t, err)
			require.Equal(t, queued.ID, next.ID)
			require.Zero(t, next.Deaths)
			continue
		}
		require.Equal(t, lifecycle.Halted, got.State)
		require.Equal(t, "halted as asked; nothing of it was kept", got.Message)
		_, err = s.LatestReconciliation(context.Background(), 1)
		require.ErrorIs(t, err, store.ErrNotFound)
	}
}

// A run waits for its window, comes to the end of what it is at when that closes, and goes on
// in the next; while it waits it is in nobody's way.
func TestWindows(t *testing.T) {
	s, clock := shiftingClock(t)
	d := newDays(t, s, clock, 1)
	people := []string{"L1 Ana Soto Cook bo.lund@larkspur.example true", "L2 Bo Lund Driver ana.soto@larkspur.example true", "L3 Cy Falk Cook cy.falk@larkspur.example true"}
	for i := range 6 { // the other lane has more to do
		people = append(people, fmt.Sprintf("M%d Di Noe%d Cook di.noe%d@larkspur.example true", i, i, i))
	}
	d.begin("people hq", people)
	d.begin("accounts app", []string{"u1 asoto L1 Ana Soto Cook ana.soto@larkspur.example - true", "u2 blund L2 Bo Lund Driver bo.lund@larkspur.example - true", "u3 cfalk L3 Cy Falk Chef cy.falk@larkspur.example - true"})
	some := []string{"pairing: {keys: [{name: number, person: person.id, account: account.externalId}]}", "names: {between: between.larkspur.example}"}
	d.begin("lane ops hq app", append(some, "people: {from: PEOPLE, where: person.id.startsWith('L')}", "zone: Asia/Tokyo", "windows: [{from: \"03:00\", to: \"05:00\"}]"))
	d.begin("lane rest hq app", append(some, "zone: Asia/Tokyo", "windows: [{from: \"03:00\", to: \"05:00\"}]", "people: {from: PEOPLE, where: person.id.startsWith('M')}", "accounts: {in: ACCOUNTS, where: account.externalId.startsWith('M')}"))
	for _, step := range []string{"take hq", "take app", "reconcile ops", "draft ops", "reconcile rest", "draft rest", "seal rest"} {
		require.Empty(t, slices.DeleteFunc(d.do(step), func(l string) bool { return !strings.HasPrefix(l, "!") }), step)
	}
	require.Equal(t, []string{"sealed"}, d.do("seal ops"))
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	require.Empty(t, d.do("start ops"))
	ended := make(chan error, 1)
	go func() {
		_, err := d.service.Perform(ctx)
		ended <- err
	}()
	comes := func(told string) {
		require.Eventually(t, func() bool { return slices.Contains(d.ran("ops"), told) }, 20*time.Second, 20*time.Millisecond, "%s, and not %v", told, d.ran("ops"))
	}
	comes("running: waits for the window that opens on Thu 2031-01-02 03:00 JST")
	rest := d.newest("rest")
	_, err := d.service.StartRun(ctx, access.Caller{Name: "nightly", Rights: []access.Right{access.Work}}, rest.ID, rest.Hash, RunOrder{AnyTime: "because"})
	require.ErrorContains(t, err, "needs the right overrule")
	_, err = d.service.StartRun(ctx, access.Caller{Name: "nightly", Rights: []access.Right{access.Work}}, rest.ID, rest.Hash, RunOrder{})
	require.ErrorContains(t, err, "a plan that humans have sealed needs the right seal")
	_, err = d.service.StartRun(ctx, tester, rest.ID, rest.Hash, RunOrder{AnyTime: "the astronomers can't get in"})
	require.NoError(t, err)
	require.Empty(t, d.perform())
	require.Equal(t, "done create M5", d.ran("rest")[5], "another lane writes meanwhile, at a time when it must")
	d.do("meanwhile app write tick 2h") // the window closes while the first change is written
	d.do("tick 7h")                     // it is 04:00 in Tokyo
	comes("running: waits for the window that opens on Fri 2031-01-03 03:00 JST")
	require.Equal(t, []string{"done readdress L1 u1", "done readdress L2 u2", "done readdress L1 u1", "not yet set L3 u3"}, d.ran("ops")[:4], "the unit comes to its end")
	d.do("tick 22h")
	require.NoError(t, <-ended)
	require.Equal(t, "done set L3 u3", d.ran("ops")[3])
}

// A run pauses after a wave for as long as the charter says, in nobody's way, and begins nothing
// of the next before all of the wave is settled; whoever takes it over goes on waiting.
func TestPauses(t *testing.T) {
	s, clock := shiftingClock(t)
	d := newDays(t, s, clock, 2)
	people, accounts := []string{}, []string{}
	for i := range 9 {
		people = append(people, fmt.Sprintf("L%d Ana Soto%d Chef ana.soto%d@larkspur.example true", i, i, i))
		accounts = append(accounts, fmt.Sprintf("u%d asoto%d L%d Ana Soto%d Cook ana.soto%d@larkspur.example - true", i, i, i, i, i))
	}
	d.begin("people hq", people)
	d.begin("accounts app", accounts)
	d.begin("lane ops hq app", []string{"waves: [{name: pilot, people: [L3, L7], pause: 2h}, {name: everybody}]", "people: {from: PEOPLE, where: person.id != 'L8'}"})
	d.begin("lane rest hq app", []string{"people: {from: PEOPLE, where: person.id == 'L8'}", "accounts: {in: ACCOUNTS, where: account.externalId == 'L8'}"})
	for _, step := range []string{"take hq", "take app", "reconcile ops", "draft ops", "reconcile rest", "draft rest", "seal rest", "seal ops"} {
		require.Empty(t, slices.DeleteFunc(d.do(step), func(l string) bool { return !strings.HasPrefix(l, "!") }), step)
	}
	require.Empty(t, d.do("start ops"))
	begin := func() (stop func(), ended chan error) {
		ctx, cancel := context.WithCancel(context.Background())
		ended = make(chan error, 1)
		go func() {
			_, err := d.service.Perform(ctx)
			ended <- err
		}()
		return cancel, ended
	}
	comes := func(told string) {
		t.Helper()
		require.Eventually(t, func() bool {
			return slices.ContainsFunc(d.ran("ops"), func(l string) bool { return strings.HasPrefix(l, told) })
		}, 20*time.Second, 20*time.Millisecond, "%s, and not %v", told, d.ran("ops"))
	}
	did := func() (n int) {
		for _, l := range d.ran("ops") {
			if strings.HasPrefix(l, "done ") {
				n++
			}
		}
		return n
	}
	stop, ended := begin()
	comes("running: waits for the end of the pause after wave pilot on Thu 2032-01-01 14:0")
	require.Equal(t, 2, did())
	rest := d.newest("rest")
	_, err := d.service.StartRun(context.Background(), tester, rest.ID, rest.Hash, RunOrder{})
	require.NoError(t, err)
	require.Empty(t, d.perform(), "another lane writes meanwhile")
	require.Equal(t, []string{"done set L8 u8"}, d.ran("rest"))
	stop() // the node goes, and another takes it over in the pause
	require.NoError(t, <-ended)
	d.do("tick 1h")
	stop, ended = begin()
	defer stop()
	comes("running: waits for the end of the pause")
	require.Equal(t, 2, did())
	d.do("tick 1h")
	require.NoError(t, <-ended)
	require.Equal(t, 8, did())
}
