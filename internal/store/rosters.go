package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
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
	LeftOut  int        `db:"left_out" json:"leftOut"`
	Name     string     `db:"name" json:"name,omitempty"`
	Scope    string     `db:"scope" json:"scope,omitempty"`
	Cursor   string     `db:"cursor" json:"-"`
	Origin   string     `db:"origin" json:"origin,omitempty"`
	// DeletionsUnseen says since when a deletion would not show.
	DeletionsUnseen *time.Time `db:"deletions_unseen" json:"deletionsUnseen,omitempty"`
	Shape           string     `db:"shape" json:"-"`
	Error           string     `db:"error" json:"error,omitempty"`
	Task            *int64     `db:"task_id" json:"task,omitempty"`
}

const rosterColumns = `SELECT r.id, r.system_id, r.extent, r.state, r.started, r.ended, r.records, r.rejected, r.came, r.went, r.changed, r.left_out, r.name, r.scope, r.cursor, r.origin, r.deletions_unseen, r.shape, r.error, r.task_id, s.name AS system
	FROM rosters r JOIN systems s ON s.id = r.system_id `

// Roster finds one.
func (s *Store) Roster(ctx context.Context, id int64) (r Roster, err error) {
	return r, s.get(ctx, &r, rosterColumns+`WHERE r.id = $1`, id)
}

// NewestRoster finds the newest roster that was taken of a system: a whole one,
// or what became of it by readings of changes.
func (s *Store) NewestRoster(ctx context.Context, system int64) (r Roster, err error) {
	return r, s.get(ctx, &r, rosterColumns+`WHERE r.system_id = $1 AND r.state = 'taken' ORDER BY r.id DESC LIMIT 1`, system)
}

// NewestWhole finds the newest roster for which everything was read.
func (s *Store) NewestWhole(ctx context.Context, system int64) (r Roster, err error) {
	return r, s.get(ctx, &r, rosterColumns+`WHERE r.system_id = $1 AND r.state = 'taken' AND r.extent = 'whole' ORDER BY r.id DESC LIMIT 1`, system)
}

// Widen makes a reading of changes that has just begun a whole one.
func (s *Store) Widen(ctx context.Context, id int64) error {
	return s.must(ctx, `UPDATE rosters SET extent = 'whole' WHERE id = $1 AND state = 'reading'`, id)
}

// PruneRosters forgets rosters that were begun before an instant, and the
// versions of records that only they had. The two newest stay, and so does
// every one that a plan or the newest result of a lane rests on.
func (s *Store) PruneRosters(ctx context.Context, system int64, before time.Time) error {
	return s.InTx(ctx, func(tx *Store) error {
		var gone Array[int64]
		if err := tx.get(ctx, &gone, `SELECT coalesce(array_agg(id), '{}') FROM rosters r WHERE system_id = $1 AND state <> 'reading' AND started < $2
			AND id NOT IN (SELECT id FROM rosters WHERE system_id = $1 AND state = 'taken' ORDER BY id DESC LIMIT 2)
			AND NOT EXISTS (SELECT FROM reconciliations c WHERE (c.people_roster = r.id OR c.accounts_roster = r.id)
				AND (EXISTS (SELECT FROM plans p WHERE p.reconciliation_id = c.id) OR c.id = (SELECT max(id) FROM reconciliations d WHERE d.lane_id = c.lane_id)))`, system, before); err != nil || len(gone) == 0 {
			return err
		}
		if _, err := tx.exec(ctx, `DELETE FROM rosters WHERE id = ANY($1)`, []int64(gone)); err != nil {
			return err
		}
		// a version is kept as long as any roster that is left shows it
		_, err := tx.exec(ctx, `DELETE FROM records v WHERE system_id = $1 AND until IS NOT NULL
			AND NOT EXISTS (SELECT FROM rosters r WHERE r.system_id = $1 AND r.state = 'taken' AND r.id >= v.since AND r.id < v.until)`, system)
		return err
	})
}

