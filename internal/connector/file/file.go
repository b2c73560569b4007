// Package file reads a delimited text file as a system. It is read-only: files
// that a system takes come later.
package file

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"twinning/internal/connector"
	"twinning/internal/core/record"
	"twinning/internal/format/csvfile"
)

// Settings of a file system.
var Settings = map[string]string{
	"path":      "file on the service's machine; may be left out when each roster is sent with its file",
	"delimiter": "column separator: , ; | or tab; found out when not given",
	"encoding":  "utf-8, utf-16, latin-1 or windows-1252; found out when not given",
	"id":        "column that identifies a record; needed only without a shape",
}

type file struct {
	path string
	id   string
	opt  csvfile.Options
}

// New makes the connector.
func New(cfg connector.Config) (connector.Connector, error) {
	for name := range cfg.Settings {
		if _, ok := Settings[name]; !ok {
			return nil, fmt.Errorf("setting %q is not known for a file; known are path, delimiter, encoding, id", name)
		}
	}
	f := &file{path: cfg.Settings["path"], id: cfg.Settings["id"], opt: csvfile.Options{Encoding: cfg.Settings["encoding"]}}
	switch d := cfg.Settings["delimiter"]; {
	case d == "tab", d == `\t`:
		f.opt.Delimiter = '\t'
	case len(d) == 1:
		f.opt.Delimiter = rune(d[0])
	case d != "":
		return nil, fmt.Errorf("setting delimiter is %q; expected one character or the word tab", d)
	}
	return f, nil
}

func (f *file) Declare() connector.Declaration {
	return connector.Declaration{Kind: "file", Extents: []string{"whole"}}
}

// Open reads the file's header and what else can be found out about it.
func (f *file) open() (*csvfile.File, error) {
	if f.path == "" {
		return nil, f.fault("no file was sent and the setting path is empty", "send the file with the roster, or set path")
	}
	src, err := os.Open(f.path)
	if err != nil {
		return nil, f.fault(err.Error(), "check the setting path and the service's right to read it")
	}
	defer src.Close() // only read
	file, err := csvfile.Open(src, f.opt)
	if err != nil {
		return nil, f.fault(err.Error(), "")
	}
	return file, nil
}

func (f *file) fault(reason, next string) error {
	return &connector.Error{Kind: connector.Broken, Doing: "read the file", Target: f.path, Reason: reason, Next: next}
}

// Guess proposes a shape from the header.
func (f *file) Guess() (record.Shape, error) {
	file, err := f.open()
	if err != nil {
		return record.Shape{}, err
	}
	return record.Guess(file.Header), nil
}

func (f *file) Read(ctx context.Context, what connector.Reading, sink connector.Sink) (string, error) {
	file, err := f.open()
	if err != nil {
		return "", err
	}
	id := -1
	for i, h := range file.Header {
		if h == f.id {
			id = i
		}
	}
	if id < 0 {
		return "", f.fault(fmt.Sprintf("the id column %q is not in the file; the columns are %s", f.id, strings.Join(file.Header, ", ")), "correct the shape's id, or send the right file")
	}
	sink.Expect(file.Lines())
	var stopped error // by the sink, whose own error it stays
	err = file.Each(func(row csvfile.Row) error {
		stopped = f.give(file, row, id, sink)
		return stopped
	})
	if err != nil && stopped == nil {
		return "", f.fault(err.Error(), "mend the file and send it again")
	}
	return "", err
}

// give hands one row to the sink.
func (f *file) give(file *csvfile.File, row csvfile.Row, id int, sink connector.Sink) error {

	if row.Fault != "" {
		return sink.Reject(record.Rejection{Line: row.Line, Column: row.At, ID: csvfile.TrustedID(row, id), Reason: row.Fault})
	}
	r := connector.Record{ID: strings.TrimSpace(row.Cells[id]), Values: make(map[string][]string, len(row.Cells))}
	for i, cell := range row.Cells {
		if len(cell) > record.MaxCell {
			return sink.Reject(record.Rejection{Line: row.Line, Column: file.Header[i], ID: r.ID, Reason: fmt.Sprintf("%d bytes long, more than the %d allowed for one value", len(cell), record.MaxCell)})
		}
		if cell != "" && !record.IsSecret(file.Header[i]) {
			r.Values[file.Header[i]] = []string{strings.Clone(cell)}
		}
	}
	if r.ID == "" {
		return sink.Reject(record.Rejection{Line: row.Line, Column: file.Header[id], Reason: "the id is blank"})
	}
	r.Line = row.Line
	return sink.Record(r)
}

var errReadOnly = errors.New("a file is read as a whole and never written")

func (f *file) unsupported() error {
	return &connector.Error{Kind: connector.Unsupported, Doing: "work on one record", Target: f.path, Reason: errReadOnly.Error()}
}

func (f *file) One(context.Context, string) (connector.Record, error) {
	return connector.Record{}, f.unsupported()
}

func (f *file) Find(context.Context, string, string) ([]connector.Record, error) {
	return nil, f.unsupported()
}

func (f *file) Write(context.Context, connector.Write) (connector.Record, error) {
	return connector.Record{}, f.unsupported()
}
