package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// show prints a list: as a table for people, or in the format asked for.
// whole is what machines get. A header that ends in > is a column of numbers.
func (c *client) show(whole any, header []string, rows [][]string) error {
	out := c.cmd.OutOrStdout()
	switch c.format {
	case "json":
		enc := json.NewEncoder(out)
		enc.SetIndent("", "  ")
		return enc.Encode(whole)
	case "yaml":
		b, err := yaml.MarshalWithOptions(whole, yaml.UseJSONMarshaler())
		if err != nil {
			return err
		}
		_, err = out.Write(b)
		return err
	case "csv":
		w := csv.NewWriter(out)
		names := make([]string, len(header))
		for i, h := range header {
			names[i] = strings.TrimSuffix(h, ">")
		}
		_ = w.Write(names)
		for _, r := range rows {
			_ = w.Write(r)
		}
		w.Flush()
		return w.Error()
	}
	if len(rows) == 0 {
		fmt.Fprintln(c.cmd.ErrOrStderr(), "nothing to show")
		return nil
	}
	_, err := fmt.Fprintln(out, drawTable(header, rows))
	return err
}

// drawTable rules only under the header, as a ledger does.
func drawTable(header []string, rows [][]string) string {
	text.DisableColors()
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
		c := table.ColumnConfig{Number: i + 1, WidthMax: 60, WidthMaxEnforcer: text.WrapSoft}
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
