package csvfile

import (
	"bufio"
	"cmp"
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
	row     func(cells []string) error
	end     func() error
	columns []string
}

// NewWriter writes a header and records (RFC 4180); lists are joined by
// format.ListSeparator. For people, cells are quoted, and those that a spreadsheet would run
// are defused; files for systems are never altered.
func NewWriter(w io.Writer, columns []string, how format.Writing) (format.Writer, error) {
	if how.BOM {
		if _, err := io.WriteString(w, "\ufeff"); err != nil {
			return nil, err
		}
	}
	delimiter := cmp.Or(how.Delimiter, ',')
	x := &writer{columns: columns}
	if how.People {
		b := bufio.NewWriter(w)
		var row []byte
		x.row = func(cells []string) error {
			for i := range cells {
				cells[i] = format.Defuse(cells[i])
			}
			row = format.AppendRow(row[:0], byte(delimiter), cells...)
			_, err := b.Write(row)
			return err
		}
		x.end = b.Flush
	} else {
		c := csv.NewWriter(w)
		c.Comma = delimiter
		x.row = c.Write
		x.end = func() error {
			c.Flush()
			return c.Error()
		}
	}
	return x, x.row(slices.Clone(columns))
}

func (w *writer) Write(values map[string][]string) error {
	cells := make([]string, len(w.columns))
	for i, c := range w.columns {
		cells[i] = strings.Join(values[c], format.ListSeparator)
	}
	return w.row(cells)
}

func (w *writer) Close() error { return w.end() }
