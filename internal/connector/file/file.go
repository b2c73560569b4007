// Package file reads a file as a system, in any format that anyfile knows, and
// writes the file that the system's own upload takes.
//
// What is written shows only when a later file does: the changes stay waiting
// until then. Files are read from and written to declared folders alone.
package file

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"twinning/internal/connector"
	"twinning/internal/core/budget"
	"twinning/internal/core/document"
	"twinning/internal/core/record"
	"twinning/internal/format"
	"twinning/internal/format/anyfile"
	"twinning/internal/format/upload"
)

// Settings of a file system.
var Settings = connector.Settings{Of: "a file", List: []connector.Setting{
	{Name: "path", What: "file on the service's machine, in `files` of the data folder or in a folder of `--files`; may be left out when each roster is sent with its file", Example: "/var/lib/twinning/hr.csv"},
	{Name: "format", What: "csv, jsonl, ldif, scim or xlsx; found out when not given", Example: "csv"},
	{Name: "delimiter", What: "csv: column separator, one character or tab; found out when not given", Example: ";"},
	{Name: "encoding", What: "csv: utf-8, utf-16, latin-1 or windows-1252; found out when not given", Example: "windows-1252"},
	{Name: "sheet", What: "xlsx: name of the sheet; the first when not given", Example: "Staff"},
	{Name: "defused", What: "yes: the file is an export for spreadsheets that came back; take its apostrophes away", Words: []string{"no", "yes"}, Example: "yes"},
	{Name: "id", What: "column that identifies a record; needed only without a shape", Example: "staff_no"},
	{Name: "out", What: "folder for the upload files that are written; needs `upload:` in the shape", Example: "/var/lib/twinning/uploads"},
}}

type file struct {
	cfg connector.Config
	set connector.Given
	id  string
	opt anyfile.Options

	mu      sync.Mutex
	taken   []*snapshot
	opened  []format.File
	writing *upload.Writer
	root    *os.Root
}

// New makes the connector.
func New(cfg connector.Config) (connector.Connector, error) {
	given, err := Settings.Read(cfg.Settings)
	if err != nil {
		return nil, err
	}
	f := &file{cfg: cfg, set: given, id: given.Text("id"), opt: anyfile.Options{Format: given.Text("format"), Encoding: given.Text("encoding"), Sheet: given.Text("sheet"), Restore: given.Text("defused") == "yes"}}
	if native := cfg.Shape.Attributes["id"].Native; f.id == "" {
		f.id = native
	}
	if f.opt.Format != "" && !slices.Contains(anyfile.Formats, f.opt.Format) {
		return nil, fmt.Errorf("setting format is %q; expected one of %s", f.opt.Format, strings.Join(anyfile.Formats, ", "))
	}
	switch d := given.Text("delimiter"); {
	case d == "tab", d == `\t`:
		f.opt.Delimiter = '\t'
	case len(d) == 1:
		f.opt.Delimiter = rune(d[0])
	case d != "":
		return nil, fmt.Errorf("setting delimiter is %q; expected one character or the word tab", d)
	}
	for _, name := range []string{"path", "out"} {
		if err := f.confined(name); err != nil {
			return nil, err
		}
	}
	return f, nil
}

// confined refuses a path outside the declared folders before it is touched.
// Opening goes through os.Root, which no symbolic link leads out of.
func (f *file) confined(name string) error {
	path := f.set.Text(name)
	if path == "" || f.cfg.Folders == nil {
		return nil
	}
	if _, _, err := f.cfg.Within(path); err != nil {
		return fmt.Errorf("setting %s: %w", name, err)
	}
	return nil
}

func (f *file) Declare() connector.Declaration {
	d := connector.Declaration{Kind: "file", Extents: []string{connector.Whole, connector.Sample}, Scope: "the whole file"}
	if f.set.Text("out") != "" && f.cfg.Shape.Upload != nil {
		d.Writes, d.Deferred, d.Verbs = true, true, []string{"create", "mark", "set", "rename", "readdress", "suspend", "reinstate", "delete"}
		d.Finds = f.cfg.Shape.Attributes[f.cfg.Shape.Mark].Native
	}
	return d
}

// open reads the file and finds out what it is.
func (f *file) open() (format.File, error) {
	path := f.set.Text("path")
	if f.cfg.Spool != "" {
		path = f.cfg.Spool
	}
	if path == "" {
		return nil, f.fault("no file was sent and the setting path is empty", "send the file with the roster, or set path")
	}
	folder, rest := filepath.Dir(path), filepath.Base(path)
	if f.cfg.Spool == "" {
		var err error
		if folder, rest, err = f.cfg.Within(path); err != nil {
			return nil, f.fault("the file is outside the declared folders", "put it where files may be")
		}
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, f.fault(plain(err), "check the setting path and the service's right to read it")
	}
	defer root.Close() // only read
	src, err := format.Regular(func(flag int) (*os.File, error) { return root.OpenFile(rest, flag, 0) })
	if errors.Is(err, format.ErrNoFile) {
		return nil, f.fault(err.Error(), "check the setting path")
	}
	if err != nil {
		return nil, f.fault(plain(err), "check the setting path and the service's right to read it")
	}
	defer src.Close() // only read
	snap, err := take(src, f.cfg.Temp)
	if err != nil {
		return nil, f.fault(plain(err), "mend the file and send it again")
	}
	f.mu.Lock()
	f.taken = append(f.taken, snap)
	f.mu.Unlock()
	opened, err := anyfile.OpenText(snap.body, snap.compressed, f.opt)
	if err != nil {
		return nil, f.fault(err.Error(), "mend the file and send it again")
	}
	f.mu.Lock()
	f.opened = append(f.opened, opened)
	f.mu.Unlock()
	return opened, nil
}

