package cli

import (
	"fmt"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
)

func sides(b apiclient.Balance) balance {
	side := func(s apiclient.Side) reconcile.Side {
		return reconcile.Side{Total: s.Total, Twinned: s.Twinned, Missing: s.Missing, Orphan: s.Orphan, Duplicate: s.Duplicate, Contested: s.Contested, Exempt: s.Exempt}
	}
	return balanceOf(reconcile.Balance{People: side(b.People), Accounts: side(b.Accounts)})
}

func newLane() *cobra.Command {
	list := running("list", "All lanes with their balance", exact(), func(c *client, _ []string) error {
		var v apiclient.LaneList
		res, err := c.ListLanes(c.ctx)
		if err := ask(&v, res, err); err != nil {
			return err
		}
		var rows [][]string
		for _, l := range v.Items {
			row := []string{l.Name, value(l.Title), l.Authority, l.Downstream, fmt.Sprint(l.CharterVersion), "never", "", "", "", ""}
			if l.Latest != nil {
				b := l.Latest.Balance
				row = append(row[:5], day(l.Latest.At), thousands(b.People.Twinned), thousands(b.People.Missing), thousands(b.Accounts.Orphan), thousands(b.People.Contested))
			}
			rows = append(rows, row)
		}
		return c.showTitled(v, []string{"lane", "title", "authority", "downstream", "charter>", "reconciled", "twinned>", "missing>", "orphan>", "contested>"}, rows)
	})
	show := running("show LANE", "A lane's balance, findings and plan", exact("LANE"), func(c *client, args []string) error {
		return c.showLane(args[0])
	})
	observe := running("observe LANE", "Let a lane only observe: it reconciles, and never writes", exact("LANE"), func(c *client, args []string) error {
		res, err := c.SetObserving(c.ctx, args[0], apiclient.Switch{On: !c.on("off")})
		if err := ask(nil, res, err); err != nil {
			return err
		}
		c.say("lane %s %s", args[0], map[bool]string{true: "may write again", false: "only observes"}[c.on("off")])
		return nil
	})
	observe.Flags().Bool("off", false, "let it write again")
	remove := destroying(running("remove LANE", "Remove a lane with its rulings, bonds and history", exact("LANE"), func(c *client, args []string) error {
		var rulings apiclient.RulingList
		res, err := c.ListRulings(c.ctx, args[0])
		if err := ask(&rulings, res, err); err != nil {
			return err
		}
		var bonds apiclient.BondList
		res, err = c.ListBonds(c.ctx, args[0])
		if err := ask(&bonds, res, err); err != nil {
			return err
		}
		err = c.sure("lane %s goes with its rulings (%s) and bonds (%s), and all its reconciliations, plans and receipts; no account is touched. To keep what is known: twinning lane bonds %s --sheet FILE", args[0], thousands(len(rulings.Items)), thousands(len(bonds.Items)), args[0])
		if err != nil {
			return err
		}
		res, err = c.RemoveLane(c.ctx, args[0])
		if err := ask(nil, res, err); err != nil {
			return err
		}
		c.say("lane %s is removed", args[0])
		return nil
	}))
	history := pageFlags(running("history LANE", "Reconciliations of a lane, newest first", exact("LANE"), func(c *client, args []string) error {
		v, err := gather[apiclient.Reconciliation](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListReconciliations(c.ctx, args[0], &apiclient.ListReconciliationsParams{Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, r := range v.Items {
			rows = append(rows, []string{fmt.Sprint(r.Id), day(r.At), fmt.Sprint(r.CharterVersion), thousands(r.Balance.People.Twinned), thousands(r.Balance.People.Missing), thousands(r.Balance.Accounts.Orphan), thousands(r.Balance.People.Contested), counts(r.Changes)})
		}
		return showList(c, v, []string{"no.>", "at", "charter>", "twinned>", "missing>", "orphan>", "contested>", "would change"}, rows)
	}))
	withheld := searchFlag(pageFlags(running("withheld LANE", "Changes that are not drafted because something is not known, with the reason", exact("LANE"), func(c *client, args []string) error {
		v, err := gather[apiclient.Withheld](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListWithheld(c.ctx, args[0], &apiclient.ListWithheldParams{Count: c.counted(), Verb: chosen[apiclient.Verb](c, "verb"), Q: c.given("search"), Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, w := range v.Items {
			rows = append(rows, []string{w.Verb, w.Label, value(w.Person), value(w.Account), w.Reason})
		}
		return showList(c, v, []string{"verb", "whose", "person", "account", "reason"}, rows)
	})))
	withheld.Flags().String("verb", "", "only this verb")
	return group("lane", "One authority reconciled with one downstream", list, show, history, withheld, newBonds(), observe, remove)
}

// newBonds lists what a lane knows, for a look or for a lane that takes its place.
func newBonds() *cobra.Command {
	cmd := running("bonds LANE", "Who is bonded, and by what; with --sheet, as rulings for another lane", exact("LANE"), func(c *client, args []string) error {
		if to := c.flag("for"); to != "" {
			return c.offerBonds(args[0], to)
		}
		var v apiclient.BondList
		res, err := c.ListBonds(c.ctx, args[0])
		if err := ask(&v, res, err); err != nil {
			return err
		}
		if path := c.flag("sheet"); path != "" {
			var rows [][]string
			for _, b := range v.Items {
				rows = append(rows, []string{b.Person, b.Account, "same", fmt.Sprintf("bonded in lane %s (%s, %s)", args[0], b.Basis, b.By)})
			}
			if err := c.writeSheet(path, []string{"person_id", "account_id", "ruling", "reason"}, rows); err != nil {
				return err
			}
			c.say("%s bonds as rulings in %s; look through them, then: twinning twin rule-all OTHER-LANE --file %s", thousands(len(v.Items)), path, path)
			return nil
		}
		var rows [][]string
		for _, b := range v.Items {
			rows = append(rows, []string{b.Person, b.Account, b.Basis, b.By})
		}
		return c.show(v, []string{"person", "account", "basis", "by"}, rows)
	})
	sheetFlags(cmd, "write them into this sheet, .csv or .xlsx, as twin rule-all takes it")
	cmd.Flags().String("for", "", "as they would be in this lane, whose systems or ids are others; what fits no more has no ruling, and says why")
	cmd.Flags().String("person-by", "", "with --for: the attribute by which people are found there (default their ids)")
	cmd.Flags().String("account-by", "", "with --for: the attribute by which accounts are found there (default their ids)")
	return cmd
}

// offerBonds tells what a lane's bonds would be in another lane.
func (c *client) offerBonds(lane, to string) error {
	var v apiclient.OfferedBondList
	res, err := c.OfferBonds(c.ctx, lane, &apiclient.OfferBondsParams{To: to, PersonBy: c.given("person-by"), AccountBy: c.given("account-by")})
	if err := ask(&v, res, err); err != nil {
		return err
	}
	var rows [][]string
	fit := 0
	for _, b := range v.Items {
		ruling, reason := "same", fmt.Sprintf("bonded in lane %s (%s, %s)", lane, b.Basis, b.By)
		if why := value(b.Misfit); why != "" {
			ruling, reason = "", why
		} else {
			fit++
		}
		rows = append(rows, []string{b.ToPerson, b.ToAccount, ruling, reason, b.Person, b.Account})
	}
	path := c.flag("sheet")
	if path == "" {
		err = c.show(v, []string{"person", "account", "ruling", "reason", "former person", "former account"}, rows)
	} else if err = c.writeSheet(path, []string{"person_id", "account_id", "ruling", "reason", "former_person_id", "former_account_id"}, rows); err == nil {
		c.say("look through %s, then: twinning twin rule-all %s --file %s", path, to, path)
	}
	c.say("%s of %s bonds fit lane %s; %s do not, and have no ruling", thousands(fit), thousands(len(rows)), to, thousands(len(rows)-fit))
	return err
}

// withheld reads all that a lane did not draft.
func (c *client) withheld(lane string) (list []planning.Withheld, err error) {
	all, err := gather[apiclient.Withheld](c, true, func(cursor *string, limit *int) (*http.Response, error) {
		return c.ListWithheld(c.ctx, lane, &apiclient.ListWithheldParams{Cursor: cursor, Limit: limit})
	})
	for _, w := range all.Items {
		list = append(list, planning.Withheld{Verb: w.Verb, Reason: w.Reason})
	}
	return list, err
}

func counts(m map[string]int) string {
	var words []string
	for _, k := range sortedKeys(m) {
		words = append(words, fmt.Sprintf("%d %s", m[k], k))
	}
	return strings.Join(words, ", ")
}

func reading(g apiclient.Guard) planning.Reading {
	return planning.Reading{Verb: g.Verb, Count: g.Count, Recent: g.Recent, Pending: g.Pending, Allowed: g.Allowed, Denominator: g.Denominator, Of: g.Of, Tripped: g.Tripped, Message: g.Message}
}

func (c *client) showLane(name string) error {
	var l apiclient.Lane
	res, err := c.GetLane(c.ctx, name)
	if err := ask(&l, res, err); err != nil {
		return err
	}
	if c.format != "table" {
		return c.show(l, nil, nil)
	}
	out := c.cmd.OutOrStdout()
	mode := ""
	if l.Observing {
		mode = ", only observing"
	}
	if title := value(l.Title); title != "" {
		fmt.Fprintln(out, title)
	}
	fmt.Fprintf(out, "%s: %s → %s, charter %d%s\n", l.Name, l.Authority, l.Downstream, l.CharterVersion, mode)
	if l.Latest == nil {
		c.say("not reconciled yet; next: twinning reconcile %s", name)
		return nil
	}
	r := l.Latest
	fmt.Fprintf(out, "reconciled %s from rosters %d and %d\n\n", day(r.At), r.PeopleRoster, r.AccountsRoster)
	drawBalance(out, sides(r.Balance))
	drawFindings(out, r.Findings)
	drawVerbs(out, r.Changes)
	if len(r.Withheld) > 0 {
		list, err := c.withheld(name)
		if err != nil {
			return err
		}
		drawWithheld(out, list)
	}
	for _, g := range r.Guards {
		if g.Tripped {
			fmt.Fprintf(out, "\nStopped by a guard: %s\n", guardSentence(reading(g)))
		}
	}
	for _, n := range r.Notes {
		c.say("note: %s", n)
	}
	switch {
	case r.Balance.People.Contested+r.Balance.Accounts.Contested > 0:
		c.say("next: twinning twin list %s --state contested", name)
	case len(r.Changes) > 0:
		c.say("next: twinning plan draft %s", name)
	}
	return nil
}

// laneReconcile lets the service reconcile, waits and shows the result.
// learn is set when weights are to be learnt anew.
func (c *client) learn() *bool {
	on := c.on("learn")
	return &on
}

func laneReconcile(c *client, lane string) error {
	var t apiclient.Task
	res, err := c.Reconcile(c.ctx, lane, &apiclient.ReconcileParams{Learn: c.learn()})
	if err := ask(&t, res, err); err != nil {
		return err
	}
	if _, err := c.follow(t.Id); err != nil {
		return err
	}
	if err := c.showLane(lane); err != nil {
		return err
	}
	var l apiclient.Lane
	res, err = c.GetLane(c.ctx, lane)
	if err := ask(&l, res, err); err != nil || l.Latest == nil {
		return err
	}
	return verdict(l.Latest.Stopped, l.Latest.ToDo)
}

func newCharter() *cobra.Command {
	put := running("put FILE", "Give a lane a new version of its charter; the first one makes the lane", exact("FILE"), func(c *client, args []string) error {
		src, err := os.ReadFile(args[0])
		if err != nil {
			return err
		}
		var check apiclient.CharterCheck
		res, err := c.CheckCharter(c.ctx, apiclient.CharterInput{Source: string(src)})
		if err := ask(&check, res, err); err != nil {
			return err
		}
		return c.putCharter(check.Lane, apiclient.CharterInput{Source: string(src), Note: c.given("note")})
	})
	put.Flags().String("note", "", "why, for whoever looks at its versions later")
	show := running("show LANE", "The charter in force, or an older version", exact("LANE"), func(c *client, args []string) error {
		version, _ := c.cmd.Flags().GetInt64("version")
		var v apiclient.Charter
		res, err := c.GetCharter(c.ctx, args[0], &apiclient.GetCharterParams{Version: &version})
		if err := ask(&v, res, err); err != nil {
			return err
		}
		if c.format != "table" {
			return c.show(v, []string{"lane", "version", "source"}, [][]string{{v.Lane, fmt.Sprint(v.Version), v.Source}})
		}
		c.say("version %d by %s, %s%s", v.Version, v.By, day(v.At), noted(v))
		fmt.Fprint(c.cmd.OutOrStdout(), v.Source)
		return nil
	})
	show.Flags().Int64("version", 0, "version to show; 0 the newest")
	try := running("try LANE", "What the charter, or a file that is not kept, makes of one person, step by step", exact("LANE"), charterTry)
	try.Flags().String("person", "", "of whom, by id")
	try.Flags().String("account", "", "with this account (default: their twin at the newest reconciliation)")
	try.Flags().String("file", "", "a charter that is not kept (default: the one in force)")
	_ = try.MarkFlagRequired("person") // it is declared above
	compare := running("compare LANE", "How a reconciliation would differ by a charter that is not kept", exact("LANE"), charterCompare)
	compare.Flags().String("file", "", "the charter to hold against the one in force")
	_ = compare.MarkFlagRequired("file") // it is declared above
	return group("charter", "A lane's rules", newCharterCheck(), newCharterTemplate(), try, compare, put, show, newCharterHistory(), newCharterDiff(), newCharterReturn())
}
