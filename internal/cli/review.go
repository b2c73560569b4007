package cli

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io"
	"net/http"
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

// between is the range of probabilities that the filter holds.
func (c *client) between() (least, most float32) {
	least, _ = c.cmd.Flags().GetFloat32("least")
	most, _ = c.cmd.Flags().GetFloat32("most")
	return least, most
}

// everyQuestion reads all pages. The snapshot is that of the first: what changes
// between it and the last shows when it is sent back.
func (c *client) everyQuestion(lane string) (list []apiclient.Question, snapshot string, unasked int, err error) {
	least, most := c.between()
	all, err := gather[apiclient.Question](c, true, func(cursor *string, limit *int) (*http.Response, error) {
		return c.ListQuestions(c.ctx, lane, &apiclient.ListQuestionsParams{Code: chosen[apiclient.FindingCode](c, "code"), Least: &least, Most: &most, Q: c.given("search"), Cursor: cursor, Limit: limit})
	})
	if err == nil {
		err = errors.Join(all.said("snapshot", &snapshot), all.said("unasked", &unasked))
	}
	return all.Items, snapshot, unasked, err
}

func newReview() *cobra.Command {
	o := &offline{}
	cmd := running("review [LANE]", "Settle contested pairs one by one, side by side", laneOrMemory(&o.memory), func(c *client, args []string) error {
		if o.memory != "" {
			return o.reviewOffline(c)
		}
		if c.on("list") {
			return c.listQuestions(args[0])
		}
		list, _, unasked, err := c.everyQuestion(args[0])
		if err != nil {
			return err
		}
		if unasked > 0 {
			c.say("%d people are contested without a pair to rule on; twinning finding list %s says what to do", unasked, args[0])
		}
		return (&desk{c: c, source: laneDesk{c, args[0]}, in: bufio.NewReader(c.cmd.InOrStdin()), out: c.cmd.OutOrStdout()}).work(list)
	})
	cmd.Long = `Settle contested pairs one by one, side by side. Every answer is kept at once;
whatever somebody else rules on meanwhile is not asked again.

  s [REASON]  they are the same human      j  next, skip this one for now
  d [REASON]  they are different           k  back to the one before
  u           undo the last answer         q  stop here`
	cmd.Long += `

With --memory, --charter, --people and --accounts it goes through what a
reconciliation on files asks about, without any service.`
	questionFlags(cmd)
	o.reviewFlags(cmd)
	cmd.Flags().String("reason", "looked at side by side", "the reason that is kept when an answer gives none")
	cmd.Flags().Bool("list", false, "only list the open questions")
	sheetFlags(cmd, "with --list: write them into this sheet, .csv or .xlsx, to be ruled on there")
	return cmd
}

func (c *client) listQuestions(lane string) error {
	list, snapshot, _, err := c.everyQuestion(lane)
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
	if path := c.flag("sheet"); path != "" {
		sheet := make([][]string, len(rows))
		for i, r := range rows {
			sheet[i] = []string{r[2], r[3], r[4], r[5], r[1], r[0], r[6], "", ""}
		}
		if err := c.writeSheet(path, []string{"person_id", "person", "account_id", "account", "probability", "asked_for", "asked_because", "ruling", "reason"}, sheet); err != nil {
			return err
		}
		c.say("%s questions in %s; write same or different under ruling, and why, then: twinning twin rule-all %s --file %s", thousands(len(rows)), path, lane, path)
		return nil
	}
	if err := c.show(list, []string{"asked for", "probability>", "person", "", "account", "", "reason"}, rows); err != nil {
		return err
	}
	c.say("%d open; one ruling on all of them: twinning twin rule-all %s same|different --count %d --snapshot %s --reason …", len(list), lane, len(list), snapshot)
	return nil
}

// desk is one sitting of a person who settles questions.
type desk struct {
	c      *client
	source questions
	in     *bufio.Reader
	out    io.Writer
	done   []apiclient.Ruling
	seen   string // version of the pair in hand, as it was shown
}

// laneDesk has the pairs of a lane of the service.
type laneDesk struct {
	*client
	lane string
}

func (d laneDesk) face(q apiclient.Question) (v apiclient.FaceToFace, err error) {
	res, err := d.FaceRecords(d.ctx, d.lane, &apiclient.FaceRecordsParams{Person: &q.Person, Account: &q.Account})
	err = ask(&v, res, err)
	return v, err
}

func (d laneDesk) rule(in apiclient.RulingInput) (r apiclient.Ruling, err error) {
	res, err := d.Rule(d.ctx, d.lane, nil, in)
	err = ask(&r, res, err)
	return r, err
}

func (d laneDesk) clear(r apiclient.Ruling) error {
	res, err := d.ClearRuling(d.ctx, d.lane, r.Id)
	return ask(nil, res, err)
}

func (d laneDesk) next() string { return "the next reconciliation on: twinning reconcile " + d.lane }

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
		case "n", "j": // as in the console
			i++
		case "k":
			i = max(i-1, 0)
		case "u":
			if back := d.undo(list); back >= 0 {
				i = back
			}
		case "q":
			i = len(list)
		default:
			fmt.Fprintf(d.out, "%q is no answer: s same, d different, j next, k back, u undo, q stop\n", key)
		}
	}
	fmt.Fprintf(d.out, "%d ruled in this sitting. They show from %s\n", len(d.done), d.source.next())
	return nil
}

// settled: an answer of this sitting has said it already.
func (d *desk) settled(q apiclient.Question) bool {
	return slices.ContainsFunc(d.done, func(r apiclient.Ruling) bool {
		return r.Kind == "same" && (value(r.Person) == q.Person || value(r.Account) == q.Account)
	})
}

func (d *desk) show(q apiclient.Question, at, all int) error {
	v, err := d.source.face(q)
	if err != nil {
		return err
	}
	d.seen = v.Version
	reason := cmp.Or(value(q.Brief), q.Reason)
	fmt.Fprintf(d.out, "\n◐ %d of %d  %s: %s\n", at+1, all, q.Code, reason)
	fmt.Fprintf(d.out, "%32s %s %-14s %s\n", q.PersonLabel+" ("+q.Person+")", "┊", "", q.AccountLabel+" ("+q.Account+")")
	drawSides(d.out, v.Attributes)
	drawSaid(d.out, q.Said, value(q.Bits))
	if p := value(q.Probability); p > 0 {
		fmt.Fprintf(d.out, "probability %.3f\n", p)
	}
	fmt.Fprint(d.out, "s same, d different, j next, k back, u undo, q stop > ")
	return nil
}

// rule keeps an answer; one that somebody else contradicted meanwhile is told.
func (d *desk) rule(q apiclient.Question, kind apiclient.RulingInputKind, reason string) {
	r, err := d.source.rule(apiclient.RulingInput{Kind: kind, Person: &q.Person, Account: &q.Account, Reason: reason, Seen: &d.seen})
	if err != nil {
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
	if err := d.source.clear(last); err != nil {
		fmt.Fprintln(d.out, "not cleared:", err)
		return -1
	}
	d.done = d.done[:len(d.done)-1]
	fmt.Fprintf(d.out, "ruling %d is cleared\n", last.Id)
	return slices.IndexFunc(list, func(q apiclient.Question) bool {
		return q.Person == value(last.Person) && q.Account == value(last.Account)
	})
}
