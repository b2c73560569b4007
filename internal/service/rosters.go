package service

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"twinning/internal/access"
	"twinning/internal/connector"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// maxUpload bounds a file sent with a roster: 4 GiB, as for any file.
const maxUpload = 4 << 30

type rosterParams struct {
	System int64  `json:"system"`
	File   string `json:"file,omitempty"` // below the data folder, when one was sent
}

// TakeRoster queues a reading. A file system may be sent its file.
func (s *Service) TakeRoster(ctx context.Context, who access.Caller, system string, body io.Reader) (store.Task, error) {
	x, err := s.Store.SystemByName(ctx, system)
	if err != nil {
		return store.Task{}, about(err, "system", system)
	}
	p := rosterParams{System: x.ID}
	if body != nil {
		if p.File, err = s.spool(body); err != nil {
			return store.Task{}, err
		}
		if p.File != "" && x.Kind != "file" {
			_ = os.Remove(filepath.Join(s.DataDir, p.File))
			return store.Task{}, fault(Invalid, fmt.Sprintf("system %q is read over the network and takes no file", system), "", "leave the file out")
		}
	}
	t, err := s.Store.AddTask(ctx, "roster", "take a roster of "+system, who.Name, p)
	if err != nil {
		return t, err
	}
	s.nudge()
	return t, s.audit(ctx, who, "roster.take", system, nil)
}

// spool keeps a sent file until its reading ends; "" when nothing was sent.
func (s *Service) spool(body io.Reader) (string, error) {
	dir := filepath.Join(s.DataDir, "spool")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	f, err := os.CreateTemp(dir, "roster-*")
	if err != nil {
		return "", err
	}
	n, err := io.Copy(f, io.LimitReader(body, maxUpload+1))
	if err := errors.Join(err, f.Close()); err != nil || n == 0 || n > maxUpload {
		_ = os.Remove(f.Name())
		if n > maxUpload {
			return "", fault(Invalid, "the file is larger than 4 GiB", "", "")
		}
		return "", err
	}
	return filepath.Join("spool", filepath.Base(f.Name())), nil
}

// guesser is a connector that can propose a shape.
type guesser interface{ Guess() (record.Shape, error) }

func (s *Service) takeRoster(ctx context.Context, w *work) error {
	var p rosterParams
	if err := json.Unmarshal(w.Params, &p); err != nil {
		return err
	}
	x, err := s.Store.SystemByID(ctx, p.System)
	if err != nil {
		return err
	}
	path := ""
	if p.File != "" {
		path = filepath.Join(s.DataDir, p.File)
		defer os.Remove(path) // the spool is swept at start too
	}
	shape, err := s.readingShape(x, path)
	if err != nil {
		return err
	}
	if x.Shape == "" && x.Kind == "file" {
		x.Shape = shape.YAML() // tells the connector which column is the id
	}
	c, err := s.connect(x, path)
	if err != nil {
		return err
	}
	id, err := s.Store.StartRoster(ctx, x.ID, shape.YAML(), w.ID)
	if errors.Is(err, store.ErrInUse) {
		return fault(Conflict, "system "+x.Name+" is being read already", "", "wait for that reading to end")
	}
	if err != nil {
		return err
	}
	if err := s.Store.LinkTask(ctx, w.ID, id, 0, 0, 0); err != nil {
		return err
	}
	sink := newSink(ctx, w, shape)
	if err = c.Read(ctx, sink); err == nil {
		err = sink.check()
	}
	if err == nil {
		err = s.Store.CommitRoster(ctx, id, x.ID, sink.records, sink.rejected)
	}
	if err != nil {
		return errors.Join(err, s.Store.FailRoster(context.WithoutCancel(ctx), id, err.Error()))
	}
	for _, r := range sink.rejected {
		if err := s.Store.Log(ctx, w.ID, "warning", rejectedWhere(r), r.Reason); err != nil {
			return err
		}
	}
	w.say("%d records, %d rejected", len(sink.records), len(sink.rejected))
	return w.progress(len(sink.records)+len(sink.rejected), len(sink.records)+len(sink.rejected), len(sink.records), len(sink.rejected))
}

func rejectedWhere(r record.Rejection) string {
	where := r.ID
	if r.Line > 0 {
		where = strings.TrimSpace(fmt.Sprintf("line %d %s", r.Line, r.ID))
	}
	return where
}

// readingShape is the shape to read with; a file without one is guessed at.
func (s *Service) readingShape(x store.System, path string) (record.Shape, error) {
	if x.Shape == "" && x.Kind == "file" {
		c, err := s.connect(x, path)
		if err != nil {
			return record.Shape{}, err
		}
		if g, ok := c.(guesser); ok {
			shape, err := g.Guess()
			if err == nil && shape.Attributes["id"].Native == "" {
				err = fault(Invalid, "no column of the file is recognised as the id", "", "give the system a shape with `id: COLUMN` (twinning shape guess FILE prints a first one)")
			}
			return shape, err
		}
	}
	return s.shapeOf(x, "")
}

