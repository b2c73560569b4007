package cli

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
)

func questionFlags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.String("code", "", "only what this finding asks about, such as contested-match")
	f.Float32("least", 0, "only from this probability on")
	f.Float32("most", 1, "only up to this probability")
	f.StringP("search", "q", "", "only what holds this text")
}

func (c *client) questions(lane, cursor string, limit int) (v apiclient.QuestionList, err error) {
	least, _ := c.cmd.Flags().GetFloat32("least")
	most, _ := c.cmd.Flags().GetFloat32("most")
	p := &apiclient.ListQuestionsParams{Code: c.given("code"), Least: &least, Most: &most, Q: c.given("search"), Limit: &limit}
	if cursor != "" {
		p.Cursor = &cursor
	}
	res, err := c.ListQuestions(c.ctx, lane, p)
	return v, ask(&v, res, err)
}

// everyQuestion reads all pages.
func (c *client) everyQuestion(lane string) (list []apiclient.Question, err error) {
	for cursor := ""; ; {
		v, err := c.questions(lane, cursor, 500)
		if err != nil {
			return nil, err
		}
		list = append(list, v.Items...)
		if cursor = value(v.Next); cursor == "" {
			return list, nil
		}
	}
}

func newReview() *cobra.Command {
	cmd := running("review LANE", "Settle contested pairs one by one, side by side", exact("LANE"), func(c *client, args []string) error {
		if c.on("list") {
			return c.listQuestions(args[0])
		}
		list, err := c.everyQuestion(args[0])
		if err != nil {
			return err
		}
		return (&desk{c: c, lane: args[0], in: bufio.NewReader(c.cmd.InOrStdin()), out: c.cmd.OutOrStdout()}).work(list)
	})
	cmd.Long = `Settle contested pairs one by one, side by side. Every answer is kept at once;
whatever somebody else rules on meanwhile is not asked again.

  s [REASON]  they are the same human      n  next, skip this one for now
  d [REASON]  they are different           u  undo the last answer
                                           q  stop here`
	questionFlags(cmd)
	cmd.Flags().String("reason", "looked at side by side", "the reason that is kept when an answer gives none")
	cmd.Flags().Bool("list", false, "only list the open questions")
	return cmd
}

func (c *client) listQuestions(lane string) error {
	list, err := c.everyQuestion(lane)
	if err != nil {
		return err
	}
	var rows [][]string
	for _, q := range list {
		p := ""
		if v := value(q.Probability); v > 0 {
			p = fmt.Sprintf("%.3f", v)
		}
		rows = append(rows, []string{q.Code, p, q.Person, q.PersonLabel, q.Account, q.AccountLabel, q.Reason})
	}
	return c.show(list, []string{"asked for", "probability>", "person", "", "account", "", "reason"}, rows)
}

// desk is one sitting of a person who settles questions.
type desk struct {
	c    *client
	lane string
	in   *bufio.Reader
	out  io.Writer
	done []apiclient.Ruling
}

func (d *desk) work(list []apiclient.Question) error {
	if len(list) == 0 {
		fmt.Fprintln(d.out, "Nothing is open: everybody is settled, or the filter holds nobody.")
		return nil
	}
	for i := 0; i < len(list); {
		q := list[i]
		if d.settled(q) {
			i++
			continue
		}
		if err := d.show(q, i, len(list)); err != nil {
			return err
		}
		line, err := d.in.ReadString('\n')
		if err != nil && line == "" {
			break // the end of what is typed is a q
		}
		key, reason, _ := strings.Cut(strings.TrimSpace(line), " ")
		if reason = strings.TrimSpace(reason); reason == "" {
			reason = d.c.flag("reason")
		}
		switch key {
		case "s":
			d.rule(q, apiclient.RulingInputKindSame, reason)
			i++
		case "d":
			d.rule(q, apiclient.RulingInputKindDifferent, reason)
			i++
		case "n":
			i++
		case "u":
			if back := d.undo(list); back >= 0 {
				i = back
			}
		case "q":
			i = len(list)
		default:
			fmt.Fprintf(d.out, "%q is no answer: s same, d different, n next, u undo, q stop\n", key)
		}
	}
	fmt.Fprintf(d.out, "%d ruled in this sitting. They show from the next reconciliation on: twinning reconcile %s\n", len(d.done), d.lane)
	return nil
}

// settled: an answer of this sitting has said it already.
func (d *desk) settled(q apiclient.Question) bool {
	return slices.ContainsFunc(d.done, func(r apiclient.Ruling) bool {
		return r.Kind == "same" && (value(r.Person) == q.Person || value(r.Account) == q.Account)
	})
}

