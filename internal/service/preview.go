package service

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"
	"strings"
	"time"

	"twinning/internal/access"
	"twinning/internal/connector"
	"twinning/internal/core/document"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/format"
	"twinning/internal/intake"
	"twinning/internal/reach"
	"twinning/internal/store"
)

// Looking says what to preview, and with what. Nothing of it is kept.
type Looking struct {
	File     string              // that was sent before
	Shape    string              // to try; the system's own when empty
	Settings map[string]string   // to try on a file
	Picks    map[string]string   // native -> the attribute that it is to feed
	ID       string              // native that is to be the id
	True     map[string][]string // native -> its values that mean true
	Skip     int
	First    int
}

// Preview is what a system or a file would be understood as.
type Preview struct {
	System     string              `json:"system"`
	About      *format.About       `json:"about,omitempty"`
	Columns    []record.Understood `json:"columns"`
	Attributes []string            `json:"attributes"`
	Shape      string              `json:"shape"`
	Guessed    bool                `json:"guessed"`
	ID         record.IDVerdict    `json:"id"`
	Rows       []PreviewRow        `json:"rows"`
	Problems   []record.Rejection  `json:"problems"`
	Left       []store.Reason      `json:"left"`
	Records    int                 `json:"records"`
	Rejected   int                 `json:"rejected"`
	Everything bool                `json:"everything"`
	Next       string              `json:"next"`
}

// PreviewRow is one record as it would be.
type PreviewRow struct {
	Line   int                 `json:"line,omitempty"`
	ID     string              `json:"id"`
	Values map[string][]string `json:"values"`
}

const (
	previewFirst    = 20               // rows shown when nobody says
	previewProblems = 200              // listed; all are counted
	previewSample   = 1000             // records from which columns are understood
	previewTime     = 60 * time.Second // a preview that takes longer is a roster
)

// triable settings say how a file is read, not which one: that is for whoever
// administers systems.
var triable = []string{"format", "delimiter", "encoding", "sheet", "defused", "id"}

// Preview reads a file as a whole, a system in part, and tells what would be
// understood. It writes nothing.
func (s *Service) Preview(ctx context.Context, who access.Caller, system string, how Looking) (v Preview, err error) {
	ctx, cancel := context.WithTimeout(ctx, previewTime)
	defer cancel()
	leave, err := s.place(ctx, s.previews, "previews")
	if err != nil {
		return v, err
	}
	defer leave()
	x, err := s.system(ctx, system)
	if err != nil {
		return v, fault.About(err, "system", system)
	}
	to := reach.For{}
	if how.File != "" {
		if to.Spool, err = s.spooled(who, how.File); err != nil {
			return v, err
		}
	}
	if len(how.Settings) > 0 {
		if x.Kind != "file" {
			return v, &fault.Error{Kind: fault.Invalid, Title: "settings can be tried on files only", Detail: "a changed address would send the secret elsewhere", Field: "settings", Next: "change the system, then preview it"}
		}
		for name := range how.Settings {
			if !slices.Contains(triable, name) {
				return v, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("setting %q can't be tried", name), Detail: "only how a file is read can: " + strings.Join(triable, ", "), Field: "settings"}
			}
		}
		x.Settings.V = merged(x.Settings.V, how.Settings)
	}
	v.Guessed = how.Shape == "" && x.Shape == ""
	if how.Shape != "" {
		if _, err := record.ParseShape([]byte(how.Shape)); err != nil {
			return v, fault.Document("the shape is not in order", "shape", err)
		}
		x.Shape = how.Shape
	}
	for native, name := range how.Picks {
		if _, canonical := record.Canonical(name); name != "" && !canonical && !record.ValidName(name) {
			return v, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("column %q can't become %q", native, name), Detail: "an attribute's name is made of letters, digits and _", Field: "picks"}
		}
	}
	look := newGlance(how)
	v.System, v.Attributes = system, record.CanonicalNames()
	if x.Kind == "file" {
		err = s.previewFile(ctx, x, to, how, &v, look)
	} else {
		err = s.previewSystem(ctx, x, to, how, &v, look)
	}
	if err != nil {
		return v, toldBySystem(err)
	}
	v.Rows, v.Problems, v.Records, v.Rejected, v.Left = look.rows, look.problems, look.records, look.rejected, look.reasons()
	v.Next = v.next(how)
	return v, nil
}

