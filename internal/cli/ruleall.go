package cli

import (
	"encoding/csv"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
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
	cmd.Long = `Give many rulings. With --file: a CSV with the columns person_id, account_id,
ruling (same or different) and, if wanted, reason; rows whose ruling is blank are
left. The file contested.csv of an offline reconciliation, with a column added,
is such a file. Without --file: one ruling on all open questions that the filter
holds; --count says how many that are, and --snapshot which (twin review --list
prints both), so that nobody rules on others than they have seen.`
	questionFlags(cmd)
	cmd.Flags().String("file", "", "CSV with a ruling a row")
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
		list, err := rulingsOf(path, c.flag("reason"))
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

// rulingsOf reads a sheet. All that is wrong with it is told at once, and then
// nothing is ruled.
func rulingsOf(path, reason string) (list []apiclient.RulingInput, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close() // only read
	r := csv.NewReader(f)
	r.FieldsPerRecord = -1
	rows, err := r.ReadAll()
	if err != nil {
		return nil, fmt.Errorf("file %q: %w", path, err)
	}
	if len(rows) == 0 {
		return nil, fmt.Errorf("file %q is empty; expected a header with person_id, account_id and ruling", path)
	}
	at := map[string]int{}
	for i, name := range rows[0] {
		at[strings.ToLower(strings.TrimSpace(strings.TrimPrefix(name, "\ufeff")))] = i
	}
	for _, needed := range []string{"person_id", "account_id", "ruling"} {
		if _, ok := at[needed]; !ok {
			return nil, fmt.Errorf("file %q has no column %s; expected person_id, account_id, ruling and, if wanted, reason", path, needed)
		}
	}
	var problems []error
	for n, row := range rows[1:] {
		cell := func(name string) string {
			if i, ok := at[name]; ok && i < len(row) {
				return strings.TrimSpace(row[i])
			}
			return ""
		}
		in := apiclient.RulingInput{Kind: apiclient.RulingInputKind(strings.ToLower(cell("ruling"))), Reason: reason}
		person, account := cell("person_id"), cell("account_id")
		in.Person, in.Account = &person, &account
		if own := cell("reason"); own != "" && reason == "" {
			in.Reason = own
		}
		switch {
		case in.Kind == "":
			continue
		case in.Kind != "same" && in.Kind != "different":
			problems = append(problems, fmt.Errorf("line %d: ruling %q: expected same or different, or blank to leave the row", n+2, in.Kind))
		case person == "" || account == "":
			problems = append(problems, fmt.Errorf("line %d: a ruling needs both person_id and account_id", n+2))
		case in.Reason == "":
			problems = append(problems, fmt.Errorf("line %d: no reason; give one in the row, or one for all with --reason", n+2))
		default:
			list = append(list, in)
		}
	}
	if len(problems) > 0 {
		return nil, fmt.Errorf("file %q, nothing is ruled:\n%w", path, errors.Join(problems...))
	}
	return list, nil
}
