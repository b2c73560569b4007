package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// drops gives a file to the input that takes one.
func (p *page) drops(name, text string) {
	p.t.Helper()
	p.until("!!document.querySelector('input[type=file]')", "expected an input for a file")
	eval[bool](p, fmt.Sprintf(`(() => { const e = document.querySelector('input[type=file]'), d = new DataTransfer(); d.items.add(new File([%q], %q)); e.files = d.files; e.dispatchEvent(new Event('change', {bubbles: true})); return true })()`, text, name))
}

// opens reports whether somebody can sign in with an account of dome-booking.
func (h *house) opens(id string) bool {
	for _, u := range h.application.Users() {
		if u["id"] == id {
			return u["active"] == true
		}
	}
	h.t.Fatalf("there is no account %s", id)
	return false
}

// A plan is looked at, decided about change by change, said something about, and given out as a
// sheet that comes back; by keyboard, and from the command line.
func TestPlanIsDecidedAbout(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--address", h.url)
	h.twinning(0, "plan", "draft", "hq-dome-booking")
	p := h.signedIn()
	p.sees("hq-dome-booking")
	p.do(chromedp.Navigate(h.url + "/plans/3"))
	p.sees("Seal 51 changes")
	p.accessible("a plan")
	p.shot("plan", false)
	p.do(chromedp.Focus("[role=rowgroup]"))
	p.types("jjj")
	p.types(" ")
	p.sees("Set 1 aside…")
	p.press("Set 1 aside…")
	p.fill("[role=dialog] input", "he keeps his address until May")
	p.press("Set aside")
	p.sees("48 changes") // it is a unit of three
	require.Contains(t, h.twinning(0, "plan", "show", "3", "-q", "aside:yes"), "set aside: he keeps his address until May")
	require.NotContains(t, h.twinning(0, "plan", "show", "3", "-q", `department:"Optics" -verb:mark`), "mark ", "the same words narrow every list")
	require.Contains(t, h.twinning(1, "plan", "seal", "3", "--count", "51"), "plan 3 has 48 changes, not 51")
	p.fill("input[aria-label='Comment on the plan']", "Asked HR about him.")
	p.until("[...document.querySelectorAll('summary')].some(s => s.textContent === 'No comment yet')", "nobody has said anything")
	p.press("Say it")
	p.until("[...document.querySelectorAll('summary')].some(s => s.textContent === '1 comment')", "it is kept")
	require.Contains(t, h.twinning(0, "plan", "comment", "3"), "Asked HR about him.")
	require.Contains(t, h.twinning(0, "plan", "include", "3", "1"), "1 change included, and 2 changes with them; plan 3 has 51 changes, 0 set aside")
	require.Contains(t, h.twinning(1, "plan", "set-aside", "3", "999", "--reason", "x"), "plan 3 has no change number 999")

	sheet := filepath.Join(t.TempDir(), "plan.csv")
	h.twinning(0, "plan", "export", "3", "--out", sheet)
	text, err := os.ReadFile(sheet)
	require.NoError(t, err)
	lines := strings.SplitAfter(string(text), "\n")
	require.Len(t, lines, 53)
	for i, line := range lines {
		if strings.Contains(line, `,"suspend",`) {
			lines[i] = strings.Replace(line, `,"include","include",`, `,"set aside","include",not before the inventory`, 1)
		}
	}
	p.press("Load decisions…")
	p.drops("plan.csv", strings.Join(lines, ""))
	p.sees("Taken: 49 changes, 2 set aside.")
	require.Contains(t, h.twinning(1, "plan", "decide", "3", sheet), "the sheet decides nothing")
	p.accessible("a plan that is decided about")
	h.twinning(0, "plan", "draft", "hq-dome-booking")
	require.Contains(t, h.twinning(0, "plan", "show", "4", "--verb", "suspend"), "set aside: not before the inventory (admin)", "it stays so in the next draft")

	p.press("By address")
	p.until("[...document.querySelectorAll('[role=row]')].some(r => r.textContent.includes('valentin.petrov@larkspur.example') && r.textContent.includes('José Ferreira'))", "who gives what to whom")
	p.accessible("a plan by address")
	require.Regexp(t, `jose\.ferreira@larkspur\.example +José Ferreira.*Valentín Petrov`, h.twinning(0, "plan", "names", "4"))
	p.do(chromedp.Navigate(h.url + "/plans/4"))
	p.press("In groups")
	p.until("[...document.querySelectorAll('[role=row]')].some(r => r.textContent.includes('Science'))", "how many are of each department")
	p.accessible("a plan in groups")
	p.shot("groups", false)
	p.fill("select", "verb")
	p.press("suspend")
	p.sees("2 shown")
	require.Regexp(t, `(?m)^ *2 +suspend$`, h.twinning(0, "plan", "count", "4", "--by", "verb"))
	p.do(chromedp.Navigate(h.url + "/plans/4"))
	p.press("Beside another plan")
	p.until("[...document.querySelectorAll('option')].some(o => o.value === '1')", "the other plans of the lane")
	eval[bool](p, `(() => { const e = [...document.querySelectorAll('select')].find(s => [...s.options].some(o => o.value === '1')); Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(e, '1'); e.dispatchEvent(new Event('change', {bubbles: true})); return true })()`)
	p.sees(" differ")
	p.sees("not in it")
	p.accessible("two plans beside one another")
	require.Contains(t, h.twinning(0, "plan", "compare", "4", "1"), "Tomás Vega")
}

