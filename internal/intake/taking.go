// Package intake makes a roster of a system: it reads ahead of the taking in,
// judges every record, and keeps what the roster does not know beside what it
// does. A reading is committed at once or not at all.
package intake

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"twinning/internal/connector"
	"twinning/internal/core/budget"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/store"
	"twinning/internal/work"
)

// taking takes a reading in: what is as the store has it is only counted, what
// is new or changed goes on to the store at once. It never holds more of a
// reading than its stock does.
type taking struct {
	ctx             context.Context
	w               *work.Work
	reading         *store.Reading
	extent          string
	trusted         bool // what is stored was read with this very shape
	stock           *stock
	keep            keeper
	judge           *record.Judge
	cells           []string
	expected        int
	records         int
	rejected        int
	twice           int // records whose id had come before
	repeated        map[string]*repeat
	refused         []record.Rejection // not yet in the store
	left            []store.Left       // not yet in the store
	told            time.Time
	deletionsUnseen bool
}

// repeat is an id that came more than once.
type repeat struct{ line, count int }

// progressPause is how long watchers wait for the next count.
const progressPause = 200 * time.Millisecond

// spill bounds what is kept here of rejections and of what was left out.
const spill = 2000

func newTaking(ctx context.Context, w *work.Work, shape record.Shape, extent string, k *stock) *taking {
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
	return &taking{
		ctx: ctx, w: w, extent: extent, stock: k, keep: keeper{natives: slices.Compact(natives)}, expected: -1,
		judge: shape.NewJudge(names), cells: make([]string, len(names)), repeated: map[string]*repeat{},
	}
}

func (k *taking) Expect(n int) {
	k.expected = n
	k.stock.expect(n)
}

func (k *taking) progress() error {
	if k.w.Halted() {
		return work.ErrHalted
	}
	if err := k.ctx.Err(); err != nil {
		return err
	}
	if n := int64(k.records + k.rejected + k.twice); n > budget.Records.Value() { // a list without an end
		return budget.Records.Over(n, "the number of records")
	}
	if (k.records+k.rejected)%64 != 0 || time.Since(k.told) < progressPause {
		return nil
	}
	k.told = time.Now()
	return k.w.Progress(k.records+k.rejected, max(k.expected, 0), k.records, k.rejected)
}

