package service

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"twinning/internal/access"
	"twinning/internal/core/document"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/format"
	"twinning/internal/format/anyfile"
	"twinning/internal/format/scimjson"
	"twinning/internal/format/template"
	"twinning/internal/store"
)

// Exporting says what of a roster goes into a file.
type Exporting struct {
	Format  string   // csv (default), jsonl, ldif, scim, xlsx
	Columns []string // in their order; all when empty
	Text    string   // only records that hold it
	Skip    int
	First   int  // 0 all
	Native  bool // the system's own attributes, untouched
	People  bool // for a spreadsheet
}

// Export is ready to be written.
type Export struct {
	Name  string // of the file
	write func(w io.Writer) error
	open  func(ctx context.Context) (leave func(), err error)
}

// Open waits for one of the few places for files that are given out; leave gives
// it back.
func (e Export) Open(ctx context.Context) (leave func(), err error) {
	if e.open == nil {
		return func() {}, nil
	}
	return e.open(ctx)
}

// Write writes the file.
func (e Export) Write(w io.Writer) error { return e.write(w) }

// exported is a file that is given out in one of the few places for them.
func (s *Service) exported(name string, write func(w io.Writer) error) Export {
	return Export{Name: name, write: write, open: func(ctx context.Context) (func(), error) { return s.place(ctx, s.exports, "exports") }}
}

// tableOf prepares a list of ours as a file: a sheet for people, or a JSON line each for
// machines; every calls back for each item.
func (s *Service) tableOf(name, kind string, columns []string, every func(each func(line any, row map[string][]string) error) error) (Export, error) {
	if kinds := append(slices.Clone(sheetFormats), "jsonl"); !slices.Contains(kinds, kind) {
		return Export{}, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("this can't be given out as %q", kind), Detail: "expected one of " + strings.Join(kinds, ", "), Field: "format"}
	}
	return s.exported(name+"."+kind, func(w io.Writer) error {
		if kind == "jsonl" {
			return every(func(line any, _ map[string][]string) error {
				_, err := w.Write(append(asJSON(line), '\n'))
				return err
			})
		}
		out, err := anyfile.NewWriter(w, kind, columns, format.Writing{People: true, BOM: true})
		if err != nil {
			return err
		}
		if err := every(func(_ any, row map[string][]string) error { return out.Write(row) }); err != nil {
			return err
		}
		return out.Close()
	}), nil
}

// ExportRoster prepares a roster, or a part of it, as a file.
func (s *Service) ExportRoster(ctx context.Context, who access.Caller, id int64, how Exporting) (Export, error) {
	r, err := s.takenRoster(ctx, id)
	if err != nil {
		return Export{}, err
	}
	if how.Format == "" {
		how.Format = "csv"
	}
	if !slices.Contains(anyfile.Formats, how.Format) {
		return Export{}, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("format %q is not known", how.Format), Detail: "expected one of " + strings.Join(anyfile.Formats, ", "), Field: "format"}
	}
	x, err := s.Store.SystemByID(ctx, r.SystemID)
	if err != nil {
		return Export{}, err
	}
	shape, err := s.reach.ShapeOf(x, r.Shape)
	if err != nil {
		return Export{}, err
	}
	known := shape.Canonical()
	if how.Native {
		known = record.NativesOf(shape, nil)
	}
	columns := how.Columns
	if len(columns) == 0 {
		columns = known
	}
	for _, c := range columns {
		if !slices.Contains(known, c) && (how.Native || c != "emails") {
			return Export{}, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("%s has no attribute %q%s", x.Name, c, document.Suggest(c, known)), Detail: "it has " + strings.Join(known, ", "), Field: "columns"}
		}
	}
	if how.Format == "ldif" && !slices.Contains(columns, "dn") {
		return Export{}, &fault.Error{Kind: fault.Invalid, Title: "an LDIF file needs a dn for every record", Field: "columns", Next: "export a directory with native=true and dn among its columns, or choose another format"}
	}
	how.Columns = columns
	e := s.exported(fmt.Sprintf("%s-roster-%d.%s", x.Name, id, map[bool]string{true: "json", false: how.Format}[how.Format == "scim"]), func(w io.Writer) error { return s.export(ctx, w, x, r, shape, how) })
	return e, s.act(ctx, who, "roster.export", fmt.Sprintf("%s, roster %d", x.Name, id), map[string]string{"format": how.Format, "columns": strings.Join(columns, " "), "text": how.Text, "native": fmt.Sprint(how.Native)}, onlyTold)
}

