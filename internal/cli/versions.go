package cli

import (
	"fmt"
	"net/http"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
)

// putCharter gives a lane a charter, unless somebody else was faster.
func (c *client) putCharter(lane string, in apiclient.CharterInput) error {
	var v apiclient.Charter
	tag, err := validator(c.GetCharter(c.ctx, lane, nil))
	if err != nil {
		return err
	}
	res, err := c.PutCharter(c.ctx, lane, &apiclient.PutCharterParams{IfMatch: tag}, in)
	if err := ask(&v, res, err); err != nil {
		return err
	}
	for _, n := range v.Notes {
		c.say("note: line %d, column %d: %s", n.Line, n.Column, n.Message)
	}
	return c.tell(v, "lane %s has charter version %d; next: twinning reconcile %s", v.Lane, v.Version, v.Lane)
}

// noted is what whoever gave a charter said of it.
func noted(v apiclient.Charter) string {
	if value(v.Note) == "" {
		return ""
	}
	return ": " + *v.Note
}

func newCharterHistory() *cobra.Command {
	return pageFlags(running("history LANE", "The versions of a charter, newest first, with who gave each, and why", exact("LANE"), func(c *client, args []string) error {
		v, err := gather[apiclient.Charter](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListCharters(c.ctx, args[0], &apiclient.ListChartersParams{Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, x := range v.Items {
			rows = append(rows, []string{fmt.Sprint(x.Version), day(x.At), x.By, value(x.Note)})
		}
		if err := showList(c, v, []string{"version>", "given", "by", "why"}, rows); err != nil {
			return err
		}
		if len(rows) > 1 {
			c.say("next: twinning charter diff %s, or twinning charter return %s VERSION", args[0], args[0])
		}
		return nil
	}))
}

func newCharterDiff() *cobra.Command {
	cmd := running("diff LANE", "What changed from one version of a charter to another", exact("LANE"), func(c *client, args []string) error {
		from, _ := c.cmd.Flags().GetInt64("from")
		to, _ := c.cmd.Flags().GetInt64("to")
		var d apiclient.CharterDiff
		res, err := c.DiffCharters(c.ctx, args[0], &apiclient.DiffChartersParams{From: &from, To: &to})
		if err := ask(&d, res, err); err != nil {
			return err
		}
		if c.format != "table" {
			return c.show(d, []string{"from", "to", "diff"}, [][]string{{fmt.Sprint(d.From), fmt.Sprint(d.To), d.Diff}})
		}
		if d.Diff == "" {
			c.say("versions %d and %d are the same", d.From, d.To)
		}
		fmt.Fprint(c.cmd.OutOrStdout(), d.Diff)
		return nil
	})
	cmd.Flags().Int64("from", 0, "version (default the one before)")
	cmd.Flags().Int64("to", 0, "version (default the newest)")
	return cmd
}

func newCharterReturn() *cobra.Command {
	cmd := running("return LANE VERSION", "Give a lane an older version of its charter once more, as a new one", exact("LANE", "VERSION"), func(c *client, args []string) error {
		version, err := number(args[1])
		if err != nil {
			return err
		}
		var v apiclient.Charter
		res, err := c.GetCharter(c.ctx, args[0], &apiclient.GetCharterParams{Version: &version})
		if err := ask(&v, res, err); err != nil {
			return err
		}
		note := fmt.Sprintf("back to version %d", version)
		if why := c.flag("note"); why != "" {
			note += ": " + why
		}
		return c.putCharter(args[0], apiclient.CharterInput{Source: v.Source, Note: &note})
	})
	cmd.Flags().String("note", "", "why")
	return cmd
}
