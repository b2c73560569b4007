package cli

import (
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/core/calendar"
)

// newFinding lists what is wrong, and says who looks after it or that it is accepted.
func newFinding() *cobra.Command {
	list := searchFlag(pageFlags(running("list LANE", "What is wrong, gravest first", exact("LANE"), func(c *client, args []string) error {
		v, err := gather[apiclient.Finding](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			p := &apiclient.ListFindingsParams{Count: c.counted(), Sort: chosen[apiclient.ListFindingsParamsSort](c, "sort"), Code: chosen[apiclient.FindingCode](c, "code"), Severity: chosen[apiclient.Severity](c, "severity"), Assigned: c.given("assigned"), Q: c.given("search"), Cursor: cursor, Limit: limit}
			if c.on("new") {
				p.New = new(true)
			}
			return c.ListFindings(c.ctx, args[0], p)
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, f := range v.Items {
			sev := f.Severity
			if f.Accepted {
				sev = "accepted"
			}
			rows = append(rows, []string{f.Id, f.Code, sev, strings.TrimSpace(value(f.PersonLabel) + " " + value(f.Person)), strings.TrimSpace(value(f.AccountLabel) + " " + value(f.Account)), f.Detail, calendar.Day(f.Since, time.Local), value(f.AssignedTo)})
		}
		return showList(c, v, []string{"finding", "code", "severity", "person", "account", "detail", "since", "assigned"}, rows)
	})))
	whichFindings(list)
	list.Flags().String("sort", "", "name, or -name from the end; gravest first when not given")
	gone := searchFlag(pageFlags(running("gone LANE", "What was wrong and is not any more, the newest first", exact("LANE"), func(c *client, args []string) error {
		v, err := gather[apiclient.GoneFinding](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListGoneFindings(c.ctx, args[0], &apiclient.ListGoneFindingsParams{Count: c.counted(), Code: chosen[apiclient.FindingCode](c, "code"), Q: c.given("search"), Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, f := range v.Items {
			rows = append(rows, []string{f.Code, strings.TrimSpace(value(f.PersonLabel) + " " + value(f.Person)), strings.TrimSpace(value(f.AccountLabel) + " " + value(f.Account)), f.Detail, calendar.Day(f.Since, time.Local), calendar.Day(f.Gone, time.Local)})
		}
		return showList(c, v, []string{"code", "person", "account", "detail", "since", "gone"}, rows)
	})))
	gone.Flags().String("code", "", "only this code")
	var memory string
	accept := running("accept [LANE] [FINDING]", "Accept a finding, or all that the filters mean, so that it no longer stands in the way", findingOrFilter(&memory), func(c *client, args []string) error {
		switch {
		case memory != "":
			return acceptOffline(c, memory, args[0])
		case len(args) == 1 && c.on("undo"):
			return c.actOnFindings(args[0], apiclient.FindingAct{Act: apiclient.FindingActActUnaccept})
		case c.on("undo"):
			res, err := c.UnacceptFinding(c.ctx, args[0], args[1])
			return ask(nil, res, err)
		}
		until, err := c.until()
		if err != nil {
			return err
		}
		if len(args) == 1 {
			return c.actOnFindings(args[0], apiclient.FindingAct{Act: apiclient.FindingActActAccept, Reason: c.given("reason"), Until: until})
		}
		res, err := c.AcceptFinding(c.ctx, args[0], args[1], apiclient.Acceptance{Reason: c.given("reason"), Until: until})
		return ask(nil, res, err)
	})
	memoryFlag(accept, &memory)
	whichFindings(accept)
	countFlag(searchFlag(accept))
	accept.Flags().String("until", "", "last day on which it is accepted; for ever when not given")
	accept.Flags().String("reason", "", "why")
	accept.Flags().Bool("undo", false, "take the acceptance back")
	assign := running("assign LANE [FINDING]", "Say who looks after a finding, or after all that the filters mean", between("LANE", "FINDING"), func(c *client, args []string) error {
		if (c.flag("to") == "") != c.on("undo") {
			return misuse("expected --to, the name of a user, or --undo")
		}
		act := apiclient.FindingAct{Act: apiclient.FindingActActAssign, To: c.given("to")}
		if len(args) > 1 {
			act.Findings = &[]string{args[1]}
		}
		return c.actOnFindings(args[0], act)
	})
	whichFindings(assign)
	countFlag(searchFlag(assign))
	assign.Flags().String("to", "", "the user")
	assign.Flags().Bool("undo", false, "nobody looks after it any more")
	return group("finding", "What is wrong", list, gone, accept, assign)
}

// whichFindings are the flags that say which findings are meant.
func whichFindings(cmd *cobra.Command) {
	cmd.Flags().String("code", "", "only this code")
	cmd.Flags().String("severity", "", "only this severity: error, warning, notice")
	cmd.Flags().String("assigned", "", "only what this user looks after")
	cmd.Flags().Bool("new", false, "only what the reconciliation before did not find")
}

func countFlag(cmd *cobra.Command) {
	cmd.Flags().Int("count", 0, "without FINDING: how many are meant, as `finding list` with the same filters shows them; otherwise nothing is done")
}

// findingOrFilter takes a lane and a finding, a lane alone, or a finding beside a memory.
func findingOrFilter(memory *string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if *memory != "" {
			return exact("FINDING")(cmd, args)
		}
		return between("LANE", "FINDING")(cmd, args)
	}
}

// between takes the first argument, and perhaps the second.
func between(first, second string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == 1 {
			return nil
		}
		return exact(first, second)(cmd, args)
	}
}

// actOnFindings does one thing about the findings that the flags mean.
func (c *client) actOnFindings(lane string, act apiclient.FindingAct) error {
	act.Code, act.Severity, act.Assigned, act.Q = chosen[apiclient.FindingCode](c, "code"), chosen[apiclient.Severity](c, "severity"), c.given("assigned"), c.given("search")
	if c.on("new") {
		act.New = new(true)
	}
	if n, _ := c.cmd.Flags().GetInt("count"); n > 0 {
		act.Expect = &n
	} else if act.Findings == nil {
		return misuse("without FINDING all that the filters mean are acted on: say with --count how many there are, as `finding list %s` with the same filters tells", lane)
	}
	var done struct{ Count int }
	res, err := c.ActOnFindings(c.ctx, lane, act)
	if err := ask(&done, res, err); err != nil {
		return err
	}
	word := map[apiclient.FindingActAct]string{apiclient.FindingActActAccept: "accepted", apiclient.FindingActActUnaccept: "no longer accepted", apiclient.FindingActActAssign: "assigned to " + value(act.To)}[act.Act]
	if act.Act == apiclient.FindingActActAssign && act.To == nil {
		word = "assigned to nobody"
	}
	c.say("%s: %s", many(done.Count, "finding"), word)
	return nil
}
