// Package xlsx reads and writes spreadsheet workbooks (Office Open XML) by a
// library: one sheet, the first row with content naming the columns.
//
// A spreadsheet has often changed what was typed into it: leading zeros are
// gone from numbers, and nothing here can bring them back. Dates come as
// calendar days where the cell is formatted as one.
package xlsx

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"twinning/internal/core/budget"
	"twinning/internal/format"
)

// inMemory is how much of one part of a workbook is held in memory; a larger part
// is unpacked into a file.
const inMemory = 8 << 20

func options() excelize.Options {
	return excelize.Options{UnzipSizeLimit: budget.Workbook.Value(), UnzipXMLSizeLimit: inMemory, ShortDatePattern: "yyyy-mm-dd", LongDatePattern: "yyyy-mm-dd"}
}

// File is an open sheet.
type File struct {
	book   *excelize.File
	sheet  string
	header []string
	first  int      // row of the header
	above  []string // titles over it
	rows   int
}

// Open takes a workbook and one of its sheets, the first when none is named.
func Open(body []byte, sheet string) (*File, error) {
	if err := unpacks(body); err != nil {
		return nil, err
	}
	book, err := excelize.OpenReader(bytes.NewReader(body), options())
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
	var titles []string // rows of one text alone, above the header
	err = f.each(func(n int, cells []string) (err error) {
		several := format.Named(cells) > 1
		if several || f.first == 0 { // a list of one column has its header in the first row
			if f.header, err = format.Headings(cells); err != nil && several {
				return err
			}
			f.first = n
		}
		if several {
			f.above = titles
		}
		if titles = append(titles, strings.TrimSpace(strings.Join(cells, " "))); several || len(titles) == format.StrayLines {
			return io.EOF
		}
		return nil
	})
	if errors.Is(err, io.EOF) {
		err = nil
	}
	if err == nil && f.header == nil {
		err = fmt.Errorf("the sheet %q is empty; expected a row of column names and records below it", sheet)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	f.rows = lastRow(book, sheet)
	return f, nil
}

// lastRow is the last row that the sheet says it has; 0 when it does not say.
func lastRow(book *excelize.File, sheet string) int {
	dimension, err := book.GetSheetDimension(sheet)
	if err != nil {
		return 0
	}
	_, last, _ := strings.Cut(dimension, ":")
	_, row, err := excelize.CellNameToCoordinates(last)
	if err != nil {
		return 0
	}
	return row
}

// unpacks looks at what the parts of a workbook say they become. The library
// holds them to it.
func unpacks(body []byte) error {
	z, err := zip.NewReader(bytes.NewReader(body), int64(len(body)))
	if err != nil {
		return fmt.Errorf("the workbook can't be opened: %w", err)
	}
	total := uint64(0)
	for _, part := range z.File {
		if total += part.UncompressedSize64; part.UncompressedSize64 > 1<<40 || total > 1<<40 {
			break
		}
	}
	size := int64(min(total, 1<<40))
	if err := budget.Workbook.Over(size, "the unpacked workbook"); err != nil {
		return err
	}
	if size > freely {
		return budget.Ratio.Over(size/int64(max(len(body), 1)), "the workbook")
	}
	return nil
}

// freely is what a workbook may become however small it is.
const freely = 16 << 20

// Close removes what was unpacked into files.
func (f *File) Close() error { return f.book.Close() }

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
		for len(cells) > 0 && strings.TrimSpace(cells[len(cells)-1]) == "" {
			cells = cells[:len(cells)-1]
		}
		if err := budget.Columns.Over(int64(len(cells)), fmt.Sprintf("row %d with %d cells", n, len(cells))); err != nil {
			return err
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
func (f *File) About() format.About {
	return format.About{Format: "xlsx", Sheet: f.sheet, Above: f.above}
}

// Natives are the columns.
func (f *File) Natives() []string { return f.header }

// Expected counts the rows below the header.
func (f *File) Expected() int { return max(f.rows-f.first, 0) }

// Each calls fn for every row below the header.
func (f *File) Each(fn func(format.Row) error) error {
	any := false
	err := f.each(func(n int, cells []string) error {
		if n <= f.first {
			return nil
		}
		any = true
		row := format.Row{Line: n, Values: map[string][]string{}}
		if again, reordered := format.RepeatsHeader(f.header, cells); reordered {
			return fmt.Errorf("row %d names the columns once more, in another order; were two sheets joined?", n)
		} else if again {
			row.LeftOut = format.HeaderAgain
			return fn(row)
		}
		if format.LooksLikeFoot(cells) {
			row.Foot, row.Fault = true, format.FootOfTable
			return fn(row)
		}
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
	raw := options()
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

// WriteTemplate writes a book with an empty list, its required columns marked
// and its allowed values to be picked, and a sheet that explains it.
func WriteTemplate(w io.Writer, columns []format.Wanted) error {
	book := excelize.NewFile()
	defer book.Close() // written before
	const list, guide, rows = "people", "guide", 5000
	if err := book.SetSheetName("Sheet1", list); err != nil {
		return err
	}
	if _, err := book.NewSheet(guide); err != nil {
		return err
	}
	edge := []excelize.Border{{Type: "bottom", Style: 1, Color: "333333"}}
	plain, err := book.NewStyle(&excelize.Style{Font: &excelize.Font{Italic: true}, Border: edge})
	if err != nil {
		return err
	}
	marked, err := book.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}, Border: edge, Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"E4E0F2"}}})
	if err != nil {
		return err
	}
	text, err := book.NewStyle(&excelize.Style{NumFmt: 49}) // as text: no zero is lost, no date is turned
	if err != nil {
		return err
	}
	var errs []error
	put := func(sheet string, column, row int, v string, style int) {
		cell := cellName(column, row)
		errs = append(errs, book.SetCellStr(sheet, cell, v), book.SetCellStyle(sheet, cell, cell, style))
	}
	for i, head := range []string{"column", "required", "what it must hold", "example"} {
		put(guide, i, 1, head, marked)
	}
	for i, c := range columns {
		name, err := excelize.ColumnNumberToName(i + 1)
		if err != nil {
			return err
		}
		errs = append(errs, book.SetColStyle(list, name, text), book.SetColWidth(list, name, name, float64(max(12, len(c.Native)+2, len(c.Example)+2))))
		put(list, i, 1, c.Native, map[bool]int{true: marked, false: plain}[c.Required])
		put(list, i, 2, format.Defuse(c.Example), text)
		if len(c.Allowed) > 0 {
			v := excelize.NewDataValidation(!c.Required)
			v.SetSqref(fmt.Sprintf("%s2:%s%d", name, name, rows))
			v.SetError(excelize.DataValidationErrorStyleStop, c.Native, "one of "+strings.Join(c.Allowed, ", "))
			errs = append(errs, v.SetDropList(c.Allowed), book.AddDataValidation(list, v))
		}
		put(guide, 0, i+2, c.Native, text)
		put(guide, 1, i+2, map[bool]string{true: "required", false: "may be empty"}[c.Required], text)
		put(guide, 2, i+2, c.Explain(), text)
		put(guide, 3, i+2, c.Example, text)
	}
	errs = append(errs, book.SetColWidth(guide, "A", "B", 16), book.SetColWidth(guide, "C", "C", 60), book.SetColWidth(guide, "D", "D", 34),
		book.SetPanes(list, &excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}))
	if err := errors.Join(errs...); err != nil {
		return err
	}
	return book.Write(w)
}
