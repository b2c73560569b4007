package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// Secrets are asked for in the console, leave over STARTTLS or wait for a file, and are told
// nowhere else: not on a page, nor by the API, nor in a log.
func TestSecretsAreHandedOver(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--address", h.url)
	p := h.signedIn()
	p.sees("hq-dome-booking")
	p.do(chromedp.Navigate(h.url + "/lanes/hq-dome-booking?view=deliveries"))
	p.sees("Nobody was sent a secret")
	p.do(chromedp.Navigate(h.url + "/lanes/hq-dome-booking?view=accounts&state=twinned&q=id:u00004"))
	p.until("document.querySelectorAll('[role=rowgroup] [role=row]').length === 1", "one account is found")
	p.do(chromedp.Focus("[role=rowgroup]"))
	p.types(" ")
	p.press("Act on 1 account…")
	p.fill("[role=dialog] select", "reissue")
	p.fill("[role=dialog] form label input", "lost it")
	p.press("Draft the plan")
	p.sees("a new one, by mail to diego4@home.example, vouched for by Ana Soto")
	p.accessible("a plan of secrets")
	h.seal(0, "3")
	require.Contains(t, h.twinning(0, "plan", "run", "3"), "1 done")
	h.twinning(0, "account", "reissue", "hq-dome-booking", "--person", "L0007,L0017", "--reason", "no address")
	h.seal(0, "4")
	require.Contains(t, h.twinning(0, "plan", "run", "4"), "2 done")
	letters := h.out.Mail.Letters()
	require.Len(t, letters, 1)
	require.True(t, letters[0].Secure)
	require.Equal(t, "diego4@home.example", letters[0].To)
	secret := regexp.MustCompile(`secret\s+(\S+)`).FindStringSubmatch(letters[0].Text)[1]
	require.Len(t, secret, 16)

	p.do(chromedp.Navigate(h.url + "/lanes/hq-dome-booking?view=deliveries"))
	p.sees("waits to be collected")
	p.sees("diego4@home.example")
	p.accessible("deliveries")
	p.shot("deliveries", false)
	p.press("Collect 2 of run 4…")
	p.fill("[role=dialog] input", "password")
	p.press("Take the file")
	p.sees("too easy to guess")
	p.accessible("collecting secrets")
	p.press("Leave it")

	file, phrase := filepath.Join(t.TempDir(), "secrets.age"), filepath.Join(t.TempDir(), "phrase")
	require.NoError(t, os.WriteFile(phrase, []byte("four goats and a lantern\n"), 0o600))
	h.twinning(0, "delivery", "collect", "4", "--out", file, "--passphrase-file", phrase)
	kept := h.twinning(0, "delivery", "open", file, "--passphrase-file", phrase)
	require.Contains(t, kept, "Greta Thorne,L0007,u00007,gthorne,")
	require.Contains(t, h.twinning(1, "delivery", "collect", "4", "--out", file, "--passphrase-file", phrase), "no secret of run 4 waits")
	p.sees("collected by admin")

	for _, told := range [][]string{{"run", "export", "3"}, {"plan", "show", "3", "-o", "json"}, {"run", "receipts", "3", "-o", "json"}, {"delivery", "list", "hq-dome-booking", "-o", "json"}, {"audit", "list", "-o", "json"}, {"task", "list", "-o", "json"}} {
		require.NotContains(t, h.twinning(0, told...), secret)
	}
}
