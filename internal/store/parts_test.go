package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/lifecycle"
)

// reconciled keeps a result with a few verdicts and findings.
func reconciled(t *testing.T, lane int64) int64 {
	t.Helper()
	o := &Outcome{}
	o.LaneID, o.At, o.Inputs = lane, time.Now(), []byte("x")
	for _, p := range []*json.RawMessage{&o.Balance, &o.Findings, &o.Changes, &o.Withheld, &o.Guards, &o.Notes} {
		*p = json.RawMessage(`{}`)
	}
	for i, label := range []string{"Zoë Ñandú", "Ana Soto", "Bo Lund", "ana soto"} {
		id := fmt.Sprintf("L%d", i)
		o.Verdicts = append(o.Verdicts, Verdict{Side: "people", ID: id, State: map[bool]string{true: "missing", false: "contested"}[i%2 == 0], Label: label, Login: id + "@l.example"})
		o.All = append(o.All, Finding{Told: Told{ID: "f-" + id, Code: "missing-account", Severity: "warning", Person: id, PersonLabel: label, Detail: "in scope"}})
		o.Proposals = append(o.Proposals, Proposal{Code: "contested-match", Person: id, Account: fmt.Sprintf("u%d", i), Reason: "alike", Probability: 0.9, Said: json.RawMessage(`[]`), PersonLabel: label})
	}
	for i, label := range []string{"Zoë", "Ana", "Bo"} {
		o.Drafted = append(o.Drafted, Change{ID: fmt.Sprintf("c-%d", i+1), Wave: "everybody", Verb: "create", Person: fmt.Sprintf("L%d", i), Label: label})
	}
	id, err := shared.AddReconciliation(context.Background(), Task{}, o)
	require.NoError(t, err)
	return id
}

func newLane(t *testing.T, name string) Lane {
	t.Helper()
	a, b := newSystem(t, name+"-a"), newSystem(t, name+"-b")
	require.NoError(t, shared.AddLane(context.Background(), name, a.ID, b.ID))
	l, err := shared.LaneByName(context.Background(), name)
	require.NoError(t, err)
	return l
}

func partsOf(t *testing.T, reconciliation int64) (n int) {
	t.Helper()
	require.NoError(t, shared.get(context.Background(), &n, `SELECT count(*) FROM pg_class WHERE relname IN ($1, $2)`, partOf("verdicts", reconciliation), partOf("findings", reconciliation)))
	return n
}

