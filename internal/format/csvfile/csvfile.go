// Package csvfile reads and writes delimited text (RFC 4180) as people really
// send it: delimiter and encoding are found out unless given, the first row
// names the columns, and a row that can't be read is told with its line and
// never quietly dropped.
package csvfile

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"twinning/internal/core/budget"
	"twinning/internal/format"
)

// Options say what is known beforehand; zero values are found out.
type Options struct {
	Delimiter rune   // one of , ; | or tab
	Encoding  string // utf-8, utf-16, latin-1 or windows-1252
}

// File is one delimited text in memory with what was found out about it.
type File struct {
	Header    []string
	Delimiter rune
	Encoding  string
	Above     []string // stray lines above the header: a title, a version
	body      []byte
	valid     bool // known to be valid UTF-8
	clean     bool // valid UTF-8 without NUL bytes: rows need no look of their own
}

// Open reads the whole of r (gzip-compressed or not) and its header row.
func Open(r io.Reader, opt Options) (*File, error) {
	raw, _, err := ReadAll(r)
	if err != nil {
		return nil, err
	}
	return Parse(raw, opt)
}

// Parse is Open for a text that is in memory.
func Parse(raw []byte, opt Options) (*File, error) {
	f := &File{}
	if err := f.decode(raw, opt.Encoding); err != nil {
		return nil, err
	}
	if len(bytes.TrimSpace(f.body)) == 0 {
		return nil, errors.New("the file is empty; expected a header row and at least one record")
	}
	f.Delimiter = opt.Delimiter
	if f.Delimiter == 0 {
		f.Delimiter = findDelimiter(f.body)
	}
	rows, _ := f.reader()
	header, above, err := readHeader(rows)
	if err != nil {
		return nil, fmt.Errorf("the header row can't be read: %w", err)
	}
	f.Above = above
	if f.Header, err = format.Headings(header); err != nil {
		return nil, err
	}
	f.clean = (f.valid || utf8.Valid(f.body)) && bytes.IndexByte(f.body, 0) < 0
	return f, nil
}

// ReadAll reads a file, decompressed if it is compressed by gzip.
func ReadAll(r io.Reader) (body []byte, compressed bool, err error) {
	src, compressed, err := format.Unpack(r)
	if err != nil {
		return nil, compressed, err
	}
	var buf bytes.Buffer
	if sized, ok := r.(interface{ Size() int64 }); ok {
		buf.Grow(int(min(sized.Size(), budget.Unpacked.Value())) + 512)
	}
	if _, err := buf.ReadFrom(src); err != nil {
		return nil, compressed, Cut(err)
	}
	return buf.Bytes(), compressed, nil
}

// Cut tells a file that ends too early from one that is too large.
func Cut(err error) error {
	var over *budget.Error
	if errors.As(err, &over) {
		return err
	}
	return fmt.Errorf("the file ends before it should: %w", err)
}

func (f *File) decode(raw []byte, want string) error {
	switch {
	case bytes.HasPrefix(raw, []byte{0xef, 0xbb, 0xbf}):
		raw, f.Encoding = raw[3:], "utf-8"
	case bytes.HasPrefix(raw, []byte{0xff, 0xfe}), bytes.HasPrefix(raw, []byte{0xfe, 0xff}):
		f.Encoding = "utf-16"
	case want != "":
		f.Encoding = want
	case utf8.Valid(raw):
		f.Encoding, f.valid = "utf-8", true
	default:
		// Windows-1252 is a superset of Latin-1's printable part. A text that is
		// mostly valid UTF-8 is a damaged UTF-8 file instead: its bad rows are
		// rejected one by one.
		f.Encoding = "windows-1252"
		if mostlyUTF8(raw) {
			f.Encoding = "utf-8"
		}
	}
	var enc encoding.Encoding
	switch strings.ToLower(f.Encoding) {
	case "utf-8", "utf8":
		f.Encoding, f.body = "utf-8", raw
		return nil
	case "utf-16", "utf16":
		enc = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM)
	case "latin-1", "latin1", "iso-8859-1":
		enc = charmap.ISO8859_1
	case "windows-1252", "cp1252":
		enc = charmap.Windows1252
	default:
		return fmt.Errorf("encoding %q is not known; expected utf-8, utf-16, latin-1 or windows-1252", want)
	}
	if err := budget.Converted.Over(int64(len(raw)), "a text of "+f.Encoding); err != nil {
		return err
	}
	text, err := enc.NewDecoder().Bytes(raw)
	if err != nil {
		return fmt.Errorf("the file is not %s: %w", f.Encoding, err)
	}
	f.body = text
	return nil
}

