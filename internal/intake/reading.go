package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"strings"
	"time"

	"twinning/internal/connector"
	"twinning/internal/core/calendar"
	"twinning/internal/core/parallel"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/reach"
	"twinning/internal/store"
	"twinning/internal/work"
)

// Params say which roster is to be taken, and how.
type Params struct {
	System   int64  `json:"system"`
	File     string `json:"file,omitempty"` // in the spool, when one was sent
	Node     string `json:"node,omitempty"` // where the spool is
	Extent   string `json:"extent"`
	Name     string `json:"name,omitempty"`
	NewScope bool   `json:"newScope,omitempty"` // what the system covers, or where it is, was changed on purpose
}

// Config of a reader of systems.
type Config struct {
	Store *store.Store
	Reach *reach.Reach
	Now   func() time.Time
	Log   *slog.Logger
	// Taken is told of every roster that was taken.
	Taken func(ctx context.Context, x store.System, roster int64) error
}

// Intake takes rosters.
type Intake struct{ Config }

// New makes one.
func New(cfg Config) *Intake { return &Intake{cfg} }

// Take carries the task of a reading out.
func (s *Intake) Take(ctx context.Context, w *work.Work) error {
	var p Params
	if err := json.Unmarshal(w.Params, &p); err != nil {
		return err
	}
	x, err := s.Store.SystemByID(ctx, p.System)
	if err != nil {
		return err
	}
	how := reach.For{}
	if p.File != "" {
		how.Spool = s.Reach.InSpool(p.File)
		defer os.Remove(how.Spool) // the spool is swept too
	}
	if x.Shape == "" && x.Kind == "file" {
		guessed, err := s.Reach.GuessShape(ctx, x, how)
		if err != nil {
			return err
		}
		x.Shape = guessed.YAML() // tells the connector which column is the id
	}
	shape, err := s.Reach.ShapeOf(x, "")
	if err != nil {
		return err
	}
	c, err := s.Reach.Connect(x, how)
	if err != nil {
		return err
	}
	defer reach.Closed(c)
	plan, err := s.planReading(ctx, w, x, c, shape, p)
	if err != nil {
		return err
	}
	id, err := s.Store.StartRoster(ctx, x.ID, plan.extent, p.Name, shape.YAML(), w.ID)
	if errors.Is(err, store.ErrInUse) {
		return fault.New(fault.Conflict, "system "+x.Name+" is being read already", "", "wait for that reading to end").Because("busy")
	}
	if err != nil {
		return err
	}
	if err := s.Store.LinkTask(ctx, w.ID, id, 0, 0, 0); err != nil {
		return err
	}
	// whoever asks to halt must not wait for a system that does not answer
	reading, cancel := w.Until(ctx)
	defer cancel()
	totals, err := s.read(reading, w, c, x, shape, id, plan)
	if connector.KindOf(err) == connector.Expired && plan.extent == connector.Changes {
		w.Say("the system no longer says what changed; read as a whole")
		plan.extent, plan.cursor = connector.Whole, ""
		if err := s.Store.Widen(ctx, id); err != nil {
			return err
		}
		totals, err = s.read(reading, w, c, x, shape, id, plan)
	}
	if err != nil {
		err = fault.Ours(s.Log, "reading "+x.Name, err)
		state := "failed"
		if w.Halted() {
			state, err = "halted", work.ErrHalted
			w.Say("halted as asked; nothing of it was kept")
		}
		return errors.Join(err, s.Store.FailRoster(context.WithoutCancel(ctx), id, state, err.Error()))
	}
	w.Say("%s", strings.TrimPrefix(fmt.Sprintf("%s; %d records, %d rejected", w.Message, totals.Records, totals.Rejected), "; "))
	if err := w.Progress(totals.Records+totals.Rejected, totals.Records+totals.Rejected, totals.Records, totals.Rejected); err != nil {
		return err
	}
	if err := s.Taken(ctx, x, id); err != nil {
		return err
	}
	if x.KeepDays == 0 {
		return nil
	}
	return s.Store.PruneRosters(ctx, x.ID, s.Now().AddDate(0, 0, -x.KeepDays))
}

