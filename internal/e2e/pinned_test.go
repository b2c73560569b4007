package e2e

import (
	"context"
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"twinning/internal/service"
	"twinning/internal/store"
)

// acts is how often an act stands in the trail.
func (h *house) acts(act string) (n int) {
	h.t.Helper()
	list, _, err := h.app.Service.AuditTrail(context.Background(), store.Page{Limit: 200})
	require.NoError(h.t, err)
	for _, e := range list {
		if e.Action == act {
			n++
		}
	}
	return n
}

// doubleClicks clicks twice, as a hand does, on the last thing that is called so.
func (p *page) doubleClicks(text string) {
	p.t.Helper()
	at := fmt.Sprintf(`(() => { const e = [...document.querySelectorAll('button')].filter(e => e.textContent.includes(%q) && !e.disabled).at(-1); if (!e) return ''; const r = e.getBoundingClientRect(); return (r.x + r.width / 2) + ' ' + (r.y + r.height / 2) })()`, text)
	p.until(at+" !== ''", "expected a button called "+text)
	var x, y float64
	_, err := fmt.Sscan(eval[string](p, at), &x, &y)
	require.NoError(p.t, err)
	p.do(chromedp.MouseClickXY(x, y), chromedp.MouseClickXY(x, y, chromedp.ClickCount(2)))
}

const dialog = "document.querySelector('[role=dialog]')"

// What a dialog shows when it opens is what is done: whatever moves on meanwhile is refused,
// and the dialog says what differs. A double click does one thing.
func TestDialogsArePinned(t *testing.T) {
	h := newHouse(t)
	ctx := context.Background()
	h.twinning(0, "sign-in", "--address", h.url)
	h.twinning(0, "plan", "draft", lane)
	p := h.signedIn()
	p.sees(lane)

	// a plan that is decided about while somebody is about to seal it
	p.do(chromedp.Navigate(h.url + "/plans/3"))
	p.press("Seal 51 changes")
	p.fill("input[inputmode=numeric]", "51")
	plan, err := h.app.Service.Plan(ctx, 3)
	require.NoError(t, err)
	h.twinning(0, "plan", "set-aside", "3", "1", "--reason", "not yet")
	p.press("Seal 51 changes") // before or after the page knows
	p.sees("This has changed since you opened it. Nothing was done.")
	p.sees("It had 51 changes, it has")
	require.True(t, eval[bool](p, dialog+".querySelector('button[type=submit]').disabled"))
	p.accessible("a plan that has moved on")
	p.shot("seal-refused", false)
	now, err := h.app.Service.Plan(ctx, 3)
	require.NoError(t, err)
	require.EqualValues(t, "draft", now.State)
	require.NotEqual(t, plan.Hash, now.Hash)
	require.Contains(t, []int{http.StatusConflict, http.StatusPreconditionFailed}, h.call("POST", "/v1/plans/3/void?hash="+plan.Hash, h.token("work"), nil, nil), "another one was looked at")
	require.Zero(t, h.acts("plan.void"))
	p.press("Cancel")
	p.until("!"+dialog, "it is closed")

	// somebody else seals it meanwhile: the dialog stays, and says so
	seal := fmt.Sprintf("Seal %d changes", now.Total)
	p.press(seal)
	p.fill("input[inputmode=numeric]", fmt.Sprint(now.Total))
	require.Equal(t, fmt.Sprint(now.Total), eval[string](p, "document.querySelector('input[inputmode=numeric]').value"))
	p.press("Cancel")
	p.press("Discard the plan…")
	p.sees("Discard plan 3")
	_, err = h.app.Service.Seal(ctx, admin, 3, now.Hash, "a first plan")
	require.NoError(t, err)
	p.sees("The plan is sealed (sealed by test)")
	p.press("Cancel")
	require.EqualValues(t, 0, h.acts("plan.void"))

	// one double click, one run
	p.press(fmt.Sprintf("Run %d changes", now.Total))
	p.fill("input[inputmode=numeric]", fmt.Sprint(now.Total))
	p.doubleClicks(fmt.Sprintf("Run %d changes", now.Total))
	p.sees("finished, drafted")
	runs, err := h.app.Service.Runs(ctx, 3)
	require.NoError(t, err)
	require.Len(t, runs, 1)
	p.until("!"+dialog, "it is closed")

	// freezing acts at once, and once; letting go asks
	p.doubleClicks("Freeze all writing")
	p.sees("All writing is frozen by admin")
	time.Sleep(500 * time.Millisecond)
	require.Equal(t, 1, h.acts("freeze"))
	require.Zero(t, h.acts("thaw"))
	p.press("Let writing go on…")
	p.sees("admin froze all writing")
	p.doubleClicks("Let writing go on")
	p.sees("Freeze all writing")
	require.Equal(t, 1, h.acts("thaw"))

	opened := h.acts("system.open")
	// a system that becomes another while it is about to be opened
	_, err = h.app.Service.SetWriting(ctx, admin, "dome-booking", false, 0)
	require.NoError(t, err)
	p.do(chromedp.Navigate(h.url + "/systems/dome-booking"))
	p.press("Open for writing…")
	p.sees("Sealed plans can then be run against it")
	p.accessible("opening a system")
	p.shot("open-system", false)
	x, err := h.app.Service.System(ctx, "dome-booking")
	require.NoError(t, err)
	x.Settings.V["page"] = "77"
	_, err = h.app.Service.PutSystem(ctx, admin, x.System, service.Putting{})
	require.NoError(t, err)
	p.press("Open dome-booking for writing")
	p.sees("page is 77")
	p.press("Cancel")
	x, err = h.app.Service.System(ctx, "dome-booking")
	require.NoError(t, err)
	require.False(t, x.Writable)
	p.press("Open for writing…")
	p.doubleClicks("Open dome-booking for writing")
	p.sees("open for writing")
	require.Equal(t, opened+1, h.acts("system.open"))

	// findings that others decide on while they are about to be accepted
	p.do(chromedp.Navigate(h.url + "/lanes/" + lane + "?view=findings&code=orphan-account"))
	p.press("Accept these 5…")
	p.fill("[role=dialog] input", "rigs")
	found, err := h.app.Service.Findings(ctx, lane, store.FindingFilter{Code: "orphan-account"}, store.Page{Limit: 50})
	require.NoError(t, err)
	require.NoError(t, h.app.Service.Accept(ctx, admin, lane, found.Items[0].ID, nil, "hers"))
	p.press("Accept them")
	p.sees("The findings are others, or have been decided on")
	p.press("Cancel")
	found, err = h.app.Service.Findings(ctx, lane, store.FindingFilter{Code: "orphan-account"}, store.Page{Limit: 50})
	require.NoError(t, err)
	n := 0
	for _, f := range found.Items {
		if f.Accepted {
			n++
		}
	}
	require.Equal(t, 1, n, "nothing was done about the others")
}