func (s *Service) export(ctx context.Context, w io.Writer, x store.System, r store.Roster, shape record.Shape, how Exporting) error {
	names := slices.Clone(how.Columns)
	if how.Format == "scim" && !how.Native { // a standard has names of its own for them
		for i, name := range names {
			if path := scimjson.Names[name]; path != "" {
				names[i] = path
			}
		}
	}
	out, err := anyfile.NewWriter(w, how.Format, names, format.Writing{People: how.People})
	if err != nil {
		return err
	}
	reader := shape.NewReader(how.Columns)
	referees, err := s.referees(ctx, r, shape, how)
	if err != nil {
		return err
	}
	n, given := 0, 0
	err = s.Store.Apart().SelectRecords(ctx, r, how.Text, func(id string, native map[string][]string) error {
		if n++; n <= how.Skip {
			return nil
		}
		if given++; how.First > 0 && given > how.First {
			return store.ErrEnough
		}
		if how.Native {
			return out.Write(asItWas(shape, how.Format, native))
		}
		values := map[string][]string{}
		for i, name := range how.Columns {
			cell, err := reader.Cell(i, native[shape.Attributes[name].Native])
			if err != nil {
				cell = "" // listed with the roster as unreadable
			}
			if v := record.SplitList(cell); v != nil {
				values[names[i]] = referees.of(shape.Attributes[name], v)
			}
		}
		if i := slices.Index(how.Columns, "id"); i >= 0 {
			values[names[i]] = []string{id}
		}
		return out.Write(values)
	})
	if err != nil {
		return err
	}
	return out.Close()
}

// referees are those to whom exported references may be, by what they refer by.
type referees map[string]record.Referees

func (s *Service) referees(ctx context.Context, r store.Roster, shape record.Shape, how Exporting) (referees, error) {
	by := referees{}
	for _, name := range how.Columns {
		if refers := shape.Attributes[name].Refers; refers != "" && !how.Native {
			by[refers] = record.Referees{}
		}
	}
	if len(by) == 0 {
		return by, nil
	}
	return by, s.Store.Apart().SelectRecords(ctx, r, "", func(id string, native map[string][]string) error {
		for refers, known := range by {
			for _, v := range native[refers] {
				known.Add(v, id)
			}
		}
		return nil
	})
}

// of gives ids for references; whom nobody is meant by stays as it is told.
func (by referees) of(src record.Source, values []string) []string {
	known, refers := by[src.Refers]
	if !refers || src.Refers == "" {
		return values
	}
	ids := make([]string, len(values))
	for i, v := range values {
		ids[i] = cmp.Or(known.ID(v), v)
	}
	return ids
}

// asItWas gives bytes back that are kept as text, where a format can hold them.
func asItWas(shape record.Shape, format string, native map[string][]string) map[string][]string {
	if format != "ldif" {
		return native
	}
	out := maps.Clone(native)
	for _, src := range shape.Attributes {
		if src.Coding == "" || len(native[src.Native]) == 0 {
			continue
		}
		raw := make([]string, 0, len(native[src.Native]))
		for _, v := range native[src.Native] {
			b, err := record.EncodeBytes(src.Coding, v)
			if err != nil {
				b = v
			}
			raw = append(raw, b)
		}
		out[src.Native] = raw
	}
	return out
}

// Template is a file for whoever keeps the list of people of a lane, with the
// columns that its charter needs: an example row, and a sheet that explains
// them where the format has sheets.
func (s *Service) Template(ctx context.Context, lane, kind string) (Export, error) {
	if kind == "" {
		kind = "xlsx"
	}
	if !slices.Contains(template.Formats, kind) {
		return Export{}, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("a template can't be %q", kind), Detail: "expected one of " + strings.Join(template.Formats, ", "), Field: "format"}
	}
	l, err := s.lane(ctx, lane)
	if err != nil {
		return Export{}, err
	}
	x, err := s.Store.SystemByID(ctx, l.AuthorityID)
	if err != nil {
		return Export{}, err
	}
	shape, err := s.reach.NewestShape(ctx, x)
	if err != nil {
		return Export{}, err
	}
	kept, err := s.Store.Charter(ctx, l.ID, 0)
	if err != nil {
		return Export{}, fault.About(err, "charter of lane", lane)
	}
	rules, err := s.parse(ctx, kept.Source)
	if err != nil {
		return Export{}, err
	}
	var columns []format.Wanted
	for _, c := range rules.Template(shape) {
		columns = append(columns, format.Wanted{Native: c.Native, Required: c.Required, Form: c.Form, Allowed: c.Allowed, Known: c.Known, Example: c.Example})
	}
	ending := kind
	if kind == "text" {
		ending = "txt"
	}
	return Export{Name: lane + "-people." + ending, write: func(w io.Writer) error { return template.Write(w, kind, columns) }}, nil
}