func (d *desk) show(q apiclient.Question, at, all int) error {
	var v apiclient.FaceToFace
	res, err := d.c.FaceRecords(d.c.ctx, d.lane, &apiclient.FaceRecordsParams{Person: &q.Person, Account: &q.Account})
	if err := ask(&v, res, err); err != nil {
		return err
	}
	fmt.Fprintf(d.out, "\n◐ %d of %d  %s: %s\n", at+1, all, q.Code, q.Reason)
	fmt.Fprintf(d.out, "%32s %s %-14s %s\n", q.PersonLabel+" ("+q.Person+")", "┊", "", q.AccountLabel+" ("+q.Account+")")
	drawSides(d.out, v.Attributes)
	drawSaid(d.out, q.Said, value(q.Bits))
	if p := value(q.Probability); p > 0 {
		fmt.Fprintf(d.out, "probability %.3f\n", p)
	}
	fmt.Fprint(d.out, "s same, d different, n next, u undo, q stop > ")
	return nil
}

// rule keeps an answer; one that somebody else contradicted meanwhile is told.
func (d *desk) rule(q apiclient.Question, kind apiclient.RulingInputKind, reason string) {
	var r apiclient.Ruling
	res, err := d.c.Rule(d.c.ctx, d.lane, apiclient.RulingInput{Kind: kind, Person: &q.Person, Account: &q.Account, Reason: reason})
	if err := ask(&r, res, err); err != nil {
		fmt.Fprintln(d.out, "not kept:", err)
		return
	}
	d.done = append(d.done, r)
	fmt.Fprintf(d.out, "ruled %s (ruling %d)\n", r.Kind, r.Id)
	if l := value(r.Leaves); l != "" {
		fmt.Fprintln(d.out, l)
	}
}

// undo clears the last answer, and gives its place in the list.
func (d *desk) undo(list []apiclient.Question) int {
	if len(d.done) == 0 {
		fmt.Fprintln(d.out, "nothing to undo in this sitting; twinning twin rulings shows the others")
		return -1
	}
	last := d.done[len(d.done)-1]
	res, err := d.c.ClearRuling(d.c.ctx, d.lane, last.Id)
	if err := ask(nil, res, err); err != nil {
		fmt.Fprintln(d.out, "not cleared:", err)
		return -1
	}
	d.done = d.done[:len(d.done)-1]
	fmt.Fprintf(d.out, "ruling %d is cleared\n", last.Id)
	return slices.IndexFunc(list, func(q apiclient.Question) bool {
		return q.Person == value(last.Person) && q.Account == value(last.Account)
	})
}