// Rosters lists a system's, newest first.
func (s *Store) Rosters(ctx context.Context, system int64, p Page) (list []Roster, next string, err error) {
	err = s.list(ctx, &list, rosterColumns+`WHERE r.system_id = $1 AND r.id < $2 ORDER BY r.id DESC LIMIT $3`, system, p.afterNumber(maxNumber), p.limit()+1)
	list, next = cut(p, list, func(r Roster) string { return number(r.ID) })
	return list, next, err
}

// StartRoster notes that a reading has begun. One reader per system at a time:
// a reading that was left behind by a dead process is marked as failed.
func (s *Store) StartRoster(ctx context.Context, system int64, extent, name, shape string, task int64) (id int64, err error) {
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
		return tx.get(ctx, &id, `INSERT INTO rosters (system_id, extent, state, name, shape, task_id) VALUES ($1, $2, 'reading', $3, $4, $5) RETURNING id`, system, extent, name, shape, task)
	})
	return id, err
}

// FailRoster notes why a reading came to nothing; state is failed or halted.
func (s *Store) FailRoster(ctx context.Context, id int64, state, reason string) error {
	return s.must(ctx, `UPDATE rosters SET state = $2, ended = now(), error = $3 WHERE id = $1 AND state = 'reading'`, id, state, reason)
}

// ErrEnough ends a walk over records without being an error.
var ErrEnough = errors.New("enough")

// SelectRecords calls fn for every record as of a roster that holds a text (""
// for all), by id, until it returns ErrEnough.
func (s *Store) SelectRecords(ctx context.Context, r Roster, text string, fn func(id string, native map[string][]string) error) error {
	rows, err := s.pool.Query(ctx, `SELECT native_id, native FROM records WHERE system_id = $1 AND since <= $2 AND (until IS NULL OR until > $2)
		AND ($3 = '%%' OR native_id ILIKE $3 OR native::text ILIKE $3) ORDER BY native_id`, r.SystemID, r.ID, Page{Text: text}.like())
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
		if err := fn(id, native); errors.Is(err, ErrEnough) {
			return nil
		} else if err != nil {
			return err
		}
	}
	return rows.Err()
}

// RosterRecords calls fn for every record as of a roster, by id.
func (s *Store) RosterRecords(ctx context.Context, system, roster int64, fn func(id string, native map[string][]string, digest []byte) error) error {
	rows, err := s.pool.Query(ctx, `SELECT native_id, native, digest FROM records WHERE system_id = $1 AND since <= $2 AND (until IS NULL OR until > $2) ORDER BY native_id`, system, roster)
	if err != nil {
		return err
	}
	return eachRecord(rows, fn)
}

// RecordsSince calls fn for every record of a system that came or changed after a
// roster and is there now, but for those that receipts of ours are about.
func (s *Store) RecordsSince(ctx context.Context, system, roster int64, fn func(id string, native map[string][]string, digest []byte) error) error {
	rows, err := s.pool.Query(ctx, `SELECT native_id, native, digest FROM records v WHERE system_id = $1 AND since > $2 AND until IS NULL
		AND NOT EXISTS (SELECT FROM receipts x JOIN runs r ON r.id = x.run_id JOIN plans p ON p.id = r.plan_id JOIN lanes l ON l.id = p.lane_id WHERE l.downstream = $1 AND x.account = v.native_id AND x.outcome IN ('done', 'unchanged', 'different', 'waiting')
			AND x.intended > (SELECT started FROM rosters WHERE id = $2))`, system, roster)
	if err != nil {
		return err
	}
	return eachRecord(rows, fn)
}

// RecordsNow calls fn for some records of a system as its newest roster has them; one that is
// gone is not among them.
func (s *Store) RecordsNow(ctx context.Context, system int64, ids []string, fn func(id string, native map[string][]string, digest []byte) error) error {
	rows, err := s.pool.Query(ctx, `SELECT native_id, native, digest FROM records WHERE system_id = $1 AND native_id = ANY($2) AND until IS NULL`, system, ids)
	if err != nil {
		return translate(err)
	}
	return eachRecord(rows, fn)
}

