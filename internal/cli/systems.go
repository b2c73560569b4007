package cli

import (
	"errors"
	"io"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	openapitypes "github.com/oapi-codegen/runtime/types"
	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/core/calendar"
)

func number(s string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil {
		return 0, misuse("%q: expected a number", s)
	}
	return n, nil
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// showTitled leaves the column of titles, the second, out where nothing has one.
func (c *client) showTitled(v any, heads []string, rows [][]string) error {
	if !slices.ContainsFunc(rows, func(row []string) bool { return row[1] != "" }) {
		heads = slices.Delete(heads, 1, 2)
		for i := range rows {
			rows[i] = slices.Delete(rows[i], 1, 2)
		}
	}
	return c.show(v, heads, rows)
}

func newSystem() *cobra.Command {
	list := running("list", "All systems", exact(), func(c *client, _ []string) error {
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
			rows = append(rows, []string{x.Name, value(x.Title), string(x.Kind), map[bool]string{true: "open", false: "read-only"}[x.Writable], thousands(value(x.Records)), taken})
		}
		return c.showTitled(v, []string{"system", "title", "kind", "writing", "records>", "last roster"}, rows)
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
		if title := value(x.Title); title != "" {
			rows = append([][]string{{"title", title}}, rows...)
		}
		if x.SecretUntil != nil {
			rows = append(rows, []string{"secret until", x.SecretUntil.String()})
		}
		if x.Namespace != "" {
			rows = append(rows, []string{"shares names", x.Namespace})
		}
		for _, limit := range []struct {
			name  string
			value float64
		}{{"at once", float64(x.AtOnce)}, {"per second", float64(x.PerSecond)}, {"keep days", float64(x.KeepDays)}} {
			if limit.value > 0 {
				rows = append(rows, []string{limit.name, strconv.FormatFloat(limit.value, 'g', -1, 64)})
			}
		}
		for _, n := range x.Notes {
			rows = append(rows, []string{"note", n})
		}
		if x.Shape != "" {
			rows = append(rows, []string{"shape", strings.TrimSpace(x.Shape)})
		}
		return c.show(x, []string{"", x.Name}, rows)
	})
	return group("system", "Places that hold identities", list, show, newSystemPut(), newSystemChange(), newSystemProbe(), newSystemPreview(), newSystemOpen("open", "Open a system for writing", true), newSystemOpen("close", "Make a system read-only again", false),
		destroying(running("remove NAME", "Remove a system that no lane uses", exact("NAME"), func(c *client, args []string) error {
			if err := c.sure("system %s goes with its settings, its secret and all its rosters", args[0]); err != nil {
				return err
			}
			res, err := c.RemoveSystem(c.ctx, args[0])
			if err := ask(nil, res, err); err != nil {
				return err
			}
			c.say("system %s is removed", args[0])
			return nil
		})))
}

func newSystemPut() *cobra.Command {
	cmd := running("put NAME", "Make a system, or replace its settings and shape", exact("NAME"), func(c *client, args []string) error {
		tag, err := validator(c.GetSystem(c.ctx, args[0]))
		if err != nil {
			return err
		}
		return c.putSystem(args[0], apiclient.SystemInput{Kind: apiclient.SystemKind(c.flag("kind")), Settings: &map[string]string{}}, tag)
	})
	cmd.Flags().String("kind", "", "file, ldap or scim")
	systemFlags(cmd)
	_ = cmd.MarkFlagRequired("kind")
	return cmd
}

func newSystemChange() *cobra.Command {
	cmd := running("change NAME", "Change some settings of a system, or its shape or secret; the rest stays", exact("NAME"), func(c *client, args []string) error {
		var x apiclient.System
		res, err := c.GetSystem(c.ctx, args[0])
		if err := ask(&x, res, err); err != nil {
			return err
		}
		tag := res.Header.Get("ETag")
		return c.putSystem(args[0], asItIs(x), &tag)
	})
	systemFlags(cmd)
	return cmd
}

// asItIs is what is sent to change nothing of a system.
func asItIs(x apiclient.System) apiclient.SystemInput {
	return apiclient.SystemInput{
		Kind: x.Kind, Settings: &x.Settings, Shape: &x.Shape, AtOnce: &x.AtOnce, PerSecond: &x.PerSecond, KeepDays: &x.KeepDays, Namespace: &x.Namespace, SecretUntil: x.SecretUntil, Title: x.Title,
	}
}

func systemFlags(cmd *cobra.Command) {
	f := cmd.Flags()
	setFlag(cmd, "settings, such as url=https://app.example/scim/v2,page=200; one without a value is taken away")
	f.String("shape", "", "shape file (YAML)")
	f.String("secret-file", "", "file that holds the secret, - for standard input")
	f.Int("at-once", 0, "requests at a time; 0 is no limit")
	f.Float64("per-second", 0, "requests a second; 0 is no limit")
	f.Int("keep-days", 0, "how long its rosters are kept; 0 for ever")
	f.String("secret-until", "", "last day on which the secret is good: reconciliations tell it a month before")
	f.String("title", "", "what people call it; the name stays")
	f.String("namespace", "", "systems that name the same one share their logins and addresses: what is taken in one is taken in all")
	f.Bool("same-records", false, "its ids are the same ones as before, though they are read otherwise")
}

// putSystem sends a system with what the flags say about it.
func (c *client) putSystem(name string, in apiclient.SystemInput, tag *string) error {
	flags := c.cmd.Flags()
	for k, v := range c.settings() {
		(*in.Settings)[k] = v
		if v == "" {
			delete(*in.Settings, k)
		}
	}
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
		in.Secret, in.SecretUntil = &secret, nil // until when the former one was good says nothing of this one
	}
	if n, _ := flags.GetInt("at-once"); flags.Changed("at-once") {
		in.AtOnce = &n
	}
	if n, _ := flags.GetFloat64("per-second"); flags.Changed("per-second") {
		pace := float32(n)
		in.PerSecond = &pace
	}
	if n, _ := flags.GetInt("keep-days"); flags.Changed("keep-days") {
		in.KeepDays = &n
	}
	if until := c.flag("secret-until"); until != "" {
		day, err := calendar.Begin(until, nil)
		if err != nil {
			return misuse("--secret-until %q: expected a day such as 2027-01-31", until)
		}
		in.SecretUntil = &openapitypes.Date{Time: day}
	}
	if flags.Changed("title") {
		text := c.flag("title")
		in.Title = &text
	}
	if flags.Changed("namespace") {
		text := c.flag("namespace")
		in.Namespace = &text
	}
	var x apiclient.System
	same, _ := flags.GetBool("same-records")
	res, err := c.PutSystem(c.ctx, name, &apiclient.PutSystemParams{IfMatch: tag, SameRecords: &same}, in)
	if err := ask(&x, res, err); err != nil {
		return err
	}
	return c.tell(x, "system %s is kept, %s; next: twinning system probe %s, then system preview %s", x.Name, map[bool]string{true: "open for writing", false: "read-only"}[x.Writable], x.Name, x.Name)
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
		res, err := c.SetWriting(c.ctx, args[0], nil, apiclient.Switch{On: on})
		if err := ask(nil, res, err); err != nil {
			return err
		}
		c.say("system %s is %s", args[0], map[bool]string{true: "open for writing", false: "read-only"}[on])
		return nil
	})
}
