package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/format"
)

// newSheet has accounts edited in a spreadsheet.
func newSheet() *cobra.Command {
	cmd := group("sheet", "Accounts to be edited in a spreadsheet", newSheetExport(), newSheetLoad())
	cmd.Long = `Accounts to be edited in a spreadsheet, and loaded again as the draft of a plan.
One column identifies, and its heading says so; beside each attribute stands what
it was. A blank cell leaves alone, (clear) clears, and the column action takes
suspend, reinstate, hide, unhide or delete. What the charter always rules is refused
with its line; nothing is written before the plan is sealed and run.`
	return cmd
}

func outFlag(cmd *cobra.Command) {
	cmd.Flags().String("out", "", "file to write, whose ending says its kind; standard output when not given, - for the name that the service gives")
}

// kindOf is the kind of a file by its ending, where --format does not say it.
func (c *client) kindOf(fallback string) string {
	if kind := c.flag("format"); kind != "" {
		return kind
	}
	if kind := strings.TrimPrefix(strings.ToLower(filepath.Ext(c.flag("out"))), "."); kind != "" {
		return kind
	}
	return fallback
}

func newSheetExport() *cobra.Command {
	cmd := running("export LANE", "The accounts of a lane as a sheet, to be edited and loaded again", exact("LANE"), func(c *client, args []string) error {
		format := apiclient.ExportSheetParamsFormat(c.kindOf("csv"))
		res, err := c.ExportSheet(c.ctx, args[0], &apiclient.ExportSheetParams{Format: &format, Columns: c.given("columns"), State: chosen[apiclient.ExportSheetParamsState](c, "state")})
		return c.save(res, err)
	})
	cmd.Flags().String("format", "", "xlsx or csv")
	cmd.Flags().String("columns", "", "attributes to be edited, separated by commas; those that the charter does not rule when not given")
	cmd.Flags().String("state", "", "only accounts that stand so: twinned, orphan, duplicate, contested")
	outFlag(cmd)
	return cmd
}

func newSheetLoad() *cobra.Command {
	cmd := running("load LANE FILE", "Draft a plan of what a sheet asks for that came back", exact("LANE", "FILE"), func(c *client, args []string) error {
		f, err := format.RegularAt(args[1])
		if err != nil {
			return err
		}
		defer f.Close() // only read
		name := filepath.Base(args[1])
		res, err := c.LoadSheetWithBody(c.ctx, args[0], &apiclient.LoadSheetParams{Name: &name, Intent: chosen[apiclient.LoadSheetParamsIntent](c, "intent"), Reason: c.given("reason")}, "application/octet-stream", f)
		return c.asked(res, err)
	})
	cmd.Flags().String("intent", "", "update: change accounts that are there (when not given); add: make accounts for people who have none, in a sheet in which person identifies; both")
	cmd.Flags().String("reason", "", "why; it stands beside each change")
	return cmd
}

func newPlanExport() *cobra.Command {
	cmd := running("export PLAN", "The changes of a plan as a file, in which they can be decided about", exact("PLAN"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		format := apiclient.ExportPlanParamsFormat(c.kindOf("csv"))
		res, err := c.ExportPlan(c.ctx, id, &apiclient.ExportPlanParams{Format: &format})
		return c.save(res, err)
	})
	cmd.Flags().String("format", "", "xlsx or csv, a sheet with a column decision; jsonl, a line a change; ldif, what is left as change records for a directory")
	outFlag(cmd)
	return cmd
}

func newPlanDecide() *cobra.Command {
	return running("decide PLAN FILE", "Decide about changes of a draft as a sheet of it says that came back", exact("PLAN", "FILE"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		f, err := format.RegularAt(args[1])
		if err != nil {
			return err
		}
		defer f.Close() // only read
		name := filepath.Base(args[1])
		var done apiclient.Decided
		res, err := c.DecideBySheetWithBody(c.ctx, id, &apiclient.DecideBySheetParams{Name: &name}, "application/octet-stream", f)
		if err := ask(&done, res, err); err != nil {
			return err
		}
		along := ""
		if n := len(done.Along); n > 0 {
			along = fmt.Sprintf("; %s went along", many(n, "change"))
		}
		return c.tell(done, "plan %d has %s, %s set aside%s", id, many(done.Plan.Total, "change"), thousands(done.Plan.SetAside), along)
	})
}

func newRunExport() *cobra.Command {
	cmd := running("export RUN", "The receipts of a run with their traces as a file, for whoever runs the system", exact("RUN"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		format := apiclient.ExportReceiptsParamsFormat(c.kindOf("jsonl"))
		res, err := c.ExportReceipts(c.ctx, id, &apiclient.ExportReceiptsParams{Format: &format})
		return c.save(res, err)
	})
	cmd.Flags().String("format", "", "xlsx, csv or jsonl")
	outFlag(cmd)
	return cmd
}