// VersionsSince calls fn for how rosters that were begun after an instant have shown some records,
// in their order.
func (s *Store) VersionsSince(ctx context.Context, system int64, ids []string, since time.Time, fn func(id string, native map[string][]string) error) error {
	rows, err := s.pool.Query(ctx, `SELECT v.native_id, v.native, v.digest FROM records v, (SELECT min(id) AS id FROM rosters WHERE system_id = $1 AND state = 'taken' AND started > $3) first
		WHERE v.system_id = $1 AND v.native_id = ANY($2) AND first.id IS NOT NULL AND (v.until IS NULL OR v.until > first.id) ORDER BY v.native_id, v.since`, system, ids, since)
	if err != nil {
		return translate(err)
	}
	return eachRecord(rows, func(id string, native map[string][]string, _ []byte) error { return fn(id, native) })
}

// Moved lists the records of a system that came, changed or went after a roster.
func (s *Store) Moved(ctx context.Context, system, roster int64) (ids []string, err error) {
	return ids, s.list(ctx, &ids, `SELECT native_id FROM records WHERE system_id = $1 AND since > $2 UNION SELECT native_id FROM records WHERE system_id = $1 AND until > $2`, system, roster)
}

// LastRecords calls fn for what is last known of some records of a system, also of those that
// are gone, and for all others that were there beside them: in the newest roster, or, where ids
// were issued anew, in the last one that showed those that are gone.
func (s *Store) LastRecords(ctx context.Context, system int64, ids []string, anew bool, fn func(id string, native map[string][]string, digest []byte) error) error {
	rows, err := s.pool.Query(ctx, `WITH last AS (SELECT native_id, CASE WHEN bool_or(until IS NULL) THEN NULL ELSE max(until) END AS gone FROM records WHERE system_id = $1 AND native_id = ANY($2) GROUP BY native_id),
			beside AS (SELECT coalesce((SELECT max(gone) - 1 FROM last WHERE $3), (SELECT max(id) FROM rosters WHERE system_id = $1 AND state = 'taken'), 0) AS roster)
		SELECT DISTINCT ON (r.native_id) r.native_id, r.native, r.digest FROM records r, beside b WHERE r.system_id = $1 AND (r.native_id = ANY($2) OR r.since <= b.roster AND (r.until IS NULL OR r.until > b.roster)) ORDER BY r.native_id, r.since DESC`, system, ids, anew)
	if err != nil {
		return translate(err)
	}
	return eachRecord(rows, fn)
}

// eachRecord visits rows of an id, what the record says, and something of its own.
func eachRecord[T any](rows pgx.Rows, fn func(id string, native map[string][]string, of T) error) error {
	defer rows.Close()
	for rows.Next() {
		var id string
		var kept []byte
		var of T
		if err := rows.Scan(&id, &kept, &of); err != nil {
			return err
		}
		native, err := parseNatives(kept)
		if err != nil {
			return err
		}
		if err := fn(id, native, of); err != nil {
			return err
		}
	}
	return rows.Err()
}

// FormerRecords visits what records said until a roster read from an instant on showed
// something else, or did not show them any more; later ones than a roster do not count.
func (s *Store) FormerRecords(ctx context.Context, roster Roster, since time.Time, fn func(id string, native map[string][]string, ended time.Time) error) error {
	rows, err := s.pool.Query(ctx, `SELECT v.native_id, v.native, o.ended FROM records v JOIN rosters o ON o.id = v.until WHERE v.system_id = $1 AND v.until <= $2 AND o.ended >= $3`, roster.SystemID, roster.ID, since)
	if err != nil {
		return translate(err)
	}
	return eachRecord(rows, fn)
}

// Record is one record as of a roster.
type Record struct {
	ID     string                    `db:"native_id" json:"id"`
	Values JSON[map[string][]string] `db:"native" json:"values"`
	Since  int64                     `db:"since" json:"sinceRoster"`
	Unread *string                   `db:"unread" json:"unread,omitempty"`
}