// sink collects a reading in memory until it is known to be whole.
type sink struct {
	ctx      context.Context
	w        *work
	shape    record.Shape
	reader   *record.Reader
	cells    []string
	expected int
	records  []store.Native
	at       map[string]int   // id -> index into records
	lines    map[string][]int // of the records of one id, the first included
	rejected []record.Rejection
}

func newSink(ctx context.Context, w *work, shape record.Shape) *sink {
	names := shape.Canonical()
	return &sink{ctx: ctx, w: w, shape: shape, reader: shape.NewReader(names), cells: make([]string, len(names)), at: map[string]int{}, lines: map[string][]int{}}
}

func (k *sink) Expect(n int) { k.expected = n }

// progressEvery is how many records pass between two notes of progress.
const progressEvery = 5000

func (k *sink) Record(r connector.Record) error {
	k.lines[r.ID] = append(k.lines[r.ID], r.Line)
	if len(k.lines[r.ID]) > 1 {
		return nil
	}
	kept := map[string][]string{}
	for _, name := range k.shape.Canonical() {
		native := k.shape.Attributes[name].Native
		if v, ok := r.Values[native]; ok && !record.IsSecret(native) {
			kept[native] = v
		}
	}
	if err := k.reader.Row(kept, k.cells); err != nil {
		var bad *record.ValueError
		errors.As(err, &bad)
		return k.Reject(record.Rejection{Line: r.Line, Column: bad.Native, ID: r.ID, Reason: bad.Reason})
	}
	values, err := json.Marshal(kept) // keys sorted: one form for one record
	if err != nil {
		return err
	}
	sum := sha256.Sum256(values)
	k.at[r.ID] = len(k.records)
	k.records = append(k.records, store.Native{ID: r.ID, Values: values, Digest: sum[:16]})
	if len(k.records)%progressEvery == 0 {
		return k.w.progress(len(k.records), k.expected, len(k.records), len(k.rejected))
	}
	return k.ctx.Err()
}

func (k *sink) Reject(r record.Rejection) error {
	k.rejected = append(k.rejected, r)
	return nil
}

// check turns repeated ids into rejections and refuses an empty reading.
func (k *sink) check() error {
	repeated := map[string]int{}
	for id, lines := range k.lines {
		if len(lines) > 1 {
			repeated[id] = len(lines)
		}
	}
	for _, r := range k.rejected {
		if _, twice := k.at[r.ID]; twice && r.ID != "" {
			repeated[r.ID] = max(repeated[r.ID], 2)
		}
	}
	if len(repeated) > 0 {
		k.records = slices.DeleteFunc(k.records, func(n store.Native) bool { return repeated[n.ID] > 0 })
		k.rejected = slices.DeleteFunc(k.rejected, func(r record.Rejection) bool { return r.ID != "" && repeated[r.ID] > 0 })
		ids := make([]string, 0, len(repeated))
		for id := range repeated {
			ids = append(ids, id)
		}
		slices.Sort(ids)
		for _, id := range ids {
			k.rejected = append(k.rejected, record.Rejection{Line: k.lines[id][0], Column: "id", ID: id, Reason: fmt.Sprintf("the id %q stands in %d records; give each record its own", id, repeated[id])})
		}
	}
	if len(k.records)+len(k.rejected) == 0 {
		return fault(Invalid, "the reading came out empty", "", `an empty list is never taken for "everybody left"; check the scope and the rights of the account it is read with`)
	}
	return nil
}

// roster loads a reading as canonical columns.
func (s *Service) roster(ctx context.Context, x store.System, r store.Roster, wanted []string) (*record.Roster, record.Shape, error) {
	shape, err := s.shapeOf(x, r.Shape)
	if err != nil {
		return nil, shape, err
	}
	wanted = slices.DeleteFunc(slices.Clone(wanted), func(n string) bool { _, has := shape.Attributes[n]; return !has })
	b := record.NewBuilder(wanted)
	b.Expect(r.Records)
	list, err := s.Store.AllRejections(ctx, r.ID)
	if err != nil {
		return nil, shape, err
	}
	refused := map[string]bool{}
	for _, x := range list {
		refused[x.ID] = x.ID != ""
		if err := b.Reject(record.Rejection{Line: x.Line, Column: x.Column, ID: x.ID, Reason: x.Reason}); err != nil {
			return nil, shape, err
		}
	}
	reader := shape.NewReader(b.Names())
	cells := make([]string, len(b.Names()))
	err = s.Store.RosterRecords(ctx, x.ID, r.ID, func(id string, native map[string][]string) error {
		if refused[id] {
			return nil
		}
		if err := reader.Row(native, cells); err != nil {
			var bad *record.ValueError
			errors.As(err, &bad)
			return b.Reject(record.Rejection{Column: bad.Native, ID: id, Reason: bad.Reason})
		}
		cells[0] = id
		return b.Append(cells)
	})
	if err != nil {
		return nil, shape, err
	}
	roster, err := b.Roster()
	return roster, shape, err
}
