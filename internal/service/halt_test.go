package service

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

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
