package cli

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
)

func number(s string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil {
		return 0, misuse("%q: expected a number", s)
	}
	return n, nil
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func newSystem() *cobra.Command {
	list := running("list", "All systems", cobra.NoArgs, func(c *client, _ []string) error {
		var v apiclient.SystemList
		res, err := c.ListSystems(c.ctx)
		if err := ask(&v, res, err); err != nil {
			return err
		}
		var rows [][]string
		for _, x := range v.Items {
			taken := "never"
			if x.Latest != nil {
				taken = dayOf(x.Latest.Ended)
			}
			rows = append(rows, []string{x.Name, string(x.Kind), map[bool]string{true: "open", false: "read-only"}[x.Writable], thousands(value(x.Records)), taken})
		}
		return c.show(v, []string{"system", "kind", "writing", "records>", "last roster"}, rows)
	})
	show := running("show NAME", "One system with its settings and shape", exact("NAME"), func(c *client, args []string) error {
		var x apiclient.System
		res, err := c.GetSystem(c.ctx, args[0])
		if err := ask(&x, res, err); err != nil {
			return err
		}
		rows := [][]string{{"kind", string(x.Kind)}, {"writing", map[bool]string{true: "open", false: "read-only"}[x.Writable]}, {"secret", map[bool]string{true: "set (never shown)", false: "none"}[x.HasSecret]}}
		for _, k := range sortedKeys(x.Settings) {
			rows = append(rows, []string{k, x.Settings[k]})
		}
		for _, n := range x.Notes {
			rows = append(rows, []string{"note", n})
		}
		if x.Shape != "" {
			rows = append(rows, []string{"shape", strings.TrimSpace(x.Shape)})
		}
		return c.show(x, []string{"", x.Name}, rows)
	})
	return group("system", "Places that hold identities", list, show, newSystemPut(), newSystemOpen("open", "Open a system for writing", true), newSystemOpen("close", "Make a system read-only again", false),
		running("remove NAME", "Remove a system that no lane uses", exact("NAME"), func(c *client, args []string) error {
			res, err := c.RemoveSystem(c.ctx, args[0])
			return ask(nil, res, err)
		}))
}

func newSystemPut() *cobra.Command {
	cmd := running("put NAME", "Make a system, or change it", exact("NAME"), func(c *client, args []string) error {
		in := apiclient.SystemInput{Kind: apiclient.SystemKind(c.flag("kind"))}
		settings, _ := c.cmd.Flags().GetStringToString("set")
		in.Settings = &settings
		if path := c.flag("shape"); path != "" {
			src, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			text := string(src)
			in.Shape = &text
		}
		if path := c.flag("secret-file"); path != "" {
			secret, err := readSecret(c, path)
			if err != nil {
				return err
			}
			in.Secret = &secret
		}
		var x apiclient.System
		res, err := c.PutSystem(c.ctx, args[0], nil, in)
		if err := ask(&x, res, err); err != nil {
			return err
		}
		c.say("system %s is kept, %s; next: twinning roster take %s", x.Name, map[bool]string{true: "open for writing", false: "read-only"}[x.Writable], x.Name)
		return nil
	})
	cmd.Flags().String("kind", "", "file or scim")
	cmd.Flags().StringToString("set", nil, "settings, such as url=https://app.example/scim/v2,page=200")
	cmd.Flags().String("shape", "", "shape file (YAML)")
	cmd.Flags().String("secret-file", "", "file that holds the secret, - for standard input")
	_ = cmd.MarkFlagRequired("kind")
	return cmd
}

func readSecret(c *client, path string) (string, error) {
	var src []byte
	var err error
	if path == "-" {
		src, err = io.ReadAll(io.LimitReader(c.cmd.InOrStdin(), 10000))
	} else {
		src, err = os.ReadFile(path)
	}
	secret := strings.TrimRight(string(src), "\r\n")
	if err == nil && secret == "" {
		err = errors.New("the secret is empty")
	}
	return secret, err
}

func newSystemOpen(use, short string, on bool) *cobra.Command {
	return running(use+" NAME", short, exact("NAME"), func(c *client, args []string) error {
		res, err := c.SetWriting(c.ctx, args[0], apiclient.Switch{On: on})
		if err := ask(nil, res, err); err != nil {
			return err
		}
		c.say("system %s is %s", args[0], map[bool]string{true: "open for writing", false: "read-only"}[on])
		return nil
	})
}

func newRoster() *cobra.Command {
	take := running("take SYSTEM", "Read a system as a whole, in the background, and wait for it", exact("SYSTEM"), func(c *client, args []string) error {
		var body io.Reader
		if path := c.flag("file"); path != "" {
			f, err := os.Open(path)
			if err != nil {
				return err
			}
			defer f.Close() // only read
			body = f
		} else {
			body = strings.NewReader("")
		}
		var t apiclient.Task
		res, err := c.TakeRosterWithBody(c.ctx, args[0], "text/csv", body)
		if err := ask(&t, res, err); err != nil {
			return err
		}
		if t, err = c.follow(t.Id); err != nil {
			return err
		}
		var r apiclient.Roster
		res, err = c.GetRoster(c.ctx, value(t.Roster))
		if err := ask(&r, res, err); err != nil {
			return err
		}
		if r.Rejected > 0 {
			c.say("%d records could not be read: twinning roster rejected %d", r.Rejected, r.Id)
		}
		return c.show(r, rosterHeader, [][]string{rosterRow(r)})
	})
	take.Flags().String("file", "", "send this file as the roster of a file system")
	list := pageFlags(running("list SYSTEM", "Rosters of a system, newest first", exact("SYSTEM"), func(c *client, args []string) error {
		var v apiclient.RosterList
		res, err := c.ListRosters(c.ctx, args[0], &apiclient.ListRostersParams{Cursor: c.given("cursor"), Limit: c.limit()})
		if err := ask(&v, res, err); err != nil {
			return err
		}
		var rows [][]string
		for _, r := range v.Items {
			rows = append(rows, rosterRow(r))
		}
		return c.show(v, rosterHeader, rows)
	}))
	rejected := pageFlags(running("rejected ROSTER", "Records that could not be read, with the reason", exact("ROSTER"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		var v apiclient.RejectionList
		res, err := c.ListRejections(c.ctx, id, &apiclient.ListRejectionsParams{Cursor: c.given("cursor"), Limit: c.limit()})
		if err := ask(&v, res, err); err != nil {
			return err
		}
		var rows [][]string
		for _, r := range v.Items {
			rows = append(rows, []string{fmt.Sprint(r.Line), value(r.Column), value(r.Id), r.Reason})
		}
		return c.show(v, []string{"line>", "column", "id", "reason"}, rows)
	}))
	records := pageFlags(running("records ROSTER", "The records of a roster with their native values", exact("ROSTER"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		var v apiclient.RecordList
		res, err := c.ListRecords(c.ctx, id, &apiclient.ListRecordsParams{Cursor: c.given("cursor"), Limit: c.limit(), Q: c.given("search")})
		if err := ask(&v, res, err); err != nil {
			return err
		}
		var rows [][]string
		for _, r := range v.Items {
			var cells []string
			for _, k := range sortedKeys(r.Values) {
				cells = append(cells, k+"="+strings.Join(r.Values[k], ";"))
			}
			rows = append(rows, []string{r.Id, strings.Join(cells, " ")})
		}
		c.more(v.Next, v.Total, len(v.Items))
		return c.show(v, []string{"id", "values"}, rows)
	}))
	return group("roster", "Dated readings of a system", take, list, rejected, records)
}

var rosterHeader = []string{"roster>", "system", "taken", "state", "records>", "rejected>", "came>", "went>", "changed>"}

func rosterRow(r apiclient.Roster) []string {
	taken := day(r.Started)
	if r.Ended != nil {
		taken = day(*r.Ended)
	}
	return []string{fmt.Sprint(r.Id), r.System, taken, string(r.State), thousands(r.Records), thousands(r.Rejected), thousands(r.Came), thousands(r.Went), thousands(r.Changed)}
}
