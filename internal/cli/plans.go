package cli

import (
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
)

// draft makes a plan, and waits for it where it has so many changes that a task drafts it.
func (c *client) draft(lane string, wanted apiclient.DraftInput) (p apiclient.Plan, err error) {
	res, err := c.DraftPlan(c.ctx, lane, nil, wanted)
	return c.drafted(res, err)
}

func (c *client) drafted(res *http.Response, err error) (p apiclient.Plan, _ error) {
	if err != nil || res.StatusCode != http.StatusAccepted {
		return p, ask(&p, res, err)
	}
	var t apiclient.Task
	if err := ask(&t, res, nil); err != nil {
		return p, err
	}
	if t, err = c.follow(t.Id); err != nil {
		return p, err
	}
	if t.Plan == nil {
		return p, fmt.Errorf("%s: %s", t.Name, value(t.Message))
	}
	if t.Bad > 0 {
		c.say("%s changes are left out, since they rest on what is no longer so: twinning task log %d", thousands(t.Bad), t.Id)
	}
	return c.plan(fmt.Sprint(*t.Plan))
}

func newPlan() *cobra.Command {
	list := pageFlags(running("list LANE", "Plans of a lane, newest first", exact("LANE"), func(c *client, args []string) error {
		v, err := gather[apiclient.Plan](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListPlans(c.ctx, args[0], &apiclient.ListPlansParams{Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, p := range v.Items {
			rows = append(rows, []string{fmt.Sprint(p.Id), string(p.State), day(p.Created), p.By, counts(p.Verbs)})
		}
		return showList(c, v, []string{"plan>", "state", "drafted", "by", "changes"}, rows)
	}))
	draft := running("draft LANE", "Draft a plan from the newest reconciliation", exact("LANE"), func(c *client, args []string) error {
		people, _ := c.cmd.Flags().GetStringSlice("person")
		waves, _ := c.cmd.Flags().GetStringSlice("wave")
		codes, _ := c.cmd.Flags().GetStringSlice("finding")
		findings := []apiclient.FindingCode{}
		for _, code := range codes {
			findings = append(findings, apiclient.FindingCode(code))
		}
		p, err := c.draft(args[0], apiclient.DraftInput{PersonIds: &people, Waves: &waves, Findings: &findings})
		if err != nil {
			return err
		}
		if err := c.showPlan(p); err != nil {
			return err
		}
		for _, f := range p.Fallen {
			c.say("left out: %s of %s: %s", f.Verb, f.Label, f.Reason)
		}
		return c.nextOf(p)
	})
	draft.Flags().StringSlice("person", nil, "only what concerns these people, by id")
	draft.Flags().StringSlice("wave", nil, "only these waves")
	draft.Flags().StringSlice("finding", nil, "only what concerns whom findings of these codes are about: their remedy, where a change is one")
	show := searchFlag(pageFlags(running("show PLAN", "A plan, change by change, old beside new", exact("PLAN"), func(c *client, args []string) error {
		p, err := c.plan(args[0])
		if err != nil {
			return err
		}
		v, err := gather[apiclient.Change](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListChanges(c.ctx, p.Id, &apiclient.ListChangesParams{Count: c.counted(), Sort: chosen[apiclient.ListChangesParamsSort](c, "sort"), Verb: chosen[apiclient.Verb](c, "verb"), Outcome: chosen[apiclient.Outcome](c, "outcome"), Q: c.given("search"), Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		if sheet := c.flag("sheet"); c.format != "table" || sheet != "" {
			var rows [][]string
			for _, x := range v.Items {
				for _, e := range x.Edits {
					if sheet != "" {
						rows = append(rows, []string{x.Wave, x.Verb, x.Label, value(x.Person), value(x.Account), e.Attribute, strings.Join(e.Old, ";"), strings.Join(e.New, ";"), e.Reason, string(value(x.Outcome))})
						continue
					}
					rows = append(rows, []string{x.Wave, x.Verb, value(x.Person), value(x.Account), e.Attribute, strings.Join(e.Old, ";"), strings.Join(e.New, ";"), e.Reason, string(value(x.Outcome))})
				}
			}
			if sheet != "" {
				return showList(c, v, []string{"wave", "verb", "whose", "person id", "account id", "attribute", "old", "new", "reason", "outcome"}, rows)
			}
			defer more(c, v)
			if c.format == "csv" { // a line an edit
				return writeRows(raw(c.cmd.OutOrStdout()), []string{"wave", "verb", "person", "account", "attribute", "old", "new", "reason", "outcome"}, rows)
			}
			return c.show(map[string]any{"plan": p, "changes": v}, nil, nil)
		}
		if err := c.showPlan(p); err != nil {
			return err
		}
		fmt.Fprintln(c.cmd.OutOrStdout())
		drawChanges(c.cmd.OutOrStdout(), v.Items)
		more(c, v)
		return nil
	})))
	show.Flags().String("sort", "", "name, or -name from the end; as they will be carried out when not given")
	show.Flags().String("verb", "", "only this verb")
	show.Flags().String("outcome", "", "only this outcome")
	void := running("void PLAN", "Discard a plan", exact("PLAN"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		res, err := c.VoidPlan(c.ctx, id, nil)
		var p apiclient.Plan
		if err := ask(&p, res, err); err != nil {
			return err
		}
		return c.tell(p, "plan %d is discarded", id)
	})
	return group("plan", "Ordered changes, to be looked at, sealed and run", list, draft, show, newRefused(), newMoves(), newPlanCount(), newPlanCompare(), newPlanExport(), newPlanDecide(), newDecide(true), newDecide(false), newComment(), newSeal(), newPlanRun(), newVerify(), void)
}

func (c *client) plan(arg string) (p apiclient.Plan, err error) {
	id, err := number(arg)
	if err != nil {
		return p, err
	}
	res, err := c.GetPlan(c.ctx, id)
	err = ask(&p, res, err)
	return p, err
}

func (c *client) showPlan(p apiclient.Plan) error {
	if c.format != "table" {
		return c.show(p, nil, nil)
	}
	out := c.cmd.OutOrStdout()
	fmt.Fprintf(out, "plan %d of %s: %s, %s changes%s\n", p.Id, p.Lane, p.State, thousands(p.Total), originWords(p.Origin))
	for _, u := range value(p.Summary.Unusual) {
		fmt.Fprintln(out, "UNUSUAL: "+u)
	}
	usual, verbs := map[string]string{}, []string{} // harm first
	for _, u := range value(p.Summary.Verbs) {
		verbs = append(verbs, u.Name)
		switch {
		case u.Low < 0:
		case u.Low == u.High:
			usual[u.Name] = fmt.Sprintf("   (usually %d)", u.Low)
		default:
			usual[u.Name] = fmt.Sprintf("   (usually %d–%d)", u.Low, u.High)
		}
	}
	if len(verbs) == 0 { // of a time before it was told
		verbs = sortedKeys(p.Verbs)
	}
	for _, v := range verbs {
		fmt.Fprintf(out, "%9s  %s%s\n", thousands(p.Verbs[v]), v, usual[v])
	}
	if p.SetAside > 0 {
		fmt.Fprintf(out, "%9s  set aside, not carried out (twinning plan show %d --search aside:yes)\n", thousands(p.SetAside), p.Id)
	}
	if len(p.Waves) > 1 {
		var words []string
		for _, w := range p.Waves {
			words = append(words, fmt.Sprintf("%s (%d)", w.Name, w.Changes))
		}
		fmt.Fprintln(out, "waves: "+strings.Join(words, ", then "))
	}
	for _, g := range p.Guards {
		if !g.Tripped && g.Count+g.Pending+g.Recent == 0 {
			continue // the plan is far from it
		}
		word := "guard: "
		if g.Tripped {
			word = "STOPPED by a guard: "
		}
		fmt.Fprintln(out, word+guardSentence(reading(g)))
	}
	for _, l := range p.Lowered {
		fmt.Fprintln(out, "LOWERED since the last plan, sealing needs overrule: "+l)
	}
	for _, o := range p.Obstacles {
		fmt.Fprintln(out, "in the way: "+o)
	}
	if p.SealedBy != nil {
		fmt.Fprintf(out, "sealed by %s, good until %s\n", *p.SealedBy, dayOf(p.SealExpires))
	}
	if a := p.Agreement; a != nil {
		switch {
		case a.Second != nil:
			fmt.Fprintf(out, "sealed by a second person, not by %s: %s\n", strings.Join(a.Makers, " or "), *a.Second)
		case a.Ordinary:
			fmt.Fprintf(out, "ordinary: the charter can seal it (twinning plan seal %d --ordinary)\n", p.Id)
		case len(a.Beyond) > 0:
			fmt.Fprintln(out, "not ordinary, a human seals it: "+strings.Join(a.Beyond, "; "))
		}
	}
	if after := value(p.PausedAfter); after != "" && p.State == apiclient.PlanStateSealed {
		fmt.Fprintf(out, "paused after wave %s: look at what it did, then go on: twinning plan run %d\n", after, p.Id)
	}
	fmt.Fprintln(out, "hash: "+p.Hash)
	if p.WeightsVersion != nil {
		fmt.Fprintf(out, "weights: %d (twinning twin weights %s)\n", *p.WeightsVersion, p.Lane)
	}
	return nil
}

// originWords tell what asked for a plan, where it is not the charter.
func originWords(o apiclient.PlanOrigin) string {
	switch o.Kind {
	case apiclient.PlanOriginKindSelection:
		return ", selected"
	case apiclient.PlanOriginKindAction:
		return fmt.Sprintf(", asked for (%s): %s", value(o.Verb), value(o.Reason))
	case apiclient.PlanOriginKindSheet:
		return fmt.Sprintf(", of the sheet %s", value(o.Sheet))
	case apiclient.PlanOriginKindUndo:
		return fmt.Sprintf(", to undo run %d: %s", value(o.Run), value(o.Reason))
	}
	return ""
}

// drawChanges prints a ledger line an edit: verb, whose, old → new, reason.
func drawChanges(w io.Writer, list []apiclient.Change) {
	wave := ""
	for i, x := range list {
		if x.Wave != wave {
			wave = x.Wave
			fmt.Fprintf(w, "── %s\n", wave)
		}
		outcome := ""
		if why := value(x.SetAside); why != "" {
			outcome = "  set aside: " + why
		}
		if x.Outcome != nil {
			outcome = "  " + string(*x.Outcome)
			if d := value(x.Detail); d != "" {
				outcome += ": " + d
			}
			if v := value(x.Verified); v != "" {
				outcome += " (" + v + ")"
			}
		}
		fmt.Fprintf(w, "%4d %-10s %s  %s ┊ %s%s%s\n", x.Number, x.Verb, x.Label, value(x.Person), value(x.Account), bracket(list, i), outcome)
		for _, e := range x.Edits {
			old, now := strings.Join(e.Old, "; "), strings.Join(e.New, "; ")
			if old == "" {
				old = "—"
			}
			if now == "" {
				now = "—"
			}
			fmt.Fprintf(w, "%31s  %s → %s   (%s)\n", e.Attribute, old, now, e.Reason)
		}
	}
}

// bracket joins the changes that are done together.
func bracket(list []apiclient.Change, i int) string {
	unit := value(list[i].Unit)
	joins := func(j int) bool { return j >= 0 && j < len(list) && unit != "" && value(list[j].Unit) == unit }
	switch {
	case unit == "":
		return ""
	case joins(i-1) && joins(i+1):
		return "  ┤"
	case joins(i - 1):
		return "  ┘"
	}
	return "  ┐ done as one"
}

func newSeal() *cobra.Command {
	cmd := running("seal PLAN", "Approve exactly this content", exact("PLAN"), func(c *client, args []string) error {
		p, err := c.plan(args[0])
		if err != nil {
			return err
		}
		if c.on("ordinary") {
			res, err := c.SealOrdinary(c.ctx, p.Id, apiclient.OrdinarySealInput{Hash: p.Hash})
			if err := ask(&p, res, err); err != nil {
				return err
			}
			return c.tell(p, "plan %d is ordinary, and sealed by the charter until %s: %s changes; next: twinning plan run %d", p.Id, dayOf(p.SealExpires), thousands(p.Total), p.Id)
		}
		if err := c.sealsWhatWasSeen(p); err != nil {
			return err
		}
		res, err := c.SealPlan(c.ctx, p.Id, apiclient.SealInput{Hash: p.Hash, Overrule: c.given("overrule")})
		if err := ask(&p, res, err); err != nil {
			return err
		}
		return c.tell(p, "plan %d is sealed until %s: %s changes; next: twinning plan run %d", p.Id, dayOf(p.SealExpires), thousands(p.Total), p.Id)
	})
	cmd.Long = `Approve exactly this content. What is sealed is named: by the hash that plan show
prints, or by the number of its changes; without either the command asks for the
number. A plan that has changed since you looked is not sealed.`
	cmd.Flags().String("hash", "", "the plan's hash, or its first eight characters or more")
	cmd.Flags().Int("count", 0, "how many changes the plan has")
	cmd.Flags().Bool("ordinary", false, "have the charter seal it, without a human who has looked, where it is within what it calls ordinary (`seals: {ordinary: …}`)")
	cmd.Flags().String("overrule", "", "reason for sealing over a guard, or with one lowered; needs the right overrule")
	return cmd
}

// shortHash is as much of a hash as is taken for it.
const shortHash = 8

// sealsWhatWasSeen holds the plan as it is now against what whoever seals it says
// that they looked at.
func (c *client) sealsWhatWasSeen(p apiclient.Plan) error {
	hash, count := c.flag("hash"), 0
	if c.cmd.Flags().Changed("count") {
		count, _ = c.cmd.Flags().GetInt("count")
	}
	switch {
	case hash != "" && (len(hash) < shortHash || !strings.HasPrefix(p.Hash, hash)):
		return fmt.Errorf("plan %d has another hash: %s; look at it again: twinning plan show %d", p.Id, p.Hash, p.Id)
	case hash != "":
		return nil
	case count == 0 && isTerminal(c.cmd.InOrStdin()):
		for _, l := range p.Lowered {
			c.say("a guard allows more than it did: %s", l)
		}
		c.asksAt("plan %d of %s has %s. Type their number to seal them: ", p.Id, p.Lane, countsOf(p))
		if _, err := fmt.Fscanln(c.cmd.InOrStdin(), &count); err != nil {
			count = 0
		}
	case count == 0:
		return misuse("say what you seal: twinning plan seal %d --count %d (%s), or --hash %s", p.Id, p.Total, counts(p.Verbs), p.Hash[:12])
	}
	if count != p.Total {
		return fmt.Errorf("plan %d has %d changes, not %d; look at it again: twinning plan show %d", p.Id, p.Total, count, p.Id)
	}
	return nil
}

func countsOf(p apiclient.Plan) string {
	return fmt.Sprintf("%s changes (%s)", thousands(p.Total), counts(p.Verbs))
}