// plain is an error without the path, which is told anyway.
func plain(err error) string {
	var at *os.PathError
	if errors.As(err, &at) {
		return at.Err.Error()
	}
	return err.Error()
}

func (f *file) fault(reason, next string) error {
	return &connector.Error{Kind: connector.Broken, Doing: "read the file", Target: f.target(), Reason: reason, Next: next}
}

func (f *file) target() string {
	if f.cfg.Spool != "" {
		return "the file that was sent"
	}
	if f.set.Text("path") == "" {
		return "no path"
	}
	return f.set.Text("path")
}

// Look opens the file for a preview.
func (f *file) Look(context.Context) (format.About, []string, error) {
	opened, err := f.open()
	if err != nil {
		return format.About{}, nil, err
	}
	return opened.About(), opened.Natives(), nil
}

func (f *file) Read(ctx context.Context, what connector.Reading, sink connector.Sink) (string, error) {
	opened, err := f.open()
	if err != nil {
		return "", err
	}
	if what.Extent == connector.Changes {
		return "", &connector.Error{Kind: connector.Unsupported, Doing: "read what changed", Target: f.target(), Reason: "a file says what there is, not what changed", Next: "read it as a whole"}
	}
	natives := opened.Natives()
	if !slices.Contains(natives, f.id) && opened.About().Format != "jsonl" { // where an attribute may come late
		return "", f.fault(fmt.Sprintf("the id column %q is not in the file%s; the columns are %s", f.id, document.Suggest(f.id, natives), strings.Join(natives, ", ")), "correct the shape's id, or send the right file")
	}
	if what.Extent != connector.Sample { // which is looked at by a human
		if err := format.Ambiguous(natives, func(column string) bool { return column == f.id || f.cfg.Shape.Uses(column) }); err != nil {
			return "", f.fault(err.Error(), "mend the file or the shape")
		}
	}
	sink.Expect(opened.Expected())
	n := 0
	var stopped error // by the sink, whose own error it stays
	err = opened.Each(func(row format.Row) error {
		n++
		switch {
		case ctx.Err() != nil:
			stopped = ctx.Err()
		case what.Extent == connector.Sample && n <= what.Skip:
		case what.Extent == connector.Sample && n > what.Skip+what.Limit:
			stopped = errEnough
		default:
			stopped = f.give(row, sink)
		}
		return stopped
	})
	switch {
	case errors.Is(err, errEnough):
		return "", nil
	case err != nil && stopped == nil:
		return "", f.fault(err.Error(), "mend the file and send it again")
	}
	return "", err
}

// errEnough ends a sample.
var errEnough = errors.New("enough")

// give hands one row to the sink.
func (f *file) give(row format.Row, sink connector.Sink) error {
	r := connector.Record{Values: row.Values, Line: row.Line}
	if v := row.Values[f.id]; len(v) > 0 {
		r.ID = strings.TrimSpace(v[0])
	}
	reject := func(native, reason string) error {
		return sink.Reject(record.Rejection{Line: row.Line, Column: native, ID: r.ID, Reason: reason, Swallows: row.Swallows})
	}
	if row.LeftOut != "" {
		return sink.LeftOut(connector.Left{Kind: record.NoRecord, Reason: row.LeftOut, What: fmt.Sprintf("line %d", row.Line)})
	}
	if row.Foot && f.cfg.Shape.LeaveUnnamed {
		return sink.LeftOut(connector.Left{Kind: record.NoRecord, Reason: row.Fault, What: fmt.Sprintf("line %d", row.Line)})
	}
	if row.Fault != "" {
		return reject(row.At, row.Fault)
	}
	for native, values := range r.Values {
		if record.IsSecret(native) {
			delete(r.Values, native)
			continue
		}
		coding := f.coding(native)
		for i, v := range values {
			if err := budget.Cell.Over(int64(len(v)), fmt.Sprintf("a value of %d bytes", len(v))); err != nil {
				return reject(native, err.Error())
			}
			text, err := record.DecodeBytes(coding, []byte(v))
			if err != nil && f.cfg.Shape.Uses(native) {
				return reject(native, err.Error())
			}
			values[i] = text
		}
	}
	if v := r.Values[f.id]; len(v) > 0 {
		r.ID = strings.TrimSpace(v[0])
	}
	return sink.Record(r) // one without an id is judged with the rest
}

