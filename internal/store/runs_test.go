package store

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/lifecycle"
)

// How a change stands is told by its receipts of all runs. Runs die with an intent open, are
// begun again by hand, look up what is open, or do not come to it; whatever they leave behind, a
// change that one of them has settled is not open, one that is open is looked up by its newest
// intent, and what sent nothing takes nothing back of what was sent.
func TestHowAChangeStands(t *testing.T) {
	ctx := context.Background()
	l := newLane(t, "stands")
	changes, err := shared.DraftedChanges(ctx, reconciled(t, l.ID))
	require.NoError(t, err)
	result, err := shared.LatestReconciliation(ctx, l.ID)
	require.NoError(t, err)
	none := json.RawMessage(`{}`)
	for seed := range uint64(60) {
		rng := rand.New(rand.NewPCG(seed, 31))
		plan, err := shared.AddPlan(ctx, nil, Plan{LaneID: l.ID, Reconciliation: result.ID, By: "test", Hash: "h", Verbs: none, Waves: json.RawMessage(`[]`), Guards: json.RawMessage(`[]`)}, changes, nil)
		require.NoError(t, err)
		stands := map[int]string{} // by number: "" nothing was sent, or nobody knows of it; open tells them apart
		open := map[int]int64{}    // by number: the run whose intent is open
		said := ""
		for range 2 + rng.IntN(5) {
			_, err := shared.AddTask(ctx, "run", fmt.Sprint("stands ", plan), "test", struct{}{})
			require.NoError(t, err)
			task, err := shared.ClaimTask(ctx, "node", "process", time.Minute, nil)
			require.NoError(t, err)
			run, err := shared.AddRun(ctx, plan, task.ID, "", "test")
			require.NoError(t, err)
			before, err := shared.OpenIntents(ctx, plan)
			require.NoError(t, err)
			intents := map[int]int64{}
			for _, r := range before {
				require.NotContains(t, intents, r.Number, "the newest of each")
				intents[r.Number] = r.RunID
			}
			require.Equal(t, open, intents, "seed %d:%s", seed, said)
			for _, c := range changes {
				if s := stands[c.Number]; s == "done" || s == "in-doubt" || rng.IntN(4) == 0 {
					continue // the run does not come to it, or is not to
				}
				_, lookedUp := open[c.Number]
				r := Receipt{RunID: run, Number: c.Number, Change: c.ID, LookedUp: lookedUp && seed%2 == 0} // else as runs were kept before: the earlier intent stays as it is
				if rng.IntN(2) == 0 {                                                                       // it is sent
					_, err := shared.exec(ctx, `INSERT INTO receipts (run_id, number, change, account, before, sent, trace, attempts) VALUES ($1, $2, $3, '', '{}', '{}', '[]', 1)`, run, c.Number, c.ID)
					require.NoError(t, err)
					said += fmt.Sprintf(" run %d sends %d", run, c.Number)
					if rng.IntN(3) == 0 { // and ends before it hears of it
						open[c.Number] = run
						continue
					}
					r.Outcome = []string{"done", "done", "in-doubt", "failed", "refused"}[rng.IntN(5)]
				} else {
					r.Outcome = []string{"passed-over", "stale", "unchanged"}[rng.IntN(3)]
				}
				said += fmt.Sprintf(" run %d: %d %s", run, c.Number, r.Outcome)
				require.NoError(t, shared.Settle(ctx, task, r, Effects{Lane: l.ID}))
				stands[c.Number] = r.Outcome
				delete(open, c.Number)
			}
			require.NoError(t, shared.EndTask(ctx, task, lifecycle.End, ""))
		}
		require.NoError(t, shared.DoubtIntents(ctx, plan, "given up"))
		for number := range open {
			stands[number] = "in-doubt"
		}
		whole, err := shared.WholePlan(ctx, plan)
		require.NoError(t, err)
		for _, c := range whole {
			want := stands[c.Number]
			require.Equal(t, want, c.Outcome, "seed %d, change %d:%s", seed, c.Number, said)
			list, _, _, err := shared.Changes(ctx, plan, "", c.Outcome, Page{})
			require.NoError(t, err)
			require.Contains(t, numbers(list), c.Number)
		}
	}
}

func numbers(list []Change) (all []int) {
	for _, c := range list {
		all = append(all, c.Number)
	}
	return all
}
