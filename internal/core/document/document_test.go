package document

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Documents made to cost much are refused at once, with the place and the limit.
func TestHostile(t *testing.T) {
	for name, c := range map[string]struct{ source, want string }{
		"brackets":     {strings.Repeat("[", 80_000), "line 1, column 1: the nesting of lists and mappings here is over the limit of 64"},
		"braces":       {"a: 1\nb: " + strings.Repeat("{a: ", 80_000), "line 2, column 1: the nesting"},
		"indents":      {indented(3000), "the nesting of lists and mappings here"},
		"dashes":       {strings.Repeat("- ", 80_000) + "x", "the nesting of lists and mappings here"},
		"too large":    {"a: " + strings.Repeat("x", 1<<20), "the document is over the limit of 1 MiB; if it is in order, raise the limit: --limit document=N"},
		"a reference":  {"a: &x [1]\nb: *x", "expected text, found *x, a reference to another place"},
		"second":       {"a: 1\n---\nb: 2\n", "line 2, column 1: a second document begins here"},
		"a list a key": {"? [a]\n: 1\n", "expected a name before the colon, found a list"},
		"not YAML":     {"a: 'b", "this is not YAML"},
		"not UTF-8":    {"a: \xff", "this is not YAML"},
		"NUL":          {"a: \x00", "this is not YAML"},
		"twice":        {"a: 1\na: 2", `"a" is given twice`},
		"empty":        {"# nothing\n", "the document is empty"},
	} {
		t.Run(name, func(t *testing.T) {
			doc, top := Parse([]byte(c.source))
			for _, e := range top.Entries() {
				e.Value.Text()
			}
			require.ErrorContains(t, doc.Err(), c.want)
		})
	}
	// what is only long is read, in time that grows with it
	doc, top := Parse([]byte("a: b\n" + strings.Repeat("  c\n", 200_000)))
	require.NoError(t, doc.Err())
	require.Len(t, top.Entries()[0].Value.Text(), 400_001)
}

func indented(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	return b.String()[:min(b.Len(), 1<<20)]
}
