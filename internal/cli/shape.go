package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"twinning/internal/core/record"
	"twinning/internal/format"
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
			u, err := understand(file)
			if err != nil {
				return fmt.Errorf("file %q: %w", args[0], err)
			}
			out, about := cmd.OutOrStdout(), file.About()
			if c, err := local(cmd); err != nil {
				return err
			} else if c.format != "table" {
				return c.show(map[string]any{"file": about, "shape": u.shape, "columns": u.columns, "id": u.id}, nil, nil)
			}
			fmt.Fprintf(out, "# guessed from %s (%s): check every line\n%s", args[0], about, u.shape.YAML())
			if u.shape.Attributes["id"].Native == "" {
				fmt.Fprintf(out, "# %s\n", u.id)
			}
			for _, u := range u.columns {
				switch {
				case u.Note != "":
					fmt.Fprintf(out, "# look at %s: %s\n", u.Native, u.Note)
				case u.Attribute == "":
					fmt.Fprintf(out, "# not used: %s\n", u.Native)
				}
			}
			return nil
		},
	}
	o.fileFlags(guess)
	return group("shape", "How a system's columns feed the canonical attributes", guess)
}

// sampled records are enough to understand columns.
const sampled = 1000

// understood is what was made of a file of which nobody has said how to read it.
type understood struct {
	columns []record.Understood
	shape   record.Shape
	id      string // what is to be said of the id
}

func understand(file format.File) (understood, error) {
	var records []map[string][]string
	enough := errors.New("enough")
	err := file.Each(func(r format.Row) error {
		if r.Fault == "" && r.LeftOut == "" {
			records = append(records, r.Values)
		}
		if len(records) == sampled {
			return enough
		}
		return nil
	})
	if err != nil && !errors.Is(err, enough) {
		return understood{}, err
	}
	columns, shape := record.Understand(file.Natives(), records)
	return understood{columns, shape, record.JudgeID(columns, shape, len(records)).Said}, nil
}
