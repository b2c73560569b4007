package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"twinning/internal/access"
	"twinning/internal/connector"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// maxUpload bounds a file sent with a roster: 4 GiB, as for any file.
const maxUpload = 4 << 30

// Taking says how a roster is to be taken.
type Taking struct {
	Extent   string    // whole (default) or changes
	Name     string    // for people; may be empty
	NewScope bool      // what the system covers was changed on purpose
	File     string    // of SendFile, for a file system
	Body     io.Reader // the file itself, instead
}

type rosterParams struct {
	System   int64  `json:"system"`
	File     string `json:"file,omitempty"` // in the spool, when one was sent
	Node     string `json:"node,omitempty"` // where the spool is
	Extent   string `json:"extent"`
	Name     string `json:"name,omitempty"`
	NewScope bool   `json:"newScope,omitempty"`
}

// TakeRoster queues a reading. A file system may be sent its file.
func (s *Service) TakeRoster(ctx context.Context, who access.Caller, system string, how Taking) (store.Task, error) {
	x, err := s.Store.SystemByName(ctx, system)
	if err != nil {
		return store.Task{}, about(err, "system", system)
	}
	p := rosterParams{System: x.ID, Extent: connector.Whole, Name: how.Name, NewScope: how.NewScope}
	switch how.Extent {
	case "", connector.Whole:
	case connector.Changes:
		p.Extent = connector.Changes
	default:
		return store.Task{}, &Error{Kind: Invalid, Title: fmt.Sprintf("extent %q can't be taken as a roster", how.Extent), Detail: "expected whole or changes", Field: "extent"}
	}
	if how.File != "" {
		if _, err := s.spooled(how.File); err != nil {
			return store.Task{}, err
		}
		p.File = how.File
	} else if how.Body != nil {
		if p.File, err = s.spool(how.Body); err != nil {
			return store.Task{}, err
		}
	}
	if p.File != "" {
		if x.Kind != "file" {
			_ = os.Remove(s.inSpool(p.File))
			return store.Task{}, fault(Invalid, fmt.Sprintf("system %q is read over the network and takes no file", system), "", "leave the file out")
		}
		p.Node = s.Node
	}
	title := "take a roster of " + system
	if how.Name != "" {
		title += ": " + how.Name
	}
	t, err := s.Store.AddTask(ctx, "roster", title, who.Name, p)
	if err != nil {
		return t, err
	}
	s.nudge()
	return t, s.audit(ctx, who, "roster.take", system, map[string]string{"extent": p.Extent})
}

func (s *Service) takeRoster(ctx context.Context, w *work) error {
	var p rosterParams
	if err := json.Unmarshal(w.Params, &p); err != nil {
		return err
	}
	x, err := s.Store.SystemByID(ctx, p.System)
	if err != nil {
		return err
	}
	how := reach{}
	if p.File != "" {
		how.spool = s.inSpool(p.File)
		defer os.Remove(how.spool) // the spool is swept too
	}
	if x.Shape == "" && x.Kind == "file" {
		guessed, err := s.guessShape(ctx, x, how)
		if err != nil {
			return err
		}
		x.Shape = guessed.YAML() // tells the connector which column is the id
	}
	shape, err := s.shapeOf(x, "")
	if err != nil {
		return err
	}
	c, err := s.connect(x, how)
	if err != nil {
		return err
	}
	defer closed(c)
	plan, err := s.planReading(ctx, w, x, c, shape, p)
	if err != nil {
		return err
	}
	id, err := s.Store.StartRoster(ctx, x.ID, plan.extent, p.Name, shape.YAML(), w.ID)
	if errors.Is(err, store.ErrInUse) {
		return fault(Conflict, "system "+x.Name+" is being read already", "", "wait for that reading to end")
	}
	if err != nil {
		return err
	}
	if err := s.Store.LinkTask(ctx, w.ID, id, 0, 0, 0); err != nil {
		return err
	}
	// whoever asks to halt must not wait for a system that does not answer
	reading, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		select {
		case <-reading.Done():
		case <-w.asked:
			cancel()
		}
	}()
	totals, err := s.read(reading, w, c, x, shape, id, plan)
	if connector.KindOf(err) == connector.Expired && plan.extent == connector.Changes {
		w.say("the system no longer says what changed; read as a whole")
		plan.extent, plan.cursor = connector.Whole, ""
		if err := s.Store.Widen(ctx, id); err != nil {
			return err
		}
		totals, err = s.read(reading, w, c, x, shape, id, plan)
	}
	if err != nil {
		state := "failed"
		if w.halt.Load() {
			state, err = "halted", errHalted
			w.say("halted as asked; nothing of it was kept")
		}
		return errors.Join(err, s.Store.FailRoster(context.WithoutCancel(ctx), id, state, err.Error()))
	}
	w.say("%s", strings.TrimPrefix(fmt.Sprintf("%s; %d records, %d rejected", w.message, totals.Records, totals.Rejected), "; "))
	if err := w.progress(totals.Records+totals.Rejected, totals.Records+totals.Rejected, totals.Records, totals.Rejected); err != nil {
		return err
	}
	if err := s.settleWaiting(ctx, x, id); err != nil {
		return err
	}
	if x.KeepDays == 0 {
		return nil
	}
	return s.Store.PruneRosters(ctx, x.ID, s.Now().AddDate(0, 0, -x.KeepDays))
}

// readingPlan is what is decided before a reading begins.
type readingPlan struct {
	extent, cursor, scope string
	known                 int  // about so many records are in the store
	trusted               bool // the shape is the one that the last roster was read with
}

// wholeEvery is how long readings of changes are trusted before everything is
// read again: a change that the system never told of is found then.
const wholeEvery = 7 * 24 * time.Hour

