package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"math"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/core/pairing"
	"twinning/internal/core/reconcile"
)

func newTrial() *cobra.Command {
	o := &offline{}
	cmd := running("trial [LANE]", "Hold back known twins and see how well evidence finds them", laneOrFiles(o), func(c *client, args []string) error {
		if o.charter != "" {
			return o.tryOut(c)
		}
		return c.tryLane(args[0])
	})
	cmd.Long = `Hold back known twins and see how well evidence finds them: how far its
probabilities are true on these lists, what joining from each probability on would
bring and cost, and which kinds of pairs it is wrong about.

A trial changes nothing. With --keep, what it found is kept beside the weights, and
probabilities are told and judged by it from the next reconciliation on.

With --charter, --people and --accounts it is made on two files, without any
service; --keep then needs --memory.`
	cmd.Flags().Bool("keep", false, "go by what the trial finds from now on")
	cmd.Flags().Bool("last", false, "show the lane's last trial, or keep it with --keep, without making another")
	o.reviewFlags(cmd)
	return cmd
}

// laneOrFiles takes a lane of the service, or nothing beside the files that are meant
// instead.
func laneOrFiles(o *offline) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if o.charter != "" {
			return exact()(cmd, args)
		}
		return exact("LANE")(cmd, args)
	}
}

// tryOut makes a trial on two files.
func (o *offline) tryOut(c *client) error {
	keep := c.on("keep")
	if c.on("last") {
		return misuse("--last shows the last trial of a lane of the service; on files a trial is made each time")
	}
	if keep && o.memory == "" {
		return misuse("--keep on files needs --memory: the folder that keeps what the lane knows")
	}
	o.whole = true
	in, err := o.input(c.cmd.ErrOrStderr())
	if err != nil {
		return err
	}
	t, err := reconcile.Trial(*in)
	if err != nil {
		return err
	}
	if keep {
		in.Memory.Weights = t.Weights
		if err := saveMemory(o.memory, in.Memory); err != nil {
			return err
		}
		c.say("kept in %s: the next reconciliation with that --memory goes by it", o.memory)
	}
	if c.format != "table" {
		return c.show(t, nil, nil)
	}
	drawTrial(c.cmd.OutOrStdout(), t)
	if !keep {
		c.say("nothing was changed; --keep goes by it from now on")
	}
	return nil
}

func percent(share float64) string {
	switch {
	case share == 0 || share == 1:
		return fmt.Sprintf("%.0f %%", 100*share)
	case share >= 0.985:
		return fmt.Sprintf("%.2f %%", 100*min(share, 0.9999))
	}
	return fmt.Sprintf("%.1f %%", 100*share)
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return thousands(n) + " " + many
}

// drawTrial tells what a trial found, for somebody who never heard of bits.
func drawTrial(w io.Writer, t *pairing.Trial) {
	fmt.Fprintf(w, "%s of %s known twins held back, in %s; of %s, one record was taken away, so that finding nobody is right.\n%s left over for evidence now.\n",
		thousands(t.Held), thousands(t.Known), plural(t.Parts, "part", "parts"), thousands(t.Lost), plural(t.Open, "person is", "people are"))
	drawBands(w, t)
	drawThresholds(w, t)
	drawKinds(w, t)
	drawOdd(w, t)
}

// reliability draws what was said (│) and what is true (●) on a scale from 0 to 1.
func reliability(said, true float64) string {
	const width = 40
	line := []rune(strings.Repeat("·", width+1))
	line[int(math.Round(said*width))] = '│'
	line[int(math.Round(true*width))] = '●'
	return string(line)
}

func drawBands(w io.Writer, t *pairing.Trial) {
	fmt.Fprintln(w, "\nHow true probabilities are: of the pairs said to be so likely, how many are one human (│ said, ● true)")
	var rows [][]string
	for _, b := range t.Bands {
		rows = append(rows, []string{fmt.Sprintf("%g – %g", b.From, b.To), percent(b.Said), percent(b.True), fmt.Sprintf("%s – %s", percent(b.Low), percent(b.High)), thousands(b.Pairs), reliability(b.Said, b.True)})
	}
	fmt.Fprintln(w, drawTable([]string{"probability", "said>", "true>", "between", "pairs>", "0 %                                100 %"}, rows, width(w)))
}

