package cli

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"twinning/internal/apiclient"
)

func charterTry(c *client, args []string) error {
	in := apiclient.CharterTryInput{PersonId: c.flag("person"), AccountId: c.given("account")}
	if c.flag("file") != "" {
		source, err := c.charterFile()
		if err != nil {
			return err
		}
		in.Source = &source
	}
	var t apiclient.CharterTry
	res, err := c.TryCharter(c.ctx, args[0], in)
	if err := ask(&t, res, err); err != nil {
		return err
	}
	if c.format != "table" {
		var rows [][]string
		for _, v := range t.Values {
			rows = append(rows, []string{v.Name, value(v.Rule), fmt.Sprint(v.Line), v.Now, v.Written, value(v.Verb), value(v.Why)})
		}
		return c.show(t, []string{"attribute", "rule", "line", "now", "written", "verb", "why"}, rows)
	}
	w := c.cmd.OutOrStdout()
	whose := "who has no account"
	if t.Account != nil {
		whose = "with account " + t.Account.Id
	}
	fmt.Fprintf(w, "%s, %s, %s\n", t.Person.Id, t.Person.Label, whose)
	for _, v := range t.Conditions {
		fmt.Fprintf(w, "\n%s, line %d\n", v.Name, v.Line)
		drawSteps(w, v.Tries)
	}
	for _, v := range t.Values {
		fmt.Fprintf(w, "\n%s, %s, line %d\n", v.Name, value(v.Rule), v.Line)
		drawSteps(w, v.Tries)
		switch {
		case v.Verb != nil && v.Now == "":
			fmt.Fprintf(w, "  %s: %s\n", *v.Verb, v.Written)
		case v.Verb != nil:
			fmt.Fprintf(w, "  %s: %s → %s\n", *v.Verb, v.Now, v.Written)
		default:
			fmt.Fprintf(w, "  nothing is written: %s\n", value(v.Why))
		}
	}
	if len(t.Findings) > 0 {
		fmt.Fprintln(w)
	}
	for _, f := range t.Findings {
		fmt.Fprintf(w, "%s: %s\n", f.Code, f.Detail)
	}
	var verbs []string
	for _, x := range t.Changes {
		verbs = append(verbs, string(x.Verb))
	}
	if len(verbs) == 0 {
		verbs = []string{"none"}
	}
	fmt.Fprintf(w, "\nchanges: %s\n", strings.Join(verbs, ", "))
	c.say("nothing was kept; whether a login or an address is free is known when everybody is reconciled")
	return nil
}

// drawSteps draws what an expression is made of, and what each part comes to.
func drawSteps(w io.Writer, tries [][]apiclient.TriedStep) {
	wide := 0
	for _, steps := range tries {
		for _, s := range steps {
			wide = max(wide, text.StringWidthWithoutEscSequences(s.Source))
		}
	}
	wide = min(wide, 76)
	for i, steps := range tries {
		if len(tries) > 1 {
			fmt.Fprintf(w, "  choice %d\n", i+1)
		}
		for _, s := range steps {
			comes := s.Value
			switch {
			case s.Fault != nil:
				comes = "nothing: " + *s.Fault
			case comes == "":
				comes = "nothing"
			}
			fmt.Fprintf(w, "  %s  %s\n", text.Pad(s.Source, wide, ' '), comes)
		}
	}
}

func (c *client) charterFile() (string, error) {
	src, err := os.ReadFile(c.flag("file"))
	return string(src), err
}

func charterCompare(c *client, args []string) error {
	source, err := c.charterFile()
	if err != nil {
		return err
	}
	var t apiclient.CharterComparison
	res, err := c.CompareCharter(c.ctx, args[0], apiclient.CharterInput{Source: source})
	if err == nil && res.StatusCode == http.StatusAccepted {
		var task apiclient.Task
		if err := ask(&task, res, nil); err != nil {
			return err
		}
		if task, err = c.follow(task.Id); err != nil {
			return err
		}
		if task.State != apiclient.TaskStateFinished {
			return fmt.Errorf("%s: %s", task.Name, value(task.Message))
		}
		res, err = c.ShowComparison(c.ctx, args[0], task.Id)
	}
	if err := ask(&t, res, err); err != nil {
		return err
	}
	var rows [][]string
	add := func(what string, list ...apiclient.Twofold) {
		for _, x := range list {
			if x.Now != x.After {
				rows = append(rows, []string{what, x.Name, thousands(x.Now), thousands(x.After), fmt.Sprintf("%+d", x.After-x.Now)})
				what = ""
			}
		}
	}
	add("people", t.People...)
	add("accounts", t.Accounts...)
	add("findings", t.Findings...)
	add("changes", t.Changes...)
	add("withheld", t.Withheld)
	if c.format != "table" {
		return c.show(t, []string{"what", "which", "now", "after", "more"}, rows)
	}
	w := c.cmd.OutOrStdout()
	if len(rows) > 0 {
		fmt.Fprintln(w, drawTable([]string{"", "", "now>", "after>", "more>"}, rows, width(w)))
	} else {
		fmt.Fprintln(w, "Balance, findings and changes are as many as they are now.")
	}
	if t.Differ > 0 {
		fmt.Fprintf(w, "\n%s are drafted by one of the two alone, or with other values:\n", plural(t.Differ, "change", "changes"))
	}
	for _, x := range t.Examples {
		fmt.Fprintf(w, "  %s\n", draftedTwice(x))
	}
	for _, g := range t.Guards {
		fmt.Fprintf(w, "\na guard would stop the plan: %s\n", g)
	}
	for _, n := range t.Notes {
		c.say("%s", n)
	}
	c.say("nothing was kept; twinning charter put %s stores it", c.flag("file"))
	return nil
}

// draftedTwice tells in a line in what a change differs by two charters.
func draftedTwice(x apiclient.DraftedTwo) string {
	who := strings.TrimSpace(string(x.Verb) + " " + x.Person + " " + x.Account)
	written := func(list []apiclient.TriedEdit) string {
		var parts []string
		for _, e := range list {
			parts = append(parts, fmt.Sprintf("%s %q", e.Attribute, e.New))
		}
		return strings.Join(parts, ", ")
	}
	switch {
	case x.Now == nil:
		return who + " would be drafted: " + written(value(x.After))
	case x.After == nil:
		return who + " would not be drafted: " + written(*x.Now)
	}
	now, after := map[string]string{}, map[string]string{}
	for _, e := range *x.Now {
		now[e.Attribute] = e.New
	}
	for _, e := range *x.After {
		after[e.Attribute] = e.New
	}
	var parts []string
	for _, e := range slices.Concat(*x.After, *x.Now) {
		if part := fmt.Sprintf("%s %q → %q", e.Attribute, now[e.Attribute], after[e.Attribute]); now[e.Attribute] != after[e.Attribute] && !slices.Contains(parts, part) {
			parts = append(parts, part)
		}
	}
	return who + ": " + strings.Join(parts, ", ")
}
