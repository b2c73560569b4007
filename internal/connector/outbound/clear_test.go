package outbound

import (
	"encoding/base64"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever stands around a secret, in whatever form it is said back, it is struck, and nothing
// else is.
func TestClearer(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		secrets := rapid.SliceOfNDistinct(rapid.StringMatching(`[!-~é]{8,20}`), 1, 5, rapid.ID[string]).Draw(t, "secrets")
		c := NewClearer(secrets...)
		text := rapid.SliceOfN(rapid.StringMatching(`[ -~]{0,12}`), len(secrets)+1, len(secrets)+1).Draw(t, "text")
		said := text[0]
		for i, s := range secrets {
			form := rapid.SampledFrom([]func(string) string{func(s string) string { return s }, url.QueryEscape, url.PathEscape, percent,
				func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) },
				func(s string) string { return base64.URLEncoding.EncodeToString([]byte("twinning:" + s)) }}).Draw(t, "form")
			said += form(s) + text[i+1]
		}
		clear := c.Text(said)
		for _, s := range secrets {
			require.NotContains(t, clear, s)
			require.NotContains(t, clear, url.QueryEscape(s))
			require.NotContains(t, clear, base64.StdEncoding.EncodeToString([]byte(s)))
		}
		require.Equal(t, clear, c.Text(clear), "once is enough")
		if quiet := strings.Join(text, " "); !strings.ContainsFunc(quiet, func(r rune) bool { return r == '*' }) && len(quiet) < 8 {
			require.Equal(t, quiet, c.Text(quiet))
		}
	})
}

// What an account was given is struck wherever it comes up again, and the time does not grow with
// how many there are.
func TestRemember(t *testing.T) {
	t.Cleanup(func() { remembered.secrets = nil; remembered.clearer.Store(nil) })
	for i := range mostRemembered + 10 {
		Remember(fmt.Sprintf("moon-and-tide-%04d", i))
	}
	require.Equal(t, "heard ***, *** and moon-and-tide-0003", Clear("heard moon-and-tide-0265, "+base64.StdEncoding.EncodeToString([]byte("moon-and-tide-0100"))+" and moon-and-tide-0003"), "the oldest are forgotten")
	var none *Clearer
	require.Equal(t, map[string][]string{"title": {"***"}}, none.Values(map[string][]string{"title": {"moon-and-tide-0200"}}))
}

func BenchmarkClearing(b *testing.B) {
	for _, n := range []int{0, mostRemembered} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			b.Cleanup(func() { remembered.secrets = nil; remembered.clearer.Store(nil) })
			for i := range n {
				Remember(fmt.Sprintf("moon-and-tide-%04d", i))
			}
			c := NewClearer("a-token-of-moonlight-77")
			for b.Loop() {
				c.Text("nova.kester@larkspur-observatories.example")
			}
		})
	}
}