// mostlyUTF8: at least as many well-formed multi-byte characters as bad bytes.
func mostlyUTF8(raw []byte) bool {
	good, bad := 0, 0
	for len(raw) > 0 {
		r, size := utf8.DecodeRune(raw)
		switch {
		case r == utf8.RuneError && size == 1:
			bad++
		case size > 1:
			good++
		}
		raw = raw[size:]
	}
	return good >= bad
}

// findDelimiter takes the candidate that splits the first lines into the most
// columns while giving each of them the same number.
func findDelimiter(body []byte) rune {
	const lines = 50
	sample := body
	for i, seen := 0, 0; i < len(body); i++ {
		if body[i] == '\n' {
			if seen++; seen == lines {
				sample = body[:i+1]
				break
			}
		}
		if i == 1<<20 {
			sample = body[:i]
			break
		}
	}
	best, score := ',', 0
	for _, d := range []rune{',', ';', '\t', '|'} {
		rows := newReader(bytes.NewReader(sample), d)
		header, _, err := readHeader(rows)
		if err != nil || len(header) < 2 {
			continue
		}
		columns := len(header) // the row is used again
		same, all := 0, 0
		for {
			row, err := rows.Read()
			if errors.Is(err, io.EOF) {
				break
			}
			all++
			if len(row) == columns {
				same++
			}
		}
		if s := columns * (1 + 100*same/max(all, 1)); s > score {
			best, score = d, s
		}
	}
	return best
}

// readHeader reads the row that names the columns. Lines above it that are one
// text alone are passed over, when one that names several columns follows.
func readHeader(rows *csv.Reader) (header, above []string, err error) {
	for range format.StrayLines {
		row, err := rows.Read()
		if err != nil {
			if len(above) > 0 { // it has one column, and these are its first rows
				break
			}
			return nil, nil, err
		}
		if format.Named(row) > 1 {
			return slices.Clone(row), above, nil
		}
		above = append(above, strings.Clone(row[0]))
	}
	return above[:1], nil, nil
}

func newReader(src io.Reader, delimiter rune) *csv.Reader {
	r := csv.NewReader(src)
	r.Comma, r.FieldsPerRecord, r.ReuseRecord = delimiter, -1, true
	return r
}

func (f *File) reader() (*csv.Reader, *format.Meter) {
	m := format.NewMeter(bytes.NewReader(f.body))
	return newReader(m, f.Delimiter), m
}

// Lines counts the lines below the header: about the number of records.
func (f *File) Lines() int { return bytes.Count(f.body, []byte{'\n'}) }

// Row is one record below the header. Cells are only valid during the call.
type Row struct {
	Line  int // 1-based line of its first cell
	Cells []string
	Fault string // why the row can't be trusted, "" when it can
	At    string // the column at fault, "" when the row as a whole is
	// Swallows: the fault may have eaten the rows that follow.
	Swallows bool
	Header   bool // it is the header once more
	Foot     bool // it looks like a total; Fault says so
}

