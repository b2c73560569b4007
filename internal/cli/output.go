package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"go.yaml.in/yaml/v3"
	"golang.org/x/term"
)

// show prints a list: as a table for people, or in the format asked for.
// whole is what machines get. A header that ends in > is a column of numbers.
func (c *client) show(whole any, header []string, rows [][]string) error {
	out := raw(c.cmd.OutOrStdout())
	switch c.format {
	case "json":
		enc := json.NewEncoder(out)
		enc.SetIndent("", "  ")
		return enc.Encode(whole)
	case "yaml":
		b, err := json.Marshal(whole)
		if err != nil {
			return err
		}
		var tree yaml.Node // JSON is YAML: read it as such, with its names and in its order
		if err := yaml.Unmarshal(b, &tree); err != nil {
			return err
		}
		plainStyle(&tree)
		e := yaml.NewEncoder(out)
		e.SetIndent(2)
		return errors.Join(e.Encode(&tree), e.Close())
	case "csv":
		return writeMachineCSV(out, whole)
	}
	if len(rows) == 0 {
		fmt.Fprintln(c.cmd.ErrOrStderr(), "nothing to show")
		return nil
	}
	_, err := fmt.Fprintln(c.cmd.OutOrStdout(), drawTable(header, rows, width(c.cmd.OutOrStdout())))
	return err
}

// plainStyle lets YAML be written in lines, not as JSON.
func plainStyle(n *yaml.Node) {
	n.Style = 0
	for _, c := range n.Content {
		plainStyle(c)
	}
}

// A column is at most so wide; where the terminal is narrow it becomes narrower, the
// widest first, but never narrower than the least.
const (
	widest = 60
	least  = 10
	gap    = 2 // between columns
)

// width of the terminal that is written to; 0 where there is none.
func width(out io.Writer) int {
	f, ok := raw(out).(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 0 {
		return n
	}
	n, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return n
}

// fitted are the widths of columns that fit the room, as far as that can be.
func fitted(header []string, rows [][]string, room int) []int {
	widths := make([]int, len(header))
	sum := gap * len(header)
	for i, h := range header {
		widths[i] = text.StringWidth(strings.TrimSuffix(h, ">"))
		for _, r := range rows {
			if i < len(r) {
				widths[i] = max(widths[i], text.LongestLineLen(r[i]))
			}
		}
		widths[i] = min(widths[i], widest)
		sum += widths[i]
	}
	for ; room > 0 && sum > room; sum-- {
		at := 0
		for i := range widths {
			if widths[i] > widths[at] {
				at = i
			}
		}
		if widths[at] <= least {
			break
		}
		widths[at]--
	}
	return widths
}

// drawTable rules only under the header, as a ledger does.
func drawTable(header []string, rows [][]string, room int) string {
	text.DisableColors()
	widths := fitted(header, rows, room)
	t := table.NewWriter()
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	t.SetStyle(style)
	t.SuppressTrailingSpaces()
	head := make(table.Row, len(header))
	configs := make([]table.ColumnConfig, 0, len(header))
	for i, h := range header {
		name, right := strings.CutSuffix(h, ">")
		head[i] = name
		c := table.ColumnConfig{Number: i + 1, WidthMax: widths[i], WidthMaxEnforcer: text.WrapSoft}
		if right {
			c.Align, c.AlignHeader = text.AlignRight, text.AlignRight
		}
		configs = append(configs, c)
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(head)
	for _, r := range rows {
		row := make(table.Row, len(r))
		for i, cell := range r {
			row[i] = cell
		}
		t.AppendRow(row)
	}
	return t.Render()
}
