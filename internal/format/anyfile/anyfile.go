// Package anyfile opens a file in whatever format it turns out to be, and
// writes one in the format that is asked for.
package anyfile

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"

	"twinning/internal/core/record"
	"twinning/internal/format"
	"twinning/internal/format/csvfile"
	"twinning/internal/format/jsonl"
	"twinning/internal/format/ldif"
	"twinning/internal/format/scimjson"
	"twinning/internal/format/xlsx"
)

// Formats that are known.
var Formats = []string{"csv", "jsonl", "ldif", "scim", "xlsx"}

// Options say what is known beforehand; zero values are found out.
type Options struct {
	Format    string
	Delimiter rune
	Encoding  string
	Sheet     string
	Restore   bool // take back what an export for spreadsheets defused
}

// Open reads the whole of r, compressed by gzip or not.
func Open(r io.Reader, opt Options) (format.File, error) {
	body, compressed, err := csvfile.ReadAll(r)
	if err != nil {
		return nil, err
	}
	return OpenText(body, compressed, opt)
}

// OpenText is Open for what is at hand, unpacked. The file keeps no part of it
// that it gives out; it is read again by every Each.
func OpenText(body []byte, compressed bool, opt Options) (format.File, error) {
	if opt.Format != "" && !slices.Contains(Formats, opt.Format) {
		return nil, fmt.Errorf("format %q is not known; expected one of %s", opt.Format, strings.Join(Formats, ", "))
	}
	kind := opt.Format
	if kind == "" {
		kind = find(body)
	}
	f, err := open(kind, body, opt)
	if err != nil {
		return nil, err
	}
	if compressed {
		f = unpacked{f}
	}
	return format.Within(f)
}

type unpacked struct{ format.File }

// Unwrap gives the file itself.
func (u unpacked) Unwrap() format.File { return u.File }

func (u unpacked) About() format.About {
	a := u.File.About()
	a.Compressed = true
	return a
}

func open(kind string, body []byte, opt Options) (format.File, error) {
	switch kind {
	case "jsonl":
		return jsonl.Open(body)
	case "ldif":
		return ldif.Open(body)
	case "scim":
		return scimjson.Open(body)
	case "xlsx":
		return xlsx.Open(body, opt.Sheet)
	}
	f, err := csvfile.Parse(body, csvfile.Options{Delimiter: opt.Delimiter, Encoding: opt.Encoding})
	if err != nil {
		return nil, err
	}
	for i := range f.Header {
		if opt.Restore {
			f.Header[i] = format.Restore(f.Header[i])
		}
	}
	return csvfile.Table{File: f, Restore: opt.Restore}, nil
}

// find looks at how a file begins.
func find(body []byte) string {
	if bytes.HasPrefix(body, []byte("PK\x03\x04")) {
		return "xlsx"
	}
	head := bytes.TrimLeft(bytes.TrimPrefix(body[:min(len(body), 64<<10)], []byte("\xef\xbb\xbf")), " \t\r\n")
	if len(head) > 0 && head[0] == '{' {
		// a list is one object over many lines, or names its resources in the first
		line, rest, _ := bytes.Cut(head, []byte{'\n'})
		if bytes.Contains(line, []byte(`"Resources"`)) || bytes.Contains(line, []byte(`"totalResults"`)) || !looksClosed(line) && len(rest) > 0 {
			return "scim"
		}
		return "jsonl"
	}
	if len(head) > 0 && head[0] == '[' {
		return "jsonl" // which says what is wrong with it
	}
	for _, line := range bytes.Split(head, []byte{'\n'}) {
		line = bytes.TrimSpace(line)
		if len(line) == 0 || line[0] == '#' {
			continue
		}
		lower := bytes.ToLower(line)
		if bytes.HasPrefix(lower, []byte("dn:")) || bytes.HasPrefix(lower, []byte("version: 1")) {
			return "ldif"
		}
		break
	}
	return "csv"
}

func looksClosed(line []byte) bool {
	line = bytes.TrimSpace(line)
	return len(line) > 0 && line[len(line)-1] == '}'
}

// NewWriter writes in a format.
func NewWriter(w io.Writer, kind string, columns []string, how format.Writing) (format.Writer, error) {
	switch kind {
	case "csv":
		return csvfile.NewWriter(w, columns, how)
	case "jsonl":
		return jsonl.NewWriter(w, columns), nil
	case "ldif":
		return ldif.NewWriter(w, columns), nil
	case "scim":
		return scimjson.NewWriter(w, columns), nil
	case "xlsx":
		return xlsx.NewWriter(w, columns)
	}
	return nil, fmt.Errorf("format %q is not known; expected one of %s", kind, strings.Join(Formats, ", "))
}

// CheckShape says what the shape names and the file lacks. Where records say
// only what they have, that is the id alone.
func CheckShape(f format.File, shape record.Shape) error {
	if table, ok := format.Unwrap(f).(csvfile.Table); ok {
		return table.CheckShape(shape)
	}
	id, natives := shape.Attributes["id"].Native, f.Natives()
	switch {
	case id == "":
		return fmt.Errorf("nothing in this file is recognised as the id; it has %s. Name it in a shape file: `shape:` with `id: NAME`", strings.Join(natives, ", "))
	case format.Ambiguous(natives, shape.Uses) != nil:
		return format.Ambiguous(natives, shape.Uses)
	case !slices.Contains(natives, id):
		return fmt.Errorf("the shape's id %q is not in the file; it has %s", id, strings.Join(natives, ", "))
	}
	return nil
}

// Roster reads a file's records through a shape, as csvfile does for delimited
// texts: only the wanted canonical attributes are kept, nil wants all.
func Roster(f format.File, shape record.Shape, wanted []string) (*record.Roster, error) {
	if table, ok := format.Unwrap(f).(csvfile.Table); ok && !table.Restore {
		return table.Roster(shape, wanted)
	}
	l := shape.NewLoader(wanted)
	id := shape.Attributes["id"].Native
	err := f.Each(func(row format.Row) error {
		switch {
		case row.LeftOut != "":
			return l.LeaveOut(record.Gap{Kind: record.NoRecord, Reason: row.LeftOut, What: fmt.Sprintf("line %d", row.Line)})
		case row.Foot && shape.LeaveUnnamed:
			return l.LeaveOut(record.Gap{Kind: record.NoRecord, Reason: row.Fault, What: fmt.Sprintf("line %d", row.Line)})
		case row.Fault != "":
			rej := record.Rejection{Line: row.Line, Column: row.At, Reason: row.Fault, Swallows: row.Swallows}
			if v := row.Values[id]; len(v) > 0 {
				rej.ID = strings.TrimSpace(v[0])
			}
			return l.Reject(rej)
		}
		return l.AddNative(row.Line, row.Values)
	})
	if err != nil {
		return nil, err
	}
	return l.Roster()
}
