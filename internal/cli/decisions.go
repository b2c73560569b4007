package cli

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/core/record"
)

// newDecide sets changes aside, or includes them again.
func newDecide(aside bool) *cobra.Command {
	name, short, decision := "include PLAN CHANGE...", "Include changes of a draft again, with what they need", apiclient.DecisionInputDecisionInclude
	if aside {
		name, short, decision = "set-aside PLAN CHANGE...", "Set changes of a draft aside, with what needs them: they are not carried out, and stay so in later drafts", apiclient.DecisionInputDecisionSetAside
	}
	cmd := running(name, short, atLeast("PLAN", "CHANGE"), func(c *client, args []string) error {
		p, err := c.plan(args[0])
		if err != nil {
			return err
		}
		ids, err := c.changeIDs(p.Id, args[1:])
		if err != nil {
			return err
		}
		in := apiclient.DecisionInput{Hash: p.Hash, ChangeIds: ids, Decision: decision}
		if aside {
			if in.Reason = c.given("reason"); in.Reason == nil {
				return misuse("expected --reason: it stays set aside in later drafts, and somebody will ask")
			}
		}
		var done apiclient.Decided
		res, err := c.DecideChanges(c.ctx, p.Id, in)
		if err := ask(&done, res, err); err != nil {
			return err
		}
		along := ""
		if n := len(done.Along); n > 0 {
			along = fmt.Sprintf(", and %s with them", many(n, "change"))
		}
		return c.tell(done, "%s %s%s; plan %d has %s, %s set aside", many(len(ids), "change"), map[bool]string{true: "set aside", false: "included"}[aside], along, p.Id, many(done.Plan.Total, "change"), thousands(done.Plan.SetAside))
	})
	cmd.Long = short + ".\nChanges are named by their numbers, as `plan show` prints them, or by their ids."
	if aside {
		cmd.Flags().String("reason", "", "why")
	}
	return cmd
}

// changeIDs are the ids of changes that are named by number or id.
func (c *client) changeIDs(plan int64, named []string) ([]string, error) {
	var ids []string
	byNumber := map[string]string{}
	for _, name := range named {
		if _, err := number(name); err != nil {
			ids = append(ids, name)
			continue
		}
		if len(byNumber) == 0 {
			v, err := gather[apiclient.Change](c, true, func(cursor *string, limit *int) (*http.Response, error) {
				return c.ListChanges(c.ctx, plan, &apiclient.ListChangesParams{Cursor: cursor, Limit: limit})
			})
			if err != nil {
				return nil, err
			}
			for _, x := range v.Items {
				byNumber[fmt.Sprint(x.Number)] = x.Id
			}
		}
		id, there := byNumber[name]
		if !there {
			return nil, fmt.Errorf("plan %d has no change number %s: see twinning plan show %d", plan, name, plan)
		}
		ids = append(ids, id)
	}
	return ids, nil
}

func newComment() *cobra.Command {
	cmd := running("comment PLAN [TEXT]", "Say something about a plan or one of its changes; without TEXT, what was said", between("PLAN", "TEXT"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		if len(args) == 1 {
			v, err := gather[apiclient.Comment](c, true, func(cursor *string, limit *int) (*http.Response, error) {
				return c.ListComments(c.ctx, id, &apiclient.ListCommentsParams{Cursor: cursor, Limit: limit})
			})
			if err != nil {
				return err
			}
			var rows [][]string
			for _, x := range v.Items {
				rows = append(rows, []string{day(x.At), x.By, value(x.Change), x.Text})
			}
			return c.show(v, []string{"on", "by", "change", "comment"}, rows)
		}
		in := apiclient.CommentInput{Text: args[1]}
		if change := c.flag("change"); change != "" {
			ids, err := c.changeIDs(id, []string{change})
			if err != nil {
				return err
			}
			in.Change = &ids[0]
		}
		var said apiclient.Comment
		res, err := c.AddComment(c.ctx, id, nil, in)
		if err := ask(&said, res, err); err != nil {
			return err
		}
		return c.tell(said, "kept")
	})
	cmd.Flags().String("change", "", "the change that it is about, by number or id; the plan as a whole when not given")
	return cmd
}

// newPlanCount tells whom, what or why most changes are about.
func newPlanCount() *cobra.Command {
	cmd := running("count PLAN", "How many changes have each value of a field, the most frequent first", exact("PLAN"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		most := 200
		var v apiclient.ChangeCounts
		res, err := c.CountChanges(c.ctx, id, &apiclient.CountChangesParams{By: apiclient.CountChangesParamsBy(c.flag("by")), Q: c.given("search"), Limit: &most})
		if err := ask(&v, res, err); err != nil {
			return err
		}
		var rows [][]string
		for _, g := range v.Items {
			rows = append(rows, []string{thousands(g.Count), g.Value})
		}
		return c.show(v, []string{"changes", c.flag("by")}, rows)
	})
	cmd.Flags().String("by", "department", "account, aside, attribute, class, department, outcome, person, reason, unit, verb or wave")
	return searchFlag(cmd)
}

func newMoves() *cobra.Command {
	return running("names PLAN", "Of the logins and addresses that a plan moves, who gives what to whom", exact("PLAN"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		var v apiclient.MoveList
		res, err := c.ListMoves(c.ctx, id)
		if err := ask(&v, res, err); err != nil {
			return err
		}
		at := func(n *apiclient.NameAt) string {
			if n == nil {
				return "nobody"
			}
			return fmt.Sprintf("%s %s (%s)", n.Label, value(n.Account), n.Attribute)
		}
		var rows [][]string
		for _, m := range v.Items {
			rows = append(rows, []string{m.Name, at(m.From), at(m.To)})
		}
		return c.show(v, []string{"name", "from", "to"}, rows)
	})
}

func newPlanCompare() *cobra.Command {
	return pageFlags(running("compare PLAN OTHER", "The changes that a plan and another one of its lane do not have alike", exact("PLAN", "OTHER"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		other, err := number(args[1])
		if err != nil {
			return err
		}
		v, err := gather[apiclient.Differing](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ComparePlans(c.ctx, id, &apiclient.ComparePlansParams{Other: other, Count: c.counted(), Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		wants := func(edits *[]apiclient.WantedEdit) string {
			if edits == nil {
				return "—"
			}
			var list []string
			for _, e := range *edits {
				list = append(list, e.Attribute+" → "+record.PlainList(e.New))
			}
			return strings.Join(list, "; ")
		}
		var rows [][]string
		for _, d := range v.Items {
			rows = append(rows, []string{d.Verb, d.Label, value(d.Person), value(d.Account), wants(d.Here), wants(d.There)})
		}
		return showList(c, v, []string{"verb", "whose", "person", "account", "plan " + args[0], "plan " + args[1]}, rows)
	}))
}
