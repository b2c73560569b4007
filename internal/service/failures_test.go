package service

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
	"twinning/internal/store"
)

// kindsOfErrors are what a system can answer instead of doing what it was asked for.
var kindsOfErrors = map[string]connector.Kind{
	"broken": connector.Broken, "unreachable": connector.Unreachable, "denied": connector.Denied, "not-found": connector.NotFound, "conflict": connector.Conflict, "refused": connector.Refused,
	"throttled": connector.Throttled, "stale": connector.Stale, "unanswered": connector.Unanswered, "unsupported": connector.Unsupported, "forbidden": connector.Forbidden, "incomplete": connector.Incomplete,
}

// What comes of every kind of error and every verb reads as a sentence that says what to do, and
// nothing is done twice or lost. The sentences stand in testdata/failures.txt; -write writes
// them anew, to be read.
func TestFailuresRead(t *testing.T) {
	s, clock := shiftingClock(t)
	verbs := map[string][2][]string{
		"create":  {{"L1 Ana Soto Cook ana.soto@larkspur.example true"}, {"u9 xxu L9 Xi Xu Cook xi.xu@larkspur.example - true"}},
		"suspend": {{"L1 Ana Soto Cook ana.soto@larkspur.example false"}, {"u1 asoto L1 Ana Soto Cook ana.soto@larkspur.example - true"}},
	}
	var told []string
	n := 0
	for _, kind := range slices.Sorted(maps.Keys(kindsOfErrors)) {
		for _, verb := range slices.Sorted(maps.Keys(verbs)) {
			n++
			d := newDays(t, s, clock, n)
			d.begin("people hq", append(slices.Clone(verbs[verb][0]), "L9 Xi Xu Cook xi.xu@larkspur.example true"))
			d.begin("accounts app", append(slices.Clone(verbs[verb][1]), "u9 xxu L9 Xi Xu Cook xi.xu@larkspur.example - true"))
			d.begin("lane ops hq app", nil)
			for _, step := range []string{"take hq", "take app", "reconcile ops", "draft ops", "seal ops"} {
				came := d.do(step)
				require.False(t, len(came) > 0 && strings.HasPrefix(came[len(came)-1], "! "), "%s: %v", step, came)
			}
			before := d.rows("app", nil)
			d.do("answer app kind:" + kind + " done")
			line := strings.Join(d.do("run ops"), " | ")
			told = append(told, fmt.Sprintf("%-11s %-9s %s", kind, verb, line))
			p := d.newest("ops")
			list, _, err := s.Receipts(context.Background(), *p.Run, "", nil, store.Page{Limit: 50})
			require.NoError(t, err)
			done := fmt.Sprint(before) != fmt.Sprint(d.rows("app", nil))
			for _, r := range list {
				require.Equal(t, done, r.Outcome == "done", "%s: what the receipt says is what is there", line)
				if r.Outcome != "done" {
					require.Regexp(t, `; .*\w+ .*\w+`, r.Detail, "it says what to do")
				}
			}
		}
	}
	const path = "testdata/failures.txt"
	if *write {
		require.NoError(t, os.WriteFile(path, []byte(strings.Join(told, "\n")+"\n"), 0o600))
		return
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, string(want), strings.Join(told, "\n")+"\n")
}