// readingPlan is what is decided before a reading begins.
type readingPlan struct {
	extent, cursor, scope, origin string
	known                         int       // about so many records are in the store
	trusted                       bool      // the shape is the one that the last roster was read with
	moved                         bool      // it is read from another address
	whole                         time.Time // when it was last read as a whole, for a reading of changes
}

// wholeEvery is how long readings of changes are trusted before everything is
// read again: a change that the system never told of is found then.
const wholeEvery = 7 * 24 * time.Hour

// planReading decides the extent, and refuses a reading whose scope is another
// than the last one's: what is absent from it may only be out of scope.
func (s *Intake) planReading(ctx context.Context, w *work.Work, x store.System, c connector.Connector, shape record.Shape, p Params) (readingPlan, error) {
	declared := c.Declare()
	plan := readingPlan{extent: p.Extent, scope: declared.Scope, origin: declared.Origin}
	last, err := s.Store.NewestRoster(ctx, x.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return plan, err
	}
	moved := err == nil && last.Scope != "" && last.Scope != plan.scope
	if moved && !p.NewScope {
		return plan, fault.New(fault.Conflict, "the scope of "+x.Name+" has changed since its last roster", fmt.Sprintf("it was %q and is %q: whoever is absent now may only be out of scope, and would look gone", last.Scope, plan.scope), "put the old scope back, or take the roster with --new-scope once you know that this is wanted").Because("scope-changed")
	}
	plan.moved = err == nil && last.Origin != "" && last.Origin != plan.origin
	if plan.moved && !p.NewScope {
		return plan, fault.New(fault.Conflict, x.Name+" is read from another address now", fmt.Sprintf("it was %s and is %s: it may be another system, in which the same ids are other people", last.Origin, plan.origin), "make a system of its own for another one; if it is the same one that has moved, take the roster with --new-scope").Because("system-moved")
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
	case moved || plan.moved:
		why = "its scope or address was changed"
	case !plan.trusted:
		why = "its shape was changed"
	case s.Now().Sub(whole.Started) > wholeEvery:
		why = "the last whole reading is older than a week"
	default:
		plan.cursor, plan.whole = last.Cursor, whole.Started
		return plan, nil
	}
	plan.extent = connector.Whole
	w.Say("read as a whole: %s", why)
	return plan, nil
}

// read brings one reading into the store, at once or not at all.
func (s *Intake) read(ctx context.Context, w *work.Work, c connector.Connector, x store.System, shape record.Shape, id int64, plan readingPlan) (t store.Totals, err error) {
	k := newStock()
	if plan.extent == connector.Whole {
		k.expect(plan.known)
		if err := s.Store.Known(ctx, x.ID, k.add); err != nil {
			return t, err
		}
	}
	in := newTaking(ctx, w, shape, plan.extent, k)
	in.trusted = plan.trusted
	if in.reading, err = s.Store.OpenReading(ctx, id, x.ID, plan.extent == connector.Whole && k.stored == 0); err != nil {
		return t, err
	}
	cursor := ""
	err = parallel.Try(func() (err error) { // a panic too leaves nothing open
		first := readAhead(in)
		err = parallel.Try(func() (err error) {
			cursor, err = connector.Read(ctx, c, shape, connector.Reading{Extent: plan.extent, Cursor: plan.cursor}, first)
			return err
		})
		if taken := first.wait(); taken != nil {
			err = taken
		}
		if err == nil {
			err = in.finish(x.ID)
		}
		if err == nil && plan.moved {
			err = s.sameSystem(ctx, x, k)
		}
		return err
	})
	if err != nil {
		return t, errors.Join(err, in.reading.Abandon())
	}
	end := store.Ending{Cursor: cursor, Scope: plan.scope, Origin: plan.origin}
	if in.deletionsUnseen {
		end.DeletionsUnseen = &plan.whole
	}
	return in.reading.Commit(end, plan.extent == connector.Changes, in.total())
}

