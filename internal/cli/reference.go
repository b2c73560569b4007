package cli

import (
	"encoding/json"

	"github.com/spf13/cobra"

	"twinning/internal/core/document"
	"twinning/internal/reference"
)

// newReference prints what can be named in charters, shapes and filters; no service
// is needed.
func newReference() *cobra.Command {
	var lists []*cobra.Command
	for _, l := range reference.Lists() {
		lists = append(lists, &cobra.Command{Use: l.Name, Short: l.What, Args: exact(), RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := local(cmd)
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
	schema := &cobra.Command{Use: "schema charter|shape", Short: "A JSON Schema for editors", Args: exact(), ValidArgs: []string{"charter", "shape"}, RunE: func(cmd *cobra.Command, args []string) error {
		s, ok := reference.Schemas()[args[0]]
		if !ok {
			return misuse("there is no schema of %q%s; expected charter or shape", args[0], document.Suggest(args[0], []string{"charter", "shape"}))
		}
		e := json.NewEncoder(cmd.OutOrStdout())
		e.SetIndent("", "  ")
		return e.Encode(s)
	}}
	return group("reference", "What can be named in charters, shapes and filters", append(lists, schema)...)
}
