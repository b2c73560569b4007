package e2e

import (
	"context"
	"encoding/csv"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"twinning/demo"
	"twinning/internal/access"
	"twinning/internal/service"
	"twinning/internal/store"
)

const merger = "hq-candlewick"

// account finds candlewick's account by login.
func (h *house) account(uid string) string {
	h.t.Helper()
	list, _, _, err := h.app.Service.Verdicts(context.Background(), merger, "accounts", "", store.Page{Text: uid, Limit: 50})
	require.NoError(h.t, err)
	for _, v := range list {
		if v.Login == uid {
			return v.ID
		}
	}
	h.t.Fatalf("candlewick has no account %q", uid)
	return ""
}

// Every trap that candlewick holds, and how each is told: the verdict, and what
// `twin why` says of it.
func TestEvidenceOnTheTraps(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--name", "admin")
	for _, c := range []struct{ uid, state, why string }{
		{"pepe", "contested", "given name: short form"},
		{"nsorokina", "twinned", "the names are the same"},
		{"epapadaki", "twinned", "family name: variant"},
		{"cvidal", "orphan", ""},
		{"lbrandt", "twinned", "agree"},
		{"lena", "duplicate", "a second account beside"},
		{"tcarrasco", "orphan", ""},
		{"shaddad", "orphan", "bits are lacking"},
		{"orantala", "contested", "father and son?"},
		{"rfalk", "contested", "hired again?"},
		{"nquiest", "contested", "hired again?"},
		{"kasante", "twinned", "recycled-key"},
		{"array-backup", "contested", "names and login are another's"},
		{"rosa", "orphan", ""},
		{"pablo.okafor", "contested", "alike, but not surely one"},
	} {
		id := h.account(c.uid)
		list, _, _, err := h.app.Service.Verdicts(context.Background(), merger, "accounts", "", store.Page{Text: id, Limit: 5})
		require.NoError(t, err)
		require.Equal(t, c.state, list[0].State, "%s: %s", c.uid, list[0].Note)
		require.Contains(t, h.twinning(0, "twin", "why", merger, "--account", id), c.why, c.uid)
	}
	weights := h.twinning(0, "twin", "weights", merger)
	require.Contains(t, weights, "familyName")
	require.Contains(t, weights, "of two")
}

// Weights are learnt once and kept: a second reconciliation goes by them, and
// only --learn makes new ones.
func TestWeightsAreKept(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--name", "admin")
	ctx := context.Background()
	before, err := h.app.Service.Weights(ctx, merger)
	require.NoError(t, err)
	require.Equal(t, int64(1), before.Version)
	h.twinning(3, "reconcile", merger)
	after, err := h.app.Service.Weights(ctx, merger)
	require.NoError(t, err)
	require.Equal(t, before, after)
	id := h.account("rfalk")
	h.twinning(0, "twin", "rule", merger, "same", "--person", "L0956", "--account", id, "--reason", "HR says so")
	h.twinning(3, "reconcile", merger, "--learn")
	after, err = h.app.Service.Weights(ctx, merger)
	require.NoError(t, err)
	require.Equal(t, int64(2), after.Version, "what was ruled since has taught something")
	_, err = h.app.Service.Weights(ctx, lane)
	require.ErrorContains(t, err, "no weights yet", "a lane of keys alone has none")
}

