package csvfile

import (
	"encoding/csv"
	"io"
	"slices"
	"strings"

	"twinning/internal/format"
)

// Table is a delimited text as a format.File.
type Table struct {
	*File
	// Restore takes back what a spreadsheet export defused.
	Restore bool
}

// About as format.File has it.
func (t Table) About() format.About {
	return format.About{Format: "csv", Encoding: t.Encoding, Delimiter: string(t.Delimiter), Above: t.Above}
}

// Natives are the columns.
func (t Table) Natives() []string { return t.Header }

// Expected counts the lines.
func (t Table) Expected() int { return t.Lines() }

// Each calls fn for every row. Of a row that can't be trusted, the first cell
// is certain: nothing before it can have shifted it.
func (t Table) Each(fn func(format.Row) error) error {
	return t.File.Each(func(row Row) error {
		out := format.Row{Line: row.Line, Values: make(map[string][]string, len(row.Cells)), Fault: row.Fault, At: row.At, Swallows: row.Swallows, Foot: row.Foot}
		if row.Header {
			out.LeftOut = format.HeaderAgain
			return fn(out)
		}
		if row.Fault != "" {
			if id := TrustedID(row, 0); id != "" && len(t.Header) > 0 {
				out.Values[t.Header[0]] = []string{id}
			}
			return fn(out)
		}
		for i, cell := range row.Cells {
			if cell == "" || t.Header[i] == "" {
				continue
			}
			if t.Restore {
				cell = format.Restore(cell)
			}
			out.Values[t.Header[i]] = []string{strings.Clone(cell)}
		}
		return fn(out)
	})
}

type writer struct {
	w       *csv.Writer
	columns []string
	defuse  bool
}

// NewWriter writes a header and records (RFC 4180); lists are joined by
// format.ListSeparator. For people, cells that a spreadsheet would run are
// defused; files for systems are never altered.
func NewWriter(w io.Writer, columns []string, how format.Writing) (format.Writer, error) {
	if how.BOM {
		if _, err := io.WriteString(w, "\ufeff"); err != nil {
			return nil, err
		}
	}
	defuse := how.People
	x := &writer{csv.NewWriter(w), columns, defuse}
	if how.Delimiter != 0 {
		x.w.Comma = how.Delimiter
	}
	header := slices.Clone(columns)
	for i := range header {
		if defuse {
			header[i] = format.Defuse(header[i])
		}
	}
	return x, x.w.Write(header)
}

func (w *writer) Write(values map[string][]string) error {
	cells := make([]string, len(w.columns))
	for i, c := range w.columns {
		cells[i] = strings.Join(values[c], format.ListSeparator)
		if w.defuse {
			cells[i] = format.Defuse(cells[i])
		}
	}
	return w.w.Write(cells)
}

func (w *writer) Close() error {
	w.w.Flush()
	return w.w.Error()
}