// sameSystem holds the reading of a system that has moved against the ids that
// bonds know: where most of them do not show, it is another system.
func (s *Intake) sameSystem(ctx context.Context, x store.System, k *stock) error {
	bonded, there, err := s.Store.BondedIDs(ctx, x.ID)
	if err != nil || bonded == 0 || k.stored == 0 {
		return err
	}
	if gone := k.unseen; there > 0 && 2*gone > k.stored {
		return fault.New(fault.Conflict, fmt.Sprintf("%s does not look like the same system", x.Name), fmt.Sprintf("%d of its %d known records do not show at the new address, and %d bonds name records of it", gone, k.stored, bonded), "make a system of its own for another one, and a lane of its own; or put the old address back").Because("system-moved")
	}
	return nil
}

// Load reads a roster from the store as canonical columns, with days as they are in
// a zone (nil: UTC).
func (s *Intake) Load(ctx context.Context, x store.System, r store.Roster, wanted []string, zone *time.Location) (*record.Roster, record.Shape, error) {
	shape, err := s.Reach.ShapeOf(x, r.Shape)
	if err != nil {
		return nil, shape, err
	}
	shape = shape.In(zone)
	l := shape.NewLoader(wanted)
	l.Expect(r.Records)
	skip, err := s.gaps(ctx, r, l)
	if err != nil {
		return nil, shape, err
	}
	// of a record that could not be read, the names of its last version are those
	// that it may hold still
	names := map[string][]string{}
	judge := judgeOfNames(shape)
	err = s.Store.RosterRecords(ctx, x.ID, r.ID, func(id string, native map[string][]string, digest []byte) error {
		if skip[id] {
			names[id] = judge.Names(native)
			return nil
		}
		return l.AddStored(id, native, digest)
	})
	if err != nil {
		return nil, shape, err
	}
	roster, err := l.Roster()
	if err == nil {
		roster.NameUnread(names)
	}
	return roster, shape, err
}

// judgeOfNames reads the logins and addresses of a record, and its id.
func judgeOfNames(shape record.Shape) *record.Judge {
	return shape.NewJudge(append([]string{"id"}, record.Namespaces()...))
}

// Former lists the logins and addresses that accounts held until lately, as the newest
// shape reads them: some of them may still be held.
func (s *Intake) Former(ctx context.Context, x store.System, r store.Roster, since time.Time, zone *time.Location) ([]reconcile.Freed, error) {
	shape, err := s.Reach.ShapeOf(x, r.Shape)
	if err != nil {
		return nil, err
	}
	list := []reconcile.Freed{}
	judge := judgeOfNames(shape)
	err = s.Store.FormerRecords(ctx, r, since, func(id string, native map[string][]string, ended time.Time) error {
		for _, name := range judge.Names(native) {
			list = append(list, reconcile.Freed{Name: name, Account: id, On: calendar.Day(ended, zone)})
		}
		return nil
	})
	return list, err
}

// gaps hands over what the roster does not know, and says whose records are not
// to be taken from the store.
func (s *Intake) gaps(ctx context.Context, r store.Roster, l *record.Loader) (skip map[string]bool, err error) {
	skip = map[string]bool{}
	rejected, err := s.Store.AllRejections(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	for _, x := range rejected {
		skip[x.ID] = x.ID != ""
		if err := l.Reject(record.Rejection{Line: x.Line, Column: x.Column, ID: x.ID, Reason: x.Reason, Swallows: x.Swallows, Names: x.Names, Named: x.Named}); err != nil {
			return nil, err
		}
	}
	left, err := s.Store.AllLeftOut(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	for _, x := range left {
		if skip[x.ID] {
			continue
		}
		skip[x.ID] = x.ID != ""
		if err := l.LeaveOut(record.Gap{Kind: x.Kind, ID: x.ID, Reason: x.Reason, What: x.What}); err != nil {
			return nil, err
		}
	}
	if r.DeletionsUnseen != nil {
		return skip, l.LeaveOut(record.Gap{Kind: record.Deletions, Reason: "deletions can't be seen in a reading of changes", What: r.DeletionsUnseen.UTC().Format(time.RFC3339)})
	}
	return skip, nil
}
