package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/format"
)

func newSystemProbe() *cobra.Command {
	return running("probe NAME", "Try a system step by step; the report holds nothing secret", exact("NAME"), func(c *client, args []string) error {
		var v apiclient.Probe
		res, err := c.ProbeSystem(c.ctx, args[0])
		if err := ask(&v, res, err); err != nil {
			return err
		}
		glyphs := map[string]string{"ok": "●", "warning": "◐", "failed": "⊘"}
		var rows [][]string
		for _, s := range v.Steps {
			rows = append(rows, []string{glyphs[string(s.State)] + " " + string(s.State), s.Name, s.Said, fmt.Sprintf("%d ms", s.Millis)})
			for _, more := range []string{value(s.Means), value(s.Next)} {
				if more != "" {
					rows = append(rows, []string{"", "", "→ " + more, ""})
				}
			}
		}
		if err := c.show(v, []string{"state", "step", "what was found", "took>"}, rows); err != nil {
			return err
		}
		if !v.Ok {
			return &exit{Failed, fmt.Sprintf("system %s can't be used yet: the last step says why and what to do", v.System)}
		}
		c.say("next: twinning system preview %s", v.System)
		return nil
	})
}

func newSystemPreview() *cobra.Command {
	cmd := running("preview NAME", "See what would be understood of a system or a file, before it becomes a roster", exact("NAME"), func(c *client, args []string) error {
		in := apiclient.PreviewInput{}
		if path := c.flag("shape"); path != "" {
			src, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			text := string(src)
			in.Shape = &text
		}
		if settings, _ := c.cmd.Flags().GetStringToString("set"); len(settings) > 0 {
			in.Settings = &settings
		}
		skip, _ := c.cmd.Flags().GetInt("skip")
		first, _ := c.cmd.Flags().GetInt("first")
		in.Skip, in.First = &skip, &first
		if path := c.flag("file"); path != "" {
			sent, err := c.send(args[0], path)
			if err != nil {
				return err
			}
			in.File = &sent
		}
		var v apiclient.Preview
		res, err := c.PreviewSystem(c.ctx, args[0], in)
		if err := ask(&v, res, err); err != nil {
			return err
		}
		if c.format != "table" {
			return c.show(v, []string{"line", "id"}, nil)
		}
		return c.drawPreview(v)
	})
	cmd.Flags().String("file", "", "this file, for a file system")
	cmd.Flags().String("shape", "", "shape file to try (YAML)")
	cmd.Flags().StringToString("set", nil, "settings to try on a file, such as delimiter=;,encoding=latin-1")
	cmd.Flags().Int("skip", 0, "records to pass over")
	cmd.Flags().Int("first", 8, "records to show, at most 200")
	return cmd
}

// send leaves a file with the service, for a preview or a roster.
func (c *client) send(system, path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close() // only read
	var v apiclient.SentFile
	res, err := c.SendFileWithBody(c.ctx, system, "application/octet-stream", f)
	err = ask(&v, res, err)
	return v.File, err
}

// drawPreview shows what was understood, the first records as they would be,
// and every problem with its place.
func (c *client) drawPreview(v apiclient.Preview) error {
	out := c.cmd.OutOrStdout()
	if a := v.About; a != nil {
		fmt.Fprintf(out, "read as   %s\n", format.About{Format: a.Format, Encoding: value(a.Encoding), Delimiter: value(a.Delimiter), Sheet: value(a.Sheet), Compressed: value(a.Compressed)})
		for _, l := range value(a.Above) {
			fmt.Fprintf(out, "passed over, above the header: %s\n", l)
		}
	}
	counts := thousands(v.Records) + " records, " + thousands(v.Rejected) + " that can't be read"
	if !v.Everything {
		counts += " (a sample)"
	}
	fmt.Fprintf(out, "holds     %s\n", counts)
	fmt.Fprintf(out, "id        %s: %s\n", orDash(v.Id.Native), v.Id.Said)
	for _, l := range v.Left {
		fmt.Fprintf(out, "left out  %s: %s\n", thousands(l.Count), l.Reason)
	}
	var columns [][]string
	for _, u := range v.Columns {
		sure := ""
		switch {
		case u.Because == "the shape":
			sure = "shape"
		case u.Because == "its own name":
			sure = "own"
		case value(u.Attribute) != "":
			sure = fmt.Sprintf("%d %%", int(u.Confidence*100))
		}
		columns = append(columns, []string{u.Native, orDash(value(u.Attribute)), sure, u.Kind, thousands(u.Filled), thousands(u.Distinct), firstOf(strings.Join(u.Examples, ", "), 34), value(u.Note)})
	}
	fmt.Fprintln(out)
	if _, err := fmt.Fprintln(out, drawTable([]string{"column", "becomes", "sure>", "values", "filled>", "distinct>", "examples", "look at"}, columns)); err != nil {
		return err
	}
	if len(v.Rows) > 0 {
		header, rows := previewRows(v)
		fmt.Fprintf(out, "\n%s\n", drawTable(header, rows))
	}
	if len(v.Problems) > 0 {
		var rows [][]string
		for _, p := range v.Problems[:min(len(v.Problems), 20)] {
			rows = append(rows, []string{lineOf(p.Line), orDash(value(p.Column)), value(p.Id), p.Reason})
		}
		fmt.Fprintf(out, "\n%s\n", drawTable([]string{"line>", "column", "id", "can't be read, because"}, rows))
		if rest := v.Rejected - len(rows); rest > 0 {
			c.say("%s more; -o json has them", thousands(rest))
		}
	}
	if value(v.Guessed) {
		fmt.Fprintf(out, "\n# a first shape, to be checked and kept (system put --shape)\n%s", v.Shape)
	}
	c.say("next: %s", v.Next)
	return nil
}

// previewRows picks the columns that fit a terminal.
func previewRows(v apiclient.Preview) (header []string, rows [][]string) {
	const most = 7
	header = []string{"line>", "id"}
	var names []string
	for _, u := range v.Columns {
		name := value(u.Attribute)
		if name != "" && name != "id" && u.Filled > 0 && len(names) < most {
			names = append(names, name)
		}
	}
	for _, r := range v.Rows {
		line := ""
		if value(r.Line) > 0 {
			line = fmt.Sprint(*r.Line)
		}
		row := []string{line, firstOf(r.Id, 24)}
		for _, n := range names {
			row = append(row, firstOf(strings.Join(r.Values[n], "; "), 24))
		}
		rows = append(rows, row)
	}
	return append(header, names...), rows
}

func firstOf(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

// lineOf is a line of a file; systems have none.
func lineOf(n int) string {
	if n == 0 {
		return "–"
	}
	return fmt.Sprint(n)
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}