// planReading decides the extent, and refuses a reading whose scope is another
// than the last one's: what is absent from it may only be out of scope.
func (s *Service) planReading(ctx context.Context, w *work, x store.System, c connector.Connector, shape record.Shape, p rosterParams) (readingPlan, error) {
	declared := c.Declare()
	plan := readingPlan{extent: p.Extent, scope: declared.Scope}
	last, err := s.Store.NewestRoster(ctx, x.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return plan, err
	}
	moved := err == nil && last.Scope != "" && last.Scope != plan.scope
	if moved && !p.NewScope {
		return plan, fault(Conflict, "the scope of "+x.Name+" is another than at its last roster", fmt.Sprintf("it was %q and is %q: whoever is absent now may only be out of scope, and would look gone", last.Scope, plan.scope), "put the old scope back, or take the roster with --new-scope once you know that this is wanted")
	}
	plan.trusted, plan.known = err == nil && last.Shape == shape.YAML(), last.Records+last.Rejected
	if p.Extent != connector.Changes {
		return plan, nil
	}
	why := ""
	switch whole, wholeErr := s.Store.NewestWhole(ctx, x.ID); {
	case !slices.Contains(declared.Extents, connector.Changes):
		why = "this system does not say what changed"
	case err != nil || wholeErr != nil:
		why = "nothing is known of it yet"
	case last.Cursor == "":
		why = "the last roster left no mark to go on from"
	case moved:
		why = "its scope was changed"
	case !plan.trusted:
		why = "its shape was changed"
	case s.Now().Sub(whole.Started) > wholeEvery:
		why = "the last whole reading is older than a week"
	default:
		plan.cursor = last.Cursor
		return plan, nil
	}
	plan.extent = connector.Whole
	w.say("read as a whole: %s", why)
	return plan, nil
}

// read brings one reading into the store, at once or not at all.
func (s *Service) read(ctx context.Context, w *work, c connector.Connector, x store.System, shape record.Shape, id int64, plan readingPlan) (t store.Totals, err error) {
	k := newKnown()
	if plan.extent == connector.Whole {
		k.expect(plan.known)
		if err := s.Store.Known(ctx, x.ID, k.add); err != nil {
			return t, err
		}
	}
	in := s.newIntake(ctx, w, shape, plan.extent, k)
	in.trusted = plan.trusted
	if in.reading, err = s.Store.OpenReading(ctx, id, x.ID, plan.extent == connector.Whole && k.stored == 0); err != nil {
		return t, err
	}
	first := readAhead(in)
	cursor, err := c.Read(ctx, connector.Reading{Extent: plan.extent, Cursor: plan.cursor}, first)
	if taken := first.wait(); taken != nil {
		err = taken
	}
	if err == nil {
		err = in.finish(x.ID)
	}
	if err != nil {
		return t, errors.Join(err, in.reading.Abandon())
	}
	return in.reading.Commit(cursor, plan.scope, plan.extent == connector.Changes, in.total())
}

// inSpool is the path of a file that was sent.
func (s *Service) inSpool(file string) string { return filepath.Join(s.DataDir, "spool", file) }

// spool keeps a sent file until its reading ends; "" when nothing was sent.
func (s *Service) spool(body io.Reader) (string, error) {
	dir := s.inSpool("")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	s.sweepSpool(dir)
	f, err := os.CreateTemp(dir, "sent-*")
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
	return filepath.Base(f.Name()), nil
}

// spoolDays is how long a file that was sent and not used is kept.
const spoolDays = 1

func (s *Service) sweepSpool(dir string) {
	list, err := os.ReadDir(dir)
	if err != nil {
		return // there is nothing to sweep
	}
	for _, entry := range list {
		if info, err := entry.Info(); err == nil && s.Now().Sub(info.ModTime()) > spoolDays*24*time.Hour {
			_ = os.Remove(filepath.Join(dir, entry.Name()))
		}
	}
}

// SendFile keeps a file for a preview and a roster; it is named by what is
// returned, for a day.
func (s *Service) SendFile(ctx context.Context, system string, body io.Reader) (string, error) {
	x, err := s.Store.SystemByName(ctx, system)
	if err != nil {
		return "", about(err, "system", system)
	}
	if x.Kind != "file" {
		return "", fault(Invalid, fmt.Sprintf("system %q is read over the network and takes no file", system), "", "preview it without a file")
	}
	file, err := s.spool(body)
	if err == nil && file == "" {
		err = fault(Invalid, "the file is empty", "", "send the file as the body of the request")
	}
	return file, err
}

// spooled is the path of a file that was sent before.
func (s *Service) spooled(file string) (string, error) {
	path := s.inSpool(file)
	if filepath.Base(file) != file || !strings.HasPrefix(file, "sent-") {
		return "", &Error{Kind: Invalid, Title: fmt.Sprintf("%q is no file that was sent", file), Field: "file"}
	}
	if _, err := os.Stat(path); err != nil {
		return "", fault(NotFound, "the file that was sent is no longer kept", "files are kept for a day, on the node that took them", "send it again")
	}
	return path, nil
}

// roster loads a reading as canonical columns.
func (s *Service) roster(ctx context.Context, x store.System, r store.Roster, wanted []string) (*record.Roster, record.Shape, error) {
	shape, err := s.shapeOf(x, r.Shape)
	if err != nil {
		return nil, shape, err
	}
	wanted = slices.DeleteFunc(slices.Clone(wanted), func(n string) bool { _, has := shape.Attributes[n]; return !has })
	refers := shape.References(wanted)
	b := record.NewBuilder(append(wanted, refers.Keys...))
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
	reader := refers.Shape.NewReader(b.Names())
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
	if err == nil {
		roster.Resolve(refers)
	}
	return roster, shape, err
}
