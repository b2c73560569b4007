package store

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"twinning/internal/core/parallel"
	"twinning/internal/core/record"
)

// Native is one record as the system gave it. Values is nil when the system
// says that it is deleted.
type Native struct {
	ID     string
	Values json.RawMessage
	Digest []byte
}

// Left is something that a reading left out, with the id of its record where that
// is known; see record.Gap.
type Left struct {
	Kind   record.GapKind `db:"kind" json:"kind"`
	ID     string         `db:"native_id" json:"id,omitempty"`
	Reason string         `db:"reason" json:"reason"`
	What   string         `db:"what" json:"what"`
}

// Reading is a roster on its way into the store: one transaction, so that it is
// committed at once or not at all. What comes is sent to the database while
// the next is read, and never held here as a whole. It is not safe for
// concurrent use.
type Reading struct {
	ctx      context.Context
	tx       pgx.Tx
	roster   int64
	system   int64
	straight bool   // nothing is known of the system: records go where they belong
	table    string // of the system's records
	fresh    bool   // the table was made by this reading: its index comes last
	batch    []Native
	size     int
	sending  chan []Native
	sent     chan error // one answer per batch
	waiting  bool       // an answer is due
	number   int        // of rejections
	left     int
}

// Batches are this many records, or bytes of values.
const (
	batchRecords = 2000
	batchBytes   = 1 << 20
)

// OpenReading begins; Commit or Abandon ends. Straight is for a system of which
// the store has nothing now.
func (s *Store) OpenReading(ctx context.Context, roster, system int64, straight bool) (*Reading, error) {
	tx, err := s.pool.Begin(ctx)
	if err != nil {
		return nil, err
	}
	r := &Reading{ctx: ctx, tx: tx, roster: roster, system: system, straight: straight, sending: make(chan []Native), sent: make(chan error, 1)}
	if _, err := tx.Exec(ctx, `CREATE TEMP TABLE reading (number int GENERATED ALWAYS AS IDENTITY, native_id text COLLATE "C", native jsonb, digest bytea) ON COMMIT DROP`); err != nil {
		return nil, errors.Join(err, tx.Rollback(ctx))
	}
	if err := r.room(); err != nil {
		return nil, errors.Join(err, tx.Rollback(ctx))
	}
	if _, err := tx.Exec(ctx, `SAVEPOINT begun`); err != nil {
		return nil, errors.Join(err, tx.Rollback(ctx))
	}
	go r.send()
	return r, nil
}

// tableOf is where the records of a system are.
func tableOf(system int64) string { return fmt.Sprintf("records_of_%d", system) }

// room makes the table of a system that has none yet.
func (r *Reading) room() error {
	r.table = tableOf(r.system)
	var there bool
	if err := r.tx.QueryRow(r.ctx, `SELECT to_regclass($1) IS NOT NULL`, r.table).Scan(&there); err != nil || there {
		return err
	}
	r.fresh = true
	// the check spares the look at every row when the table is attached
	_, err := r.tx.Exec(r.ctx, fmt.Sprintf(`CREATE TABLE %s (LIKE records, CHECK (system_id = %d))`, r.table, r.system))
	return err
}

// attach gives a fresh table its index and its place.
func (r *Reading) attach() error {
	if !r.fresh {
		return nil
	}
	// without statistics, the next reading would look at every record for a few
	_, err := r.tx.Exec(r.ctx, fmt.Sprintf(`ALTER TABLE %[1]s ADD PRIMARY KEY (system_id, native_id, since); ALTER TABLE records ATTACH PARTITION %[1]s FOR VALUES IN (%[2]d); ANALYZE %[1]s (system_id, native_id, since, until)`, r.table, r.system))
	return err
}

// Known calls fn for every record that the store has of a system now, with its
// digest; the slices are good during the call only.
func (s *Store) Known(ctx context.Context, system int64, fn func(id, digest []byte) error) error {
	c, err := s.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer c.Release()
	w := &binaryRows{fn: fn}
	_, err = c.Conn().PgConn().CopyTo(ctx, w, fmt.Sprintf(`COPY (SELECT native_id, digest FROM records WHERE system_id = %d AND until IS NULL) TO STDOUT (FORMAT binary)`, system))
	return err
}

// binaryRows takes COPY's binary form (PostgreSQL manual, COPY, file formats)
// apart: two fields a row.
type binaryRows struct {
	fn     func(id, digest []byte) error
	rest   []byte
	headed bool
}

