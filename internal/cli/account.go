package cli

import (
	"net/http"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/core/planning"
)

// newAccount asks for one thing to be done to some accounts, beside what the charter wants.
func newAccount() *cobra.Command {
	var list []*cobra.Command
	for _, verb := range []string{planning.Suspend, planning.Reinstate, planning.Hide, planning.Unhide, planning.Enrol, planning.Withdraw, planning.Place, planning.Reissue, planning.Invite, planning.Delete} {
		list = append(list, newAction(verb))
	}
	cmd := group("account", "Ask for something to be done to some accounts, beside what the charter wants", list...)
	cmd.Long = `Ask for something to be done to some accounts, beside what the charter wants.
They are named by id, by their people's ids (--person), or as those that findings
are about. A plan is drafted with all checks, and nothing is written before it is
sealed and run; what can't be done is told with the reason.`
	return cmd
}

func newAction(verb string) *cobra.Command {
	cmd := running(verb+" LANE [ACCOUNT...]", "Draft a plan: "+meaningOf(verb), atLeast("LANE"), func(c *client, args []string) error {
		until, err := c.until()
		if err != nil {
			return err
		}
		accounts := args[1:]
		in := apiclient.ActionInput{Verb: apiclient.Action(verb), Reason: c.flag("reason"), Until: until, Container: c.given("container"), AccountIds: &accounts}
		people, _ := c.cmd.Flags().GetStringSlice("person")
		groups, _ := c.cmd.Flags().GetStringSlice("group")
		in.PersonIds = &people
		if len(groups) > 0 {
			in.Groups = &groups
		}
		if found := (apiclient.FoundInput{Code: chosen[apiclient.FindingCode](c, "code"), Severity: chosen[apiclient.Severity](c, "severity"), Assigned: c.given("assigned"), Q: c.given("search")}); found != (apiclient.FoundInput{}) || c.on("new") {
			if c.on("new") {
				found.New = new(true)
			}
			n, _ := c.cmd.Flags().GetInt("count")
			if n == 0 {
				return misuse("say with --count how many findings are meant, as `finding list %s` with the same filters tells", args[0])
			}
			found.Expect = &n
			in.Findings = &found
		}
		if in.Reason == "" {
			return misuse("expected --reason: it stands beside each change")
		}
		res, err := c.DraftAction(c.ctx, args[0], nil, in)
		return c.asked(res, err)
	})
	cmd.Flags().StringSlice("person", nil, "the accounts of these people, by their ids")
	cmd.Flags().String("reason", "", "why; it stands beside each change")
	if planning.Returns[verb] {
		cmd.Flags().String("until", "", "last day on which the charter leaves it so; thirty days when not given")
	}
	switch verb {
	case planning.Enrol, planning.Withdraw:
		cmd.Flags().StringSlice("group", nil, "the groups, by their names")
	case planning.Place:
		cmd.Flags().String("container", "", "the branch of the tree")
	}
	whichFindings(cmd)
	searchFlag(cmd)
	cmd.Flags().Int("count", 0, "how many findings are meant, as `finding list` with the same filters shows them; otherwise nothing is drafted")
	return cmd
}

func meaningOf(verb string) string {
	for _, w := range planning.Verbs {
		if w.Name == verb {
			return w.Meaning
		}
	}
	return verb
}

// asked shows the plan that was drafted of what was asked for, and what is not in it.
func (c *client) asked(res *http.Response, err error) error {
	p, err := c.drafted(res, err)
	if err != nil {
		return err
	}
	if err := c.showPlan(p); err != nil {
		return err
	}
	if p.Refused > 0 {
		var v apiclient.RefusalList
		some := 10
		res, err := c.ListRefusals(c.ctx, p.Id, &apiclient.ListRefusalsParams{Limit: &some})
		if err := ask(&v, res, err); err != nil {
			return err
		}
		c.say("%s of what was asked for %s not in it:", thousands(p.Refused), map[bool]string{true: "is", false: "are"}[p.Refused == 1])
		for _, r := range v.Items {
			c.say("  %s", refusalWords(r))
		}
		if p.Refused > len(v.Items) {
			c.say("  … all of them: twinning plan refused %d --all", p.Id)
		}
	}
	for _, f := range p.Fallen {
		c.say("left out: %s of %s: %s", f.Verb, f.Label, f.Reason)
	}
	return c.nextOf(p)
}

func refusalWords(r apiclient.Refusal) string {
	who := value(r.Account)
	if who == "" {
		who = value(r.Person)
	}
	if r.Label != "" {
		who = r.Label + " " + who
	}
	if place := value(r.Place); place != "" {
		who = place + ", " + who
	}
	if a := value(r.Attribute); a != "" {
		who += ", " + a
	}
	return who + ": " + r.Reason
}

// nextOf says what comes after a draft.
func (c *client) nextOf(p apiclient.Plan) error {
	over := ""
	if p.Stopped {
		over = ` --overrule REASON, which needs the right to`
	}
	c.say("next: twinning plan show %d, then twinning plan seal %d --count %d%s", p.Id, p.Id, p.Total, over)
	if p.Stopped {
		return &exit{code: Guarded}
	}
	return nil
}

func newRefused() *cobra.Command {
	return searchFlag(pageFlags(running("refused PLAN", "What was asked for and is not in a plan, and why", exact("PLAN"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		v, err := gather[apiclient.Refusal](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListRefusals(c.ctx, id, &apiclient.ListRefusalsParams{Count: c.counted(), Q: c.given("search"), Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, r := range v.Items {
			rows = append(rows, []string{value(r.Place), r.Label, value(r.Person), value(r.Account), value(r.Attribute), r.Reason})
		}
		return showList(c, v, []string{"place", "whose", "person", "account", "attribute", "reason"}, rows)
	})))
}

func newUndo() *cobra.Command {
	cmd := running("undo RUN", "Draft a plan that gives back the state before a run, where the accounts still hold what it wrote", exact("RUN"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		until, err := c.until()
		if err != nil {
			return err
		}
		if c.flag("reason") == "" {
			return misuse("expected --reason: it stands beside each change")
		}
		ids, _ := c.cmd.Flags().GetStringSlice("id")
		in := apiclient.UndoInput{Reason: c.flag("reason"), Wave: c.given("wave"), Until: until}
		if len(ids) > 0 {
			in.Ids = &ids
		}
		res, err := c.DraftUndo(c.ctx, id, nil, in)
		return c.asked(res, err)
	})
	cmd.Flags().String("wave", "", "only what was done in this wave")
	cmd.Flags().StringSlice("id", nil, "only what was done of these people or accounts")
	cmd.Flags().String("reason", "", "why it is undone")
	cmd.Flags().String("until", "", "last day on which the charter does not do it again; thirty days when not given")
	return cmd
}
