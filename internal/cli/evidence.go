package cli

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/core/pairing/evidence"
)

func newWeights() *cobra.Command {
	return running("weights LANE", "What evidence is worth in a lane, comparator by comparator", exact("LANE"), func(c *client, args []string) error {
		var v apiclient.Weights
		res, err := c.ShowWeights(c.ctx, args[0])
		if err := ask(&v, res, err); err != nil {
			return err
		}
		var rows [][]string
		for _, name := range slices.SortedFunc(maps.Keys(v.Weights), func(a, b string) int {
			return cmp.Or(cmp.Compare(evidence.Order(a), evidence.Order(b)), strings.Compare(a, b))
		}) {
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
		if v.Trial != nil {
			c.say("probabilities are told by a trial on %s pairs: twinning twin trial %s --last", thousands(v.Trial.Pairs), args[0])
		}
		if v.Forms != nil && len(*v.Forms) > 0 {
			c.say("what people of these lists are called elsewhere: %s", formsOf(*v.Forms))
		}
		return c.show(v, []string{"comparator", "level", "of one human>", "of two>", "bits>"}, rows)
	})
}

// formsShown are the forms that are told, the others are counted.
const formsShown = 12

func formsOf(forms map[string][]string) string {
	var words []string
	for _, short := range slices.Sorted(maps.Keys(forms)) {
		if len(words) == formsShown {
			return strings.Join(words, ", ") + fmt.Sprintf(" and %s more", thousands(len(forms)-formsShown))
		}
		words = append(words, short+" for "+strings.Join(forms[short], " or "))
	}
	return strings.Join(words, ", ")
}

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
		fmt.Fprintf(w, "%*s%s│%s%*s  %+5.1f  %s: %s\n", width-len([]rune(left)), "", left, right, width-len([]rune(right)), "", s.Bits, evidence.Spoken(s.Comparator), s.Level)
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
