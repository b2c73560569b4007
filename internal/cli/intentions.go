package cli

import (
	"cmp"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
)

// newIntention lists what is to be done on its day, and drops some of it.
func newIntention() *cobra.Command {
	list := searchFlag(pageFlags(running("list LANE", "What is to be done on its day, the soonest first", exact("LANE"), func(c *client, args []string) error {
		due, err := c.day("due")
		if err != nil {
			return err
		}
		v, err := gather[apiclient.Intention](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListIntentions(c.ctx, args[0], &apiclient.ListIntentionsParams{Count: c.counted(), Verb: chosen[apiclient.IntentionVerb](c, "verb"), Due: due, Q: c.given("search"), Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, i := range v.Items {
			rows = append(rows, []string{i.Due, i.Verb, i.Label, i.Person, i.Account, standingOf(i), i.Id})
		}
		return showList(c, v, []string{"due", "verb", "whose", "person", "account", "why, and what it waits for", "intention"}, rows)
	})))
	list.Flags().String("verb", "", "only this verb, such as delete")
	list.Flags().String("due", "", "only of this day, YYYY-MM-DD")
	days := running("days LANE", "How much is to be done on which day", exact("LANE"), func(c *client, args []string) error {
		from, err := c.day("from")
		if err != nil {
			return err
		}
		to, err := c.day("to")
		if err != nil {
			return err
		}
		var v apiclient.IntentionDays
		res, err := c.ListIntentionDays(c.ctx, args[0], &apiclient.ListIntentionDaysParams{From: from, To: to})
		if err := ask(&v, res, err); err != nil {
			return err
		}
		var rows [][]string
		for _, d := range v.Items {
			rows = append(rows, []string{d.Due, d.Verb, thousands(d.Count)})
		}
		return c.show(v, []string{"due", "verb", "accounts"}, rows)
	})
	days.Flags().String("from", "", "the first day, YYYY-MM-DD")
	days.Flags().String("to", "", "the last day, itself included")
	var memory string
	cancel := running("cancel [LANE] INTENTION", "Drop an intention, so that it is not drafted on its day", laneOrMemory(&memory, "INTENTION"), func(c *client, args []string) error {
		reason := c.flag("reason")
		if (reason == "") != c.on("undo") {
			return misuse("expected --reason, which whoever looks later reads, or --undo")
		}
		if memory != "" {
			return cancelOffline(c, memory, args[0], reason)
		}
		var res *http.Response
		var err error
		if c.on("undo") {
			res, err = c.RestoreIntention(c.ctx, args[0], args[1])
		} else {
			res, err = c.CancelIntention(c.ctx, args[0], args[1], apiclient.Cancellation{Reason: reason})
		}
		return ask(nil, res, err)
	})
	memoryFlag(cancel, &memory)
	cancel.Flags().String("reason", "", "why")
	cancel.Flags().Bool("undo", false, "take the cancellation back")
	return group("intention", "What is to be done on its day", list, days, cancel)
}

// standingOf says why an intention is meant, and what stands before it.
func standingOf(i apiclient.Intention) string {
	s := i.Reason
	if i.Verb == planning.Keep {
		what := value(i.Attribute)
		if kept := value(i.Kept); len(kept) > 0 {
			what += " (" + strings.Join(kept, ", ") + ")"
		}
		s = what + " stays as it is until then: " + s
	}
	if value(i.Waits) != "" {
		s += "; waits " + *i.Waits
	}
	if i.Comes {
		s += "; due, with the next plan"
	}
	if value(i.Cancelled) != "" {
		s += fmt.Sprintf("; cancelled by %s: %s", value(i.CancelledBy), *i.Cancelled)
	}
	return s
}

// cancelOffline drops an intention of a reconciliation on files, or takes that back.
func cancelOffline(c *client, dir, id, reason string) error {
	err := withMemory(dir, func(m *reconcile.Memory) error {
		i := slices.IndexFunc(m.Intentions, func(i planning.Intention) bool { return i.ID == id })
		if i < 0 {
			return fmt.Errorf("%s holds no intention %q; their ids stand in intentions.csv", dir, id)
		}
		m.Intentions[i].Cancelled = reason
		return nil
	})
	if err == nil {
		c.say("kept in %s: the next reconciliation with that --memory goes by it", dir)
	}
	return err
}

// drawIntentions tells how much of what is to come, and when it begins.
func drawIntentions(w io.Writer, list []planning.Intention, today string) {
	counts, first := map[string]int{}, map[string]string{}
	for _, i := range list {
		if i.Comes(today) || i.Cancelled != "" {
			continue
		}
		counts[i.Verb]++
		if i.Waits == "" {
			first[i.Verb] = cmp.Or(first[i.Verb], i.Due) // they come in the order of their days
		}
	}
	if len(counts) == 0 {
		return
	}
	fmt.Fprintln(w, "\nTo come")
	for _, v := range planning.Verbs {
		switch {
		case counts[v.Name] == 0:
		case first[v.Name] == "":
			fmt.Fprintf(w, "%9s  %-10s waiting for something else\n", thousands(counts[v.Name]), v.Name)
		default:
			fmt.Fprintf(w, "%9s  %-10s from %s on\n", thousands(counts[v.Name]), v.Name, first[v.Name])
		}
	}
}