// The desk on the command line: same, different, next, undo, and what somebody
// else has ruled meanwhile.
func TestReviewOnTheCommandLine(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--name", "admin")
	ctx := context.Background()
	open := func() int {
		v, err := h.app.Service.Questions(ctx, merger, service.QuestionFilter{Most: 1}, store.Page{})
		require.NoError(t, err)
		return v.Total
	}
	all := open()
	require.Greater(t, all, 4)
	out := h.typing("d\nu\nwhat\ns it is her\nn\nq\n", 0, "twin", "review", merger, "--code", "contested-match")
	require.Contains(t, out, "ruled different")
	require.Contains(t, out, "is cleared")
	require.Contains(t, out, `"what" is no answer`)
	require.Contains(t, out, "ruled same")
	require.Contains(t, out, "1 ruled in this sitting")
	require.Equal(t, all-1, open())
	require.Contains(t, h.twinning(0, "twin", "rulings", merger), "it is her")
	require.Contains(t, h.typing("", 0, "twin", "review", merger, "--search", "nobody at all"), "Nothing is open")

	// many at once: from a file, and by a filter whose count was said
	rita := h.account("rfalk")
	sheet := filepath.Join(t.TempDir(), "sheet.csv")
	f, err := os.Create(sheet)
	require.NoError(t, err)
	require.NoError(t, csv.NewWriter(f).WriteAll([][]string{{"person_id", "account_id", "probability", "reason", "ruling"}, {"L0956", rita, "0.9", "hired again", "Same"}, {"L0001", rita, "", "", ""}, {"L0002", rita, "", "a guess", "same"}}))
	require.NoError(t, f.Close())
	out = h.twinning(1, "twin", "rule-all", merger, "--file", sheet)
	require.Contains(t, out, "1 kept, 1 refused")
	require.Contains(t, out, "another ruling says otherwise")
	require.NoError(t, os.WriteFile(sheet, []byte("person_id,account_id,ruling\nL1,,same\nL2,a,maybe\nL3,a,same\n"), 0o600))
	out = h.twinning(1, "twin", "rule-all", merger, "--file", sheet)
	for _, words := range []string{"line 2: a ruling needs both", `line 3: ruling "maybe"`, "line 4: no reason", "nothing is ruled"} {
		require.Contains(t, out, words)
	}
	left := open()
	require.Contains(t, h.twinning(2, "twin", "rule-all", merger, "different", "--reason", "asked them"), fmt.Sprintf("--count %d", left))
	require.Contains(t, h.twinning(0, "twin", "rule-all", merger, "different", "--reason", "asked them", "--count", fmt.Sprint(left)), fmt.Sprintf("%d kept", left))
	require.Zero(t, open())
	h.twinning(3, "reconcile", merger)
	list, _, _, err := h.app.Service.Verdicts(ctx, merger, "people", "contested", store.Page{})
	require.NoError(t, err)
	for _, v := range list {
		require.NotEqual(t, "L0956", v.ID, "who was ruled the same is a twin now")
	}
}

// Two engineers: the second sees the first one's ruling, and may not say the
// opposite over it. A ruling on a bond says what it leaves behind, and undoing it
// gives the bond back.
func TestRulingsDoNotOverwrite(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--name", "admin")
	ctx := context.Background()
	other := access.Caller{Name: "Vesna", Rights: []access.Right{access.Look, access.Work}}
	pair := store.Ruling{Kind: "same", Person: "L0956", Account: h.account("rfalk"), Reason: "same face"}
	first, err := h.app.Service.Rule(ctx, admin, merger, pair, "")
	require.NoError(t, err)
	again, err := h.app.Service.Rule(ctx, other, merger, pair, "")
	require.NoError(t, err)
	require.Equal(t, first.ID, again.ID, "the same said twice is one ruling")
	pair.Kind = "different"
	_, err = h.app.Service.Rule(ctx, other, merger, pair, "")
	require.ErrorContains(t, err, "same face")
	require.NoError(t, h.app.Service.ClearRuling(ctx, other, merger, first.ID))

	// a bond made by a run, and a human who says no
	var twin store.Verdict
	list, _, _, err := h.app.Service.Verdicts(ctx, lane, "people", "twinned", store.Page{Limit: 200})
	require.NoError(t, err)
	for _, v := range list {
		if v.Basis == "bonded" {
			twin = v
		}
	}
	require.NotEmpty(t, twin.ID)
	r, err := h.app.Service.Rule(ctx, admin, lane, store.Ruling{Kind: "different", Person: twin.ID, Account: twin.Twin, Reason: "mixed up"}, "")
	require.NoError(t, err)
	require.Contains(t, r.Leaves, "neither is created anew or suspended before a plan")
	state := func(side, id string) string {
		h.twinning(3, "reconcile", lane)
		list, _, _, err := h.app.Service.Verdicts(ctx, lane, side, "", store.Page{Text: id})
		require.NoError(t, err)
		return list[0].State
	}
	require.Equal(t, "contested", state("people", twin.ID), "held until the next plan is sealed")
	require.NoError(t, h.app.Service.ClearRuling(ctx, admin, lane, r.ID))
	require.Equal(t, "twinned", state("people", twin.ID), "undone, the bond stands again")
}

