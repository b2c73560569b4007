package cli

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
)

func newPlanRun() *cobra.Command {
	cmd := running("run PLAN", "Carry a sealed plan out and watch it", exact("PLAN"), func(c *client, args []string) error {
		p, err := c.plan(args[0])
		if err != nil {
			return err
		}
		var r apiclient.Run
		res, err := c.RunPlan(c.ctx, p.Id, nil, apiclient.RunInput{Hash: p.Hash, Wave: c.given("wave"), AnyTime: c.given("any-time")})
		if err := ask(&r, res, err); err != nil {
			return err
		}
		c.say("run %d of plan %d began; twinning run halt %d stops it", r.Id, p.Id, r.Id)
		if c.on("no-wait") {
			return nil
		}
		if _, err := c.follow(r.Task); err != nil {
			return err
		}
		return c.showRun(r.Id)
	})
	cmd.Flags().String("wave", "", "only this wave")
	cmd.Flags().String("any-time", "", "reason for not waiting for the charter's windows; needs the right overrule")
	cmd.Flags().Bool("no-wait", false, "return at once")
	return cmd
}

func (c *client) showRun(id int64) error {
	var r apiclient.Run
	res, err := c.GetRun(c.ctx, id)
	if err := ask(&r, res, err); err != nil {
		return err
	}
	row := []string{fmt.Sprint(r.Id), fmt.Sprint(r.Plan), r.State, thousands(r.Total), counts(r.Outcomes), counts(r.Verified), value(r.Message)}
	if err := c.show(r, []string{"run>", "plan>", "state", "changes>", "outcomes", "verified", "message"}, [][]string{row}); err != nil {
		return err
	}
	bad := 0
	for o, n := range r.Outcomes {
		if o != "done" && o != "unchanged" && o != "waiting" {
			bad += n
		}
	}
	switch {
	case bad > 0:
		c.say("%d changes did not come about, or show otherwise: twinning run receipts %d --bad", bad, id)
		return &exit{code: Failed}
	case r.State == "halted":
		return &exit{code: Failed}
	case len(r.Verified) == 0 && r.State == "finished":
		c.say("next: twinning plan verify %d", r.Plan)
	}
	return nil
}

func newVerify() *cobra.Command {
	return running("verify PLAN", "Read every changed account again, of all runs of the plan: did it take?", exact("PLAN"), func(c *client, args []string) error {
		runs, err := c.runsOf(args[0])
		if err != nil {
			return err
		}
		if len(runs) == 0 {
			return errors.New("the plan has not been run")
		}
		bad := false
		for _, r := range slices.Backward(runs) { // a pilot first
			var t apiclient.Task
			res, err := c.VerifyRun(c.ctx, r.Id, nil)
			if err := ask(&t, res, err); err != nil {
				return err
			}
			if t, err = c.follow(t.Id); err != nil {
				return err
			}
			c.say("%s: %s", t.Name, value(t.Message))
			if t.Bad > 0 {
				c.say("see twinning task log %d", t.Id)
				bad = true
			}
		}
		if bad {
			return &exit{code: Failed}
		}
		return nil
	})
}

func (c *client) runsOf(plan string) ([]apiclient.Run, error) {
	id, err := number(plan)
	if err != nil {
		return nil, err
	}
	var v apiclient.RunList
	res, err := c.ListRuns(c.ctx, id)
	return v.Items, ask(&v, res, err)
}

func newRun() *cobra.Command {
	show := running("show RUN", "One run with its counts", exact("RUN"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		return c.showRun(id)
	})
	list := running("list PLAN", "The runs of a plan, newest first", exact("PLAN"), func(c *client, args []string) error {
		runs, err := c.runsOf(args[0])
		if err != nil {
			return err
		}
		rows := make([][]string, len(runs))
		for i, r := range runs {
			rows[i] = []string{fmt.Sprint(r.Id), value(r.Wave), r.State, thousands(r.Total), counts(r.Outcomes), counts(r.Verified), value(r.Message)}
		}
		return c.show(apiclient.RunList{Items: runs}, []string{"run>", "wave", "state", "changes>", "outcomes", "verified", "message"}, rows)
	})
	halt := running("halt RUN", "Halt a run after the change it is at", exact("RUN"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		res, err := c.HaltRun(c.ctx, id)
		return ask(nil, res, err)
	})
	receipts := pageFlags(running("receipts RUN", "What was read, sent and answered, change by change", exact("RUN"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		v, err := gather[apiclient.Receipt](c, c.on("bad"), func(cursor *string, limit *int) (*http.Response, error) { // what is bad may stand on any page
			return c.ListReceipts(c.ctx, id, &apiclient.ListReceiptsParams{Outcome: chosen[apiclient.Outcome](c, "outcome"), Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		if c.on("bad") {
			v.Items = slices.DeleteFunc(v.Items, func(r apiclient.Receipt) bool {
				outcome := value(r.Outcome)
				return outcome == apiclient.OutcomeDone || outcome == apiclient.OutcomeUnchanged
			})
		}
		var rows [][]string
		for _, r := range v.Items {
			rows = append(rows, []string{fmt.Sprint(r.Number), r.Verb, r.Label, value(r.Account), string(value(r.Outcome)), value(r.Detail), value(r.Verified), short(r.Before), short(r.Sent)})
		}
		return showList(c, v, []string{"no.>", "verb", "whose", "account", "outcome", "detail", "verified", "before", "sent"}, rows)
	}))
	receipts.Flags().String("outcome", "", "only this outcome")
	receipts.Flags().Bool("bad", false, "only what did not come about")
	return group("run", "Executions of plans", list, show, halt, receipts, newRunExport(), newSettle(), newUndo())
}

func newSettle() *cobra.Command {
	cmd := running("settle RUN NUMBER done|not-done", "Say of a change that is waiting or in doubt whether it was done", exact("RUN", "NUMBER", "done|not-done"), func(c *client, args []string) error {
		run, err := number(args[0])
		if err != nil {
			return err
		}
		n, err := number(args[1])
		if err != nil {
			return err
		}
		if args[2] != "done" && args[2] != "not-done" {
			return misuse("%q: expected done or not-done", args[2])
		}
		var r apiclient.Receipt
		res, err := c.SettleReceipt(c.ctx, run, int(n), nil, apiclient.SettlementInput{Done: args[2] == "done", Account: c.given("account"), Reason: c.flag("reason")})
		if err := ask(&r, res, err); err != nil {
			return err
		}
		c.say("%s of %s is %s", r.Verb, r.Label, *r.Outcome)
		return nil
	})
	cmd.Flags().String("account", "", "id of the account that a create has made")
	cmd.Flags().String("reason", "", "why it is so")
	return cmd
}

func short(m map[string][]string) string {
	var out []string
	for _, k := range sortedKeys(m) {
		out = append(out, k+"="+strings.Join(m[k], ";"))
	}
	return strings.Join(out, " ")
}
