package cli

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	openapitypes "github.com/oapi-codegen/runtime/types"
	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/core/calendar"
	"twinning/internal/core/reconcile"
	"twinning/internal/format"
	"twinning/internal/format/anyfile"
)

func newRuleAll() *cobra.Command {
	cmd := running("rule-all LANE [same|different]", "Give many rulings: from a file, or one on all open questions that a filter holds", func(cmd *cobra.Command, args []string) error {
		if len(args) < 1 || len(args) > 2 {
			return misuse("%s needs LANE, and same or different unless --file says it row by row", cmd.CommandPath())
		}
		return nil
	}, func(c *client, args []string) error {
		list, snapshot, err := c.manyRulings(args)
		if err != nil {
			return err
		}
		kept, refused := 0, 0
		for from := 0; from < len(list); from += 1000 {
			batch := list[from:min(from+1000, len(list))]
			body := apiclient.RuleAllJSONRequestBody{Rulings: batch}
			if from == 0 && snapshot != "" { // each pair has its own version besides
				least, most := c.between()
				body.Snapshot, body.Code, body.Q, body.Least, body.Most = &snapshot, c.given("code"), c.given("search"), &least, &most
			}
			var v apiclient.Ruled
			res, err := c.RuleAll(c.ctx, args[0], nil, body)
			if err := ask(&v, res, err); err != nil {
				return err
			}
			for _, r := range v.Refused {
				in := batch[r.Index]
				c.say("not kept: %s and %s: %s; %s", value(in.Person), value(in.Account), r.Title, value(r.Detail))
			}
			kept, refused = kept+len(v.Kept), refused+len(v.Refused)
		}
		c.say("%s kept, %s refused; they show from the next reconciliation on", thousands(kept), thousands(refused))
		if refused > 0 {
			return &exit{code: Failed}
		}
		return nil
	})
	cmd.Long = `Give many rulings. With --file: a sheet (.csv or .xlsx) with the columns person_id,
account_id, ruling (same, different or leave-alone) and, if wanted, reason and
until, in any order; rows whose ruling is blank are left. What twin review --list
and twin rulings write with --sheet is such a file, and so is contested.csv of an
offline reconciliation. Without --file: one ruling on all open questions that the filter
holds; --count says how many that are, and --snapshot which (twin review --list
prints both), so that nobody rules on others than they have seen.`
	questionFlags(cmd)
	cmd.Flags().String("file", "", "sheet with a ruling a row, .csv or .xlsx")
	cmd.Flags().String("reason", "", "why; of rows that give none")
	cmd.Flags().Int("count", 0, "how many open questions the filter holds, as twin review --list shows them")
	cmd.Flags().String("snapshot", "", "of the list that was looked at; nothing is ruled when it has changed since")
	return cmd
}

func (c *client) manyRulings(args []string) (list []apiclient.RulingInput, snapshot string, err error) {
	if path := c.flag("file"); path != "" {
		if len(args) > 1 {
			return nil, "", misuse("the file says row by row what is ruled; leave %q out", args[1])
		}
		rulings, err := rulingsOf(path, c.flag("reason"))
		for _, r := range rulings {
			in := apiclient.RulingInput{Kind: apiclient.RulingInputKind(r.Kind), Person: given(r.Person), Account: given(r.Account), Reason: r.Reason}
			if r.Until != "" {
				day, err := calendar.Begin(r.Until, nil)
				if err != nil {
					return nil, "", err
				}
				in.Until = &openapitypes.Date{Time: day}
			}
			list = append(list, in)
		}
		return list, "", err
	}
	if len(args) < 2 || args[1] != "same" && args[1] != "different" {
		return nil, "", misuse("say same or different, or give --file")
	}
	if c.flag("reason") == "" {
		return nil, "", misuse("--reason is needed: somebody will ask in a year")
	}
	open, snapshot, _, err := c.everyQuestion(args[0])
	if err != nil {
		return nil, "", err
	}
	if n, _ := c.cmd.Flags().GetInt("count"); n != len(open) {
		return nil, "", misuse("the filter holds %d open questions: look at them with twinning twin review %s --list, and say --count %d to rule on all", len(open), args[0], len(open))
	}
	if seen := c.flag("snapshot"); seen != "" && seen != snapshot {
		return nil, "", fmt.Errorf("the list has changed since you looked, nothing is ruled; look again: twinning twin review %s --list", args[0])
	}
	for _, q := range open {
		list = append(list, apiclient.RulingInput{Kind: apiclient.RulingInputKind(args[1]), Person: &q.Person, Account: &q.Account, Reason: c.flag("reason"), Seen: &q.Version})
	}
	return list, snapshot, nil
}

// rulingColumns are what a sheet of rulings may call its columns: as our own lists and
// the API do.
var rulingColumns = map[string][]string{
	"person": {"person_id", "person id", "personid"}, "account": {"account_id", "account id", "accountid"}, "ruling": {"ruling", "kind"}, "reason": {"reason"}, "until": {"until"},
}

// rulingsOf reads a sheet: delimited by whatever it is, or a workbook, its columns in
// any order. All that is wrong with it is told at once, and then nothing is ruled.
func rulingsOf(path, reason string) (list []reconcile.Ruling, err error) {
	f, err := format.RegularAt(path)
	if err != nil {
		return nil, err
	}
	defer f.Close() // only read
	sheet, err := anyfile.Open(sized{f}, anyfile.Options{Restore: true})
	if err != nil {
		return nil, fmt.Errorf("file %q: %w", path, err)
	}
	at := map[string]string{}
	for _, native := range sheet.Natives() {
		for column, names := range rulingColumns {
			if slices.Contains(names, strings.ToLower(native)) && at[column] == "" {
				at[column] = native
			}
		}
	}
	if at["ruling"] == "" || at["person"]+at["account"] == "" {
		return nil, fmt.Errorf("file %q: expected the columns person_id, account_id, ruling and, if wanted, reason and until; it has %s", path, strings.Join(sheet.Natives(), ", "))
	}
	var problems []error
	err = sheet.Each(func(row format.Row) error {
		if row.LeftOut != "" {
			return nil
		}
		problem := func(format string, args ...any) {
			problems = append(problems, fmt.Errorf("line %d: "+format, append([]any{row.Line}, args...)...))
		}
		if row.Fault != "" {
			problem("%s", row.Fault)
			return nil
		}
		cell := func(column string) string { return strings.TrimSpace(strings.Join(row.Values[at[column]], "")) }
		r := reconcile.Ruling{Kind: strings.ToLower(cell("ruling")), Person: cell("person"), Account: cell("account"), Reason: cmp.Or(reason, cell("reason")), Until: cell("until")}
		pair := r.Person != "" && r.Account != ""
		switch {
		case r.Kind == "":
			return nil
		case !slices.Contains([]string{"same", "different", "leave-alone"}, r.Kind):
			problem("ruling %q: expected same, different or leave-alone, or blank to leave the row", r.Kind)
		case r.Kind == "leave-alone" && (pair || r.Person+r.Account == ""):
			problem("leave-alone is of one person or one account")
		case r.Kind != "leave-alone" && !pair:
			problem("a ruling needs both person_id and account_id")
		case r.Until != "" && !calendar.IsDay(r.Until):
			problem("until %q: expected a day such as 2026-12-31", r.Until)
		case r.Reason == "":
			problem("no reason; give one in the row, or one for all with --reason")
		default:
			list = append(list, r)
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("file %q: %w", path, err)
	}
	if len(problems) > 0 {
		return nil, fmt.Errorf("file %q, nothing is ruled:\n%w", path, errors.Join(problems...))
	}
	return list, nil
}
