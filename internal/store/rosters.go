package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"

	"twinning/internal/core/record"
)

// Roster is one dated reading of a system.
type Roster struct {
	ID       int64      `db:"id" json:"id"`
	SystemID int64      `db:"system_id" json:"-"`
	System   string     `db:"system" json:"system"`
	Extent   string     `db:"extent" json:"extent"`
	State    string     `db:"state" json:"state"`
	Started  time.Time  `db:"started" json:"started"`
	Ended    *time.Time `db:"ended" json:"ended,omitempty"`
	Records  int        `db:"records" json:"records"`
	Rejected int        `db:"rejected" json:"rejected"`
	Came     int        `db:"came" json:"came"`
	Went     int        `db:"went" json:"went"`
	Changed  int        `db:"changed" json:"changed"`
	Shape    string     `db:"shape" json:"-"`
	Error    string     `db:"error" json:"error,omitempty"`
	Task     *int64     `db:"task_id" json:"task,omitempty"`
}

const rosterColumns = `SELECT r.*, s.name AS system FROM rosters r JOIN systems s ON s.id = r.system_id `

// Roster finds one.
func (s *Store) Roster(ctx context.Context, id int64) (r Roster, err error) {
	return r, s.get(ctx, &r, rosterColumns+`WHERE r.id = $1`, id)
}

// NewestRoster finds the newest whole roster of a system.
func (s *Store) NewestRoster(ctx context.Context, system int64) (r Roster, err error) {
	return r, s.get(ctx, &r, rosterColumns+`WHERE r.system_id = $1 AND r.state = 'whole' AND r.extent = 'whole' ORDER BY r.id DESC LIMIT 1`, system)
}

// Rosters lists a system's, newest first.
func (s *Store) Rosters(ctx context.Context, system int64, p Page) (list []Roster, next string, err error) {
	err = s.list(ctx, &list, rosterColumns+`WHERE r.system_id = $1 AND r.id < $2 ORDER BY r.id DESC LIMIT $3`, system, p.afterNumber(maxNumber), p.limit()+1)
	list, next = cut(p, list, func(r Roster) string { return number(r.ID) })
	return list, next, err
}

// StartRoster notes that a reading has begun. One reader per system at a time:
// a reading that was left behind by a dead process is marked as failed.
func (s *Store) StartRoster(ctx context.Context, system int64, shape string, task int64) (id int64, err error) {
	err = s.InTx(ctx, func(tx *Store) error {
		if _, err := tx.exec(ctx, `SELECT pg_advisory_xact_lock(7001, $1::int)`, system); err != nil {
			return err
		}
		var busy int
		if err := tx.get(ctx, &busy, `SELECT count(*) FROM rosters r JOIN tasks t ON t.id = r.task_id WHERE r.system_id = $1 AND r.state = 'reading' AND t.state = 'running' AND t.id <> $2 AND t.lease > now()`, system, task); err != nil {
			return err
		}
		if busy > 0 {
			return ErrInUse
		}
		if _, err := tx.exec(ctx, `UPDATE rosters SET state = 'failed', ended = now(), error = 'the reader stopped before its end' WHERE system_id = $1 AND state = 'reading'`, system); err != nil {
			return err
		}
		return tx.get(ctx, &id, `INSERT INTO rosters (system_id, extent, state, shape, task_id) VALUES ($1, 'whole', 'reading', $2, $3) RETURNING id`, system, shape, task)
	})
	return id, err
}

// FailRoster notes why a reading came to nothing.
func (s *Store) FailRoster(ctx context.Context, id int64, reason string) error {
	return s.must(ctx, `UPDATE rosters SET state = 'failed', ended = now(), error = $2 WHERE id = $1 AND state = 'reading'`, id, reason)
}

// Native is one record as the system gave it.
type Native struct {
	ID     string
	Values json.RawMessage
	Digest []byte
}

