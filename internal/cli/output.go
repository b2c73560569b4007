package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"go.yaml.in/yaml/v3"
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
	_, err := fmt.Fprintln(c.cmd.OutOrStdout(), drawTable(header, rows))
	return err
}

// plainStyle lets YAML be written in lines, not as JSON.
func plainStyle(n *yaml.Node) {
	n.Style = 0
	for _, c := range n.Content {
		plainStyle(c)
	}
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