func newRuleAll() *cobra.Command {
	cmd := running("rule-all LANE [same|different]", "Give many rulings: from a file, or one on all open questions that a filter holds", func(cmd *cobra.Command, args []string) error {
		if len(args) < 1 || len(args) > 2 {
			return misuse("%s needs LANE, and same or different unless --file says it row by row", cmd.CommandPath())
		}
		return nil
	}, func(c *client, args []string) error {
		list, err := c.manyRulings(args)
		if err != nil {
			return err
		}
		kept, refused := 0, 0
		for from := 0; from < len(list); from += 1000 {
			batch := list[from:min(from+1000, len(list))]
			var v apiclient.Ruled
			res, err := c.RuleAll(c.ctx, args[0], apiclient.RuleAllJSONRequestBody{Rulings: batch})
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
holds; --count says how many that are, so that nobody rules on more than they
have seen.`
	questionFlags(cmd)
	cmd.Flags().String("file", "", "CSV with a ruling a row")
	cmd.Flags().String("reason", "", "why; of rows that give none")
	cmd.Flags().Int("count", 0, "how many open questions the filter holds, as twin review --list shows them")
	return cmd
}

func (c *client) manyRulings(args []string) (list []apiclient.RulingInput, err error) {
	if path := c.flag("file"); path != "" {
		if len(args) > 1 {
			return nil, misuse("the file says row by row what is ruled; leave %q out", args[1])
		}
		return rulingsOf(path, c.flag("reason"))
	}
	if len(args) < 2 || args[1] != "same" && args[1] != "different" {
		return nil, misuse("say same or different, or give --file")
	}
	if c.flag("reason") == "" {
		return nil, misuse("--reason is needed: somebody will ask in a year")
	}
	open, err := c.everyQuestion(args[0])
	if err != nil {
		return nil, err
	}
	if n, _ := c.cmd.Flags().GetInt("count"); n != len(open) {
		return nil, misuse("the filter holds %d open questions: look at them with twinning twin review %s --list, and say --count %d to rule on all", len(open), args[0], len(open))
	}
	for _, q := range open {
		list = append(list, apiclient.RulingInput{Kind: apiclient.RulingInputKind(args[1]), Person: &q.Person, Account: &q.Account, Reason: c.flag("reason")})
	}
	return list, nil
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

func newWeights() *cobra.Command {
	return running("weights LANE", "What evidence is worth in a lane, comparator by comparator", exact("LANE"), func(c *client, args []string) error {
		var v apiclient.Weights
		res, err := c.ShowWeights(c.ctx, args[0])
		if err := ask(&v, res, err); err != nil {
			return err
		}
		var rows [][]string
		for _, name := range comparatorOrder {
			levels := v.Weights[name]
			words := make([]string, 0, len(levels))
			for w := range levels {
				words = append(words, w)
			}
			slices.SortFunc(words, func(a, b string) int { return int(math.Copysign(1, float64(levels[b].Bits-levels[a].Bits))) })
			for _, w := range words {
				l := levels[w]
				rows = append(rows, []string{name, w, fmt.Sprintf("%.4g %%", 100*l.Same), fmt.Sprintf("%.4g %%", 100*l.Other), fmt.Sprintf("%+.1f", l.Bits)})
				name = ""
			}
		}
		c.say("weights %d (%s), learnt from %s twins on %s by %s; reconcile --learn learns them anew", v.Version, v.Digest, thousands(int(v.LearntFrom)), day(v.At), v.By)
		return c.show(v, []string{"comparator", "level", "of one human>", "of two>", "bits>"}, rows)
	})
}

var comparatorOrder = []string{"familyName", "givenName", "middleName", "login", "email", "phone", "number", "day", "department", "title", "location", "status"}

// drawSides prints attributes face to face.
func drawSides(w io.Writer, list []apiclient.Comparison) {
	for _, a := range list {
		sign := "≠"
		switch {
		case a.Equal:
			sign = "="
		case a.Person == "" || a.Account == "":
			sign = " "
		}
		line := fmt.Sprintf("%32s %s %-14s %s", a.Person, sign, a.Attribute, a.Account)
		if said := value(a.Said); said != "" {
			line = fmt.Sprintf("%-84s %s", line, said)
		}
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
}

// drawSaid prints the evidence as bars from a spine: to the right for, to the
// left against. A mark is a bit.
func drawSaid(w io.Writer, said []apiclient.Said, bits float32) {
	if len(said) == 0 {
		return
	}
	const width = 18
	fmt.Fprintf(w, "\n%*s│%-*s\n", width, "against ", width, " for")
	for _, s := range said {
		n := min(int(math.Round(math.Abs(float64(s.Bits)))), width)
		left, right := "", strings.Repeat("▬", n)
		if s.Bits < 0 {
			left, right = right, ""
		}
		fmt.Fprintf(w, "%*s%s│%s%*s  %+5.1f  %s: %s\n", width-len([]rune(left)), "", left, right, width-len([]rune(right)), "", s.Bits, s.Comparator, s.Level)
	}
	fmt.Fprintf(w, "%*s  %+5.1f  bits in all\n", 2*width+1, "", bits)
}

// drawEvidence tells what evidence says of a pair, who else came close and what
// would change the verdict.
func drawEvidence(w io.Writer, e *apiclient.Evidence) {
	if e == nil {
		return
	}
	if len(e.Said) > 0 {
		fmt.Fprintf(w, "\nEvidence (weights %d)", e.WeightsVersion)
		if p := value(e.Probability); p > 0 {
			fmt.Fprintf(w, ", probability %.4f", p)
		}
		drawSaid(w, e.Said, e.Bits)
		fmt.Fprintf(w, "%*s  %+5.1f  bits are needed to be joined without asking, if nobody else comes close\n", 37, "", e.Needed)
	}
	if len(e.Others) > 0 {
		fmt.Fprintln(w, "\nWho else came close")
		for _, o := range e.Others {
			fmt.Fprintf(w, "  %+5.1f  %s (%s) and %s (%s): %s\n", o.Bits, o.PersonLabel, o.Person, o.AccountLabel, o.Account, o.Why)
		}
	}
	if len(e.Change) > 0 {
		fmt.Fprintln(w, "\nWhat would change it")
		for _, s := range e.Change {
			fmt.Fprintln(w, "  "+s)
		}
	}
}
