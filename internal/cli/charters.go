package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"twinning/internal/apiclient"
)

func charterTry(c *client, args []string) error {
	in := apiclient.CharterTryInput{PersonId: c.flag("person"), AccountId: c.given("account")}
	if path := c.flag("file"); path != "" {
		src, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		source := string(src)
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
