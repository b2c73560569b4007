package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// What is to come of leavers is listed, dropped with a reason and meant again, in the
// console and from the command line; and two who swap their addresses are shown as one.
func TestWhatIsToCome(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--address", h.url)
	out := h.twinning(0, "intention", "list", "hq-dome-booking")
	require.Regexp(t, `delete +Kofi Asante +L0953`, out)
	require.Contains(t, out, "waits until the account is suspended")
	p := h.signedIn()
	p.sees("hq-dome-booking")
	p.do(chromedp.Navigate(h.url + "/lanes/hq-dome-booking?view=intentions"))
	p.sees("until the account is suspended")
	days := strings.Fields(strings.TrimSpace(h.twinning(0, "intention", "days", "hq-dome-booking", "-o", "csv")))
	last := strings.Split(days[len(days)-1], ",")
	require.Equal(t, "count,due,verb", days[0])
	count, due, verb := last[0], last[1], last[2]
	p.until("document.querySelector('section[aria-label=calendar] h2 ~ span button') !== null", "from when to when")
	eval[bool](p, fmt.Sprintf("([...document.querySelectorAll(\"section[aria-label=calendar] button\")].find(b => b.textContent === %q).click(), true)", due)) // its month
	cell := fmt.Sprintf("document.querySelector(\"td[data-day='%s'] button\")", due)
	p.until(fmt.Sprintf("!!%s?.textContent.endsWith('%s %s')", cell, count, verb), "what is due on its day")
	eval[bool](p, fmt.Sprintf("(%s.click(), true)", cell))
	p.sees("only " + due)
	p.until(fmt.Sprintf("document.querySelectorAll('[role=rowgroup] [role=row]').length === %s", count), "no other day's are listed")
	p.accessible("what is to come")
	p.shot("intentions", false)
	p.press("Show all days")
	h.twinning(2, "intention", "days", "hq-dome-booking", "--from", "2026-02-30")
	require.Contains(t, h.twinning(0, "intention", "list", "hq-dome-booking", "--due", "2031-01-01"), "nothing to show")
	p.fill("input[aria-label='Search what is to come']", "Brandt")
	p.until("!document.body.innerText.includes('Kofi Asante')", "the search narrows the list")
	p.press("Cancel…")
	p.sees("Do not ")
	require.True(t, eval[bool](p, "[...document.querySelectorAll('button')].find(b => b.textContent === 'Cancel the intention').disabled"), "a reason is needed")
	p.fill("[role=dialog] input", "her thesis is still being read")
	p.press("Cancel the intention")
	p.sees("cancelled by admin: her thesis is still being read")
	require.Contains(t, strings.Join(strings.Fields(h.twinning(0, "intention", "list", "hq-dome-booking", "-q", "Brandt")), " "), "cancelled by admin: her thesis is still being read")
	p.press("Mean it again")
	p.until("!document.body.innerText.includes('cancelled by admin')", "it is meant again")
	h.twinning(2, "intention", "cancel", "hq-dome-booking", "i-0")
	require.Contains(t, h.twinning(1, "intention", "cancel", "hq-dome-booking", "i-0", "--reason", "x"), `lane hq-dome-booking has no intention "i-0"`)

	h.any("plan", "draft", "hq-dome-booking")
	require.Regexp(t, `readdress +Valentín Petrov.*┐ done as one\n.*\n +\d+ readdress +José Ferreira.*┤\n.*\n +\d+ readdress +Valentín Petrov.*┘`, h.twinning(0, "plan", "show", "3"))
	p.do(chromedp.Navigate(h.url + "/plans/3"))
	p.sees("as one")
	p.shot("plan-as-one", false)
}
