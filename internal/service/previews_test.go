package service

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"twinning/internal/store"
)

var write = flag.Bool("write", false, "write what came out as what is wanted; read it before you keep it")

// told is a preview in words.
func told(v Preview) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s; %d records, %d rejected\n", v.About, v.Records, v.Rejected)
	if len(v.About.Above) > 0 {
		fmt.Fprintf(&b, "above the header: %s\n", strings.Join(v.About.Above, " / "))
	}
	fmt.Fprintf(&b, "id %s: %s\n", v.ID.Native, v.ID.Said)
	for _, c := range v.Columns {
		if c.Attribute != "" {
			fmt.Fprintf(&b, "%s -> %s (%s)", c.Native, strings.Join(append([]string{c.Attribute}, c.Also...), ", "), c.Because)
		} else {
			fmt.Fprintf(&b, "%s is not used", c.Native)
		}
		if c.Note != "" {
			fmt.Fprintf(&b, ": %s", c.Note)
		}
		b.WriteString("\n")
	}
	for _, r := range v.Rows {
		var cells []string
		for _, c := range v.Columns {
			if list := r.Values[c.Attribute]; c.Attribute != "" && len(list) > 0 {
				cells = append(cells, c.Attribute+"="+strings.Join(list, "|"))
			}
		}
		fmt.Fprintf(&b, "line %d %s %s\n", r.Line, r.ID, strings.Join(cells, " "))
	}
	for _, p := range v.Problems {
		fmt.Fprintf(&b, "line %d %s %q: %s\n", p.Line, p.Column, p.ID, p.Reason)
	}
	fmt.Fprintf(&b, "next: %s", v.Next)
	return b.String()
}

// Files as people send them, and what is understood, as text:
// testdata/previews.txtar has a file, lines that begin with "? " to pick and
// try, and behind "want" what is told.
func TestPreviews(t *testing.T) {
	archive, err := txtar.ParseFile("testdata/previews.txtar")
	require.NoError(t, err)
	ctx := context.Background()
	for i, f := range archive.Files {
		t.Run(f.Name, func(t *testing.T) {
			_, err := stage.PutSystem(ctx, tester, store.System{Name: "hr", Kind: "file"}, Putting{})
			require.NoError(t, err)
			defer func() { require.NoError(t, stage.RemoveSystem(ctx, tester, "hr")) }()
			text, want, found := strings.Cut(string(f.Data), "\nwant")
			require.True(t, found)
			how := Looking{Picks: map[string]string{}, Settings: map[string]string{}, True: map[string][]string{}}
			var file []string
			for _, l := range strings.Split(text, "\n") {
				try, ok := strings.CutPrefix(l, "? ")
				if !ok {
					file = append(file, l)
					continue
				}
				word, rest, _ := strings.Cut(try, " ")
				name, value, _ := strings.Cut(rest, "=")
				switch word {
				case "pick":
					how.Picks[name] = value
				case "true":
					how.True[name] = strings.Split(value, ",")
				case "set":
					how.Settings[name] = value
				case "id":
					how.ID = rest
				case "shape":
					how.Shape += strings.ReplaceAll(rest, `\n`, "\n")
				case "skip":
					how.Skip = len(rest)
				case "first":
					how.First = len(rest)
				}
			}
			how.File, err = stage.SendFile(ctx, tester, "hr", strings.NewReader(strings.Join(file, "\n")+"\n"))
			require.NoError(t, err)
			v, err := stage.Preview(ctx, tester, "hr", how)
			got := ""
			if err != nil {
				got = "refused: " + err.Error()
			} else {
				got = told(v)
				again := how
				again.Shape, again.Picks, again.ID, again.True = strings.TrimPrefix(v.Shape, "# "), nil, "", nil
				if v.ID.Native != "" {
					w, err := stage.Preview(ctx, tester, "hr", again)
					require.NoError(t, err)
					require.Equal(t, v.Rows, w.Rows, "the shape that is told reads the same")
				}
			}
			if *write {
				archive.Files[i].Data = []byte(text + "\nwant\n" + got + "\n")
				return
			}
			require.Equal(t, strings.TrimSpace(want), got)
			require.NoError(t, err2(stage.Rosters(ctx, "hr", store.Page{})))
		})
	}
	if *write {
		require.NoError(t, os.WriteFile("testdata/previews.txtar", txtar.Format(archive), 0o600))
	}
}

// err2 is the error of a list, which must be empty: a preview keeps nothing.
func err2(list []store.Roster, _ string, err error) error {
	if len(list) > 0 {
		return fmt.Errorf("%d rosters were kept", len(list))
	}
	return err
}
