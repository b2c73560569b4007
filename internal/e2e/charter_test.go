package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"twinning/internal/apiclient"
)

// A charter is tried on one person: every expression step by step, what would be written and
// what not, and why; one that is not kept changes nothing.
func TestCharterTry(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--address", h.url)
	const lane = "hq-dome-booking"
	out := h.twinning(0, "charter", "try", lane, "--person", "L0001")
	for _, want := range []string{"L0001, Ana Soto, with account u00001", "slug(initial(person.givenName) + person.familyName)  asoto", "nothing is written: it is so already", "changes: none", "nothing was kept"} {
		require.Contains(t, out, want)
	}
	kept := h.twinning(0, "charter", "show", lane)
	source, err := os.ReadFile("../../demo/hq-dome-booking.yaml")
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "lane.yaml")
	write := func(from, to string) {
		require.Contains(t, string(source), from)
		require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(source), from, to, 1)), 0o600))
	}
	write("{value: person.title,", "{value: \"'Chief ' + person.title\",")
	out = h.twinning(0, "charter", "try", lane, "--person", "L0001", "--file", path)
	require.Contains(t, out, "set: Astronomer → Chief Astronomer")
	require.Contains(t, out, "changes: set")
	write("{value: person.title,", "{value: person.titel,")
	require.Contains(t, h.any("charter", "try", lane, "--person", "L0001", "--file", path), `did you mean "title"?`)
	write("in: dome-booking", "in: night-log")
	require.Contains(t, h.any("charter", "try", lane, "--person", "L0001", "--file", path), "the charter is not about this lane's systems")
	require.Contains(t, h.any("charter", "try", lane, "--person", "L9999"), `there is no person "L9999"`)

	write("department: {value: person.department, rule: watch}", "department: {value: person.department, rule: own}")
	out = h.twinning(0, "charter", "compare", lane, "--file", path)
	require.Regexp(t, `findings +drift +10 +0 +-10`, out, "what was watched is written")
	require.Regexp(t, `set L0940 u90940 would be drafted: department "Computing"`, out)
	require.Regexp(t, `create L0045: department "" → "Optics"`, out)
	write("lane: hq-dome-booking", "lane: hq-dome-booking")
	require.Contains(t, h.twinning(0, "charter", "compare", lane, "--file", path), "as many as they are now")
	write("in: dome-booking", "in: night-log")
	require.Contains(t, h.any("charter", "compare", lane, "--file", path), "the charter is not about this lane's systems")
	write("lane: hq-dome-booking", "lane: hq-candlewick")
	require.Contains(t, h.any("charter", "compare", lane, "--file", path), "the charter is another lane's")
	h.app.Service.MostCompared = 500
	write("rule: watch", "rule: own")
	waited := h.twinning(0, "charter", "compare", lane, "--file", path)
	h.app.Service.MostCompared = 1000
	require.Equal(t, h.twinning(0, "charter", "compare", lane, "--file", path), waited, "a task says the same")
	require.Contains(t, h.twinning(0, "task", "list"), "changes that differ: ")
	h.app.Service.MostCompared = 1000
	require.Equal(t, kept, h.twinning(0, "charter", "show", lane))

	write("rule: watch", "rule: own") // versions, with who gave each, and why
	h.twinning(0, "charter", "put", path, "--note", "titles are ours again")
	out = h.twinning(0, "charter", "history", lane)
	require.Regexp(t, `2 +\d{4}-\d\d-\d\d \d\d:\d\d +admin +titles are ours again\n +1 `, out)
	out = h.twinning(0, "charter", "diff", lane)
	require.Contains(t, out, "rule: watch")
	require.Regexp(t, `(?m)^-.*rule: watch.*\n\+.*rule: own`, out)
	require.Contains(t, h.any("charter", "diff", lane, "--from", "9"), "9 of lane hq-dome-booking")
	require.Contains(t, h.twinning(0, "charter", "return", lane, "1"), "has charter version 3")
	require.Contains(t, h.twinning(0, "charter", "diff", lane, "--from", "1", "--to", "3"), "are the same")
	require.Contains(t, h.twinning(0, "charter", "history", lane), "back to version 1")

	looker := h.token("look")
	require.Equal(t, http.StatusNotFound, h.call("GET", "/v1/lanes/hq-candlewick/charter-comparisons/1", looker, nil, nil))
	var tried apiclient.CharterTry
	body := map[string]any{"personId": "L0001"}
	require.Equal(t, http.StatusOK, h.call("POST", "/v1/lanes/"+lane+"/charter-tries", looker, body, &tried))
	require.Equal(t, "u00001", tried.Account.Id)
	worker := h.token("work")
	require.Equal(t, http.StatusForbidden, h.call("POST", "/v1/lanes/"+lane+"/charter-tries", worker, body, nil))
	require.Equal(t, http.StatusForbidden, h.call("POST", "/v1/lanes/"+lane+"/charter-comparisons", worker, map[string]any{"source": string(source)}, nil))

	gate, err := os.ReadFile("../../demo/hq-mail-gate.yaml")
	require.NoError(t, err)
	var checked apiclient.CharterCheck
	for rules, notes := range map[string]int{"attributes:\n": 0, "attributes:\n  title: person.title\n": 1} {
		body := map[string]any{"source": strings.Replace(string(gate), "attributes:\n", rules, 1)}
		require.Equal(t, http.StatusOK, h.call("POST", "/v1/charter-checks", looker, body, &checked))
		require.Len(t, checked.Notes, notes)
	}

	p := h.signedIn()
	p.sees(lane)
	p.do(chromedp.Navigate(h.url + "/lanes/" + lane + "?view=charter"))
	p.sees("nothing is kept")
	p.fill("input[placeholder=L0001]", "L0001")
	p.sees("nothing would change")
	p.accessible("a charter tried")
	change := func(from, to string) {
		p.writes("[aria-label=charter]", strings.Replace(string(source), from, to, 1))
	}
	change("{value: person.title,", "{value: \"'Chief ' + person.title\",")
	p.sees("Chief Astronomer")
	p.sees("Tried, and not kept")
	p.accessible("a charter changed")
	p.shot("charter", false)
	change("{value: person.title,", "{value: person.titel,")
	p.sees("did you mean")
	p.until("!!document.querySelector('.cm-lintRange-error')", "the place of the mistake is marked")
	p.shot("charter-wrong", true)
	p.writes("[aria-label=charter]", "lane: x\nattributes:\n  title: ")
	p.types("person.gi")
	p.until("document.querySelector('.cm-tooltip-autocomplete')?.innerText.includes('givenName') === true", "an attribute is offered")
	time.Sleep(300 * time.Millisecond) // what has just been offered is not taken by a key that was meant for the line
	p.types("\r")
	p.until("document.querySelector('[aria-label=charter]').innerText.includes('person.givenName')", "it is written")
	p.types("\r\b\bem")
	p.until("document.querySelector('.cm-tooltip-autocomplete')?.innerText.includes('emails') === true", "a key is offered")
	p.shot("charter-completes", false)
	p.press("Back to the one in force")
	p.sees("nothing would change")
	p.fill("input[placeholder=L0001]", "")
	p.sees("Every expression is shown step by step")
	change("rule: watch", "rule: own")
	p.sees("20 changes differ")
	p.accessible("two charters compared")
	p.shot("charter-compared", false)

	p.do(chromedp.Navigate(h.url + "/lanes/" + lane + "?view=charter"))
	p.sees("titles are ours again")
	p.press("What it changed: version 3") // by which version 1 was returned to
	p.until("[...document.querySelectorAll('pre div')].some(d => d.innerText.startsWith('+') && d.innerText.includes('rule: watch'))", "what it changed")
	p.accessible("versions of a charter")
	eval[bool](p, "(document.querySelector('pre').scrollIntoView({block: 'center'}), true)")
	p.shot("charter-versions", false)
	p.press("Return to it…: version 2")
	p.fill("[role=dialog] input", "they like theirs")
	p.press("Give it as version 4")
	p.sees("back to version 2: they like theirs")
	require.Contains(t, h.twinning(0, "charter", "history", lane), "back to version 2: they like theirs")
}
