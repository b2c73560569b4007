package e2e

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"twinning/internal/apiclient"
)

// A trial shows what the probabilities are worth and changes nothing, until somebody keeps
// it: then the next reconciliation goes by it, and says so.
func TestTrial(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--address", h.url)
	const lane = "hq-dome-booking"
	stored := func() string {
		return h.any("twin", "list", lane, "--all", "-o", "json") + h.any("finding", "list", lane, "--all", "-o", "json") + h.any("twin", "weights", lane, "-o", "json") + h.any("plan", "list", lane, "-o", "json")
	}
	before := stored()
	require.Contains(t, h.any("twin", "trial", lane, "--last"), "no trial of lane")
	require.Contains(t, h.any("twin", "trial", "hq-candlewick"), "a trial needs 30 at least", "a merger has few twins to hold back")
	out := h.twinning(0, "twin", "trial", lane)
	require.Contains(t, out, "held back, in")
	require.Contains(t, out, "accept now")
	require.Equal(t, before, stored(), "a trial changes nothing")

	token := h.token("look", "work")
	path := "/v1/lanes/" + lane + "/trial"
	var first, second apiclient.Trial
	require.Equal(t, http.StatusOK, h.call("GET", path, token, nil, &first))
	require.Positive(t, first.Report.Held)
	require.Nil(t, first.Kept)
	h.twinning(0, "twin", "trial", lane)
	require.Equal(t, http.StatusOK, h.call("GET", path, token, nil, &second))
	require.Equal(t, first.Report, second.Report, "the same lists, the same trial")
	require.Equal(t, http.StatusConflict, h.call("PUT", path+"/kept", token, map[string]any{"id": first.Id}, nil), "only what was looked at last is kept")
	looking := h.token("look")
	require.Equal(t, http.StatusForbidden, h.call("PUT", path+"/kept", looking, map[string]any{"id": second.Id}, nil))
	require.Equal(t, http.StatusForbidden, h.call("POST", path, looking, nil, nil))

	p := h.signedIn()
	p.sees(lane)
	p.do(chromedp.Navigate(h.url + "/lanes/hq-candlewick/trial"))
	p.press("Make a trial")
	p.sees("a trial needs 30 at least")
	p.accessible("no trial")
	p.do(chromedp.Navigate(h.url + "/lanes/" + lane + "/trial"))
	p.sees("Nothing was changed by it")
	p.accessible("trial")
	p.shot("trial", false)
	p.shot("trial-dark", true)
	require.Equal(t, before, stored(), "nor does looking at it")
	p.press(fmt.Sprintf("Keep trial %d", second.Id))
	p.sees("Kept as weights")
	h.any("reconcile", lane)
	var weights apiclient.Weights
	require.Equal(t, http.StatusOK, h.call("GET", "/v1/lanes/"+lane+"/weights", token, nil, &weights))
	require.NotNil(t, weights.Trial)
	require.Equal(t, second.Report.Curve, *weights.Trial)
}