// A result is a part of each table: listed, sorted and searched like a whole, and dropped
// when nobody asks for it any more.
func TestParts(t *testing.T) {
	ctx := context.Background()
	l := newLane(t, "parts")
	first := reconciled(t, l.ID)
	ids := func(state string, p Page) string {
		p.Count = true
		list, _, total, err := shared.Verdicts(ctx, first, "people", state, p)
		require.NoError(t, err)
		require.Equal(t, len(list), total)
		var out []string
		for _, v := range list {
			out = append(out, v.ID)
		}
		return strings.Join(out, " ")
	}
	looked := func() {
		for _, c := range []struct{ state, text, sort, want string }{
			{"", "", "", "L0 L1 L2 L3"}, {"", "", "-id", "L3 L2 L1 L0"}, {"", "", "name", "L1 L2 L0 L3"}, {"missing", "", "name", "L2 L0"},
			{"", "SOTO", "", "L1 L3"}, {"", "ñandÚ", "", "L0"}, {"", "l2@", "", "L2"}, {"contested", "soto", "-name", "L3 L1"}, {"", "nobody", "", ""}, {"", "%", "", ""}, {"", "b", "", "L2"},
		} {
			require.Equal(t, c.want, ids(c.state, Page{Text: c.text, Sort: c.sort}), "%+v", c)
		}
		list, _, total, err := shared.Findings(ctx, first, FindingFilter{Code: "missing-account", Severity: "warning"}, Page{Text: "soto", Sort: "name", Count: true})
		require.NoError(t, err)
		require.Equal(t, []string{"L1", "L3"}, []string{list[0].Person, list[1].Person})
		require.Equal(t, 2, total)
		open, _, n, err := shared.Questions(ctx, l.ID, first, QuestionFilter{Most: 1}, Page{Text: "lund"})
		require.NoError(t, err)
		require.Equal(t, 1, n)
		require.Equal(t, "Bo Lund", open[0].PersonLabel)
	}
	// page by page it is the same list, found nearby or by the index
	defer func(n int) { nearby = n }(nearby)
	for _, nearby = range []int{4000, 1} {
		for _, c := range []struct{ text, sort, want string }{{"soto", "", "L1 L3"}, {"soto", "-name", "L3 L1"}, {"l.example", "name", "L1 L2 L0 L3"}, {"l.example", "-id", "L3 L2 L1 L0"}, {"ñ", "", "L0"}, {"", "name", "L1 L2 L0 L3"}} {
			var walked []string
			for p := (Page{Text: c.text, Sort: c.sort, Limit: 1, Of: "x"}); ; {
				list, next, _, err := shared.Verdicts(ctx, first, "people", "", p)
				require.NoError(t, err)
				for _, v := range list {
					walked = append(walked, v.ID)
				}
				if p.Cursor = next; next == "" {
					break
				}
			}
			require.Equal(t, c.want, strings.Join(walked, " "), "%+v", c)
			found, _, _, err := shared.Findings(ctx, first, FindingFilter{}, Page{Text: c.text})
			require.NoError(t, err)
			require.Len(t, found, map[string]int{"soto": 2, "l.example": 0, "ñ": 1, "": 4}[c.text])
		}
	}
	looked()
	require.NoError(t, shared.furnish(ctx, first, 1))
	require.NoError(t, shared.furnish(ctx, first, 1), "once more")
	looked() // the same by index

	// what rulings have answered is counted as it is left out of the list
	yesterday, tomorrow := time.Now().AddDate(0, 0, -2).Format(time.DateOnly), time.Now().AddDate(0, 0, 2).Format(time.DateOnly)
	for i, r := range []Ruling{
		{Kind: "different", Person: "L0", Account: "u0"}, {Kind: "same", Person: "L1", Account: "u9"}, {Kind: "leave-alone", Person: "L3", Until: &yesterday},
		{Kind: "leave-alone", Account: "u3", Until: &tomorrow}, {Kind: "different", Person: "L2", Account: "u8"}, {Kind: "same", Person: "L8", Account: "u2"},
	} {
		r.LaneID, r.Reason, r.By = l.ID, "test", "test"
		_, err := shared.AddRuling(ctx, r)
		require.NoError(t, err)
		_, _, open, err := shared.Questions(ctx, l.ID, first, QuestionFilter{Least: 0.1, Most: 1}, Page{})
		require.NoError(t, err)
		answered, err := shared.Answered(ctx, l.ID, first)
		require.NoError(t, err)
		require.Equal(t, []int{1, 2, 2, 3, 3, 4}[i], answered["contested-match"], "%+v", r)
		require.Equal(t, 4-open, answered["contested-match"])
	}

	// every search has an index that finds it, in these very words
	require.NoError(t, shared.InTx(ctx, func(tx *Store) error {
		_, err := tx.exec(ctx, `SET LOCAL enable_seqscan = off; SET LOCAL enable_sort = off; SET LOCAL cpu_tuple_cost = 10`) // as if there were many rows
		require.NoError(t, err)
		verdicts, findings := partOf("verdicts", first), partOf("findings", first)
		for index, query := range map[string]string{
			verdicts + "_search":  verdicts + ` WHERE ` + searched["verdicts"] + ` ILIKE '%soto%'`,
			verdicts + "_by_name": verdicts + ` WHERE side = 'people' ORDER BY ` + byName["verdicts"] + `, native_id LIMIT 2`,
			findings + "_search":  findings + ` WHERE ` + searched["findings"] + ` ILIKE '%soto%'`,
			findings + "_by_name": findings + ` ORDER BY ` + byName["findings"] + `, number LIMIT 2`,
			"changes_search":      `changes WHERE plan_id IS NOT NULL AND words ILIKE '%soto%'`,
			"proposals_search":    `proposals WHERE ` + searchedQuestions + ` ILIKE '%soto%'`,
		} {
			var plan []string
			require.NoError(t, tx.list(ctx, &plan, `EXPLAIN SELECT FROM `+query))
			require.Contains(t, strings.Join(plan, "\n"), index)
		}
		return nil
	}))

	plan, err := shared.AddPlan(ctx, nil, Plan{LaneID: l.ID, Reconciliation: first, By: "test", Hash: "h", Verbs: json.RawMessage(`{}`), Waves: json.RawMessage(`[]`), Guards: json.RawMessage(`[]`)}, nil, nil)
	require.NoError(t, err)
	require.NoError(t, shared.FurnishChanges(ctx))
	second := reconciled(t, l.ID)
	require.NoError(t, shared.Forget(ctx))
	require.Equal(t, 2, partsOf(t, first), "a plan that is open is of it")
	require.NoError(t, shared.MovePlan(ctx, plan, lifecycle.Supersede))

	reading, err := shared.pool.Begin(ctx)
	require.NoError(t, err)
	_, err = reading.Exec(ctx, `SELECT FROM verdicts`)
	require.NoError(t, err)
	require.NoError(t, shared.Forget(ctx))
	require.Equal(t, 1, partsOf(t, first), "somebody is reading one of them")
	require.NoError(t, reading.Rollback(ctx))
	require.NoError(t, shared.Forget(ctx))
	require.Zero(t, partsOf(t, first))
	require.Equal(t, 2, partsOf(t, second))
	_, err = shared.RemoveLane(ctx, l.ID)
	require.NoError(t, err)
	require.NoError(t, shared.Forget(ctx))
	require.Zero(t, partsOf(t, second), "of no lane at all")
}

