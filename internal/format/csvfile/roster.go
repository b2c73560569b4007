package csvfile

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/document"
	"twinning/internal/core/record"
	"twinning/internal/format"
)

// Roster reads the file's records through a shape. Only the wanted canonical
// attributes are kept; nil wants all the shape has.
func (f *File) Roster(shape record.Shape, wanted []string) (*record.Roster, error) {
	if err := f.CheckShape(shape); err != nil {
		return nil, err
	}
	l := shape.NewLoader(wanted)
	l.Expect(f.Lines())
	cols := make([]int, len(l.Names()))
	for i := range cols {
		cols[i] = slices.Index(f.Header, l.Native(i))
	}
	one := make([]string, 1)
	err := f.Each(func(row Row) error {
		switch {
		case row.Header:
			return l.LeaveOut(record.Gap{Kind: record.NoRecord, Reason: format.HeaderAgain, What: fmt.Sprintf("line %d", row.Line)})
		case row.Foot && shape.LeaveUnnamed:
			return l.LeaveOut(record.Gap{Kind: record.NoRecord, Reason: format.FootOfTable, What: fmt.Sprintf("line %d", row.Line)})
		case row.Fault != "":
			return l.Reject(record.Rejection{Line: row.Line, Column: row.At, ID: TrustedID(row, cols[0]), Reason: row.Fault, Swallows: row.Swallows})
		}
		return l.Add(row.Line, func(i int) []string {
			one[0] = row.Cells[cols[i]]
			return one
		})
	})
	if err != nil {
		return nil, err
	}
	return l.Roster()
}

// TrustedID is the id of a row whose other cells can't be trusted: only where
// the id comes before anything that may have shifted it.
func TrustedID(row Row, col int) string {
	if col != 0 || row.Foot || len(row.Cells) == 0 || strings.IndexByte(row.Cells[0], 0) >= 0 || len(row.Cells[0]) > 256 {
		return ""
	}
	return strings.TrimSpace(strings.ToValidUTF8(row.Cells[0], ""))
}

// CheckShape says which columns that the shape names are not in the file.
func (f *File) CheckShape(shape record.Shape) error {
	if shape.Attributes["id"].Native == "" {
		return fmt.Errorf("no column of this file is recognised as the id; the columns are %s. Name it in a shape file: `shape:` with `id: COLUMN` (twinning shape guess prints a first one)%s", strings.Join(f.Header, ", "), f.delimiterHint())
	}
	if err := format.Ambiguous(f.Header, shape.Uses); err != nil {
		return err
	}
	var missing []string
	for _, name := range shape.Canonical() {
		src := shape.Attributes[name]
		natives := []string{src.Native}
		if src.Refers != "" {
			natives = append(natives, src.Refers)
		}
		for _, native := range natives {
			if !slices.Contains(f.Header, native) {
				missing = append(missing, fmt.Sprintf("%q (for %s)%s", native, name, document.Suggest(native, f.Header)))
			}
		}
	}
	if len(missing) > 0 {
		return fmt.Errorf("the shape names columns that the file lacks: %s; the columns are %s%s", strings.Join(missing, ", "), strings.Join(f.Header, ", "), f.delimiterHint())
	}
	return nil
}

func (f *File) delimiterHint() string {
	if len(f.Header) != 1 {
		return ""
	}
	return fmt.Sprintf(". The whole header reads as one column with the delimiter %q; is it another?", f.Delimiter)
}
