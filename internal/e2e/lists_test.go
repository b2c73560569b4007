package e2e

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A list says when it is cut, is whole with --all in every output, and what is
// misspelt is no good news; what destroys says what goes and asks.
func TestListsAreWhole(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--name", "admin")
	var page struct {
		Items  []struct{ ID string }
		Total  int
		Cursor *string
	}
	h.twinning(3, "reconcile", "hq-dome-booking")
	read := func(text string) {
		page.Cursor = nil
		require.NoError(t, json.Unmarshal([]byte(text[:strings.LastIndex(text, "}")+1]), &page), text)
	}
	read(h.twinning(0, "twin", "list", "hq-dome-booking", "--limit", "5", "-o", "json"))
	require.Len(t, page.Items, 5)
	require.Greater(t, page.Total, 100)
	total := page.Total
	require.Contains(t, h.twinning(0, "twin", "list", "hq-dome-booking", "--limit", "5"), fmt.Sprintf("5 of %d shown; everything: --all; the next page: --cursor %s", total, *page.Cursor))
	read(h.twinning(0, "twin", "list", "hq-dome-booking", "--all", "-o", "json"))
	require.Len(t, page.Items, total)
	require.Nil(t, page.Cursor)
	require.Equal(t, total+1, strings.Count(h.twinning(0, "twin", "list", "hq-dome-booking", "--all", "-o", "csv"), "\n"))
	lines := strings.Split(h.twinning(0, "twin", "list", "hq-dome-booking", "--limit", "2", "-o", "csv"), "\n")
	require.Equal(t, "basis,id,label,login,note,side,state,twin,twinLabel", lines[0])
	require.NotContains(t, lines[1], "●")
	for _, kind := range []string{".csv", ".xlsx"} {
		sheet := filepath.Join(h.app.Service.DataDir, "files", "twins"+kind)
		require.Contains(t, h.twinning(0, "twin", "list", "hq-dome-booking", "--sheet", sheet), fmt.Sprintf("%d rows in ", total))
		h.twinning(0, "system", "put", "sheet", "--kind", "file", "--set", "path="+sheet, "--set", "id=id")
		require.Contains(t, h.twinning(0, "roster", "take", "sheet"), fmt.Sprintf("taken      %d         0", total), "what one command writes another reads")
	}
	require.Contains(t, h.twinning(2, "twin", "list", "hq-dome-booking", "--sheet", "x.pdf"), "ends in .csv or .xlsx")
	require.Contains(t, h.twinning(0, "task", "list", "--limit", "2"), "2 shown, and there are more; everything: --all")
	require.NotContains(t, h.twinning(0, "task", "list", "--all"), "more")

	require.Contains(t, h.twinning(1, "twin", "list", "hq-dome-booking", "--state", "contestd"), `there is no "contestd" (did you mean "contested"?)`)
	require.Contains(t, h.twinning(1, "finding", "list", "hq-dome-booking", "--code", "orphan"), "expected one of orphan-account")
	require.Contains(t, h.twinning(1, "finding", "accept", "hq-dome-booking", "nothing-of-the-kind"), "has no finding")
	require.Contains(t, h.twinning(1, "system", "preview", "hq", "--pick", "Foo=email"), `there is no column "Foo"`)
	require.Contains(t, h.twinning(2, "task", "list", "-q", "x"), "unknown shorthand flag")

	require.Contains(t, h.twinning(0, "__complete", "lane", "show", ""), "hq-dome-booking\thq into dome-booking")
	require.Contains(t, h.twinning(0, "__complete", "roster", "take", ""), "mail-gate")
	require.Contains(t, h.twinning(0, "__complete", "finding", "list", "hq-dome-booking", "--code", ""), "orphan-account")
	out := h.twinning(2, "lane", "remove", "hq-dome-booking")
	require.Contains(t, out, "rulings")
	require.Contains(t, out, "Nothing was done; say --yes")
	h.twinning(0, "lane", "show", "hq-dome-booking")
	require.Contains(t, h.twinning(2, "user", "remove", "admin"), "Nothing was done")
	require.Contains(t, h.twinning(0, "run", "list", "1", "-o", "json"), `"plan": 1`)
}
