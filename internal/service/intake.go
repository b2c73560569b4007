package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"twinning/internal/connector"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// intake takes a reading in: what is as the store has it is only counted, what
// is new or changed goes on to the store at once. It never holds more of a
// reading than known does.
type intake struct {
	ctx      context.Context
	w        *work
	reading  *store.Reading
	extent   string
	trusted  bool // what is stored was read with this very shape
	known    *known
	keep     keeper
	reader   *record.Reader
	cells    []string
	expected int
	records  int
	rejected int
	repeated map[string]*repeat
	refused  []record.Rejection // not yet in the store
	left     []store.Left       // not yet in the store
	told     time.Time
}

// repeat is an id that came more than once.
type repeat struct{ line, count int }

// spill bounds what is kept here of rejections and of what was left out.
const spill = 2000

func (s *Service) newIntake(ctx context.Context, w *work, shape record.Shape, extent string, k *known) *intake {
	names := shape.Canonical()
	var natives []string
	for _, n := range names {
		if native := shape.Attributes[n].Native; !record.IsSecret(native) {
			natives = append(natives, native)
		}
		if refers := shape.Attributes[n].Refers; refers != "" && !record.IsSecret(refers) {
			natives = append(natives, refers)
		}
	}
	slices.Sort(natives)
	return &intake{
		ctx: ctx, w: w, extent: extent, known: k, keep: keeper{natives: slices.Compact(natives)}, expected: -1,
		reader: shape.NewReader(names), cells: make([]string, len(names)), repeated: map[string]*repeat{},
	}
}

func (k *intake) Expect(n int) {
	k.expected = n
	k.known.expect(n)
}

func (k *intake) progress() error {
	if k.w.halt.Load() {
		return errHalted
	}
	if err := k.ctx.Err(); err != nil {
		return err
	}
	if (k.records+k.rejected)%64 != 0 || time.Since(k.told) < progressPause {
		return nil
	}
	k.told = time.Now()
	return k.w.progress(k.records+k.rejected, max(k.expected, 0), k.records, k.rejected)
}

// met notes an id and reports whether this is the first time; of a reading of
// changes, the newest word counts and nothing is a repetition.
func (k *intake) met(id string, line int) (first bool, stored uint64) {
	if k.extent == connector.Changes {
		return true, 0
	}
	before, stored := k.known.meet(id, line)
	if before == 0 {
		return true, stored
	}
	again := k.repeated[id]
	if again == nil {
		again = &repeat{line: int(before), count: 1}
		if line == 0 {
			again.line = 0
		}
		k.repeated[strings.Clone(id)] = again
	}
	again.count++
	return false, stored
}

func (k *intake) Record(r connector.Record) error {
	if !utf8.ValidString(r.ID) || strings.IndexByte(r.ID, 0) >= 0 {
		return k.Reject(record.Rejection{Line: r.Line, Column: "id", Reason: fmt.Sprintf("the id %q is no text", r.ID)})
	}
	first, stored := k.met(r.ID, r.Line)
	if !first {
		return k.progress()
	}
	digest := k.keep.digest(r.Values)
	if k.trusted && stored == short(digest) {
		k.records++
		return k.progress()
	}
	if err := k.understood(r.Values); err != nil {
		k.rejected++
		return k.refuse(record.Rejection{Line: r.Line, Column: err.Native, ID: r.ID, Reason: err.Reason})
	}
	k.records++
	if stored != short(digest) {
		if err := k.reading.Add(store.Native{ID: r.ID, Values: k.keep.json(r.Values), Digest: slices.Clone(digest)}); err != nil {
			return err
		}
	}
	return k.progress()
}

// understood says what of the record at hand can't be understood.
func (k *intake) understood(values map[string][]string) *record.ValueError {
	for _, native := range k.keep.natives {
		for _, v := range values[native] {
			if !utf8.ValidString(v) {
				return &record.ValueError{Native: native, Reason: "holds bytes that are no text"}
			}
			if strings.IndexByte(v, 0) >= 0 {
				return &record.ValueError{Native: native, Reason: "holds the control character 0x00"}
			}
		}
	}
	var bad *record.ValueError
	if err := k.reader.Row(values, k.cells); errors.As(err, &bad) {
		return bad
	}
	return nil
}