// Each calls fn for every row with content. An unclosed quote swallows what
// follows it, so it fails the reading as a whole; one that is closed in a later
// row has swallowed those between, which is told with the row.
func (f *File) Each(fn func(Row) error) error {
	r, meter := f.reader()
	for range 1 + len(f.Above) {
		if _, err := r.Read(); err != nil {
			return err
		}
	}
	seen, n, most := false, int64(0), budget.Records.Value()
	for {
		if n++; n > most {
			return budget.Records.Over(n, "the number of records")
		}
		meter.Next()
		start := r.InputOffset()
		cells, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		row := Row{Cells: cells}
		var bad *csv.ParseError
		switch {
		case errors.As(err, &bad):
			if r.InputOffset() >= int64(len(f.body)) && bytes.Count(f.body[start:], []byte{'"'})%2 == 1 {
				return fmt.Errorf("line %d: a quoted cell that starts in this line is never closed; everything below it would be lost", bad.StartLine)
			}
			row.Line, row.Fault = bad.StartLine, "a quotation mark stands where none may; quote the whole cell and double the marks inside it"
			row.At = f.columnName(len(cells))
			if bad.Line > bad.StartLine {
				row.Swallows, row.Fault = true, fmt.Sprintf("a quoted cell that begins here goes on to line %d, over what may be rows of their own; close it, or double the marks inside it", bad.Line)
			}
		case err != nil:
			line := 1 + bytes.Count(f.body[:start], []byte{'\n'})
			return fmt.Errorf("line %d: %w; is a quotation mark never closed?", line, err)
		default:
			row.Line, _ = r.FieldPos(0)
			if blank(cells) {
				continue
			}
			if again, reordered := format.RepeatsHeader(f.Header, cells); reordered {
				return fmt.Errorf("line %d: the columns are named once more, in another order; were two files joined?", row.Line)
			} else if again {
				row.Header = true
			}
			row.Cells = format.Fitted(cells, len(f.Header))
			cells = row.Cells
			if format.LooksLikeFoot(cells) {
				row.Foot, row.Fault = true, format.FootOfTable
			} else if at := swallowed(cells, len(f.Header), f.Delimiter); at >= 0 {
				row.Swallows, row.At = true, f.columnName(at)
				row.Fault = "a quoted cell holds what looks like rows of their own; close the quotation marks where the cell ends"
			} else if len(cells) != len(f.Header) {
				row.Fault = fmt.Sprintf("%d cells where the header has %d; a cell that holds the delimiter must be quoted", len(cells), len(f.Header))
				row.Swallows = slices.ContainsFunc(cells, func(c string) bool { return strings.IndexByte(c, '\n') >= 0 })
			} else if !f.clean {
				row.At, row.Fault = f.spoilt(cells)
			}
		}
		seen = true
		if err := fn(row); err != nil {
			return err
		}
	}
	if !seen {
		return errors.New("the file has a header row but no records; an empty list is never taken for \"everybody left\"")
	}
	return nil
}

// swallowed finds the cell of a row that holds line breaks where rows would end
// and begin: what stands before the first break would fill the row, what stands
// after the last would begin one, and what stands between are whole rows. A text
// of several lines has as many delimiters in just these places by accident only.
func swallowed(cells []string, columns int, delimiter rune) int {
	if columns < 2 {
		return -1
	}
	for i, c := range cells {
		if strings.IndexByte(c, '\n') < 0 {
			continue
		}
		lines := strings.Split(strings.TrimRight(c, "\r\n"), "\n")
		last := len(lines) - 1
		fits := last > 0
		for n, line := range lines {
			want := columns - 1 // delimiters of a whole row
			switch n {
			case 0:
				want = columns - 1 - i
			case last:
				want = columns - 1 - (len(cells) - 1 - i)
			}
			fits = fits && strings.Count(line, string(delimiter)) >= max(want, 0)
		}
		if fits {
			return i
		}
	}
	return -1
}

func (f *File) columnName(i int) string {
	if i < len(f.Header) {
		return f.Header[i]
	}
	return ""
}

func (f *File) spoilt(cells []string) (column, fault string) {
	for i, c := range cells {
		if strings.IndexByte(c, 0) >= 0 {
			return f.columnName(i), "holds a NUL byte"
		}
		if !utf8.ValidString(c) {
			return f.columnName(i), "holds bytes that are not UTF-8; say --encoding if the file is in another"
		}
	}
	return "", ""
}

func blank(cells []string) bool {
	for _, c := range cells {
		if strings.TrimSpace(c) != "" {
			return false
		}
	}
	return true
}
