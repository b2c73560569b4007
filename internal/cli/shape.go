package cli

import (
	"fmt"
	"slices"

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
			fmt.Fprintf(out, "# guessed from %s (%s, delimiter %q): check every line\nshape:\n", args[0], file.Encoding, file.Delimiter)
			var used []string
			for _, name := range shape.Canonical() {
				src := shape.Attributes[name]
				used = append(used, src.Native)
				switch {
				case src.Native == "":
					fmt.Fprintf(out, "  # %s: nothing in this file looks like it; name a column here\n", name)
				case src.Split != "":
					fmt.Fprintf(out, "  %s: {from: %s, split: %q}\n", name, yamlWord(src.Native), src.Split)
				default:
					fmt.Fprintf(out, "  %s: %s\n", name, yamlWord(src.Native))
				}
			}
			for _, h := range file.Header {
				if !slices.Contains(used, h) {
					fmt.Fprintf(out, "  # not used: %s\n", h)
				}
			}
			fmt.Fprintln(out, "stable: true   # false when the id is an address or anything else that changes")
			return nil
		},
	}
	o.fileFlags(guess)
	return group("shape", "How a system's columns feed the canonical attributes", guess)
}

// yamlWord quotes a native name unless it is plainly a word.
func yamlWord(s string) string {
	if record.ValidName(s) {
		return s
	}
	return fmt.Sprintf("%q", s)
}
