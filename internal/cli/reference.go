package cli

import (
	"github.com/spf13/cobra"

	"twinning/internal/core/reference"
)

// newReference prints what can be named in charters, shapes and filters; no service
// is needed.
func newReference() *cobra.Command {
	var lists []*cobra.Command
	for _, l := range reference.Lists() {
		lists = append(lists, &cobra.Command{Use: l.Name, Short: l.What, Args: exact(), RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := connect(cmd) // for its output alone
			if err != nil {
				return err
			}
			items := make([]map[string]string, len(l.Rows))
			for i, row := range l.Rows {
				items[i] = map[string]string{}
				for j, column := range l.Columns {
					items[i][column] = row[j]
				}
			}
			return c.show(map[string]any{"items": items}, l.Columns, l.Rows)
		}})
	}
	return group("reference", "What can be named in charters, shapes and filters", lists...)
}