func drawThresholds(w io.Writer, t *pairing.Trial) {
	fmt.Fprintf(w, "\nWhat joining from a probability on would bring (accept is %g now; below it, down to review %g, people are asked)\n", t.Accept, t.Review)
	var rows [][]string
	for _, x := range t.Thresholds {
		var marks []string
		if x.Accept == t.Accept {
			marks = append(marks, "◀ accept now")
		}
		if x.Accept == t.Careful {
			marks = append(marks, "◀ 1 in 10 000 wrong at most")
		}
		rows = append(rows, []string{fmt.Sprintf("%g", x.Accept), percent(x.Found), fmt.Sprintf("%s of %s", thousands(x.Wrong), thousands(x.Joined)), thousands(x.WouldJoin), fmt.Sprintf("%.1f", x.WouldBeWrong), thousands(x.WouldAsk), strings.Join(marks, " ")})
	}
	fmt.Fprintln(w, drawTable([]string{"accept>", "found in the trial>", "wrong in the trial>", "would join now>", "of them wrong>", "would ask>", ""}, rows, width(w)))
	if t.Careful > 0 && t.Careful != t.Accept {
		fmt.Fprintf(w, "From %[1]g on, no more than 1 in 10 000 of all twins is expected to be wrong: `accept: %[1]g` in the charter, under pairing: {evidence: …}, would join by it.\n", t.Careful)
	}
}

// kindsShown are the kinds that are furthest from what was said of them.
const kindsShown = 8

func drawKinds(w io.Writer, t *pairing.Trial) {
	fmt.Fprintln(w, "\nKinds of pairs, those that it is most wrong about first")
	var rows [][]string
	for _, k := range t.Kinds[:min(len(t.Kinds), kindsShown)] {
		said, true := "", "not met"
		if k.Pairs > 0 {
			said, true = percent(k.Said), percent(float64(k.One)/float64(k.Pairs))
		}
		rows = append(rows, []string{k.Kind, said, true, thousands(k.Pairs), thousands(k.LeftOver)})
	}
	fmt.Fprintln(w, drawTable([]string{"they agree in", "said>", "true>", "pairs>", "left over now>"}, rows, width(w)))
	for _, k := range t.Kinds[:min(len(t.Kinds), kindsShown)] {
		for _, e := range k.Examples[:min(len(k.Examples), 1)] {
			verdict := "are two humans"
			if e.One {
				verdict = "are one human"
			}
			fmt.Fprintf(w, "  %s: %s (%s) and %s (%s) %s, said %.3f (%s)\n", k.Kind, e.PersonLabel, e.Person, e.AccountLabel, e.Account, verdict, e.Said, e.Words)
		}
	}
}

// How far from what it says a level has to be to be told, and of how many pairs.
const (
	oddLevel = 0.03
	oddPairs = 50
)

func drawOdd(w io.Writer, t *pairing.Trial) {
	var rows [][]string
	for _, l := range t.Levels {
		if l.Pairs >= oddPairs && math.Abs(l.Said-l.True) >= oddLevel {
			rows = append(rows, []string{l.Comparator, l.Level, fmt.Sprintf("%+.1f", l.Bits), percent(l.Said), percent(l.True), thousands(l.Pairs)})
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(w, "\nLevels that are worth something else than they say")
		fmt.Fprintln(w, drawTable([]string{"comparator", "level", "bits>", "said>", "true>", "pairs>"}, rows, width(w)))
	}
	for _, h := range t.Hesitations {
		if h.Pairs == 0 {
			continue
		}
		verdict := "people are still asked"
		if h.Settled {
			verdict = "with the trial kept, nobody is asked for it any more"
		}
		fmt.Fprintf(w, "\nAsked because %s, though likely enough: %s of %s in the trial are one human; %s. Left over now: %s\n", h.Kind, thousands(h.One), thousands(h.Pairs), verdict, thousands(h.LeftOver))
	}
}

// tryLane has the service make a trial, and shows it.
func (c *client) tryLane(lane string) error {
	last, keep := c.on("last"), c.on("keep")
	if !last {
		var task apiclient.Task
		res, err := c.TryEvidence(c.ctx, lane, &apiclient.TryEvidenceParams{Keep: &keep})
		if err := ask(&task, res, err); err != nil {
			return err
		}
		if _, err := c.follow(task.Id); err != nil {
			return err
		}
	}
	t, err := c.lastTrial(lane)
	if err != nil {
		return err
	}
	if last && keep {
		res, err := c.KeepTrial(c.ctx, lane, apiclient.TrialChoice{Id: t.Id})
		if err := ask(&t, res, err); err != nil {
			return err
		}
	}
	if c.format != "table" {
		return c.show(t, nil, nil)
	}
	report, err := reported(t.Report)
	if err != nil {
		return err
	}
	drawTrial(c.cmd.OutOrStdout(), report)
	switch {
	case t.Kept != nil && keep:
		c.say("kept as weights %d: the next reconciliation of %s goes by it", *t.Kept, lane)
	case t.Kept != nil:
		c.say("kept as weights %d", *t.Kept)
	default:
		c.say("nothing was changed; next: twinning twin trial %s --last --keep goes by it from the next reconciliation on", lane)
	}
	return nil
}

func (c *client) lastTrial(lane string) (t apiclient.Trial, err error) {
	res, err := c.ShowTrial(c.ctx, lane)
	return t, ask(&t, res, err)
}

// reported is the report as the core writes it.
func reported(r apiclient.TrialReport) (*pairing.Trial, error) {
	src, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	t := &pairing.Trial{}
	return t, json.Unmarshal(src, t)
}
