// Package xlsx reads and writes spreadsheet workbooks (Office Open XML) by a
// library: one sheet, the first row with content naming the columns.
//
// A spreadsheet has often changed what was typed into it: leading zeros are
// gone from numbers, and nothing here can bring them back. Dates come as
// calendar days where the cell is formatted as one.
package xlsx

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"twinning/internal/format"
)

// unpacked bounds what a workbook may become in memory.
const unpacked = 512 << 20

var options = excelize.Options{UnzipSizeLimit: unpacked, UnzipXMLSizeLimit: unpacked, ShortDatePattern: "yyyy-mm-dd", LongDatePattern: "yyyy-mm-dd"}

// File is an open sheet.
type File struct {
	book   *excelize.File
	sheet  string
	header []string
	first  int // row of the header
	rows   int
}

// Open takes a workbook and one of its sheets, the first when none is named.
func Open(body []byte, sheet string) (*File, error) {
	book, err := excelize.OpenReader(bytes.NewReader(body), options)
	if err != nil {
		return nil, fmt.Errorf("the workbook can't be opened: %w", err)
	}
	sheets := book.GetSheetList()
	if sheet == "" && len(sheets) > 0 {
		sheet = sheets[0]
	}
	if !slices.Contains(sheets, sheet) {
		return nil, fmt.Errorf("the workbook has no sheet %q; it has %s", sheet, strings.Join(sheets, ", "))
	}
	f := &File{book: book, sheet: sheet}
	err = f.each(func(n int, cells []string) error {
		f.rows = n
		if f.header != nil {
			return nil
		}
		for _, c := range cells {
			name := strings.TrimSpace(c)
			if name != "" && slices.Contains(f.header, name) {
				return fmt.Errorf("row %d names column %q twice; each column needs a name of its own", n, name)
			}
			f.header = append(f.header, name)
		}
		f.first = n
		return nil
	})
	if err == nil && f.header == nil {
		err = fmt.Errorf("the sheet %q is empty; expected a row of column names and records below it", sheet)
	}
	return f, err
}

// each gives every row with content.
func (f *File) each(fn func(n int, cells []string) error) error {
	rows, err := f.book.Rows(f.sheet)
	if err != nil {
		return err
	}
	defer rows.Close() // only read
	for n := 1; rows.Next(); n++ {
		cells, err := rows.Columns()
		if err != nil {
			return fmt.Errorf("row %d of sheet %q can't be read: %w", n, f.sheet, err)
		}
		if !slices.ContainsFunc(cells, func(c string) bool { return strings.TrimSpace(c) != "" }) {
			continue
		}
		if err := fn(n, cells); err != nil {
			return err
		}
	}
	return rows.Error()
}

// About as format.File has it.
func (f *File) About() format.About { return format.About{Format: "xlsx", Sheet: f.sheet} }

// Natives are the columns.
func (f *File) Natives() []string { return f.header }

// Expected counts the rows below the header.
func (f *File) Expected() int { return f.rows - f.first }

// Each calls fn for every row below the header.
func (f *File) Each(fn func(format.Row) error) error {
	any := false
	err := f.each(func(n int, cells []string) error {
		if n <= f.first {
			return nil
		}
		any = true
		row := format.Row{Line: n, Values: map[string][]string{}}
		for i, c := range cells {
			if strings.Contains(c, "E+") { // a long number, shown shortened
				if raw, err := f.raw(i, n); err == nil {
					c = raw
				}
			}
			switch {
			case strings.TrimSpace(c) == "":
			case i >= len(f.header) || f.header[i] == "":
				if row.Fault == "" {
					row.Fault = fmt.Sprintf("cell %s stands in a column without a name", cellName(i, n))
				}
			case strings.HasPrefix(c, "#") && slices.Contains(faults, c):
				row.Fault, row.At = fmt.Sprintf("cell %s shows %s: its formula has failed", cellName(i, n), c), f.header[i]
			default:
				row.Values[f.header[i]] = []string{format.Restore(c)}
			}
		}
		return fn(row)
	})
	if err == nil && !any {
		err = errors.New("the sheet has column names but no records; an empty list is never taken for \"everybody left\"")
	}
	return err
}

// faults are what a failed formula shows.
var faults = []string{"#REF!", "#N/A", "#VALUE!", "#NAME?", "#DIV/0!", "#NUM!", "#NULL!"}

func cellName(column, row int) string {
	name, err := excelize.CoordinatesToCellName(column+1, row)
	if err != nil {
		return fmt.Sprintf("%d in row %d", column+1, row)
	}
	return name
}

func (f *File) raw(column, row int) (string, error) {
	raw := options
	raw.RawCellValue = true
	return f.book.GetCellValue(f.sheet, cellName(column, row), raw)
}

type writer struct {
	w       io.Writer
	book    *excelize.File
	stream  *excelize.StreamWriter
	columns []string
	row     int
}

// NewWriter writes a sheet with the columns; every cell is text, so nothing is
// run as a formula and no zero is lost.
func NewWriter(w io.Writer, columns []string) (format.Writer, error) {
	book := excelize.NewFile()
	stream, err := book.NewStreamWriter("Sheet1")
	if err != nil {
		return nil, err
	}
	x := &writer{w: w, book: book, stream: stream, columns: columns}
	return x, x.add(func(c string) string { return c })
}

func (w *writer) add(cell func(column string) string) error {
	w.row++
	cells := make([]any, len(w.columns))
	for i, c := range w.columns {
		cells[i] = cell(c)
	}
	return w.stream.SetRow(fmt.Sprintf("A%d", w.row), cells)
}

func (w *writer) Write(values map[string][]string) error {
	return w.add(func(c string) string { return format.Defuse(strings.Join(values[c], format.ListSeparator)) })
}

func (w *writer) Close() error {
	if err := w.stream.Flush(); err != nil {
		return err
	}
	return w.book.Write(w.w)
}
