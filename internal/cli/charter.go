package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"twinning/internal/core/charter"
	"twinning/internal/core/document"
)

func newCharterCheck() *cobra.Command {
	var peopleShape, accountsShape string
	cmd := &cobra.Command{
		Use:   "check FILE",
		Short: "Check a charter, all mistakes at once; needs no service",
		Args:  exact("FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			source, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			custom := func(path string) ([]string, error) {
				if path == "" {
					return nil, nil
				}
				shape, err := readShape(path)
				return shape.Custom(), err
			}
			var known charter.Vocabulary
			if known.Person, err = custom(peopleShape); err != nil {
				return err
			}
			if known.Account, err = custom(accountsShape); err != nil {
				return err
			}
			c, err := charter.Parse(source, known)
			if err != nil {
				return fmt.Errorf("charter %q:\n%w", args[0], err)
			}
			for _, n := range c.Notes {
				fmt.Fprintln(cmd.ErrOrStderr(), "note: "+n.String())
			}
			if client, err := local(cmd); err != nil {
				return err
			} else if client.format != "table" {
				return client.show(map[string]any{"lane": c.Lane, "people": c.From, "accounts": c.In, "keys": len(c.Keys), "attributes": len(c.Rules), "waves": len(c.Waves), "notes": append([]document.Problem{}, c.Notes...)}, nil, nil)
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s: lane %s from %s into %s is in order (%s, %s, %s)\n", args[0], c.Lane, c.From, c.In, many(len(c.Keys), "key"), many(len(c.Rules), "attribute"), many(len(c.Waves), "wave"))
			return nil
		},
	}
	cmd.Flags().StringVar(&peopleShape, "people-shape", "", "shape of the people, for its custom attributes")
	cmd.Flags().StringVar(&accountsShape, "accounts-shape", "", "shape of the accounts, for its custom attributes")
	return cmd
}

// many counts things, one of them too.
func many(n int, what string) string {
	if n != 1 {
		what += "s"
	}
	return thousands(n) + " " + what
}
