package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"twinning/internal/apiclient"
	"twinning/internal/format"
)

func newRoster() *cobra.Command {
	return group("roster", "Dated readings of a system", newRosterTake(), newRosterList(), newRosterRecords(), newRosterRejected(), newRosterLeftOut(),
		newRosterStatistics(), newRosterKeys(), newRosterCompare(), newRosterHistory(), newRosterExport())
}

var rosterHeader = []string{"roster>", "system", "taken", "extent", "state", "records>", "rejected>", "left out>", "came>", "went>", "changed>", "name"}

func rosterRow(r apiclient.Roster) []string {
	taken := day(r.Started)
	if r.Ended != nil {
		taken = day(*r.Ended)
	}
	return []string{fmt.Sprint(r.Id), r.System, taken, string(r.Extent), string(r.State), thousands(r.Records), thousands(r.Rejected), thousands(r.LeftOut), thousands(r.Came), thousands(r.Went), thousands(r.Changed), value(r.Name)}
}

func newRosterTake() *cobra.Command {
	cmd := running("take SYSTEM", "Read a system in the background, and wait for it", exact("SYSTEM"), func(c *client, args []string) error {
		params := apiclient.TakeRosterParams{Name: c.given("name")}
		if extent := c.flag("extent"); extent != "" {
			e := apiclient.TakeRosterParamsExtent(extent)
			params.Extent = &e
		}
		if on := c.on("new-scope"); on {
			params.NewScope = &on
		}
		var body io.Reader = strings.NewReader("")
		if path := c.flag("file"); path != "" {
			f, err := format.RegularAt(path)
			if err != nil {
				return err
			}
			defer f.Close() // only read
			body = f
		}
		var t apiclient.Task
		res, err := c.TakeRosterWithBody(c.ctx, args[0], &params, "application/octet-stream", body)
		if err := ask(&t, res, err); err != nil {
			return err
		}
		if c.on("no-wait") {
			c.say("task %d reads %s; twinning task list tells how far it is, twinning task halt %d stops it", t.Id, args[0], t.Id)
			return nil
		}
		if t, err = c.follow(t.Id); err != nil {
			return err
		}
		if t.State == apiclient.TaskStateHalted {
			return &exit{Failed, "the reading was halted; nothing of it was kept"}
		}
		var r apiclient.Roster
		res, err = c.GetRoster(c.ctx, value(t.Roster))
		if err := ask(&r, res, err); err != nil {
			return err
		}
		if m := value(t.Message); strings.Contains(m, ":") || strings.Contains(m, "as a whole") {
			c.say("%s", m)
		}
		if r.Rejected > 0 {
			c.say("%d records could not be read: twinning roster rejected %d", r.Rejected, r.Id)
		}
		if r.LeftOut > 0 {
			c.say("%d were left out: twinning roster left-out %d", r.LeftOut, r.Id)
		}
		return c.show(r, rosterHeader, [][]string{rosterRow(r)})
	})
	cmd.Flags().String("file", "", "send this file as the roster of a file system")
	cmd.Flags().String("extent", "", "whole (default) or changes: only what changed since the last roster")
	cmd.Flags().String("name", "", "what people call it, such as \"before the merger\"")
	cmd.Flags().Bool("new-scope", false, "what the system covers was changed on purpose")
	cmd.Flags().Bool("no-wait", false, "return at once")
	return cmd
}

