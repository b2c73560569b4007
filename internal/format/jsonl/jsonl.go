// Package jsonl reads and writes JSON Lines: one JSON object a line, UTF-8.
//
// Members become natives; an object inside gives "name.member", a list several
// values. A line that is no object is told with its place; a last line that
// breaks off fails the file as a whole.
package jsonl

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"unicode/utf8"

	"twinning/internal/core/budget"
	"twinning/internal/format"
	"twinning/internal/format/scimjson"
)

// File is an open file.
type File struct {
	body    []byte
	natives []string
}

// sampled is how many records are looked at to learn the natives.
const sampled = 200

// Open takes the text of a file.
func Open(body []byte) (*File, error) {
	body = bytes.TrimPrefix(body, []byte("\xef\xbb\xbf"))
	trimmed := bytes.TrimSpace(body)
	switch {
	case len(trimmed) == 0:
		return nil, errors.New("the file is empty; expected one JSON object a line")
	case trimmed[0] == '[':
		return nil, errors.New("the file is one JSON list; JSON Lines has one object a line, without commas between them")
	}
	f := &File{body: body}
	known, n := map[string]bool{}, 0
	err := f.Each(func(r format.Row) error {
		for native := range r.Values {
			known[native] = true
		}
		if n++; n == sampled {
			return io.EOF
		}
		return nil
	})
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	f.natives = slices.Sorted(maps.Keys(known))
	return f, nil
}

// About, Natives and Expected as format.File has them.
func (f *File) About() format.About { return format.About{Format: "jsonl", Encoding: "utf-8"} }

// Natives are the members met in the first records.
func (f *File) Natives() []string { return f.natives }

// Expected counts the lines.
func (f *File) Expected() int {
	n := bytes.Count(f.body, []byte{'\n'})
	if len(f.body) > 0 && f.body[len(f.body)-1] != '\n' {
		n++
	}
	return n
}

// Each calls fn for every line that is not blank.
func (f *File) Each(fn func(format.Row) error) error {
	s := bufio.NewScanner(bytes.NewReader(f.body))
	s.Buffer(make([]byte, 0, 64<<10), budget.Record.Int())
	offset := 0
	for line := 1; s.Scan(); line++ {
		text := s.Bytes()
		offset += len(text) + 1
		if len(bytes.TrimSpace(text)) == 0 {
			continue
		}
		row := format.Row{Line: line}
		var err error
		if row.Values, err = flat(text); err != nil {
			var over *budget.Error
			if errors.As(err, &over) { // it may well be an object
				row.Fault = err.Error()
				if err := fn(row); err != nil {
					return err
				}
				continue
			}
			if offset > len(f.body) {
				return fmt.Errorf("line %d, the last one, breaks off: the file seems to be cut short", line)
			}
			row.Fault, row.Swallows = "it is no JSON object: "+err.Error(), errors.Is(err, errMore)
		}
		if err := fn(row); err != nil {
			return err
		}
	}
	if err := s.Err(); err != nil {
		return fmt.Errorf("%w; is this JSON Lines?", budget.Record.Over(1<<62, "a line of the file"))
	}
	return nil
}

// errMore: what follows may be other records.
var errMore = errors.New("more follows the object in the same line")

func flat(text []byte) (map[string][]string, error) {
	if !utf8.Valid(text) {
		return nil, errors.New("it holds bytes that are not UTF-8")
	}
	if err := budget.JSON(text); err != nil {
		return nil, err
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber() // 0012 is no number, but 12345678901234567890 is one and must stay itself
	var top map[string]any
	if err := d.Decode(&top); err != nil {
		return nil, err
	}
	if top == nil {
		return nil, errors.New("it is null")
	}
	if d.More() {
		return nil, errMore
	}
	out := make(map[string][]string, len(top))
	into(out, "", top)
	return out, nil
}

func into(out map[string][]string, prefix string, object map[string]any) {
	for name, v := range object {
		switch x := v.(type) {
		case map[string]any:
			into(out, prefix+name+".", x)
		case json.Number:
			out[prefix+name] = []string{x.String()}
		case []any:
			var values []string
			for _, item := range x {
				if n, ok := item.(json.Number); ok {
					item = n.String()
				}
				values = append(values, scimjson.Scalars(item)...)
			}
			if len(values) > 0 {
				out[prefix+name] = values
			}
		default:
			if s := scimjson.Scalars(v); len(s) > 0 {
				out[prefix+name] = s
			}
		}
	}
}

type writer struct {
	w       *bufio.Writer
	columns []string
}

// NewWriter writes the columns of each record, all when there are none named.
func NewWriter(w io.Writer, columns []string) format.Writer {
	return &writer{bufio.NewWriter(w), columns}
}

func (w *writer) Write(values map[string][]string) error {
	columns := w.columns
	if columns == nil {
		columns = slices.Sorted(maps.Keys(values))
	}
	object := make(map[string]any, len(columns))
	for _, c := range columns {
		switch v := values[c]; len(v) {
		case 0:
		case 1:
			object[c] = v[0]
		default:
			object[c] = v
		}
	}
	e := json.NewEncoder(w.w)
	e.SetEscapeHTML(false)
	return e.Encode(object)
}

func (w *writer) Close() error { return w.w.Flush() }
