package template

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"twinning/internal/format"
	"twinning/internal/format/anyfile"
)

var columns = []format.Wanted{
	{Native: "Staff no.", Required: true, Form: "different for everybody", Example: "L0001"},
	{Native: "Status", Form: "one of the allowed values", Allowed: []string{"A", "L"}, Example: "A"},
	{Native: "Remark", Form: "text", Known: []string{"night"}, Example: "=1+1"},
}

// What goes out as an empty list comes back as a list of one example.
func TestTemplates(t *testing.T) {
	for _, kind := range []string{"csv", "xlsx"} {
		var b bytes.Buffer
		require.NoError(t, Write(&b, kind, columns))
		f, err := anyfile.Open(bytes.NewReader(b.Bytes()), anyfile.Options{})
		require.NoError(t, err)
		require.Equal(t, []string{"Staff no.", "Status", "Remark"}, f.Natives(), kind)
		var rows []map[string][]string
		require.NoError(t, f.Each(func(r format.Row) error { rows = append(rows, r.Values); return nil }))
		require.Equal(t, []map[string][]string{{"Staff no.": {"L0001"}, "Status": {"A"}, "Remark": {"=1+1"}}}, rows, "an example is unharmed, whatever a spreadsheet might make of it")
	}
	var text bytes.Buffer
	require.NoError(t, Write(&text, "text", columns))
	require.Equal(t, "column     required  form                                    example\n"+
		"Staff no.  yes       different for everybody                 L0001\n"+
		"Status     -         A or L                                  A\n"+
		"Remark     -         text; with a meaning of its own: night  =1+1\n", text.String())
	require.ErrorContains(t, Write(&text, "pdf", columns), "xlsx, csv, text")
}

// The workbook marks what is required, lets allowed values be picked, keeps
// zeros in front of numbers, and explains itself on a second sheet.
func TestWorkbook(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, Write(&b, "xlsx", columns))
	book, err := excelize.OpenReader(&b)
	require.NoError(t, err)
	defer func() { require.NoError(t, book.Close()) }()
	require.Equal(t, []string{"people", "guide"}, book.GetSheetList())
	bold := func(cell string) bool {
		id, err := book.GetCellStyle("people", cell)
		require.NoError(t, err)
		style, err := book.GetStyle(id)
		require.NoError(t, err)
		return style.Font != nil && style.Font.Bold
	}
	require.True(t, bold("A1"))
	require.False(t, bold("B1"))
	rules, err := book.GetDataValidations("people")
	require.NoError(t, err)
	require.Len(t, rules, 1)
	require.Equal(t, "B2:B5000", rules[0].Sqref)
	require.Contains(t, rules[0].Formula1, "A,L")
	guide, err := book.GetRows("guide")
	require.NoError(t, err)
	require.Equal(t, []string{"Staff no.", "required", "different for everybody", "L0001"}, guide[1])
	formula, err := book.GetCellFormula("people", "C2")
	require.NoError(t, err)
	require.Empty(t, formula, "an example is never run")
}
