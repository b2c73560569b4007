package reference

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The page in docs has every list as it is. TWINNING_WRITE=1 writes them.
func TestPage(t *testing.T) {
	const path = "../../../docs/reference.md"
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	page := string(b)
	for _, l := range Lists() {
		begin, end := "<!-- "+l.Name+" -->\n", "<!-- /"+l.Name+" -->\n"
		before, rest, found := strings.Cut(page, begin)
		require.True(t, found, "the list of %s has moved", l.Name)
		was, after, found := strings.Cut(rest, end)
		require.True(t, found, "the list of %s has no end", l.Name)
		if os.Getenv("TWINNING_WRITE") == "" {
			require.Equal(t, l.Markdown(), was, "run TWINNING_WRITE=1 go test ./internal/core/reference")
		}
		page = before + begin + l.Markdown() + end + after
		for _, r := range l.Rows {
			require.Len(t, r, len(l.Columns), r[0])
			require.NotEmpty(t, r[0])
		}
	}
	if os.Getenv("TWINNING_WRITE") != "" {
		require.NoError(t, os.WriteFile(path, []byte(page), 0o600))
	}
}
