package cli

import (
	"fmt"
	"io"
	"net/http"
	"strings"

	openapitypes "github.com/oapi-codegen/runtime/types"
	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/core/calendar"
)

var glyphs = map[string]string{"twinned": "●", "missing": "○", "orphan": "○", "duplicate": "◎", "contested": "◐", "exempt": "◌"}

func newTwin() *cobra.Command {
	list := searchFlag(pageFlags(running("list LANE", "Where the records of a side stand in the newest balance", exact("LANE"), func(c *client, args []string) error {
		v, err := gather[apiclient.Verdict](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListVerdicts(c.ctx, args[0], &apiclient.ListVerdictsParams{Count: c.counted(), Side: apiclient.ListVerdictsParamsSide(c.flag("side")), State: chosen[apiclient.Standing](c, "state"), Sort: chosen[apiclient.ListVerdictsParamsSort](c, "sort"), Q: c.given("search"), Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, x := range v.Items {
			basis := value(x.Basis)
			if p := value(x.Probability); p > 0 {
				basis += fmt.Sprintf(" %.4f", p)
			}
			state := glyphs[x.State] + " " + x.State
			if c.flag("sheet") != "" {
				state = x.State
			}
			rows = append(rows, []string{state, x.Id, x.Label, value(x.Twin), value(x.TwinLabel), basis, value(x.Note)})
		}
		other := map[string]string{"people": "account", "accounts": "person"}[c.flag("side")]
		return showList(c, v, []string{"state", "id", map[string]string{"people": "person", "accounts": "account"}[c.flag("side")], other + " id", other, "basis", "note"}, rows)
	})))
	list.Flags().String("side", "people", "people or accounts")
	list.Flags().String("sort", "", "by id (as it is) or name; with - from the end, as -name")
	list.Flags().String("state", "", "only this state: twinned, missing, orphan, duplicate, contested, exempt")
	why := running("why LANE", "Why a record stands where it does", exact("LANE"), func(c *client, args []string) error {
		var w apiclient.Why
		res, err := c.Why(c.ctx, args[0], &apiclient.WhyParams{Person: c.given("person"), Account: c.given("account")})
		if err := ask(&w, res, err); err != nil {
			return err
		}
		if c.format != "table" {
			return c.show(w, nil, nil)
		}
		drawWhy(c.cmd.OutOrStdout(), w)
		return nil
	})
	why.Flags().String("person", "", "person's id")
	why.Flags().String("account", "", "account's id")
	return group("twin", "People and accounts held to be the same human", list, why, newRule(), newRuleAll(), newRulings(), newReview(), newTrial(), newWeights())
}

// until reads the flag of that name as a day, nil when it is not given.
func (c *client) until() (*openapitypes.Date, error) { return c.day("until") }

// day reads a flag as a day, nil when it is not given.
func (c *client) day(flag string) (*openapitypes.Date, error) {
	day := c.flag(flag)
	if day == "" {
		return nil, nil
	}
	t, err := calendar.Begin(day, nil)
	if err != nil {
		return nil, misuse("--%s %q: expected a day such as 2026-12-31", flag, day)
	}
	return &openapitypes.Date{Time: t}, nil
}

func newRule() *cobra.Command {
	var memory string
	cmd := running("rule [LANE] same|different|leave-alone", "Decide about a pair, or leave one record alone; the decision outlives rosters", laneOrMemory(&memory, "same|different|leave-alone"), func(c *client, args []string) error {
		if memory != "" {
			return ruleOffline(c, memory, args[0])
		}
		in := apiclient.RulingInput{Kind: apiclient.RulingInputKind(args[1]), Person: c.given("person"), Account: c.given("account"), Reason: c.flag("reason")}
		until, err := c.until()
		if err != nil {
			return err
		}
		in.Until = until
		var r apiclient.Ruling
		res, err := c.Rule(c.ctx, args[0], nil, in)
		if err := ask(&r, res, err); err != nil {
			return err
		}
		if l := value(r.Leaves); l != "" {
			c.say("%s", l)
		}
		return c.tell(r, "ruling %d is kept: sealed changes that it speaks against fall, and it shows from the next reconciliation on", r.Id)
	})
	memoryFlag(cmd, &memory)
	cmd.Flags().String("person", "", "person's id")
	cmd.Flags().String("account", "", "account's id")
	cmd.Flags().String("reason", "", "why; somebody will ask in a year")
	cmd.Flags().String("until", "", "last day for leave-alone; for ever when not given")
	return cmd
}

func newRulings() *cobra.Command {
	var memory string
	cmd := running("rulings [LANE]", "Rulings in force, or clear one", laneOrMemory(&memory), func(c *client, args []string) error {
		if n, _ := c.cmd.Flags().GetInt64("clear"); n > 0 {
			if memory != "" {
				return clearOffline(memory, n)
			}
			res, err := c.ClearRuling(c.ctx, args[0], n)
			return ask(nil, res, err)
		}
		v, err := rulings(c, memory, args)
		if err != nil {
			return err
		}
		var rows [][]string
		for _, r := range v.Items {
			when := ""
			if !r.At.IsZero() { // a folder does not keep it
				when = day(r.At)
			}
			rows = append(rows, []string{fmt.Sprint(r.Id), r.Kind, value(r.Person), value(r.Account), r.Reason, value(r.Until), r.By, when})
		}
		header := []string{"number>", "ruling", "person_id", "account_id", "reason", "until", "by", "at"}
		if path := c.flag("sheet"); path != "" {
			if err := c.writeSheet(path, header, rows); err != nil {
				return err
			}
			c.say("%s rulings in %s; they can be given to a lane by: twinning twin rule-all LANE --file %s", thousands(len(rows)), path, path)
			return nil
		}
		return c.show(v, header, rows)
	})
	sheetFlags(cmd, "write them into this sheet, .csv or .xlsx, as twin rule-all takes it")
	memoryFlag(cmd, &memory)
	cmd.Flags().Int64("clear", 0, "number of the ruling to clear")
	return cmd
}

// drawWhy prints two records face to face: the person on the left, the account
// on the right, what is compared in the spine.
func drawWhy(w io.Writer, x apiclient.Why) {
	side := func(f *apiclient.Facing, none string) string {
		if f == nil {
			return none
		}
		return fmt.Sprintf("%s %s (%s) %s", glyphs[f.State], f.Label, f.Id, f.State)
	}
	fmt.Fprintf(w, "%s  ┊  %s\n", side(x.Person, "no person"), side(x.Account, "no account"))
	note := value(x.Note)
	if note != "" {
		fmt.Fprintln(w, x.State+": "+note)
	}
	words := map[string]string{"agree": "agree", "differ": "DIFFER", "person-blank": "person has none", "account-blank": "account has none", "both-blank": "neither has one"}
	fmt.Fprintln(w, "\nKeys")
	for _, k := range x.Keys {
		line := fmt.Sprintf("%32s ─ %-14s ─ %s", k.Person, k.Key, k.Account)
		fmt.Fprintf(w, "%-84s %s\n", line, words[string(k.Verdict)])
		if len(k.SharedPeople)+len(k.SharedAccounts) > 0 {
			fmt.Fprintf(w, "%34s also carried by %s\n", "", strings.TrimSpace(strings.Join(append(prefixed("person ", k.SharedPeople), prefixed("account ", k.SharedAccounts)...), ", ")))
		}
	}
	fmt.Fprintln(w, "\nSide by side")
	drawSides(w, x.Attributes)
	drawEvidence(w, x.Evidence)
	if len(x.Proposals) > 0 {
		fmt.Fprintln(w, "\nTo be judged")
		for _, p := range x.Proposals {
			fmt.Fprintf(w, "  %s (%s) and %s (%s)%s\n", p.PersonLabel, p.Person, p.AccountLabel, p.Account, unless(note, p.Reason))
		}
	}
	if len(x.Findings) > 0 {
		fmt.Fprintln(w, "\nFindings")
		for _, f := range x.Findings {
			fmt.Fprintf(w, "  %s (%s)%s\n", f.Code, f.Severity, unless(note, f.Detail))
		}
	}
	if len(x.Next) > 0 {
		fmt.Fprintln(w, "\nNext")
		for _, n := range x.Next {
			fmt.Fprintln(w, "  "+n)
		}
	}
}

// unless leaves out a sentence that has been said.
func unless(said, sentence string) string {
	if sentence == said {
		return ""
	}
	return ": " + sentence
}

func prefixed(prefix string, list []string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = prefix + s
	}
	return out
}
