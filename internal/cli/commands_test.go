package cli

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"unicode"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/require"
)

// each calls fn for every command that is ours.
func each(cmd *cobra.Command, fn func(*cobra.Command)) {
	if cmd.Name() == "help" || cmd.Name() == "completion" {
		return
	}
	fn(cmd)
	for _, c := range cmd.Commands() {
		each(c, fn)
	}
}

func words(cmd *cobra.Command, more ...string) []string {
	return append(strings.Fields(cmd.CommandPath())[1:], more...)
}

// What holds for every command, those that are added later included.
func TestCommands(t *testing.T) {
	t.Setenv("TWINNING_CREDENTIALS", t.TempDir()+"/none.json")
	t.Setenv("TWINNING_ADDRESS", "http://127.0.0.1:9") // nothing listens
	run := func(args ...string) (code int, out, talk string) {
		var o, e bytes.Buffer
		code = Main(args, strings.NewReader(""), &o, &e)
		return code, o.String(), e.String()
	}
	sample := map[string]string{"string": "x", "bool": "true", "int": "7", "int64": "7", "float32": "0.5", "float64": "0.5", "duration": "9s", "stringSlice": "a,b", "stringArray": "a=b", "stringToString": "a=b", "func": "columns=2000", "name=value,…": "a=b"}
	n := 0
	each(newRoot(), func(cmd *cobra.Command) {
		n++
		path := cmd.CommandPath()
		require.True(t, unicode.IsUpper([]rune(cmd.Short)[0]) && !strings.HasSuffix(cmd.Short, "."), path)
		code, out, _ := run(words(cmd, "--help")...)
		require.Equal(t, Fine, code, path)
		require.Contains(t, out, "Usage:", path)
		code, out, talk := run(words(cmd, "--no-such-option")...)
		require.Equal(t, Misused, code, "%s: %s", path, talk)
		require.Empty(t, out, path)
		require.Contains(t, talk, path+" --help")
		code, out, talk = run(words(cmd, "a", "b", "c", "d", "e", "f")...)
		require.Equal(t, Misused, code, "%s: %s", path, talk)
		require.Empty(t, out, path)
		if cmd.HasSubCommands() {
			child := cmd.Commands()[0].Name()
			_, _, talk := run(words(cmd, child[:len(child)-1])...)
			require.Contains(t, talk, "did you mean", path)
		}
		if cmd.Name() == "remove" && cmd.Parent().Name() != "token" { // a token can be made anew
			require.NotNil(t, cmd.Flags().Lookup("yes"), path)
		}
		if f := cmd.Flags().Lookup("limit"); f != nil && f.Value.Type() == "int" {
			require.NotNil(t, cmd.Flags().Lookup("all"), path)
			require.NotNil(t, cmd.Flags().Lookup("cursor"), path)
			needs := []string{"1", "1", "1"}[:strings.Count(cmd.Use, " ")]
			for _, wrong := range [][]string{{"--all", "--limit", "3"}, {"--limit", "0"}, {"--limit", "501"}} {
				code, _, talk = run(append(words(cmd, needs...), wrong...)...)
				require.Equal(t, Misused, code, "%s %v: %s", path, wrong, talk)
			}
		}
		cmd.Flags().VisitAll(func(f *pflag.Flag) {
			if f.Name == "help" || f.Name == "version" {
				return
			}
			require.NotEmpty(t, f.Usage, "%s --%s", path, f.Name)
			value, known := sample[f.Value.Type()]
			require.True(t, known, "%s --%s is of the kind %s", path, f.Name, f.Value.Type())
			t.Setenv(variable(cmd, f.Name), value)
			fresh, _, err := newRoot().Find(words(cmd))
			require.NoError(t, err)
			_ = fresh.ParseFlags(nil)
			_ = fromEnvironment(fresh, nil) // another option may be needed
			require.True(t, fresh.Flags().Changed(f.Name), "%s is not taken from %s", f.Name, variable(cmd, f.Name))
			require.NoError(t, os.Unsetenv(variable(cmd, f.Name))) // set again by the next, and put back at the end
		})
		t.Setenv("TWINNING_ADDRESS", "http://127.0.0.1:9")
	})
	require.Greater(t, n, 60)
}

// Whoever stops waiting for a task is told that it goes on, and how to stop it.
func TestNoLongerWaiting(t *testing.T) {
	t.Setenv("TWINNING_CREDENTIALS", t.TempDir()+"/none.json")
	asked := make(chan struct{}, 100)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked <- struct{}{}
		w.Header().Set("Content-Type", "application/json")
		if r.Method == http.MethodPost {
			w.WriteHeader(http.StatusAccepted)
		}
		_, _ = io.WriteString(w, `{"id": 7, "kind": "roster", "name": "take a roster of hq", "state": "running", "created": "2026-11-25T08:00:00Z", "by": "ana", "done": 1, "total": 9, "good": 1, "bad": 0}`)
	}))
	t.Cleanup(server.Close)
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		<-asked
		<-asked // it waits
		cancel()
	}()
	root := newRoot()
	root.SetArgs([]string{"roster", "take", "hq", "--address", server.URL})
	var talk bytes.Buffer
	root.SetOut(&talk)
	root.SetErr(&talk)
	require.ErrorContains(t, root.ExecuteContext(ctx), "task 7 goes on in the service; look at it: twinning task list; stop it: twinning task halt 7")
}

// A table fits a narrow terminal by its widest columns, and loses nothing.
func TestNarrowTerminals(t *testing.T) {
	header, rows := []string{"plan>", "who", "why"}, [][]string{{"1", "Ana Soto", strings.Repeat("because ", 12)}, {"22", "Bo", "no"}}
	for room, most := range map[int]int{0: 78, 200: 78, 60: 60, 40: 40, 5: 34} { // what is too narrow for every column stays wider
		drawn := drawTable(header, rows, room)
		for _, l := range strings.Split(drawn, "\n") {
			require.LessOrEqual(t, len([]rune(strings.TrimRight(l, " "))), most, "%d:\n%s", room, drawn)
		}
		require.Equal(t, 12, strings.Count(drawn, "because"), drawn)
	}
}
