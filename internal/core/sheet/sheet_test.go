package sheet_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"twinning/internal/core/record"
	"twinning/internal/core/sheet"
)

var known = []string{"id", "userName", "displayName", "title", "employeeNumber", "startsOn", "active", "groups"}

// Every line: what an attribute was, what the cell holds now, and what is made of it.
func TestCells(t *testing.T) {
	for line := range strings.Lines(`
title          | Cook        | Cook                | -
title          | Cook        |                     | -
title          | Cook        | Chef                | title "Cook" → "Chef"
title          | Cook        | (clear)             | title "Cook" → ""
title          |             | Cook                | title "" → "Cook"
title          | 1-2         | 1-Feb               | refused: "1-Feb" is a day that the spreadsheet has made of something else; format the column as text, and type it anew
title          | #4          | #N/A                | refused: "#N/A" is what a formula that failed shows
title          | Jörg        | J?rg                | refused: "J?rg" is what it was, "Jörg", with something lost: letters are lost to question marks
employeeNumber | 0042        | 42                  | refused: "42" is what it was, "0042", with something lost: zeros are lost
employeeNumber | 0042        | 0043                | employeeNumber "0042" → "0043"
employeeNumber | 12          | 1.2E+11             | refused: "1.2E+11" is a number that the spreadsheet has shortened; format the column as text, and type it anew
startsOn       | 2026-12-01  | 01.12.2026          | -
startsOn       | 2026-12-01  | 12/1/2026           | -
startsOn       | 2026-12-01  | 2.12.2026           | refused: "2.12.2026" is a day in another form; write it as 2026-12-31
startsOn       | 2026-12-01  | 2026-12-02          | startsOn "2026-12-01" → "2026-12-02"
startsOn       | 2026-12-01  | ####                | refused: "####" is what a column shows that is too narrow
active         | true        | TRUE                | -
active         | true        | FALSE               | active "true" → "false"
groups         | crew; press | press; crew         | -
groups         | crew; press | crew; news          | groups + news - press
groups         | crew; press | (clear)             | groups - crew,press
`) {
		cells := strings.Split(line, "|")
		if len(cells) != 4 {
			continue
		}
		for i := range cells {
			cells[i] = strings.TrimSpace(cells[i])
		}
		l, problems := sheet.Read([]string{"id (identifies)", cells[0], "was: " + cells[0]}, known)
		require.Empty(t, problems)
		r := l.Row(map[string]string{"id (identifies)": "u1", cells[0]: cells[2], "was: " + cells[0]: cells[1]})
		got := "-"
		switch {
		case len(r.Refused) > 0:
			got = "refused: " + r.Refused[0].Reason
		case len(r.Values) > 0 && record.KindOf(cells[0]).Multi():
			got = strings.TrimSpace(cells[0])
			if v := r.Values[0]; len(v.Adds) > 0 {
				got += " + " + strings.Join(v.Adds, ",")
			}
			if v := r.Values[0]; len(v.Takes) > 0 {
				got += " - " + strings.Join(v.Takes, ",")
			}
		case len(r.Values) > 0:
			got = fmt.Sprintf("%s %q → %q", r.Values[0].Attribute, *r.Values[0].Old, r.Values[0].New)
		}
		require.Equal(t, cells[3], got, line)
	}
}

func TestHeadings(t *testing.T) {
	for header, want := range map[string]string{
		"id (identifies),title,was: title,note":       "",
		"userName (identifies),action":                "",
		"id,title":                                    "line 1, column 1: no column says whose a row is; write (identifies) behind the heading of the one that does, such as id (identifies)",
		"id (identifies),whose,note":                  "line 1, column 1: no column can be edited; expected attributes of accounts, such as title, or action",
		"id (identifies),userName (identifies),title": `line 1, column 2: two columns identify, "id (identifies)" and "userName (identifies)"; one says whose a row is`,
		"title (identifies),userName":                 "title",
		"id (identifies),title,title":                 `line 1, column 3: the column "title" stands twice`,
	} {
		_, problems := sheet.Read(strings.Split(header, ","), known)
		if want == "" {
			require.Empty(t, problems, header)
			continue
		}
		require.Contains(t, problems.Error(), want, header)
	}
}

// What goes out and comes back untouched asks for nothing, whatever the values are.
func TestUntouched(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		header, cells := sheet.Header(known[3:]), map[string]string{}
		l, problems := sheet.Read(header, known)
		require.Empty(t, problems)
		cells["id (identifies)"] = "u1"
		for _, a := range known[3:] {
			list := rapid.SliceOfN(rapid.StringMatching(`[A-Za-zéЖ0-9.,;:?#+=@ /-]{0,12}`), 0, 3).Draw(t, a)
			cells[a] = sheet.Cell(list)
			cells["was: "+a] = cells[a]
		}
		r := l.Row(cells)
		require.False(t, r.Asks(), "%v", cells)
		require.Empty(t, r.Refused)
	})
}
