package charter

import (
	"flag"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var write = flag.Bool("write", false, "write what came out as what is wanted; read it before you keep it")

// What is written as elsewhere is answered with what to write here.
func TestWords(t *testing.T) {
	const file = "testdata/words.txt"
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	parts := strings.Split(strings.TrimRight(string(text), "\n"), "\n\n")
	for i, part := range parts[1:] {
		var source, want []string
		for _, l := range strings.Split(part, "\n") {
			if told, ok := strings.CutPrefix(l, "    "); ok {
				want = append(want, told)
			} else {
				source = append(source, l)
			}
		}
		got := []string{"in order"}
		if _, err := Parse([]byte(head+strings.Join(source, "\n")+"\n"), Vocabulary{}); err != nil {
			got = strings.Split(err.Error(), "\n")
		}
		if !*write {
			require.Equal(t, want, got, part)
		}
		parts[i+1] = strings.Join(source, "\n") + "\n    " + strings.Join(got, "\n    ")
	}
	if *write {
		require.NoError(t, os.WriteFile(file, []byte(strings.Join(parts, "\n\n")+"\n"), 0o600))
	}
}
