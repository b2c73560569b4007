package upload

import (
	"flag"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"twinning/internal/core/record"
	"twinning/internal/format/csvfile"
)

// properties are tried on the same values every time; soak takes others
func init() { _ = flag.Set("rapid.seed", "20261125") }

var texts = rapid.OneOf(
	rapid.StringOfN(rapid.RuneFrom([]rune("aZ9 éñÅß€\"';,|\t=+-@#<>")), 0, 8, -1),
	rapid.SampledFrom([]string{"", " ", "陳美玲", "Надежда", "two\nlines", "\"", "'=1+1", "no\u00a0break"}),
)

// Whatever a form declares: what it lets through reads back the same, from as
// many files as it asks for, and what it can't carry is refused with nothing
// written of it.
func TestRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		form := record.Upload{
			Columns: []record.UploadColumn{{Name: "id", Native: "id"}, {Name: "Name", Native: "name"}, {Name: "Do", Action: map[string]string{"create": "ADD", "change": "SET"}}, {Name: "By", Fixed: "larkspur"}},
			Header:  true, Clear: rapid.SampledFrom([]string{"", "-"}).Draw(t, "clear"), Separator: ";",
			Delimiter: rapid.SampledFrom([]string{",", ";", "|", "tab"}).Draw(t, "delimiter"),
			Quoting:   rapid.SampledFrom([]string{"needed", "all", "none"}).Draw(t, "quoting"),
			Encoding:  rapid.SampledFrom([]string{"utf-8", "utf-8-bom", "utf-16", "latin-1", "windows-1252"}).Draw(t, "encoding"),
			LineEnd:   rapid.SampledFrom([]string{"crlf", "lf"}).Draw(t, "line end"),
			Rows:      rapid.IntRange(0, 3).Draw(t, "rows"),
		}
		if rapid.Bool().Draw(t, "title") {
			form.FirstLines = []string{"#gate 3"}
		}
		dir, err := os.MkdirTemp("", "twinning-upload-")
		require.NoError(t, err)
		defer os.RemoveAll(dir) // best effort
		root, err := os.OpenRoot(dir)
		require.NoError(t, err)
		defer root.Close() // only a folder
		w, err := NewWriter(form, root, "gate")
		require.NoError(t, err)
		var want [][]string
		for i := range rapid.IntRange(1, 7).Draw(t, "n") {
			id, name := string(rune('a'+i)), texts.Draw(t, "name")
			cleared := rapid.Bool().Draw(t, "cleared")
			action := rapid.SampledFrom([]string{"create", "change", "delete"}).Draw(t, "action")
			if rapid.IntRange(0, 4).Draw(t, "the node dies") == 0 { // another goes on from what is there
				w, err = NewWriter(form, root, "gate")
				require.NoError(t, err)
			}
			if w.Row(action, map[string][]string{"id": {id}, "name": {name}}, map[string]bool{"name": cleared}) != nil {
				continue
			}
			if cleared {
				name = form.Clear
			}
			want = append(want, []string{id, name, form.Columns[2].Action[action], "larkspur"})
		}
		require.NoError(t, w.Flush())
		files, err := filepath.Glob(filepath.Join(dir, "*"))
		require.NoError(t, err)
		slices.Sort(files)
		var got [][]string
		for _, f := range files {
			require.True(t, strings.HasSuffix(f, ".csv"), "nothing is left unfinished: %s", f)
			src, err := os.ReadFile(f)
			require.NoError(t, err)
			encoding := form.Encoding
			if encoding == "utf-8-bom" || encoding == "utf-16" {
				encoding = "" // its mark tells
			}
			opened, err := csvfile.Parse(src, csvfile.Options{Delimiter: map[string]rune{",": ',', ";": ';', "|": '|', "tab": '\t'}[form.Delimiter], Encoding: encoding})
			require.NoError(t, err, "%q", src)
			require.Equal(t, form.FirstLines, opened.Above)
			rows := 0
			require.NoError(t, opened.Each(func(r csvfile.Row) error {
				require.Empty(t, r.Fault, "%q", src)
				rows++
				got = append(got, slices.Clone(r.Cells))
				return nil
			}))
			if form.Rows > 0 {
				require.LessOrEqual(t, rows, form.Rows)
			}
		}
		require.Equal(t, want, got)
	})
}

// What can't be carried is told with the character, the action or the cell.
func TestRefuses(t *testing.T) {
	root, err := os.OpenRoot(t.TempDir())
	require.NoError(t, err)
	defer func() { require.NoError(t, root.Close()) }()
	columns := []record.UploadColumn{{Name: "Name", Native: "name"}, {Name: "Do", Action: map[string]string{"create": "ADD"}}}
	for _, c := range []struct{ quoting, encoding, action, name, want string }{
		{"needed", "latin-1", "create", "Šimić", `'Š' can't be written in latin-1`},
		{"none", "utf-8", "create", `the "cook"`, "the upload takes no quoting"},
		{"none", "utf-8", "create", "a,b", "holds a delimiter"},
		{"needed", "utf-8", "delete", "x", `no word for "delete"`},
	} {
		w, err := NewWriter(record.Upload{Columns: columns, Header: true, Delimiter: ",", Quoting: c.quoting, Encoding: c.encoding, LineEnd: "lf"}, root, "x")
		require.NoError(t, err)
		require.ErrorContains(t, w.Row(c.action, map[string][]string{"name": {c.name}}, nil), c.want)
		require.NoError(t, w.Flush())
	}
	left, err := os.ReadDir(root.Name())
	require.NoError(t, err)
	require.Empty(t, left, "what was refused leaves no file behind")
}