// binaryHead is signature, flags and extension length.
const binaryHead = 11 + 4 + 4

func (w *binaryRows) Write(p []byte) (int, error) {
	data := p
	if len(w.rest) > 0 {
		data = append(w.rest, p...)
	}
	if !w.headed {
		if len(data) < binaryHead {
			w.rest = append(w.rest[:0:0], data...)
			return len(p), nil
		}
		data, w.headed = data[binaryHead:], true
	}
	for {
		row, size := data, 2
		if len(row) < 2 || binary.BigEndian.Uint16(row) == 0xffff { // the trailer
			break
		}
		var fields [2][]byte
		whole := true
		for i := range fields {
			if len(row) < size+4 {
				whole = false
				break
			}
			n := int(int32(binary.BigEndian.Uint32(row[size:]))) // as the format has it
			size += 4
			if n < 0 || len(row) < size+n {
				whole = false
				break
			}
			fields[i] = row[size : size+n]
			size += n
		}
		if !whole {
			break
		}
		if err := w.fn(fields[0], fields[1]); err != nil {
			return 0, err
		}
		data = data[size:]
	}
	w.rest = append(w.rest[:0:0], data...)
	return len(p), nil
}

// send copies batches, one at a time.
func (r *Reading) send() {
	for batch := range r.sending {
		r.sent <- parallel.Try(func() error { return r.copy(batch) })
	}
}

func (r *Reading) copy(batch []Native) error {
	if r.straight {
		_, err := r.tx.CopyFrom(r.ctx, pgx.Identifier{r.table}, []string{"system_id", "since", "native_id", "native", "digest"}, pgx.CopyFromSlice(len(batch), func(i int) ([]any, error) {
			return []any{r.system, r.roster, batch[i].ID, batch[i].Values, batch[i].Digest}, nil
		}))
		return err
	}
	_, err := r.tx.CopyFrom(r.ctx, pgx.Identifier{"reading"}, []string{"native_id", "native", "digest"}, pgx.CopyFromSlice(len(batch), func(i int) ([]any, error) {
		return []any{batch[i].ID, batch[i].Values, batch[i].Digest}, nil
	}))
	return err
}

// settle waits for the batch that is under way.
func (r *Reading) settle() error {
	if !r.waiting {
		return nil
	}
	r.waiting = false
	return <-r.sent
}

func (r *Reading) flush() error {
	if err := r.settle(); err != nil || len(r.batch) == 0 {
		return err
	}
	r.sending <- r.batch
	r.batch, r.size, r.waiting = make([]Native, 0, batchRecords), 0, true
	return nil
}

// Add takes a new version of a record, or its end. Of a straight reading each
// id may come once only.
func (r *Reading) Add(n Native) error {
	r.batch = append(r.batch, n)
	if r.size += len(n.Values); len(r.batch) < batchRecords && r.size < batchBytes {
		return nil
	}
	return r.flush()
}

// still brings everything to the database and leaves the connection free.
func (r *Reading) still() error {
	if err := r.flush(); err != nil {
		return err
	}
	return r.settle()
}

// Restart forgets all that came.
func (r *Reading) Restart() error {
	if err := r.settle(); err != nil {
		return err
	}
	r.batch, r.size, r.number, r.left = r.batch[:0], 0, 0, 0
	_, err := r.tx.Exec(r.ctx, `ROLLBACK TO SAVEPOINT begun`)
	return err
}

// Reject notes records that could not be read.
func (r *Reading) Reject(list []record.Rejection) error {
	if err := r.still(); err != nil {
		return err
	}
	_, err := r.tx.CopyFrom(r.ctx, pgx.Identifier{"rejections"}, []string{"roster_id", "number", "line", "native_column", "native_id", "reason", "swallows", "names", "named"}, pgx.CopyFromSlice(len(list), func(i int) ([]any, error) {
		x := list[i]
		return []any{r.roster, r.number + i, x.Line, x.Column, x.ID, x.Reason, x.Swallows, append([]string{}, x.Names...), x.Named}, nil
	}))
	r.number += len(list)
	return err
}

// LeaveOut notes what was left out.
func (r *Reading) LeaveOut(list []Left) error {
	if err := r.still(); err != nil {
		return err
	}
	_, err := r.tx.CopyFrom(r.ctx, pgx.Identifier{"left_out"}, []string{"roster_id", "number", "kind", "native_id", "reason", "what"}, pgx.CopyFromSlice(len(list), func(i int) ([]any, error) {
		return []any{r.roster, r.left + i, list[i].Kind, list[i].ID, list[i].Reason, list[i].What}, nil
	}))
	r.left += len(list)
	return err
}

