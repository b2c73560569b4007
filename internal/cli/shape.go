package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"twinning/internal/core/record"
)

func newShape() *cobra.Command {
	o := &offline{}
	guess := &cobra.Command{
		Use:   "guess FILE",
		Short: "Print a first shape for a file, to be looked at and corrected",
		Args:  exact("FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			opt, err := o.options()
			if err != nil {
				return err
			}
			file, err := openFile(args[0], opt)
			if err != nil {
				return err
			}
			shape := record.Guess(file.Header)
			out := cmd.OutOrStdout()
			fmt.Fprintf(out, "# guessed from %s (%s, delimiter %q): check every line\n%s", args[0], file.Encoding, file.Delimiter, shape.YAML())
			if shape.Attributes["id"].Native == "" {
				fmt.Fprintln(out, "# nothing in this file looks like an id: add `id: COLUMN` under shape:")
			}
			for _, h := range file.Header {
				if !shape.Uses(h) {
					fmt.Fprintf(out, "# not used: %s\n", h)
				}
			}
			return nil
		},
	}
	o.fileFlags(guess)
	return group("shape", "How a system's columns feed the canonical attributes", guess)
}