// picked is the shape after a person picked columns.
func picked(shape record.Shape, how Looking, records []map[string][]string) record.Shape {
	for _, native := range slices.Sorted(maps.Keys(how.Picks)) {
		if how.Picks[native] == "id" {
			how.ID = native
			continue
		}
		shape = shape.Pick(native, how.Picks[native]).Fit(how.Picks[native], records)
	}
	for native, words := range how.True {
		shape = shape.Words(native, words, records)
	}
	if how.ID != "" {
		shape.Attributes = maps.Clone(shape.Attributes)
		shape.Attributes["id"] = record.Source{Native: how.ID}
	}
	return shape
}

func merged(a, b map[string]string) map[string]string {
	out := maps.Clone(a)
	if out == nil {
		out = map[string]string{}
	}
	maps.Copy(out, b)
	return out
}

func (s *Service) previewFile(ctx context.Context, x store.System, to reach.For, how Looking, v *Preview, look *glance) error {
	tried := x.Shape
	file, natives, err := s.reach.Look(ctx, x, to)
	if err != nil {
		return err
	}
	v.About = &file
	if tried == "" && len(natives) > 0 { // any column will do to look at the values
		x.Shape = record.Shape{Attributes: map[string]record.Source{"id": {Native: natives[0]}}}.YAML()
	}
	sample := newGlance(Looking{First: 1})
	if err := s.glanceAt(ctx, x, to, connector.Reading{Extent: connector.Sample, Limit: previewSample}, sample); err != nil {
		return err
	}
	columns, shape := record.Understand(natives, sample.natives)
	if id := x.Settings.V["id"]; tried == "" && id != "" {
		shape.Attributes["id"] = record.Source{Native: id}
	}
	if tried != "" {
		if shape, err = record.ParseShape([]byte(tried)); err != nil {
			return err
		}
		columns = shape.Held(columns, sample.natives)
	}
	if how.names() {
		if err := how.known(natives); err != nil {
			return err
		}
		shape = picked(shape, how, sample.natives)
		columns = shape.Held(columns, sample.natives)
	}
	v.ID = record.JudgeID(columns, shape, len(sample.natives))
	v.Columns, v.Shape = shape.Feeding(columns), shape.YAML()
	look.shape, look.everything = shape, true
	if v.ID.Native == "" {
		v.Shape = "# " + v.ID.Said + "\n" + v.Shape
		shape.Attributes["id"] = record.Source{Native: natives[0]} // so that there is something to look at
		look.shape = shape
	}
	v.Everything = true
	x.Shape = shape.YAML()
	return s.glanceAt(ctx, x, to, connector.Reading{Extent: connector.Whole}, look)
}

// names tells whether columns are named.
func (how Looking) names() bool { return len(how.Picks)+len(how.True) > 0 || how.ID != "" }

// known refuses a column that there is not: what is misspelt must not look as if it
// were done.
func (how Looking) known(natives []string) error {
	check := func(name, field string) error {
		if name == "" || slices.Contains(natives, name) {
			return nil
		}
		return &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("there is no column %q%s", name, document.Suggest(name, natives)), Detail: "the columns are " + strings.Join(natives, ", "), Field: field}
	}
	for _, name := range slices.Sorted(maps.Keys(how.Picks)) {
		if err := check(name, "picks"); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(how.True)) {
		if err := check(name, "trueWords"); err != nil {
			return err
		}
	}
	return check(how.ID, "id")
}

func (s *Service) previewSystem(ctx context.Context, x store.System, to reach.For, how Looking, v *Preview, look *glance) error {
	shape, err := s.reach.ShapeOf(x, "")
	if err != nil {
		return err
	}
	look.shape = shape
	if err := s.glanceAt(ctx, x, to, connector.Reading{Extent: connector.Sample, Skip: look.skip, Limit: max(look.first, 200)}, look); err != nil {
		return err
	}
	natives := record.NativesOf(shape, look.natives)
	if how.names() {
		if err := how.known(natives); err != nil {
			return err
		}
		shape = picked(shape, how, look.natives)
		look.shape, x.Shape = shape, shape.YAML()
		if err := s.glanceAt(ctx, x, to, connector.Reading{Extent: connector.Sample, Skip: look.skip, Limit: max(look.first, 200)}, look); err != nil {
			return err
		}
	}
	columns, _ := record.Understand(natives, look.natives)
	v.Columns = shape.Feeding(shape.Held(columns, look.natives))
	v.ID = record.JudgeID(v.Columns, shape, len(look.natives))
	v.Shape = shape.YAML()
	return nil
}

func (s *Service) glanceAt(ctx context.Context, x store.System, to reach.For, what connector.Reading, look *glance) error {
	c, err := s.reach.Connect(x, to)
	if err != nil {
		return err
	}
	defer reach.Closed(c)
	look.begin()
	_, err = connector.Read(ctx, c, look.shape, what, look)
	if errors.Is(err, context.DeadlineExceeded) {
		return fault.New(fault.Invalid, "the preview took longer than a minute", "", "take a roster, which reads in the background")
	}
	return err
}

