package cli

import (
	"fmt"
	"maps"
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
		if settings := c.settings(); len(settings) > 0 {
			in.Settings = &settings
		}
		if picks, _ := c.cmd.Flags().GetStringToString("pick"); len(picks) > 0 {
			in.Picks = &picks
		}
		if words, _ := c.cmd.Flags().GetStringArray("true"); len(words) > 0 {
			in.TrueWords = &map[string][]string{}
			for _, w := range words {
				column, list, ok := strings.Cut(w, "=")
				if !ok {
					return misuse("--true %q: expected COLUMN=WORD or COLUMN=WORD,WORD", w)
				}
				(*in.TrueWords)[column] = strings.Split(list, ",")
			}
		}
		in.Id = c.given("id")
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
			err = c.show(v, []string{"line", "id"}, nil)
		} else {
			err = c.drawPreview(v)
		}
		if err != nil || !c.on("keep") {
			return err
		}
		return c.keepShape(v)
	})
	cmd.Flags().String("file", "", "this file, for a file system")
	cmd.Flags().String("shape", "", "shape file to try (YAML)")
	setFlag(cmd, "settings to try on a file, such as delimiter=;,encoding=latin-1")
	cmd.Flags().StringToString("pick", nil, "columns that are to become another attribute, such as Correo=email; COLUMN= for none")
	cmd.Flags().String("id", "", "column that is to be the id")
	cmd.Flags().StringArray("true", nil, "which values of a column mean true, such as Status=A,B; may be repeated")
	cmd.Flags().Bool("keep", false, "keep the shape and the settings that were tried with the system")
	cmd.Flags().Int("skip", 0, "records to pass over")
	cmd.Flags().Int("first", 8, "records to show, at most 200")
	return cmd
}

// keepShape changes the system to what was previewed.
func (c *client) keepShape(v apiclient.Preview) error {
	var x apiclient.System
	res, err := c.GetSystem(c.ctx, v.System)
	if err := ask(&x, res, err); err != nil {
		return err
	}
	if settings := c.settings(); len(settings) > 0 {
		maps.Copy(x.Settings, settings)
	}
	tag := res.Header.Get("ETag")
	x.Shape = v.Shape
	res, err = c.PutSystem(c.ctx, v.System, &apiclient.PutSystemParams{IfMatch: &tag}, asItIs(x))
	if err := ask(nil, res, err); err != nil {
		return err
	}
	c.say("the shape is kept with %s", v.System)
	return nil
}

// send leaves a file with the service, for a preview or a roster.
func (c *client) send(system, path string) (string, error) {
	f, err := format.RegularAt(path)
	if err != nil {
		return "", err
	}
	defer f.Close() // only read
	var v apiclient.SentFile
	res, err := c.SendFileWithBody(c.ctx, system, nil, "application/octet-stream", f)
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
		columns = append(columns, []string{u.Native, orDash(strings.Join(append([]string{value(u.Attribute)}, value(u.Also)...), ", ")), sure, u.Kind, thousands(u.Filled), thousands(u.Distinct), firstOf(strings.Join(u.Examples, ", "), 34), value(u.Note)})
	}
	fmt.Fprintln(out)
	if _, err := fmt.Fprintln(out, drawTable([]string{"column", "becomes", "sure>", "values", "filled>", "distinct>", "examples", "look at"}, columns, width(out))); err != nil {
		return err
	}
	if len(v.Rows) > 0 {
		header, rows := previewRows(v)
		fmt.Fprintf(out, "\n%s\n", drawTable(header, rows, width(out)))
	}
	if len(v.Problems) > 0 {
		var rows [][]string
		for _, p := range v.Problems[:min(len(v.Problems), 20)] {
			rows = append(rows, []string{lineOf(p.Line), orDash(value(p.Column)), value(p.Id), p.Reason})
		}
		fmt.Fprintf(out, "\n%s\n", drawTable([]string{"line>", "column", "id", "can't be read, because"}, rows, width(out)))
		if rest := v.Rejected - len(rows); rest > 0 {
			c.say("%s more; -o json has them", thousands(rest))
		}
	}
	if value(v.Guessed) {
		fmt.Fprintf(out, "\n# a first shape, to be checked (--pick, --id, --true, --shape) and kept (--keep)\n%s", v.Shape)
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
