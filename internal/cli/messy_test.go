package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Lists as people send them, all of the same twelve people: what is made of each
// without help, what is asked, and the balance; where something has to be said by a
// human, NAME.shape.yaml says it, and then the balance is what it should be.
// TWINNING_WRITE=1 writes NAME.want anew, to be read.
func TestMessyLists(t *testing.T) {
	const dir = "../../testdata/messy"
	lists, err := filepath.Glob(dir + "/*")
	require.NoError(t, err)
	tried := 0
	for _, path := range lists {
		name, ext, _ := strings.Cut(filepath.Base(path), ".")
		if name == "accounts" || !map[string]bool{"csv": true, "txt": true, "xlsx": true}[ext] {
			continue
		}
		tried++
		t.Run(name, func(t *testing.T) {
			var got bytes.Buffer
			run := func(args ...string) {
				var out, err bytes.Buffer
				code := Main(args, strings.NewReader(""), &out, &err)
				shown := strings.ReplaceAll(strings.Join(args, " "), dir+"/", "")
				fmt.Fprintf(&got, "$ twinning %s\n%s%s[exit %d]\n\n", shown, strings.ReplaceAll(err.String(), dir+"/", ""), strings.ReplaceAll(out.String(), dir+"/", ""), code)
			}
			reconcile := func(more ...string) {
				run(append([]string{"reconcile", "--people", path, "--accounts", dir + "/accounts.csv", "--charter", dir + "/lane.yaml", "--now", "2026-11-26T08:00:00Z"}, more...)...)
			}
			run("shape", "guess", path)
			reconcile()
			if shape := dir + "/" + name + ".shape.yaml"; exists(shape) {
				reconcile("--people-shape", shape)
			}
			run("roster", "keys", "--people", path, "--accounts", dir+"/accounts.csv")
			want := dir + "/" + name + ".want"
			if os.Getenv("TWINNING_WRITE") != "" {
				require.NoError(t, os.WriteFile(want, got.Bytes(), 0o600))
			}
			text, err := os.ReadFile(want)
			require.NoError(t, err)
			require.Equal(t, string(text), got.String())
		})
	}
	require.GreaterOrEqual(t, tried, 12)
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}