func (k *intake) Reject(r record.Rejection) error {
	if r.ID != "" {
		if first, _ := k.met(r.ID, r.Line); !first {
			return k.progress()
		}
	}
	k.rejected++
	return k.refuse(r)
}

// loggedRejections are as many as a person may read in a task's log; the roster
// lists them all.
const loggedRejections = 1000

func (k *intake) refuse(r record.Rejection) error {
	r.Column, r.ID, r.Reason = plainText(r.Column), plainText(r.ID), plainText(r.Reason)
	k.refused = append(k.refused, r)
	if k.rejected <= loggedRejections {
		if err := k.w.s.Store.Log(k.ctx, k.w.ID, "warning", rejectedWhere(r), r.Reason); err != nil {
			return err
		}
	}
	if len(k.refused) >= spill {
		if err := k.pour(); err != nil {
			return err
		}
	}
	return k.progress()
}

// plainText is a text that the database takes.
func plainText(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

func rejectedWhere(r record.Rejection) string {
	where := r.ID
	if r.Line > 0 {
		where = strings.TrimSpace(fmt.Sprintf("line %d %s", r.Line, r.ID))
	}
	return where
}

func (k *intake) Gone(id string) error { return k.reading.Add(store.Native{ID: id}) }

func (k *intake) LeftOut(l connector.Left) error {
	k.left = append(k.left, store.Left{Reason: plainText(l.Reason), What: plainText(l.What)})
	if len(k.left) >= spill {
		return k.pour()
	}
	return k.progress()
}

// pour hands over what must not pile up here.
func (k *intake) pour() error {
	if len(k.refused) > 0 {
		if err := k.reading.Reject(k.refused); err != nil {
			return err
		}
	}
	if len(k.left) > 0 {
		if err := k.reading.LeaveOut(k.left); err != nil {
			return err
		}
	}
	k.refused, k.left = k.refused[:0], k.left[:0]
	return nil
}

func (k *intake) Restart() error {
	k.known.forget()
	k.records, k.rejected, k.refused, k.left = 0, 0, nil, nil
	clear(k.repeated)
	if err := k.w.s.Store.Log(k.ctx, k.w.ID, "info", k.w.Name, "the list shifted while it was read; reading it anew"); err != nil {
		return err
	}
	return k.reading.Restart()
}

// total is how many records can be read, -1 when it has to be counted.
func (k *intake) total() int {
	if k.extent != connector.Whole || len(k.repeated) > 0 {
		return -1
	}
	return k.records
}

// finish turns repeated ids into rejections, refuses an empty reading, and
// ends what a whole reading did not meet.
func (k *intake) finish(system int64) error {
	if k.extent == connector.Whole && k.records+k.rejected == 0 {
		return fault(Invalid, "the reading came out empty", "", `an empty list is never taken for "everybody left"; check the scope and the rights of the account it is read with`)
	}
	if err := k.pour(); err != nil {
		return err
	}
	if err := k.reading.Unreadable(slices.Collect(maps.Keys(k.repeated))); err != nil {
		return err
	}
	for _, id := range slices.Sorted(maps.Keys(k.repeated)) {
		x := k.repeated[id]
		if err := k.refuse(record.Rejection{Line: x.line, Column: "id", ID: id, Reason: fmt.Sprintf("the id %q stands in %d records; give each record its own", id, x.count)}); err != nil {
			return err
		}
	}
	if err := k.pour(); err != nil {
		return err
	}
	if k.extent != connector.Whole || k.known.unseen == 0 {
		return nil
	}
	return k.w.s.Store.Known(k.ctx, system, func(id, _ []byte) error {
		if !k.known.missed(id) {
			return nil
		}
		return k.reading.Add(store.Native{ID: string(id)})
	})
}
