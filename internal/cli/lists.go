package cli

import (
	"encoding/json"
	"maps"
	"net/http"

	"github.com/spf13/cobra"
)

// list is a page of a list, or with --all every one, as the service gives it.
type list[T any] struct {
	Items []T
	Next  *string
	Total *int
	rest  map[string]json.RawMessage // what else it says
}

// UnmarshalJSON keeps what it does not know.
func (l *list[T]) UnmarshalJSON(b []byte) error {
	known := struct {
		Items *[]T     `json:"items"`
		Next  **string `json:"cursor"`
		Total **int    `json:"total"`
	}{&l.Items, &l.Next, &l.Total}
	if err := json.Unmarshal(b, &known); err != nil {
		return err
	}
	if err := json.Unmarshal(b, &l.rest); err != nil {
		return err
	}
	for _, name := range []string{"items", "cursor", "total"} {
		delete(l.rest, name)
	}
	return nil
}

// MarshalJSON is the answer again.
func (l list[T]) MarshalJSON() ([]byte, error) {
	out := map[string]any{"items": append([]T{}, l.Items...)}
	for name, v := range maps.All(l.rest) {
		out[name] = v
	}
	if l.Next != nil {
		out["cursor"] = *l.Next
	}
	if l.Total != nil {
		out["total"] = *l.Total
	}
	return json.Marshal(out)
}

// said reads what else a list says.
func (l list[T]) said(name string, out any) error {
	if l.rest[name] == nil {
		return nil
	}
	return json.Unmarshal(l.rest[name], out)
}

const (
	usualPage = 50
	mostRows  = 500 // of one page
)

// pageFlags are those of every list that comes in pages.
func pageFlags(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().Int("limit", usualPage, "rows of a page, at most 500")
	cmd.Flags().String("cursor", "", "where to go on, as the last page said")
	cmd.Flags().Bool("all", false, "every page")
	sheetFlags(cmd, "write all of it into this file for people, .csv or .xlsx, instead of showing it")
	cmd.MarkFlagsMutuallyExclusive("all", "limit")
	cmd.PreRunE = func(cmd *cobra.Command, _ []string) error {
		if limit, _ := cmd.Flags().GetInt("limit"); limit < 1 || limit > mostRows {
			return misuse("--limit %d: expected 1 to %d; --all shows everything", limit, mostRows)
		}
		return nil
	}
	return cmd
}

// sheetFlags are those of every list that is written for people.
func sheetFlags(cmd *cobra.Command, what string) {
	cmd.Flags().String("sheet", "", what)
	if cmd.Flags().Lookup("delimiter") == nil { // one that reads files has it for them, too
		cmd.Flags().String("delimiter", ",", "of a .csv sheet: one character, or the word tab")
	}
	cmd.Flags().Bool("bom", false, "begin a .csv sheet with a byte order mark, by which some spreadsheets know UTF-8")
}

// searchFlag is for the lists whose text can be searched.
func searchFlag(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().StringP("search", "q", "", "only what holds this text")
	return cmd
}

// counted asks how many there are in all, where a part is shown.
func (c *client) counted() *bool {
	yes := !c.on("all") && c.flag("sheet") == ""
	return &yes
}

// gather reads the page that is asked for, or every one.
func gather[T any](c *client, every bool, get func(cursor *string, limit *int) (*http.Response, error)) (l list[T], err error) {
	limit, _ := c.cmd.Flags().GetInt("limit")
	if every = every || c.on("all") || c.flag("sheet") != ""; every {
		limit = mostRows
	}
	cursor := c.given("cursor")
	for first := true; ; first = false {
		var page list[T]
		res, err := get(cursor, &limit)
		if err := ask(&page, res, err); err != nil {
			return l, err
		}
		if first {
			l = page
		} else {
			l.Items, l.Next = append(l.Items, page.Items...), page.Next
		}
		if cursor = page.Next; cursor == nil || !every {
			return l, nil
		}
	}
}

// showList shows a list, and says when there is more than is shown.
func showList[T any](c *client, l list[T], header []string, rows [][]string) error {
	if path := c.flag("sheet"); path != "" {
		if err := c.writeSheet(path, header, rows); err != nil {
			return err
		}
		c.say("%s rows in %s", thousands(len(rows)), path)
		return nil
	}
	if err := c.show(l, header, rows); err != nil {
		return err
	}
	more(c, l)
	return nil
}

func more[T any](c *client, l list[T]) {
	switch {
	case l.Next == nil:
	case l.Total != nil:
		c.say("%s of %s shown; everything: --all; the next page: --cursor %s", thousands(len(l.Items)), thousands(*l.Total), *l.Next)
	default:
		c.say("%s shown, and there are more; everything: --all; the next page: --cursor %s", thousands(len(l.Items)), *l.Next)
	}
}