// next says what to do now.
func (v Preview) next(how Looking) string {
	take := "twinning roster take " + v.System
	switch {
	case v.ID.Native == "":
		return "name the id in the shape and look again"
	case v.Records == 0:
		return "nothing in it can be read: correct the shape or the file, and look again"
	case v.Rejected > 0:
		return fmt.Sprintf("%d of %d records can't be read: correct the shape or the file, or take the roster without them (%s)", v.Rejected, v.Records+v.Rejected, take)
	case v.Guessed:
		return "check the columns, keep the shape with the system, then: " + take
	case how.Shape != "":
		return "keep the shape with the system, then: " + take
	}
	return take
}

// glance takes a reading for looking.
type glance struct {
	shape      record.Shape
	everything bool
	skip       int
	first      int
	judge      *record.Judge
	names      []string
	cells      []string
	natives    []map[string][]string
	rows       []PreviewRow
	problems   []record.Rejection
	records    int
	rejected   int
	left       map[string]int
	seed       maphash.Seed
	ids        map[uint64]int // hash of an id -> its line; of whole readings
}

func newGlance(how Looking) *glance {
	g := &glance{skip: how.Skip, first: how.First, seed: maphash.MakeSeed()}
	if g.first < 1 {
		g.first = previewFirst
	}
	return g
}

func (g *glance) begin() {
	g.names = g.shape.Canonical()
	g.judge, g.cells = g.shape.NewJudge(g.names), make([]string, len(g.names))
	g.natives, g.rows, g.problems, g.records, g.rejected = nil, []PreviewRow{}, []record.Rejection{}, 0, 0
	g.left, g.ids = map[string]int{}, map[uint64]int{}
}

func (g *glance) Expect(int)        {}
func (g *glance) Gone(string) error { return nil }
func (g *glance) Restart() error    { g.begin(); return nil }

func (g *glance) Reject(r record.Rejection) error {
	g.rejected++
	if len(g.problems) < previewProblems {
		r.Column, r.ID, r.Reason = intake.PlainText(r.Column), intake.PlainText(r.ID), intake.PlainText(r.Reason)
		g.problems = append(g.problems, r)
	}
	return nil
}

func (g *glance) LeftOut(l connector.Left) error {
	g.left[l.Reason]++
	return nil
}

func (g *glance) Record(r connector.Record) error {
	if len(g.natives) < previewSample {
		g.natives = append(g.natives, r.Values)
	}
	if len(g.shape.Attributes) == 0 {
		g.records++
		return nil
	}
	rej, gap := g.judge.Native(r.Line, r.Values, g.cells)
	if gap != nil {
		return g.LeftOut(*gap)
	}
	hash := maphash.String(g.seed, r.ID)
	if line, again := g.ids[hash]; again && r.ID != "" {
		where := ""
		if line > 0 {
			where = fmt.Sprintf(" (first in line %d)", line)
		}
		return g.Reject(record.Rejection{Line: r.Line, Column: "id", ID: r.ID, Reason: fmt.Sprintf("the id %q was there before%s; give each record its own", r.ID, where)})
	}
	g.ids[hash] = r.Line
	if rej != nil {
		rej.ID = r.ID
		return g.Reject(*rej)
	}
	g.records++
	at := g.records + g.rejected
	if g.everything && at <= g.skip || len(g.rows) >= g.first {
		return nil
	}
	row := PreviewRow{Line: r.Line, ID: r.ID, Values: map[string][]string{}}
	for i, name := range g.names {
		if g.cells[i] != "" && name != "id" {
			row.Values[name] = record.SplitList(g.cells[i])
		}
	}
	g.rows = append(g.rows, row)
	return nil
}

func (g *glance) reasons() []store.Reason {
	list := []store.Reason{}
	for reason, n := range g.left {
		list = append(list, store.Reason{Reason: reason, Count: n})
	}
	slices.SortFunc(list, func(a, b store.Reason) int {
		if a.Count != b.Count {
			return b.Count - a.Count
		}
		return map[bool]int{true: -1, false: 1}[a.Reason < b.Reason]
	})
	return list
}

// toldBySystem gives a connector's error to whoever asked.
func toldBySystem(err error) error {
	var told *connector.Error
	if !errors.As(err, &told) {
		return err
	}
	return fault.New(fault.Invalid, "can't "+told.Doing, told.Target+": "+told.Reason, told.Next)
}