// A search box and its list never disagree, and the row in hand is a record.
func TestListsFollowRecords(t *testing.T) {
	h := newHouse(t)
	ctx := context.Background()
	p := h.signedIn()
	p.sees(lane)
	p.do(chromedp.Navigate(h.url + "/lanes/" + lane + "?view=people"))
	p.until("document.querySelectorAll('[role=rowgroup] [role=row]').length > 5", "people are listed")
	// from the letter on until its rows are there, the old ones can't be acted on
	eval[bool](p, `(() => { const e = document.querySelector('input[type=search]'); Object.getOwnPropertyDescriptor(Object.getPrototypeOf(e), 'value').set.call(e, 'Montt'); e.dispatchEvent(new Event('input', {bubbles: true})); setTimeout(() => { window.__busy = document.querySelector('[role=grid]').getAttribute('aria-busy') }, 50); return true })()`)
	p.until("window.__busy !== undefined", "a moment passes")
	require.Equal(t, "true", eval[string](p, "window.__busy"))
	p.until("document.querySelectorAll('[role=rowgroup] [role=row]').length === 1 && document.querySelector('[role=grid]').getAttribute('aria-busy') !== 'true'", "one is found")
	p.press("contested 10 people") // another filter, and the search is over
	p.until("document.querySelectorAll('[role=rowgroup] [role=row]').length === 10", "a click on a part lists just its records")
	require.Empty(t, eval[string](p, "document.querySelector('input[type=search]').value"))
	p.do(chromedp.Focus("input[type=search]"))
	p.types("Rosa Y")
	p.until("document.querySelectorAll('[role=rowgroup] [role=row]').length === 1", "she is found")
	require.Equal(t, "Rosa Y", eval[string](p, "document.querySelector('input[type=search]').value"), "no letter is lost, and the box keeps the focus")
	p.do(chromedp.NavigateBack())
	p.until("document.querySelector('input[type=search]').value === new URLSearchParams(location.search).get('q') || document.querySelector('input[type=search]').value === ''", "the box goes back with the list")

	p.do(chromedp.Navigate(h.url + "/tasks"))
	p.until("document.querySelectorAll('[role=rowgroup] [role=row]').length > 2", "tasks are listed")
	p.do(chromedp.Focus("[role=rowgroup]"))
	p.types("j")
	const hand = "document.querySelector('[role=row][aria-selected=true] [role=gridcell]').innerText"
	held := eval[string](p, hand)
	before := eval[int](p, "document.querySelectorAll('[role=rowgroup] [role=row]').length")
	_, err := h.app.Service.Reconcile(ctx, admin, lane, false)
	require.NoError(t, err)
	p.until(fmt.Sprintf("document.querySelectorAll('[role=rowgroup] [role=row]').length > %d", before), "a task has come in above")
	require.Equal(t, held, eval[string](p, hand), "the row in hand is still the same record")

	// a domain that looks like ours, and is not
	h.application.Put(map[string]any{"id": "u-twin", "userName": "diego", "active": true, "emails": []any{map[string]any{"value": "diego@l\u0430rkspur.example", "primary": true, "type": "work"}}})
	require.EqualValues(t, "finished", h.queue(h.app.Service.TakeRoster(ctx, admin, "dome-booking", service.Taking{})).State)
	p.do(chromedp.Navigate(h.url + "/rosters/" + h.newest("dome-booking") + "?tab=records"))
	p.fill("input[type=search]", "u-twin")
	p.sees("xn--lrkspur-2fg.example")
	p.accessible("a domain that looks like another")
	h.twinning(0, "sign-in", "--address", h.url)
	require.Contains(t, h.twinning(0, "roster", "records", h.newest("dome-booking"), "--search", "u-twin"), "(xn--lrkspur-2fg.example)")

}