// seen notes an id and reports whether this is the first time; of a reading of
// changes, the newest word counts and nothing is a repetition.
func (k *taking) seen(id string, line int) (first bool, stored uint64) {
	if k.extent == connector.Changes {
		return true, 0
	}
	before, stored := k.stock.see(id, line)
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

func (k *taking) Record(r connector.Record) error {
	if !utf8.ValidString(r.ID) || strings.IndexByte(r.ID, 0) >= 0 {
		return k.Reject(record.Rejection{Line: r.Line, Column: "id", Reason: fmt.Sprintf("the id %q is no text", r.ID)})
	}
	if r.ID == "" {
		return k.nameless(r)
	}
	first, stored := k.seen(r.ID, r.Line)
	if !first {
		k.twice++
		return k.progress()
	}
	digest := k.keep.digest(r.Values)
	if k.trusted && stored == short(digest) {
		k.records++
		return k.progress()
	}
	if at, fault := record.Oversized(r.Values); fault != "" {
		k.rejected++
		return k.refuse(record.Rejection{Line: r.Line, Column: at, ID: r.ID, Reason: fault})
	}
	rej, gap := k.understood(r)
	if rej != nil {
		k.rejected++
		return k.refuse(*rej)
	}
	if gap != nil {
		return k.LeftOut(*gap)
	}
	k.records++
	if stored != short(digest) {
		if err := k.reading.Add(store.Native{ID: r.ID, Values: k.keep.json(r.Values), Digest: slices.Clone(digest)}); err != nil {
			return err
		}
	}
	return k.progress()
}

// nameless takes a record without an id: nobody can say whose it is, unless it
// stands for nobody.
func (k *taking) nameless(r connector.Record) error {
	rej, gap := k.understood(r)
	if gap != nil {
		return k.LeftOut(*gap)
	}
	if rej == nil {
		rej = &record.Rejection{Line: r.Line, Column: "id", Reason: "the id is blank"}
	}
	k.rejected++
	return k.refuse(*rej)
}

// understood judges the record at hand.
func (k *taking) understood(r connector.Record) (*record.Rejection, *record.Gap) {
	rej := &record.Rejection{Line: r.Line, ID: r.ID}
	for _, native := range k.keep.natives {
		for _, v := range r.Values[native] {
			if !utf8.ValidString(v) {
				rej.Column, rej.Reason = native, "holds bytes that are no text"
				return rej, nil
			}
			if strings.IndexByte(v, 0) >= 0 {
				rej.Column, rej.Reason = native, "holds the control character 0x00"
				return rej, nil
			}
		}
	}
	rej, gap := k.judge.Native(r.Line, r.Values, k.cells)
	if rej != nil {
		rej.ID = r.ID
	}
	if gap != nil {
		gap.ID = r.ID
	}
	return rej, gap
}

func (k *taking) Reject(r record.Rejection) error {
	if r.ID != "" {
		if first, _ := k.seen(r.ID, r.Line); !first {
			k.twice++
			return k.progress()
		}
	}
	k.rejected++
	return k.refuse(r)
}

// loggedRejections are as many as a person may read in a task's log; the roster
// lists them all.
const loggedRejections = 1000

func (k *taking) refuse(r record.Rejection) error {
	r.Column, r.ID, r.Reason = PlainText(r.Column), PlainText(r.ID), PlainText(r.Reason)
	k.refused = append(k.refused, r)
	if k.rejected <= loggedRejections {
		if err := k.w.Log(k.ctx, "warning", rejectedWhere(r), r.Reason); err != nil {
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

// PlainText is a text that the database takes.
func PlainText(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

func rejectedWhere(r record.Rejection) string {
	where := r.ID
	if r.Line > 0 {
		where = strings.TrimSpace(fmt.Sprintf("line %d %s", r.Line, r.ID))
	}
	return where
}

func (k *taking) Gone(id string) error { return k.reading.Add(store.Native{ID: id}) }

func (k *taking) LeftOut(l connector.Left) error {
	if l.Kind == record.Deletions { // told with the roster itself
		k.deletionsUnseen = true
		return nil
	}
	if l.ID != "" { // present: nothing ends by it
		if first, _ := k.seen(l.ID, 0); !first {
			return k.progress()
		}
	}
	k.left = append(k.left, store.Left{Kind: l.Kind, ID: PlainText(l.ID), Reason: PlainText(l.Reason), What: PlainText(l.What)})
	if len(k.left) >= spill {
		return k.pour()
	}
	return k.progress()
}

// pour hands over what must not pile up here.
func (k *taking) pour() error {
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

func (k *taking) Restart() error {
	k.stock.forget()
	k.records, k.rejected, k.refused, k.left = 0, 0, nil, nil
	clear(k.repeated)
	if err := k.w.Log(k.ctx, "info", k.w.Name, "the list shifted while it was read; reading it anew"); err != nil {
		return err
	}
	return k.reading.Restart()
}

// total is how many records can be read, -1 when it has to be counted.
func (k *taking) total() int {
	if k.extent != connector.Whole || len(k.repeated) > 0 {
		return -1
	}
	return k.records
}

// finish turns repeated ids into rejections, refuses an empty reading, and
// ends what a whole reading did not meet.
func (k *taking) finish(system int64) error {
	if k.extent == connector.Whole && k.records+k.rejected == 0 {
		return fault.New(fault.Invalid, "the reading came out empty", "", `an empty list is never taken for "everybody left"; check the scope and the rights of the account it is read with`).Because("list-empty")
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
	if k.extent != connector.Whole || k.stock.unseen == 0 {
		return nil
	}
	return k.w.Store.Known(k.ctx, system, func(id, _ []byte) error {
		if !k.stock.missed(id) {
			return nil
		}
		return k.reading.Add(store.Native{ID: string(id)})
	})
}
