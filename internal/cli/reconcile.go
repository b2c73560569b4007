package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"
)

func newReconcile() *cobra.Command {
	o := &offline{}
	cmd := &cobra.Command{
		Use:   "reconcile [LANE]",
		Short: "Pair both lists, say what is wrong and what would change",
		Long: `Pair both lists, say what is wrong and what would change. Nothing is written
to any system.

With LANE, the service reconciles the lane's newest rosters. With --charter,
--people and --accounts it works on two files, without any service.

What evidence is worth is learnt once and then kept (with LANE in the service,
offline in --memory), so that nobody's verdict changes overnight; --learn learns
it anew.

Exit codes: 0 nothing to do, 3 something to do or to look at, 4 a guard stands in the way.`,
		Example: `  twinning reconcile --charter lane.yaml --people hr.csv --accounts app.csv --out result
  twinning reconcile hq-dome-booking`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := local(cmd)
			if err != nil {
				return err
			}
			switch {
			case len(args) > 1:
				return misuse("one lane at a time; see twinning reconcile --help")
			case len(args) == 1 && o.charter+o.people+o.accounts != "":
				return misuse("name a lane of the service, or give --charter, --people and --accounts, not both")
			case len(args) == 1:
				if c, err = connect(cmd); err != nil {
					return err
				}
				return laneReconcile(c, args[0])
			}
			r, err := o.run(cmd.ErrOrStderr())
			if err != nil {
				return err
			}
			if o.out != "" {
				if err := r.write(o.out); err != nil {
					return err
				}
			}
			if err := saveMemory(o.memory, r.Output.Memory); err != nil {
				return err
			}
			if c.format != "table" {
				return errors.Join(c.show(r.told(), nil, nil), verdict(r.Stopped(), r.toDo()))
			}
			r.summary(cmd.OutOrStdout())
			for _, n := range r.Notes {
				fmt.Fprintln(cmd.ErrOrStderr(), "note: "+n)
			}
			return verdict(r.Stopped(), r.toDo())
		},
	}
	o.flags(cmd)
	cmd.Flags().BoolVar(&o.learn, "learn", false, "learn anew what evidence is worth, instead of going by the weights that are kept")
	return cmd
}

// verdict turns what a reconciliation found into the exit code.
func verdict(stopped, toDo bool) error {
	switch {
	case stopped:
		return &exit{code: Guarded}
	case toDo:
		return &exit{code: SomeToDo}
	}
	return nil
}