// Unreadable takes records back of which it turned out that they can't be told
// apart or understood.
func (r *Reading) Unreadable(ids []string) error {
	if err := r.still(); err != nil || len(ids) == 0 {
		return err
	}
	if _, err := r.tx.Exec(r.ctx, `DELETE FROM reading WHERE native_id = ANY($1)`, ids); err != nil {
		return err
	}
	if _, err := r.tx.Exec(r.ctx, `DELETE FROM rejections WHERE roster_id = $1 AND native_id = ANY($2)`, r.roster, ids); err != nil {
		return err
	}
	_, err := r.tx.Exec(r.ctx, `DELETE FROM `+r.table+` WHERE since = $1 AND native_id = ANY($2)`, r.roster, ids)
	return err
}

// Totals of a finished reading.
type Totals struct {
	Records, Rejected, Came, Went, Changed, LeftOut int
}

// Ending is what is known of a reading once it is through.
type Ending struct {
	Cursor, Scope, Origin string
	DeletionsUnseen       *time.Time
}

// Commit makes the reading a roster: changed and ended records end their
// interval, new versions begin one. Carry says that what the reading before
// rejected and this one did not look at is rejected still. Records is how many
// can be read now; -1 has them counted.
func (r *Reading) Commit(end Ending, carry bool, records int) (t Totals, err error) {
	if err := r.still(); err != nil {
		return t, errors.Join(err, r.Abandon())
	}
	if err = r.attach(); err == nil {
		t, err = r.merge(carry, records)
	}
	if err == nil { // whoever is sending what rests on this system's records waits for the new ones
		_, err = r.tx.Exec(r.ctx, `SELECT pg_advisory_xact_lock(7004, $1::int)`, r.system)
	}
	if err == nil {
		_, err = r.tx.Exec(r.ctx, `UPDATE rosters SET state = 'taken', ended = now(), records = $2, rejected = $3, came = $4, went = $5, changed = $6, left_out = $7, cursor = $8, scope = $9, origin = $10, deletions_unseen = $11 WHERE id = $1`,
			r.roster, t.Records, t.Rejected, t.Came, t.Went, t.Changed, t.LeftOut, end.Cursor, end.Scope, end.Origin, end.DeletionsUnseen)
	}
	if err != nil {
		return t, errors.Join(translate(err), r.Abandon())
	}
	close(r.sending)
	return t, translate(r.tx.Commit(r.ctx))
}

// Abandon gives the reading up; nothing of it stays.
func (r *Reading) Abandon() error {
	_ = r.settle() // its error is why, or is overtaken
	close(r.sending)
	return r.tx.Rollback(context.WithoutCancel(r.ctx))
}