// An action on a selection becomes a plan, is run, read back, undone, and not done again; a
// sheet goes out, is edited and comes back.
func TestAskedFor(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--address", h.url)
	p := h.signedIn()
	p.sees("hq-dome-booking")
	p.do(chromedp.Navigate(h.url + "/lanes/hq-dome-booking?view=accounts&state=twinned&q=Diego+Ibarra"))
	p.sees("Diego Ibarra")
	p.do(chromedp.Navigate(h.url + "/lanes/hq-dome-booking?view=accounts&state=twinned&q=id:u00004"))
	p.until("document.querySelectorAll('[role=rowgroup] [role=row]').length === 1", "one account is found")
	p.do(chromedp.Focus("[role=rowgroup]"))
	p.types(" ")
	p.press("Act on 1 account…")
	p.sees("A plan is drafted with all checks")
	p.accessible("asking for something")
	p.fill("[role=dialog] form label input", "lost his badge")
	p.press("Draft the plan")
	p.sees("asked for (suspend): lost his badge")
	p.sees("Seal 1 change")
	h.seal(0, "3")
	h.twinning(0, "plan", "run", "3")
	h.twinning(0, "plan", "verify", "3")
	require.False(t, h.opens("u00004"))
	require.Contains(t, h.twinning(0, "intention", "list", "hq-dome-booking", "--verb", "keep", "-o", "csv"), "lost his badge (asked by admin) (run 3)")
	require.Contains(t, h.twinning(1, "run", "undo", "3", "--reason", "found it"), "the newest result of lane \"hq-dome-booking\" is from before run 3")
	h.twinning(0, "roster", "take", "dome-booking")
	h.any("reconcile", "hq-dome-booking")
	require.NotContains(t, h.any("plan", "draft", "hq-dome-booking"), "2  reinstate", "the charter leaves it so")
	p.do(chromedp.Navigate(h.url + "/plans/3"))
	p.press("Undo…")
	p.fill("[role=dialog] input", "found it")
	p.press("Draft the undo")
	p.sees("to undo run 3: found it")
	h.seal(0, "5")
	h.twinning(0, "plan", "run", "5")
	require.True(t, h.opens("u00004"))
	require.Contains(t, h.twinning(0, "run", "export", "4"), `"outcome":"done"`)
	require.Contains(t, h.twinning(0, "run", "export", "4", "--format", "csv"), "answered in")
	p.do(chromedp.Navigate(h.url + "/plans/5"))
	p.sees("1 done")
	p.press("Diego Ibarra")
	p.sees("answered in")
	p.accessible("a receipt")
	p.shot("receipt", false)

	sheet := filepath.Join(t.TempDir(), "accounts.csv")
	h.twinning(0, "sheet", "export", "hq-dome-booking", "--columns", "department", "--out", sheet)
	text, err := os.ReadFile(sheet)
	require.NoError(t, err)
	require.Contains(t, string(text), `"u00004","hq-dome-booking","Diego Ibarra",,`)
	require.Contains(t, h.twinning(1, "sheet", "load", "hq-dome-booking", sheet), "nothing of what was asked for is to be done")
	require.Contains(t, h.twinning(1, "sheet", "export", "hq-dome-booking", "--columns", "title"), "title is ruled by the charter (line ")
	var edited strings.Builder
	for line := range strings.Lines(string(text)) {
		cells := strings.Split(line, ",")
		switch cells[0] {
		case `"u00004"`:
			cells[4] = "Night crew"
		case `"u00021"`:
			cells[3], cells[4] = "suspend", "#N/A"
		}
		edited.WriteString(strings.Join(cells, ","))
	}
	p.do(chromedp.Navigate(h.url + "/lanes/hq-dome-booking?view=sheets"))
	p.sees("or drop the sheet here")
	p.accessible("sheets")
	p.drops("accounts.csv", edited.String())
	p.sees("of the sheet accounts.csv")
	p.press("1 of what was asked for is not in it")
	p.sees("is what a formula that failed shows")
	p.accessible("the plan of a sheet")
	p.shot("sheet-plan", false)
	require.Contains(t, h.twinning(0, "plan", "show", "6"), "Night crew")
	require.Contains(t, h.twinning(0, "plan", "refused", "6"), "is what a formula that failed shows")
}
