package budget

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Limits are set by name, and told as they were given.
func TestSet(t *testing.T) {
	for _, c := range []struct {
		text, told, err string
		limit           *Limit
	}{
		{"columns=5000", "5,000", "", Columns}, {"columns = 5,000", "5,000", "", Columns}, {"workbook=2GiB", "2 GiB", "", Workbook}, {"cell=1000", "1,000 bytes", "", Cell}, {"cell=64KiB", "64 KiB", "", Cell},
		{"colums=1", "", `limit "colums" is not known; known are body`, nil}, {"columns=0", "", "expected a number such as", nil}, {"columns=-1", "", "expected", nil}, {"columns=", "", "expected", nil}, {"columns=x", "", "expected", nil}, {"unpacked=99999999999GiB", "", "expected", nil},
	} {
		err := Set(c.text)
		if c.err != "" {
			require.ErrorContains(t, err, c.err)
			continue
		}
		require.NoError(t, err)
		require.Equal(t, c.told, c.limit.String())
		c.limit.value.Store(c.limit.Standard)
	}
	require.NoError(t, Columns.Over(2000, "x"))
	require.EqualError(t, Columns.Over(2001, "a list of 2001"), "a list of 2001 is over the limit of 2,000; if it is in order, raise the limit: --limit columns=N")
}

// What two readers could take for two things is refused, with the name at fault;
// what means one thing passes.
func TestStrict(t *testing.T) {
	for text, want := range map[string]string{
		`{"a": 1, "b": {"a": [{"a": "x\"y:"}, {"a": "\\"}]}}`: "", `["a", "a"]`: "", `"a:"`: "", `{"a":"{\"b\":1,\"b\":2}"}`: "",
		`{"a": 1, "a": 2}`: "a: it is given twice", `{"on": 1, "ON": 2}`: "ON: it is given twice", `{"on": 1, "o\u006e": 2}`: `o\u006e: it is given twice`, `{"x": {"k": 1, "K": 2}}`: "K: it is given twice",
		"{\"a\": \"\xff\"}": ": it holds bytes that are not UTF-8", `{"a": "\u0000"}`: "a: it holds the character NUL", "{\"a\": \"\x00\"}": "a: it holds the character NUL", `{"a": "\\u0000"}`: "",
		strings.Repeat("[", 40): ": JSON nested so deeply is over the limit of 32", `{"` + strings.Repeat("k", 300) + `": 1}`: ": a name in the JSON text is over the limit of 256 bytes",
	} {
		name, err := Strict([]byte(text))
		if want == "" {
			require.NoError(t, err, text)
			continue
		}
		require.Error(t, err, text)
		require.Contains(t, name+": "+err.Error(), want)
	}
}