func (r *Reading) merge(carry bool, records int) (t Totals, err error) {
	t.LeftOut = r.left
	if carry {
		// the newest word on an id counts; what was not spoken of stays as it was
		if _, err := r.tx.Exec(r.ctx, `INSERT INTO rejections (roster_id, number, line, native_column, native_id, reason, swallows, names, named, carried)
			SELECT $1, $2 + row_number() OVER (ORDER BY x.number), 0, x.native_column, x.native_id, x.reason, x.swallows, x.names, x.named, true FROM rejections x
			WHERE x.roster_id = (SELECT max(id) FROM rosters WHERE system_id = $3 AND state = 'taken' AND id < $1)
			AND NOT EXISTS (SELECT FROM reading n WHERE n.native_id = x.native_id)
			AND (x.native_id = '' OR NOT EXISTS (SELECT FROM rejections y WHERE y.roster_id = $1 AND y.native_id = x.native_id))`, r.roster, r.number, r.system); err != nil {
			return t, err
		}
		// what the reading before left out is left out still
		if _, err := r.tx.Exec(r.ctx, `INSERT INTO left_out (roster_id, number, kind, native_id, reason, what)
			SELECT $1, $2 + row_number() OVER (ORDER BY x.number), x.kind, x.native_id, x.reason, x.what FROM left_out x
			WHERE x.roster_id = (SELECT max(id) FROM rosters WHERE system_id = $3 AND state = 'taken' AND id < $1) AND x.kind <> 'deletions-unseen'
			AND (x.native_id = '' OR NOT EXISTS (SELECT FROM reading n WHERE n.native_id = x.native_id))
			AND NOT EXISTS (SELECT FROM left_out y WHERE y.roster_id = $1 AND y.kind = x.kind AND y.native_id = x.native_id AND y.reason = x.reason AND y.what = x.what)`, r.roster, r.left, r.system); err != nil {
			return t, err
		}
	}
	if !r.straight {
		if _, err := r.tx.Exec(r.ctx, `ANALYZE reading`); err != nil { // else the joins expect thousands
			return t, err
		}
		if _, err := r.tx.Exec(r.ctx, `DELETE FROM reading a USING reading b WHERE a.native_id = b.native_id AND a.number < b.number`); err != nil {
			return t, err
		}
		if _, err := r.tx.Exec(r.ctx, `DELETE FROM reading n USING records c WHERE c.system_id = $1 AND c.native_id = n.native_id AND c.until IS NULL AND c.digest = n.digest`, r.system); err != nil {
			return t, err
		}
		ended, err := r.tx.Exec(r.ctx, `UPDATE records c SET until = $1 FROM reading n WHERE c.system_id = $2 AND c.native_id = n.native_id AND c.until IS NULL`, r.roster, r.system)
		if err != nil {
			return t, err
		}
		begun, err := r.tx.Exec(r.ctx, `INSERT INTO records (system_id, native_id, since, native, digest) SELECT $2, native_id, $1, native, digest FROM reading WHERE native IS NOT NULL`, r.roster, r.system)
		if err != nil {
			return t, err
		}
		if err := r.tx.QueryRow(r.ctx, `SELECT count(*) FROM reading n JOIN records c ON c.system_id = $2 AND c.native_id = n.native_id AND c.until = $1 WHERE n.native IS NOT NULL`, r.roster, r.system).Scan(&t.Changed); err != nil {
			return t, err
		}
		t.Came, t.Went = int(begun.RowsAffected())-t.Changed, int(ended.RowsAffected())-t.Changed
	}
	if records < 0 {
		// an unreadable record that the store still has is one, not two
		err = r.tx.QueryRow(r.ctx, `SELECT (SELECT count(*) FROM records WHERE system_id = $1 AND until IS NULL)
			- (SELECT count(DISTINCT x.native_id) FROM rejections x JOIN records c ON c.system_id = $1 AND c.native_id = x.native_id AND c.until IS NULL WHERE x.roster_id = $2 AND x.native_id <> '')`, r.system, r.roster).Scan(&records)
		if err != nil {
			return t, err
		}
	}
	t.Records = records
	if r.straight {
		t.Came = t.Records
	}
	return t, r.tx.QueryRow(r.ctx, `SELECT count(*) FROM rejections WHERE roster_id = $1`, r.roster).Scan(&t.Rejected)
}

// LeftOut lists what a roster left out.
func (s *Store) LeftOut(ctx context.Context, roster int64, p Page) (list []Left, next string, err error) {
	var rows []struct {
		Number int64 `db:"number"`
		Left
	}
	err = s.list(ctx, &rows, `SELECT number, kind, native_id, reason, what FROM left_out WHERE roster_id = $1 AND number > $2 AND ($3 = '%%' OR reason ILIKE $3 OR what ILIKE $3) ORDER BY number LIMIT $4`, roster, p.afterNumber(-1), p.like(), p.limit()+1)
	if err == nil && len(rows) > p.limit() {
		rows = rows[:p.limit()]
		next = p.cursor(number(rows[len(rows)-1].Number))
	}
	for _, r := range rows {
		list = append(list, r.Left)
	}
	return list, next, err
}

// Reason counts what was left out for one reason.
type Reason struct {
	Reason string `db:"reason" json:"reason"`
	Count  int    `db:"count" json:"count"`
}

// LeftReasons counts what a roster left out, by reason.
func (s *Store) LeftReasons(ctx context.Context, roster int64) (list []Reason, err error) {
	return list, s.list(ctx, &list, `SELECT reason, count(*) AS count FROM left_out WHERE roster_id = $1 GROUP BY reason ORDER BY count(*) DESC, reason`, roster)
}

// AllLeftOut lists everything that a roster left out.
func (s *Store) AllLeftOut(ctx context.Context, roster int64) (list []Left, err error) {
	return list, s.list(ctx, &list, `SELECT kind, native_id, reason, what FROM left_out WHERE roster_id = $1 ORDER BY number`, roster)
}