// A plan is the same whether its rows were laid before or not, whatever of them stands.
func TestLaidPlans(t *testing.T) {
	ctx := context.Background()
	l := newLane(t, "laid")
	first := reconciled(t, l.ID)
	keep := func(result int64, laid bool, drop, aside string, between func()) (rows string, err error) {
		err = shared.InTx(ctx, func(tx *Store) error {
			var under *Laid
			if laid {
				under = tx.LayPlan(ctx, l.ID, result, "test")
				defer under.Drop()
			}
			all, err := shared.DraftedChanges(ctx, result)
			if err != nil {
				return err
			}
			chosen := slices.DeleteFunc(all, func(c Change) bool { return c.ID == drop })
			for i := range chosen {
				if chosen[i].ID == aside {
					chosen[i].SetAside = "not now"
				}
			}
			if between != nil {
				between()
			}
			p := Plan{LaneID: l.ID, Reconciliation: result, By: "test", Hash: "h", Verbs: json.RawMessage(`{"create": 3}`), Waves: json.RawMessage(`[]`), Guards: json.RawMessage(`[]`)}
			id, err := tx.AddPlan(ctx, under, p, chosen, []Refusal{{Label: "Nobody", Reason: "there is none"}})
			if err != nil {
				return err
			}
			kept, err := tx.Plan(ctx, id)
			if err != nil {
				return err
			}
			kept.ID, kept.Created = 0, time.Time{}
			list, err := tx.WholePlan(ctx, id)
			for i := range list {
				rows += fmt.Sprintf("%d %s %q %x; ", list[i].Number, list[i].ID, list[i].SetAside, list[i].Digest()[:4])
			}
			rows += jsonText(kept)
			return err
		})
		return rows, err
	}
	for _, c := range []struct{ drop, aside string }{{"", ""}, {"", "c-2"}, {"c-1", ""}, {"c-2", "c-3"}} {
		want, err := keep(first, false, c.drop, c.aside, nil)
		require.NoError(t, err)
		got, err := keep(first, true, c.drop, c.aside, nil)
		require.NoError(t, err)
		require.Equal(t, want, got, "%+v", c)
	}
	require.Panics(t, func() { _, _ = keep(first, true, "c-1", "", func() { panic("somebody's mistake") }) })
	var open []string
	require.NoError(t, shared.list(ctx, &open, `SELECT id::text FROM plans WHERE lane_id = $1 AND state = 'draft'`, l.ID))
	require.Len(t, open, 1, "the newest draft stands, and no other")
	_, err := keep(first, true, "", "", func() { reconciled(t, l.ID) })
	require.ErrorIs(t, err, ErrChanged, "it would be of a result that is not the newest any more")
	_, err = keep(first, false, "", "", nil)
	require.ErrorIs(t, err, ErrChanged)
}
