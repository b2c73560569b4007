package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/core/finding"
	"twinning/internal/core/planning"
)

// completing is how long the service may take to name what can be typed.
const completing = 2 * time.Second

// filterWords are what options take that take certain words only.
var filterWords = map[string][]string{
	"output": {"table", "json", "csv", "yaml"}, "side": {"people", "accounts"}, "severity": {"error", "warning", "notice"}, "state": sortedKeys(glyphs), "code": findingCodes(),
	"verb": wordsOf(planning.Verbs), "outcome": wordsOf(planning.Outcomes), "kind": {"file", "ldap", "scim"},
}

func wordsOf(list []planning.Word) (names []string) {
	for _, w := range list {
		names = append(names, w.Name)
	}
	return names
}

func findingCodes() (codes []string) {
	for _, c := range finding.Catalogue {
		codes = append(codes, c.Name)
	}
	return codes
}

// complete lets the shell complete what a command names: lanes and systems as the
// service has them, and the words of filters.
func complete(cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		complete(c)
	}
	wants := strings.Fields(cmd.Use)[1:]
	cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) >= len(wants) {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return named(cmd, wants[len(args)]), cobra.ShellCompDirectiveNoFileComp
	}
	for flag, words := range filterWords {
		if flag == "kind" && cmd.Name() == "compare" {
			words = []string{"came", "went", "changed"}
		}
		if cmd.Flags().Lookup(flag) != nil || cmd.PersistentFlags().Lookup(flag) != nil {
			_ = cmd.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp)) // once for each
		}
	}
}

// named asks the service for the names of a kind; whoever is not signed in gets none.
func named(cmd *cobra.Command, kind string) (names []string) {
	if cmd.Context() == nil {
		cmd.SetContext(context.Background())
	}
	c, err := connect(cmd)
	if err != nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(c.ctx, completing)
	defer cancel()
	switch {
	case kind == "LANE":
		var v apiclient.LaneList
		res, err := c.ListLanes(ctx)
		if ask(&v, res, err) == nil {
			for _, l := range v.Items {
				names = append(names, l.Name+"\t"+l.Authority+" into "+l.Downstream)
			}
		}
	case kind == "SYSTEM", kind == "NAME" && cmd.Parent().Name() == "system":
		var v apiclient.SystemList
		res, err := c.ListSystems(ctx)
		if ask(&v, res, err) == nil {
			for _, x := range v.Items {
				names = append(names, x.Name+"\t"+string(x.Kind))
			}
		}
	case kind == "NAME" && (cmd.Parent().Name() == "user" || cmd.Parent().Name() == "token"):
		var v apiclient.UserList
		res, err := c.ListUsers(ctx)
		if ask(&v, res, err) == nil {
			for _, u := range v.Items {
				names = append(names, fmt.Sprintf("%s\t%d rights", u.Name, len(u.Rights)))
			}
		}
	}
	slices.Sort(names)
	return names
}
