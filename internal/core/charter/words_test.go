package charter

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var write = flag.Bool("write", false, "write what came out as what is wanted; read it before you keep it")

// Every function does in its example what its line in the reference says.
func TestFunctions(t *testing.T) {
	c := newCompiler(Vocabulary{}, map[string]map[string]string{"sites": {"AND": "Andes"}})
	for _, f := range Functions() {
		checked, issues := c.env.Compile(f.Example)
		require.NoError(t, issues.Err(), f.Name)
		program, err := c.env.Program(checked)
		require.NoError(t, err, f.Name)
		got, _, err := program.Eval(map[string]any{"today": "2026-11-25"})
		require.NoError(t, err, f.Name)
		require.Equal(t, f.Gives, fmt.Sprint(got.Value()), "%s gives", f.Example)
		require.NotEmpty(t, f.What, f.Name)
	}
}

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
