package csvfile

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/document"
	"twinning/internal/core/record"
)

// Roster reads the file's records through a shape. Only the wanted canonical
// attributes are kept; nil wants all the shape has.
func (f *File) Roster(shape record.Shape, wanted []string) (*record.Roster, error) {
	if wanted == nil {
		wanted = shape.Canonical()
	}
	wanted = slices.DeleteFunc(slices.Clone(wanted), func(n string) bool { _, has := shape.Attributes[n]; return !has })
	if err := f.CheckShape(shape); err != nil {
		return nil, err
	}
	refs := shape.References(wanted)
	b := record.NewBuilder(append(wanted, refs.Keys...))
	b.Expect(f.Lines())
	names := b.Names()
	cols := make([]int, len(names))
	for i, name := range names {
		cols[i] = slices.Index(f.Header, refs.Shape.Attributes[name].Native)
	}
	reader := refs.Shape.NewReader(names)
	cells := make([]string, len(names))
	one := make([]string, 1)
	err := f.Each(func(row Row) error {
		if row.Fault != "" {
			return b.Reject(record.Rejection{Line: row.Line, Column: row.At, ID: TrustedID(row, cols[0]), Reason: row.Fault})
		}
		for i, col := range cols {
			one[0] = row.Cells[col]
			cell, err := reader.Cell(i, one)
			if err != nil {
				bad := err.(*record.ValueError) // Cell returns no other
				rej := record.Rejection{Line: row.Line, Column: bad.Native, Reason: bad.Reason}
				if i > 0 {
					rej.ID = cells[0]
				}
				return b.Reject(rej)
			}
			cells[i] = cell
		}
		if cells[0] == "" {
			return b.Reject(record.Rejection{Line: row.Line, Column: f.Header[cols[0]], Reason: "the id is blank"})
		}
		return b.AppendLine(row.Line, cells)
	})
	if err != nil {
		return nil, err
	}
	roster, err := b.Roster()
	if err == nil {
		roster.Resolve(refs)
	}
	return roster, err
}

// TrustedID is the id of a row whose other cells can't be trusted: only where
// the id comes before anything that may have shifted it.
func TrustedID(row Row, col int) string {
	if col != 0 || len(row.Cells) == 0 || strings.IndexByte(row.Cells[0], 0) >= 0 || len(row.Cells[0]) > 256 {
		return ""
	}
	return strings.TrimSpace(strings.ToValidUTF8(row.Cells[0], ""))
}

// CheckShape says which columns that the shape names are not in the file.
func (f *File) CheckShape(shape record.Shape) error {
	if shape.Attributes["id"].Native == "" {
		return fmt.Errorf("no column of this file is recognised as the id; the columns are %s. Name it in a shape file: `shape:` with `id: COLUMN` (twinning shape guess prints a first one)%s", strings.Join(f.Header, ", "), f.delimiterHint())
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