// CommitRoster makes a whole reading a roster, at once or not at all: changed
// and vanished records end their interval, new versions begin one. A record
// that is present but unreadable keeps its interval.
func (s *Store) CommitRoster(ctx context.Context, id, system int64, records []Native, rejected []record.Rejection) error {
	return s.withCopy(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `CREATE TEMP TABLE reading (native_id text COLLATE "C", native jsonb, digest bytea) ON COMMIT DROP`); err != nil {
			return err
		}
		if _, err := tx.CopyFrom(ctx, pgx.Identifier{"reading"}, []string{"native_id", "native", "digest"}, pgx.CopyFromSlice(len(records), func(i int) ([]any, error) {
			r := records[i]
			return []any{r.ID, r.Values, r.Digest}, nil
		})); err != nil {
			return err
		}
		if _, err := tx.CopyFrom(ctx, pgx.Identifier{"rejections"}, []string{"roster_id", "number", "line", "native_column", "native_id", "reason"}, pgx.CopyFromSlice(len(rejected), func(i int) ([]any, error) {
			r := rejected[i]
			return []any{id, i, r.Line, r.Column, r.ID, r.Reason}, nil
		})); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `ANALYZE reading`); err != nil {
			return err
		}
		went, err := tx.Exec(ctx, `UPDATE records r SET until = $1 WHERE system_id = $2 AND until IS NULL
			AND NOT EXISTS (SELECT FROM reading n WHERE n.native_id = r.native_id AND n.digest = r.digest)
			AND NOT EXISTS (SELECT FROM rejections x WHERE x.roster_id = $1 AND x.native_id = r.native_id)`, id, system)
		if err != nil {
			return err
		}
		came, err := tx.Exec(ctx, `INSERT INTO records (system_id, native_id, since, native, digest)
			SELECT $2, n.native_id, $1, n.native, n.digest FROM reading n
			WHERE NOT EXISTS (SELECT FROM records r WHERE r.system_id = $2 AND r.native_id = n.native_id AND r.until IS NULL)`, id, system)
		if err != nil {
			return err
		}
		var changed int64
		if err := tx.QueryRow(ctx, `SELECT count(*) FROM records a JOIN records b USING (system_id, native_id) WHERE a.system_id = $2 AND a.since = $1 AND b.until = $1`, id, system).Scan(&changed); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `UPDATE rosters SET state = 'whole', ended = now(), records = $2, rejected = $3, came = $4, went = $5, changed = $6 WHERE id = $1`,
			id, len(records), len(rejected), came.RowsAffected()-changed, went.RowsAffected()-changed, changed)
		return err
	})
}

// RosterRecords calls fn for every record as of a roster, by id.
func (s *Store) RosterRecords(ctx context.Context, system, roster int64, fn func(id string, native map[string][]string) error) error {
	rows, err := s.pool.Query(ctx, `SELECT native_id, native FROM records WHERE system_id = $1 AND since <= $2 AND (until IS NULL OR until > $2) ORDER BY native_id`, system, roster)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id string
		var native map[string][]string
		if err := rows.Scan(&id, &native); err != nil {
			return err
		}
		if err := fn(id, native); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Record is one record as of a roster.
type Record struct {
	ID     string                    `db:"native_id" json:"id"`
	Values JSON[map[string][]string] `db:"native" json:"values"`
	Since  int64                     `db:"since" json:"since"`
	Unread *string                   `db:"unread" json:"unread,omitempty"`
}

// Records lists a roster's records by id, those that hold a text.
func (s *Store) Records(ctx context.Context, r Roster, p Page) (list []Record, next string, err error) {
	err = s.list(ctx, &list, `SELECT native_id, native, since, (SELECT min(reason) FROM rejections x WHERE x.roster_id = $2 AND x.native_id = q.native_id) AS unread FROM records q
		WHERE system_id = $1 AND since <= $2 AND (until IS NULL OR until > $2) AND native_id > $3 AND ($4 = '%%' OR native_id ILIKE $4 OR native::text ILIKE $4)
		ORDER BY native_id LIMIT $5`, r.SystemID, r.ID, p.afterText(), p.like(), p.limit()+1)
	list, next = cut(p, list, func(r Record) string { return r.ID })
	return list, next, err
}

// RecordAt finds one record as of a roster.
func (s *Store) RecordAt(ctx context.Context, system, roster int64, id string) (r Record, err error) {
	return r, s.get(ctx, &r, `SELECT native_id, native, since, NULL::text AS unread FROM records WHERE system_id = $1 AND native_id = $3 AND since <= $2 AND (until IS NULL OR until > $2)`, system, roster, id)
}

// Rejection is a record that could not be read.
type Rejection struct {
	Number int    `db:"number" json:"-"`
	Line   int    `db:"line" json:"line"`
	Column string `db:"native_column" json:"column,omitempty"`
	ID     string `db:"native_id" json:"id,omitempty"`
	Reason string `db:"reason" json:"reason"`
}

// Rejections lists a roster's unreadable records.
func (s *Store) Rejections(ctx context.Context, roster int64, p Page) (list []Rejection, next string, err error) {
	err = s.list(ctx, &list, `SELECT number, line, native_column, native_id, reason FROM rejections WHERE roster_id = $1 AND number > $2 ORDER BY number LIMIT $3`, roster, p.afterNumber(-1), p.limit()+1)
	list, next = cut(p, list, func(r Rejection) string { return number(int64(r.Number)) })
	return list, next, err
}

// AllRejections lists them all.
func (s *Store) AllRejections(ctx context.Context, roster int64) (list []Rejection, err error) {
	return list, s.list(ctx, &list, `SELECT number, line, native_column, native_id, reason FROM rejections WHERE roster_id = $1 ORDER BY number`, roster)
}