func (f *file) coding(native string) string {
	for _, src := range f.cfg.Shape.Attributes {
		if src.Native == native && src.Coding != "" {
			return src.Coding
		}
	}
	return ""
}

func (f *file) unsupported(doing, reason string) error {
	return &connector.Error{Kind: connector.Unsupported, Doing: doing, Target: f.target(), Reason: reason}
}

func (f *file) One(context.Context, string) (connector.Record, error) {
	return connector.Record{}, f.unsupported("read one record", "a file is read as a whole")
}

func (f *file) Find(context.Context, string, string) ([]connector.Record, error) {
	return nil, f.unsupported("look for a record", "a file is read as a whole")
}

// Write adds a row to the upload file. The record it returns is what the row
// asks for; that it came about shows only in a later roster.
func (f *file) Write(_ context.Context, w connector.Write) (connector.Record, error) {
	action := "change"
	r := connector.Record{Values: map[string][]string{}}
	if w.Record != nil {
		r = connector.Record{ID: w.Record.ID, Values: maps.Clone(w.Record.Values)}
		if r.Values == nil {
			r.Values = map[string][]string{}
		}
		r.Values[f.id] = []string{r.ID}
	} else {
		action = "create"
	}
	cleared := map[string]bool{}
	for _, e := range w.Edits {
		r.Values[e.Native] = e.New
		cleared[e.Native] = len(e.New) == 0
	}
	return r, f.row(action, r.Values, cleared)
}

// Delete adds a row that asks for the record's end.
func (f *file) Delete(_ context.Context, r connector.Record) error {
	values := maps.Clone(r.Values)
	if values == nil {
		values = map[string][]string{}
	}
	values[f.id] = []string{r.ID}
	return f.row("delete", values, nil)
}

func (f *file) row(action string, values map[string][]string, cleared map[string]bool) error {
	if !f.Declare().Writes {
		return f.unsupported("write to a file", "it has no upload form, or no folder for it: give the shape an `upload:` and set out")
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.writing == nil {
		root, err := f.outFolder()
		if err != nil {
			return f.refused(plain(err))
		}
		batch := f.cfg.Batch
		if batch == "" {
			batch = time.Now().UTC().Format("20060102-150405.000")
		}
		writer, err := upload.NewWriter(*f.cfg.Shape.Upload, root, f.cfg.Name+"-"+batch)
		if err != nil {
			return f.refused(plain(err))
		}
		f.root, f.writing = root, writer
	}
	if err := f.writing.Row(action, values, cleared); err != nil {
		return f.refused(err.Error())
	}
	return nil
}

// outFolder opens the folder that upload files go to, made when it is missing;
// no link leads it out of the declared folders.
func (f *file) outFolder() (*os.Root, error) {
	path := f.set.Text("out")
	if f.cfg.Folders == nil {
		if err := os.MkdirAll(path, 0o750); err != nil {
			return nil, err
		}
		return os.OpenRoot(path)
	}
	folder, rest, err := f.cfg.Within(path)
	if err != nil {
		return nil, err
	}
	declared, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	defer declared.Close() // what was opened below it stays open
	if err := declared.MkdirAll(rest, 0o750); err != nil {
		return nil, err
	}
	return declared.OpenRoot(rest)
}

func (f *file) refused(reason string) error {
	return &connector.Error{Kind: connector.Refused, Doing: "write the upload file", Target: f.set.Text("out"), Reason: reason, Next: "correct the shape's `upload:`, or the setting out"}
}

// Close finishes the upload file, and lets go of what was read.
func (f *file) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	var errs []error
	for _, o := range f.opened {
		errs = append(errs, format.Close(o))
	}
	for _, s := range f.taken {
		errs = append(errs, s.close())
	}
	f.taken, f.opened = nil, nil
	if f.writing != nil {
		errs = append(errs, f.writing.Flush(), f.root.Close())
		f.writing = nil
	}
	return errors.Join(errs...)
}

// Probe looks at the file, and at where it would write.
func (f *file) Probe(ctx context.Context, tell func(connector.Step)) {
	opened, err := f.open()
	if err != nil {
		tell(connector.FailedStep("open", err))
		return
	}
	a := opened.About()
	tell(connector.Step{Name: "open", State: connector.StepOK, Said: a.String()})
	if !slices.Contains(opened.Natives(), f.id) {
		tell(connector.Step{Name: "id", State: connector.StepFailed, Said: fmt.Sprintf("the id column %q is not in the file", f.id), Next: "correct the shape's id, or send the right file"})
		return
	}
	tell(connector.Step{Name: "id", State: connector.StepOK, Said: f.id})
	s := connector.Step{Name: "writing", State: connector.StepOK, Said: "no: it has no upload form"}
	if f.Declare().Writes {
		s.Said = "as upload files in " + f.set.Text("out")
	}
	tell(s)
}
