package e2e

import (
	"context"
	"fmt"
	"net/http"
	"regexp"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"twinning/internal/apiclient"
	"twinning/internal/core/lifecycle"
	"twinning/internal/service"
	"twinning/internal/store"
)

// A plan of many changes is drafted by a task: whoever asks gets the same plan, what is left
// out is told, a halted task drafts nothing, and what was reconciled since is not drafted.
func TestDraftsByTask(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--address", h.url)
	const lane = "hq-dome-booking"
	draft := func() string {
		return regexp.MustCompile(`plan (show |seal )?\d+`).ReplaceAllString(h.any("plan", "draft", lane), "plan")
	}
	h.any("reconcile", lane)
	whole := draft()
	h.app.Service.DraftOver = 1
	require.Equal(t, whole, draft(), "the same plan")
	require.Regexp(t, `draft, 2 changes, selected\n +2 +suspend\n`, h.any("plan", "draft", lane, "--finding", "leaver-active"), "what mends the findings of a code")
	require.Contains(t, h.any("plan", "draft", lane, "--finding", "claimed-twice"), "this selects none of the changes")
	require.Contains(t, h.any("plan", "draft", lane, "--finding", "leaver"), "leaver")

	token := h.token("look", "work")
	at := func() (apiclient.Task, int) {
		var begun apiclient.Task
		status := h.call("POST", "/v1/lanes/"+lane+"/plans", token, map[string]any{}, &begun)
		return begun, status
	}
	begun, status := at()
	require.Equal(t, http.StatusAccepted, status)
	ended := h.wait(begun.Id, nil)
	require.NotNil(t, ended.Plan)
	p, err := h.app.Service.Plan(context.Background(), *ended.Plan)
	require.NoError(t, err)
	require.Equal(t, ended.Total, p.Total)
	require.Zero(t, ended.Bad)
	require.Equal(t, http.StatusForbidden, h.call("POST", "/v1/lanes/"+lane+"/plans", h.token("look"), map[string]any{}, nil))

	page := h.signedIn()
	page.sees(lane)
	page.do(chromedp.Navigate(h.url + "/lanes/" + lane))
	page.press("Draft a plan")
	page.until(`location.pathname.startsWith("/plans/")`, "the plan opens when its task has ended")

	// one that is halted drafts nothing; one whose node died behind its plan makes no second
	plans := func() (n int) {
		list, _, err := h.app.Service.Plans(context.Background(), lane, service.Page{})
		require.NoError(t, err)
		return len(list)
	}
	before := plans()
	queued := func(also func(tx *store.Store, task int64) error) store.Task {
		var late store.Task
		err := h.app.Service.Store.InTx(context.Background(), func(tx *store.Store) (err error) {
			if late, err = tx.AddTask(context.Background(), "draft", "draft", "admin", map[string]any{"reconciliation": p.Reconciliation}); err != nil {
				return err
			}
			return also(tx, late.ID)
		})
		return h.queue(late, err)
	}
	halted := queued(func(tx *store.Store, task int64) error { return tx.AskHalt(context.Background(), task) })
	require.EqualValues(t, lifecycle.Halted, halted.State)
	require.Nil(t, halted.Plan)
	again := queued(func(tx *store.Store, task int64) error {
		return tx.LinkTask(context.Background(), task, 0, 0, p.ID, 0)
	})
	require.EqualValues(t, lifecycle.Finished, again.State)
	require.Equal(t, before, plans())

	about := h.changes(p)[0]
	h.twinning(0, "twin", "rule", lane, "leave-alone", "--person", about.Person, "--reason", "by hand")
	require.Contains(t, h.any("plan", "draft", lane), "left out, since they rest on what is no longer so: twinning task log")
	tasks, _, err := h.app.Service.Tasks(context.Background(), service.Page{})
	require.NoError(t, err)
	require.Positive(t, tasks[0].Bad)
	require.Contains(t, h.any("task", "log", fmt.Sprint(tasks[0].ID)), about.Label)

	old, err := h.app.Service.Store.LatestReconciliation(context.Background(), 1)
	require.NoError(t, err)
	h.any("reconcile", lane)
	late, err := h.app.Service.Store.AddTask(context.Background(), "draft", "draft late", "admin", map[string]any{"reconciliation": old.ID})
	require.EqualValues(t, lifecycle.Failed, h.queue(late, err).State, "it was reconciled since")
}
