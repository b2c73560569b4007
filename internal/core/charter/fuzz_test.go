package charter

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/document"
)

// Whatever is given for a charter is read, or refused with the places of what is wrong; what
// was read once is read so again.
func FuzzParse(f *testing.F) {
	for _, pattern := range []string{"../../../demo/*.yaml", "testdata/words.txt"} {
		files, err := filepath.Glob(pattern)
		require.NoError(f, err)
		require.NotEmpty(f, files)
		for _, path := range files {
			text, err := os.ReadFile(path)
			require.NoError(f, err)
			for _, part := range strings.Split(string(text), "\n\n") {
				f.Add(head + part)
			}
			f.Add(string(text))
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, err := Parse([]byte(text), Vocabulary{})
		again, other := Parse([]byte(text), Vocabulary{})
		if err != nil {
			var told document.Problems
			require.ErrorAs(t, err, &told)
			require.NotEmpty(t, told)
			require.EqualError(t, other, err.Error())
			return
		}
		require.NoError(t, other)
		require.Equal(t, len(c.Rules), len(again.Rules))
		require.Equal(t, c.Given(), again.Given())
		require.NotEmpty(t, c.Everybody())
		_, _ = c.Needs()
	})
}

// The charter's own functions give a text that can be kept, or say why not, whatever they are
// given.
func FuzzFunctions(f *testing.F) {
	for _, of := range Functions() {
		f.Add(of.Example, "de")
	}
	f.Add("+56 2 5550 0101", "CL")
	f.Add("\xff\xfe", "2026-02-30")
	f.Add("İ\u0307ß\u0130", "ﬁ@ﬀ")
	c := newCompiler(Vocabulary{}, map[string]map[string]string{"sites": {"AND": "Andes"}})
	f.Fuzz(func(t *testing.T, a, b string) {
		for i := range functions {
			of := &functions[i]
			args := []string{a, b, a}[:of.arity]
			v := of.call(c, args)
			require.Equal(t, v, of.call(c, args), "%s is the same twice", of.name)
			if utf8.ValidString(a) && utf8.ValidString(b) {
				require.True(t, utf8.ValidString(v.Cell()), "%s(%q, %q)", of.name, a, b)
			}
			if of.name == "slug" && v.Fault() == "" {
				require.Equal(t, -1, strings.IndexFunc(v.Cell(), func(r rune) bool {
					return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '.' || r == '-' || r == '_')
				}), "%q", v.Cell())
			}
		}
	})
}