// Records lists a roster's records by id, those that hold a text.
func (s *Store) Records(ctx context.Context, r Roster, p Page) (list []Record, next string, err error) {
	var c clause
	c.and("system_id = ?", r.SystemID)
	c.and("since <= ?", r.ID)
	c.and("(until IS NULL OR until > ?)", r.ID)
	ways, err := c.pages(p, "records", searchedRecords, "native_id", "native_id", false)
	if err != nil {
		return nil, "", err
	}
	list, err = filled[Record](ctx, s, p, ways, func(page string) string {
		return `SELECT native_id, native, since, (SELECT min(reason) FROM rejections x WHERE x.roster_id = $2 AND left(x.native_id, 200) = left(q.native_id, 200) AND x.native_id = q.native_id) AS unread FROM (` + page + `) q ORDER BY native_id`
	})
	list, next = cut(p, list, func(r Record) string { return r.ID })
	return list, next, err
}

// RecordAt finds one record as of a roster; where the roster could not read it, its last
// version, and why.
func (s *Store) RecordAt(ctx context.Context, system, roster int64, id string) (r Record, err error) {
	return r, s.get(ctx, &r, `SELECT native_id, native, since, (SELECT min(reason) FROM rejections x WHERE x.roster_id = $2 AND left(x.native_id, 200) = left($3, 200) AND x.native_id = $3) AS unread FROM records WHERE system_id = $1 AND native_id = $3 AND since <= $2 AND (until IS NULL OR until > $2)`, system, roster, id)
}

// MayHide reports whether a roster holds a record in a form that is not understood, or may.
func (s *Store) MayHide(ctx context.Context, roster int64, id string) (hides bool, err error) {
	return hides, s.get(ctx, &hides, `SELECT EXISTS (SELECT FROM rejections WHERE roster_id = $1 AND (native_id IN ('', $2) OR swallows))
		OR EXISTS (SELECT FROM left_out WHERE roster_id = $1 AND kind IN ('left-out', 'hidden', 'elsewhere') AND native_id IN ('', $2))`, roster, id)
}

// RecordsWith lists the records of a system now, one of whose native values is
// exactly so.
func (s *Store) RecordsWith(ctx context.Context, system int64, native, value string) (list []Record, err error) {
	return list, s.list(ctx, &list, `SELECT native_id, native, since, NULL::text AS unread FROM records WHERE system_id = $1 AND until IS NULL AND native->$2 ? $3 ORDER BY native_id LIMIT 10`, system, native, value)
}

// Rejection is a record that could not be read.
type Rejection struct {
	Number int    `db:"number" json:"-"`
	Line   int    `db:"line" json:"line"`
	Column string `db:"native_column" json:"column,omitempty"`
	ID     string `db:"native_id" json:"id,omitempty"`
	Reason string `db:"reason" json:"reason"`
	// Swallows: it may have eaten other rows. Names are the logins and addresses
	// that it is known to hold; Named says that these are all.
	Swallows bool          `db:"swallows" json:"swallows,omitempty"`
	Names    Array[string] `db:"names" json:"-"`
	Named    bool          `db:"named" json:"-"`
}

// Rejections lists a roster's unreadable records.
func (s *Store) Rejections(ctx context.Context, roster int64, p Page) (list []Rejection, next string, err error) {
	err = s.list(ctx, &list, `SELECT number, line, native_column, native_id, reason, swallows, names, named FROM rejections WHERE roster_id = $1 AND number > $2 ORDER BY number LIMIT $3`, roster, p.afterNumber(-1), p.limit()+1)
	list, next = cut(p, list, func(r Rejection) string { return number(int64(r.Number)) })
	return list, next, err
}

// AllRejections lists them all.
func (s *Store) AllRejections(ctx context.Context, roster int64) (list []Rejection, err error) {
	return list, s.list(ctx, &list, `SELECT number, line, native_column, native_id, reason, swallows, names, named FROM rejections WHERE roster_id = $1 ORDER BY number`, roster)
}