func newRosterList() *cobra.Command {
	return pageFlags(running("list SYSTEM", "Rosters of a system, newest first", exact("SYSTEM"), func(c *client, args []string) error {
		v, err := gather[apiclient.Roster](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListRosters(c.ctx, args[0], &apiclient.ListRostersParams{Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, r := range v.Items {
			rows = append(rows, rosterRow(r))
		}
		return showList(c, v, rosterHeader, rows)
	}))
}

// ofRoster is a command on one roster, named by its number.
func ofRoster(use, short string, run func(c *client, id int64) error) *cobra.Command {
	return running(use+" ROSTER", short, exact("ROSTER"), func(c *client, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		return run(c, id)
	})
}

func newRosterRejected() *cobra.Command {
	return pageFlags(ofRoster("rejected", "Records that could not be read, with the reason", func(c *client, id int64) error {
		v, err := gather[apiclient.Rejection](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListRejections(c.ctx, id, &apiclient.ListRejectionsParams{Cursor: cursor, Limit: limit})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, r := range v.Items {
			rows = append(rows, []string{lineOf(r.Line), value(r.Column), value(r.Id), r.Reason})
		}
		return showList(c, v, []string{"line>", "column", "id", "reason"}, rows)
	}))
}

func newRosterLeftOut() *cobra.Command {
	return searchFlag(pageFlags(ofRoster("left-out", "What was there and was not read, with the reason", func(c *client, id int64) error {
		v, err := gather[apiclient.LeftOut](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListLeftOut(c.ctx, id, &apiclient.ListLeftOutParams{Cursor: cursor, Limit: limit, Q: c.given("search")})
		})
		if err != nil {
			return err
		}
		var reasons []apiclient.LeftReason
		if err := v.said("reasons", &reasons); err != nil {
			return err
		}
		for _, r := range reasons {
			c.say("%s: %s", thousands(r.Count), r.Reason)
		}
		var rows [][]string
		for _, l := range v.Items {
			rows = append(rows, []string{l.What, l.Reason})
		}
		return showList(c, v, []string{"left out", "reason"}, rows)
	})))
}

func newRosterRecords() *cobra.Command {
	return searchFlag(pageFlags(ofRoster("records", "The records of a roster with their native values", func(c *client, id int64) error {
		v, err := gather[apiclient.Record](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			return c.ListRecords(c.ctx, id, &apiclient.ListRecordsParams{Cursor: cursor, Limit: limit, Q: c.given("search")})
		})
		if err != nil {
			return err
		}
		var rows [][]string
		for _, r := range v.Items {
			rows = append(rows, []string{r.Id, nativeText(r.Values)})
		}
		return showList(c, v, []string{"id", "values"}, rows)
	})))
}

func nativeText(values map[string][]string) string {
	var cells []string
	for _, k := range sortedKeys(values) {
		cells = append(cells, k+"="+strings.Join(values[k], ";"))
	}
	return strings.Join(cells, " ")
}

func newRosterStatistics() *cobra.Command {
	return ofRoster("statistics", "Coverage, uniqueness and frequent values of every attribute", func(c *client, id int64) error {
		var v apiclient.Statistics
		res, err := c.GetStatistics(c.ctx, id)
		if err := ask(&v, res, err); err != nil {
			return err
		}
		var rows [][]string
		for _, a := range v.Attributes {
			var top []string
			for _, t := range a.Top {
				top = append(top, fmt.Sprintf("%s (%s)", firstOf(t.Value, 24), thousands(t.Count)))
			}
			rows = append(rows, []string{a.Attribute, value(a.Native), thousands(a.Filled), share(a.Filled, v.Records), thousands(a.Distinct), share(a.Distinct, a.Filled), thousands(a.Changed), strings.Join(top, ", ")})
		}
		return c.show(v, []string{"attribute", "from", "filled>", ">", "distinct>", ">", "changed>", "most frequent"}, rows)
	})
}

func share(part, whole int) string {
	if whole == 0 {
		return ""
	}
	return fmt.Sprintf("%d %%", part*100/whole)
}

func newRosterCompare() *cobra.Command {
	cmd := searchFlag(pageFlags(ofRoster("compare", "Who came, went and changed since another roster (the one before, if none is named)", func(c *client, id int64) error {
		params := apiclient.CompareRostersParams{Q: c.given("search"), Attribute: c.given("attribute")}
		if with, _ := c.cmd.Flags().GetInt64("with"); with > 0 {
			params.With = &with
		}
		if kind := c.flag("kind"); kind != "" {
			k := apiclient.CompareRostersParamsKind(kind)
			params.Kind = &k
		}
		v, err := gather[apiclient.RecordChange](c, false, func(cursor *string, limit *int) (*http.Response, error) {
			params.Cursor, params.Limit = cursor, limit
			return c.CompareRosters(c.ctx, id, &params)
		})
		if err != nil {
			return err
		}
		whole, err := json.Marshal(v)
		if err != nil {
			return err
		}
		var about apiclient.RosterComparison
		if err := json.Unmarshal(whole, &about); err != nil {
			return err
		}
		var rows [][]string
		for _, d := range v.Items {
			rows = append(rows, recordChange(d)...)
		}
		c.say("%s, roster %d of %s against %d of %s: %s came, %s went, %s changed", about.Newer.System, about.Newer.Id, dayOf(about.Newer.Ended), about.Older.Id, dayOf(about.Older.Ended), thousands(about.Came), thousands(about.Went), thousands(about.Changed))
		var attributes []string
		for _, a := range about.Attributes {
			attributes = append(attributes, fmt.Sprintf("%s %s", a.Value, thousands(a.Count)))
		}
		if len(attributes) > 0 {
			c.say("changed by attribute: %s", strings.Join(attributes, ", "))
		}
		return showList(c, v, []string{"what", "id", "who", "attribute", "old", "new"}, rows)
	})))
	cmd.Flags().Int64("with", 0, "the other roster; the one before when not given")
	cmd.Flags().String("kind", "", "came, went or changed")
	cmd.Flags().String("attribute", "", "only who changed in this attribute")
	return cmd
}

// recordChange is a line a changed attribute; who came or went is one line.
func recordChange(d apiclient.RecordChange) (rows [][]string) {
	label := value(d.Label)
	if d.Kind != apiclient.RecordChangeKindChanged {
		return [][]string{{string(d.Kind), d.Id, label, "", "", ""}}
	}
	for i, a := range d.Attributes {
		row := []string{"", "", "", a.Attribute, strings.Join(a.Old, "; "), strings.Join(a.New, "; ")}
		if i == 0 {
			row[0], row[1], row[2] = string(d.Kind), d.Id, label
		}
		rows = append(rows, row)
	}
	return rows
}

func newRosterHistory() *cobra.Command {
	cmd := running("history SYSTEM ID", "One record through time, or as it was on a day", exact("SYSTEM", "ID"), func(c *client, args []string) error {
		var v apiclient.RecordHistory
		res, err := c.GetRecordHistory(c.ctx, args[0], &apiclient.GetRecordHistoryParams{Id: args[1], At: c.given("at")})
		if err := ask(&v, res, err); err != nil {
			return err
		}
		var rows [][]string
		for _, x := range v.Versions {
			until := "now"
			if x.Until != nil {
				until = day(*x.Until)
			}
			rows = append(rows, []string{day(x.Since), until, nativeText(x.Values)})
		}
		return c.show(v, []string{"since", "until", "values"}, rows)
	})
	cmd.Flags().String("at", "", "a day (2026-11-25, its end) or an instant (2026-11-25T08:00:00Z)")
	return cmd
}

func newRosterExport() *cobra.Command {
	cmd := ofRoster("export", "Write the records of a roster, or some of them, to a file", func(c *client, id int64) error {
		skip, _ := c.cmd.Flags().GetInt("skip")
		first, _ := c.cmd.Flags().GetInt("first")
		native, people := c.on("native"), c.on("for-people")
		params := apiclient.ExportRosterParams{Columns: c.given("columns"), Q: c.given("search"), Skip: &skip, First: &first, Native: &native, Sheet: &people}
		if format := c.flag("format"); format != "" {
			f := apiclient.ExportRosterParamsFormat(format)
			params.Format = &f
		}
		res, err := c.ExportRoster(c.ctx, id, &params)
		return c.save(res, err)
	})
	f := cmd.Flags()
	f.String("format", "csv", "csv, jsonl, ldif, scim or xlsx")
	f.String("columns", "", "attributes in their order, separated by commas; all when not given")
	f.StringP("search", "q", "", "only records that hold this text")
	f.Int("skip", 0, "records to pass over")
	f.Int("first", 0, "at most so many; 0 all")
	f.Bool("native", false, "the system's own attributes and values")
	f.Bool("for-people", false, "for a spreadsheet: what it would run as a formula is defused")
	f.String("out", "", "file to write; standard output when not given, - for the name that the service gives")
	return cmd
}

// save writes a file that the service sends.
func (c *client) save(res *http.Response, err error) error {
	if err != nil {
		return ask(nil, res, err)
	}
	defer res.Body.Close() // read to its end
	if res.StatusCode >= 300 {
		return ask(nil, res, nil)
	}
	path := c.flag("out")
	if path == "" {
		_, err := io.Copy(raw(c.cmd.OutOrStdout()), res.Body)
		return err
	}
	if path == "-" {
		_, params, _ := mime.ParseMediaType(res.Header.Get("Content-Disposition"))
		path = strings.ReplaceAll(params["filename"], "/", "-")
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	n, err := io.Copy(f, res.Body)
	if closing := f.Close(); err == nil {
		err = closing
	}
	if err != nil {
		return fmt.Errorf("%s is not complete: %w; ask for it again", path, err)
	}
	c.say("%s bytes in %s", thousands(int(n)), path)
	return nil
}

func newCharterTemplate() *cobra.Command {
	cmd := running("template LANE", "A file for whoever keeps the list of people, with the columns that the charter needs", exact("LANE"), func(c *client, args []string) error {
		format := apiclient.GetTemplateParamsFormat(c.flag("format"))
		res, err := c.GetTemplate(c.ctx, args[0], &apiclient.GetTemplateParams{Format: &format})
		return c.save(res, err)
	})
	cmd.Flags().String("format", "text", "xlsx, csv, or text: what each column must hold, for a mail")
	cmd.Flags().String("out", "", "file to write; standard output when not given, - for the name that the service gives")
	return cmd
}