// The desk in the browser, by keyboard alone: rule, undo, reload, and a ruling
// of somebody else that takes the pair away.
func TestConsoleReview(t *testing.T) {
	h := newHouse(t)
	p := newPage(t)
	p.do(chromedp.Navigate(h.url))
	p.sees("Sign in")
	p.fill("input[autocomplete=username]", "admin")
	p.fill("input[type=password]", h.app.Password)
	p.press("Sign in")
	p.sees("hq-candlewick")
	p.press("hq-candlewick")
	p.press("Review who is contested")
	p.sees("pairs are open")
	p.sees("bits in all")
	p.accessible("review")
	p.shot("review", false)
	p.shot("review-dark", true)
	open := func() int {
		return eval[int](p, "document.querySelectorAll('section[aria-label=\"open pairs\"] li').length")
	}
	listed := func(n int, why string) {
		p.t.Helper()
		p.until(fmt.Sprintf("document.querySelectorAll('section[aria-label=\"open pairs\"] li').length === %d", n), why)
	}
	inHand := func() string {
		return eval[string](p, "document.querySelector('article a[href*=why]').getAttribute('href')")
	}
	ready := func() {
		p.t.Helper()
		p.until("document.activeElement === document.querySelector('article') && [...document.querySelectorAll('button')].some(b => b.innerText.startsWith('Same human') && !b.disabled)", "the pair in hand has the focus and can be judged")
	}
	ctx := context.Background()
	rulings := func() (list []store.Ruling) {
		list, err := h.app.Service.Rulings(ctx, merger)
		require.NoError(t, err)
		return list
	}
	ready()
	all, first, before := open(), inHand(), len(rulings())

	// letters typed into the search are letters, whatever the page does meanwhile
	p.do(chromedp.Click("input[type=search]"))
	for _, letter := range "rosa da s" {
		p.types(string(letter))
		time.Sleep(60 * time.Millisecond)
	}
	listed(0, "nobody is called rosa da s")
	require.Equal(t, "rosa da s", eval[string](p, "document.activeElement.value"), "the focus stayed where it was typed")
	p.types("sd")
	require.Len(t, rulings(), before, "no letter of a search rules")
	p.fill("input[type=search]", "")
	listed(all, "all are back")
	p.types("sdju")
	require.Len(t, rulings(), before)
	p.fill("input[type=search]", "")
	listed(all, "all are back")
	require.Equal(t, first, inHand(), "the pair in hand is the one that was in hand")

	p.do(chromedp.Focus("article"))
	ready()
	p.types("s")
	listed(all-1, "the ruled pair leaves the list")
	require.Len(t, rulings(), before+1)
	p.sees("1 ruled in this sitting")
	p.do(chromedp.Reload())
	p.sees("1 ruled in this sitting")
	ready()
	require.NotEqual(t, first, inHand())
	p.types("u")
	listed(all, "undone, it is open again")
	require.Equal(t, first, inHand(), "and in hand")
	ready()
	p.types("j")
	p.until(fmt.Sprintf("document.querySelector('article a[href*=why]').getAttribute('href') !== %q", first), "j goes on to the next")
	ready()
	p.types("d")
	listed(all-1, "different, by d")

	// a colleague settles the pair in hand: it stays in the hand, and no key
	// rules on another
	ready()
	mine := inHand()
	at, err := url.Parse(mine)
	require.NoError(t, err)
	vesna := access.Caller{Name: "Vesna", Rights: []access.Right{access.Work}}
	theirs := store.Ruling{Kind: "different", Person: at.Query().Get("person"), Account: at.Query().Get("account"), Reason: "HR says so"}
	_, err = h.app.Service.Rule(ctx, vesna, merger, theirs, "")
	require.NoError(t, err)
	p.sees("This pair has left the list")
	require.Equal(t, mine, inHand(), "nothing else was put under the hand")
	settled := len(rulings())
	p.types("sd")
	time.Sleep(300 * time.Millisecond)
	require.Len(t, rulings(), settled, "what a colleague settled is not ruled on, and neither is the next one")
	p.press("Next pair")
	p.until(fmt.Sprintf("document.querySelector('article a[href*=why]').getAttribute('href') !== %q", mine), "the next is taken when asked for")

	// what was decided from an older look is refused, and said
	p.do(chromedp.Focus("article"))
	ready()
	at, err = url.Parse(inHand())
	require.NoError(t, err)
	_, err = h.app.Service.Rule(ctx, admin, merger, store.Ruling{Kind: "same", Person: at.Query().Get("person"), Account: at.Query().Get("account"), Reason: "from an old screen"}, "0123456789abcdef")
	require.ErrorContains(t, err, "moved on")

	// a poll that fails takes neither page nor typed text away
	p.fill("article ~ div input", "half a sen")
	held := inHand()
	p.cutOff(true)
	p.sees("The service does not answer")
	require.Equal(t, held, inHand(), "the pair is still there")
	require.Equal(t, "half a sen", eval[string](p, "document.querySelector('article ~ div input').value"))
	// and a decision that does not arrive is not taken for made
	settled = len(rulings())
	p.press("Same human")
	p.sees("it is not known whether this was done")
	require.Equal(t, held, inHand(), "it is still to be decided")
	p.cutOff(false)
	p.until("!document.body.innerText.includes('The service does not answer')", "it goes on by itself")
	require.Len(t, rulings(), settled)
	p.do(chromedp.Navigate(h.url + "/lanes/" + merger + "/why?person=L0901"))
	p.sees("bits in all")
	p.sees("What would change it")
	p.accessible("why with evidence")
	p.do(chromedp.Navigate(h.url + "/lanes/" + merger + "/why?person=" + theirs.Person + "&account=" + theirs.Account))
	p.sees("HR says so")
	p.press("Clear ruling")
	p.until("!document.body.innerText.includes('HR says so')", "a ruling is cleared where it is shown")
	p.do(chromedp.Navigate(h.url + "/lanes/" + merger + "?view=charter"))
	p.press("Weights 1 of evidence")
	p.sees("of one human")
	p.accessible("weights")
	p.do(chromedp.Navigate(h.url + "/lanes/" + merger + "/why?person=L0901"))
	p.sees("bits in all")
	p.shot("why-evidence", false)
}

// A plan that rests on evidence names its weights, can be sealed right after
// they were learnt, and bonds whom it changes.
func TestPlanNamesItsWeights(t *testing.T) {
	h := newHouse(t)
	ctx := context.Background()
	h.twinning(0, "sign-in", "--name", "admin")
	weighing := strings.Replace(demo.DomeBooking, "intent: both", "  evidence: {}\nintent: both", 1)
	_, err := h.app.Service.PutCharter(ctx, admin, lane, weighing, -1, "")
	require.NoError(t, err)
	p := h.sealed()
	require.EqualValues(t, "sealed", p.State)
	require.NotNil(t, p.Weights)
	require.Equal(t, int64(1), *p.Weights)
	require.Contains(t, h.twinning(0, "plan", "show", fmt.Sprint(p.ID), "--limit", "1"), "weights: 1")
}
