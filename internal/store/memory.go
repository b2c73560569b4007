package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"twinning/internal/core/calendar"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
)

// What a lane remembers stands in rows: what its rosters were like, written by a
// reconciliation, and what its receipts did, written with each of them.

// Remembered puts together what a lane remembers of its rosters and receipts.
// seen is the newest parting that it knows.
func (s *Store) Remembered(ctx context.Context, lane int64) (m reconcile.Memory, seen int64, err error) {
	m.Absent, m.Inactive, m.Suspended, m.Written = map[string]reconcile.Absence{}, map[string]string{}, map[string]bool{}, map[string]map[string]reconcile.Sent{}
	rows, err := s.pool.Query(ctx, `SELECT person, to_char(since, 'YYYY-MM-DD'), readings, last FROM absences WHERE lane_id = $1`, lane)
	if err != nil {
		return m, 0, err
	}
	var person string
	var a reconcile.Absence
	if _, err := pgx.ForEachRow(rows, []any{&person, &a.Since, &a.Readings, &a.Last}, func() error { m.Absent[person] = a; return nil }); err != nil {
		return m, 0, err
	}
	if rows, err = s.pool.Query(ctx, `SELECT person, to_char(since, 'YYYY-MM-DD') FROM inactivities WHERE lane_id = $1`, lane); err != nil {
		return m, 0, err
	}
	var since string
	if _, err := pgx.ForEachRow(rows, []any{&person, &since}, func() error { m.Inactive[person] = since; return nil }); err != nil {
		return m, 0, err
	}
	if rows, err = s.pool.Query(ctx, `SELECT side, records FROM former_counts WHERE lane_id = $1`, lane); err != nil {
		return m, 0, err
	}
	var side string
	var records int
	if _, err := pgx.ForEachRow(rows, []any{&side, &records}, func() error {
		if m.Counts == nil {
			m.Counts, m.Filled = map[string]int{}, map[string]float64{}
		}
		m.Counts[side] = records
		return nil
	}); err != nil {
		return m, 0, err
	}
	if rows, err = s.pool.Query(ctx, `SELECT attribute, share FROM former_coverage WHERE lane_id = $1`, lane); err != nil {
		return m, 0, err
	}
	var attribute string
	var share float64
	if _, err := pgx.ForEachRow(rows, []any{&attribute, &share}, func() error {
		if m.Filled == nil {
			m.Filled = map[string]float64{}
		}
		m.Filled[attribute] = share
		return nil
	}); err != nil {
		return m, 0, err
	}
	if rows, err = s.pool.Query(ctx, `SELECT account FROM suspensions WHERE lane_id = $1`, lane); err != nil {
		return m, 0, err
	}
	var account string
	if _, err := pgx.ForEachRow(rows, []any{&account}, func() error { m.Suspended[account] = true; return nil }); err != nil {
		return m, 0, err
	}
	if rows, err = s.pool.Query(ctx, `SELECT account, attribute, value, rounds FROM written WHERE lane_id = $1`, lane); err != nil {
		return m, 0, err
	}
	var sent reconcile.Sent
	if _, err := pgx.ForEachRow(rows, []any{&account, &attribute, &sent.Value, &sent.Rounds}, func() error {
		if m.Written[account] == nil {
			m.Written[account] = map[string]reconcile.Sent{}
		}
		m.Written[account][attribute] = sent
		return nil
	}); err != nil {
		return m, 0, err
	}
	if m.Halfway, err = s.halfway(ctx, lane); err != nil {
		return m, 0, err
	}
	if m.Added, err = s.added(ctx, lane); err != nil {
		return m, 0, err
	}
	if m.Former, err = s.former(ctx, lane); err != nil {
		return m, 0, err
	}
	if m.Inherited, err = s.inherited(ctx, lane); err != nil {
		return m, 0, err
	}
	if rows, err = s.pool.Query(ctx, `SELECT id, person, account FROM partings WHERE lane_id = $1 ORDER BY id`, lane); err != nil {
		return m, 0, err
	}
	_, err = pgx.ForEachRow(rows, []any{&seen, &person, &account}, func() error {
		m.Parted = append(m.Parted, pairing.Pair{Person: person, Account: account})
		return nil
	})
	return m, seen, err
}

// added tells which values of lists our receipts added, by account and attribute.
func (s *Store) added(ctx context.Context, lane int64) (map[string]map[string][]string, error) {
	list := map[string]map[string][]string{}
	rows, err := s.pool.Query(ctx, `SELECT account, attribute, value FROM added WHERE lane_id = $1 AND attribute NOT IN ('aliases', 'inherited') ORDER BY account, attribute, value`, lane)
	if err != nil {
		return nil, err
	}
	var account, attribute, value string
	_, err = pgx.ForEachRow(rows, []any{&account, &attribute, &value}, func() error {
		if list[account] == nil {
			list[account] = map[string][]string{}
		}
		list[account][attribute] = append(list[account][attribute], value)
		return nil
	})
	return list, err
}

// former tells which aliases are former primary addresses that our receipts replaced, and
// since when: of aliases nothing else is remembered.
func (s *Store) former(ctx context.Context, lane int64) (map[string]map[string]string, error) {
	list := map[string]map[string]string{}
	rows, err := s.pool.Query(ctx, `SELECT a.account, a.value, to_char(a.at AT TIME ZONE l.zone, 'YYYY-MM-DD') FROM added a JOIN lanes l ON l.id = a.lane_id WHERE a.lane_id = $1 AND a.attribute = 'aliases'`, lane)
	if err != nil {
		return nil, err
	}
	var account, address, day string
	_, err = pgx.ForEachRow(rows, []any{&account, &address, &day}, func() error {
		if list[account] == nil {
			list[account] = map[string]string{}
		}
		list[account][address] = day
		return nil
	})
	return list, err
}

// inherited tells which addresses were handed over to which accounts of the lane's downstream,
// by whatever lane.
func (s *Store) inherited(ctx context.Context, lane int64) (map[string][]string, error) {
	list := map[string][]string{}
	rows, err := s.pool.Query(ctx, `SELECT a.account, a.value FROM added a JOIN lanes o ON o.id = a.lane_id JOIN lanes l ON l.downstream = o.downstream WHERE l.id = $1 AND a.attribute = 'inherited' ORDER BY 1, 2`, lane)
	if err != nil {
		return nil, err
	}
	var account, address string
	_, err = pgx.ForEachRow(rows, []any{&account, &address}, func() error {
		list[account] = append(list[account], address)
		return nil
	})
	return list, err
}

// remember keeps what a reconciliation found its rosters to be like.
func remember(ctx context.Context, tx bare, lane, accounts int64, m *reconcile.Memory) error {
	for _, table := range []string{"absences", "inactivities", "former_counts", "former_coverage"} {
		if _, err := tx.Exec(ctx, `DELETE FROM `+table+` WHERE lane_id = $1`, lane); err != nil {
			return err
		}
	}
	var absent, inactive, counts, filled [][]any
	for person, a := range m.Absent {
		since, err := calendar.Begin(a.Since, nil)
		if err != nil {
			return err
		}
		absent = append(absent, []any{lane, person, since, a.Readings, a.Last})
	}
	for person, day := range m.Inactive {
		since, err := calendar.Begin(day, nil)
		if err != nil {
			return err
		}
		inactive = append(inactive, []any{lane, person, since})
	}
	for side, n := range m.Counts {
		counts = append(counts, []any{lane, side, n})
	}
	for attribute, share := range m.Filled {
		filled = append(filled, []any{lane, attribute, share})
	}
	for table, rows := range map[string]struct {
		columns []string
		rows    [][]any
	}{
		"absences":        {[]string{"lane_id", "person", "since", "readings", "last"}, absent},
		"inactivities":    {[]string{"lane_id", "person", "since"}, inactive},
		"former_counts":   {[]string{"lane_id", "side", "records"}, counts},
		"former_coverage": {[]string{"lane_id", "attribute", "share"}, filled},
	} {
		if _, err := tx.CopyFrom(ctx, pgx.Identifier{table}, rows.columns, pgx.CopyFromRows(rows.rows)); err != nil {
			return err
		}
	}
	// what shows as open again was opened by somebody else: should it be shut
	// later, it was not us
	var reopened []string
	for account, ours := range m.Suspended {
		if !ours {
			reopened = append(reopened, account)
		}
	}
	_, err := tx.Exec(ctx, `DELETE FROM suspensions WHERE lane_id = $1 AND account = ANY($2) AND at < (SELECT started FROM rosters WHERE id = $3)`, lane, reopened, accounts)
	return err
}

// SuspendedShown calls fn for how a roster shows the accounts that are suspended by
// receipts of ours from before it was begun, in whichever lane.
func (s *Store) SuspendedShown(ctx context.Context, system, roster int64, fn func(id string, native map[string][]string, digest []byte) error) error {
	rows, err := s.pool.Query(ctx, `SELECT v.native_id, v.native, v.digest FROM records v WHERE v.system_id = $1 AND v.since <= $2 AND (v.until IS NULL OR v.until > $2) AND v.native_id IN (
		SELECT u.account FROM suspensions u JOIN lanes l ON l.id = u.lane_id WHERE l.downstream = $1 AND u.at < (SELECT started FROM rosters WHERE id = $2))`, system, roster)
	if err != nil {
		return err
	}
	return eachRecord(rows, fn)
}

// Reopened forgets that the accounts of a system, which a roster shows as open,
// were suspended by us: should they be shut later, it was somebody else.
func (s *Store) Reopened(ctx context.Context, system, roster int64, accounts []string) error {
	_, err := s.exec(ctx, `DELETE FROM suspensions u USING lanes l WHERE l.id = u.lane_id AND l.downstream = $1 AND u.account = ANY($3) AND u.at < (SELECT started FROM rosters WHERE id = $2)`, system, roster, accounts)
	return err
}

// HiddenShown calls fn for how a roster shows the accounts that receipts of ours from before it
// was begun have hidden, in whichever lane.
func (s *Store) HiddenShown(ctx context.Context, system, roster int64, fn func(id string, native map[string][]string, digest []byte) error) error {
	rows, err := s.pool.Query(ctx, `SELECT v.native_id, v.native, v.digest FROM records v WHERE v.system_id = $1 AND v.since <= $2 AND (v.until IS NULL OR v.until > $2) AND v.native_id IN (
		SELECT w.account FROM written w JOIN lanes l ON l.id = w.lane_id WHERE l.downstream = $1 AND w.attribute = 'hidden' AND w.value = 'true' AND w.at < (SELECT started FROM rosters WHERE id = $2))`, system, roster)
	if err != nil {
		return translate(err)
	}
	return eachRecord(rows, fn)
}

// Listed forgets that accounts of a system, which a roster does not show as hidden, were hidden
// by us: should they be hidden later, it was somebody else.
func (s *Store) Listed(ctx context.Context, system, roster int64, accounts []string) error {
	_, err := s.exec(ctx, `DELETE FROM written w USING lanes l WHERE l.id = w.lane_id AND l.downstream = $1 AND w.attribute = 'hidden' AND w.account = ANY($3) AND w.at < (SELECT started FROM rosters WHERE id = $2)`, system, roster, accounts)
	return err
}

// AddedShown calls fn for how a roster shows the accounts in whose lists our receipts
// put values before it was begun, in whichever lane.
func (s *Store) AddedShown(ctx context.Context, system, roster int64, fn func(id string, native map[string][]string, digest []byte) error) error {
	rows, err := s.pool.Query(ctx, `SELECT v.native_id, v.native, v.digest FROM records v WHERE v.system_id = $1 AND v.since <= $2 AND (v.until IS NULL OR v.until > $2) AND v.native_id IN (
		SELECT u.account FROM added u JOIN lanes l ON l.id = u.lane_id WHERE l.downstream = $1 AND u.attribute <> 'inherited' AND u.at < (SELECT started FROM rosters WHERE id = $2))`, system, roster)
	if err != nil {
		return err
	}
	return eachRecord(rows, fn)
}

// AddedAttributes names the lists of a system's accounts that our receipts changed.
func (s *Store) AddedAttributes(ctx context.Context, system int64) (names []string, err error) {
	return names, s.list(ctx, &names, `SELECT DISTINCT u.attribute FROM added u JOIN lanes l ON l.id = u.lane_id WHERE l.downstream = $1 AND u.attribute <> 'inherited' ORDER BY 1`, system)
}

// StillAdded forgets that values of an account's list were ours which a roster no
// longer shows there: should they come back, it was somebody else.
func (s *Store) StillAdded(ctx context.Context, system, roster int64, account, attribute string, shown []string) error {
	_, err := s.exec(ctx, `DELETE FROM added u USING lanes l WHERE l.id = u.lane_id AND l.downstream = $1 AND u.account = $3 AND u.attribute = $4 AND NOT u.value = ANY($5) AND u.at < (SELECT started FROM rosters WHERE id = $2)`, system, roster, account, attribute, shown)
	return err
}

// SuspendedBy names the receipts that stand behind the suspensions of a lane.
func (s *Store) SuspendedBy(ctx context.Context, lane int64) (map[string]string, error) {
	var rows []struct {
		Account string `db:"account"`
		Receipt string `db:"receipt"`
	}
	err := s.list(ctx, &rows, `SELECT account, receipt FROM suspensions WHERE lane_id = $1`, lane)
	by := map[string]string{}
	for _, r := range rows {
		by[r.Account] = r.Receipt
	}
	return by, err
}

// halfway are the values in between that our receipts say were written last, with what the
// account was called before and what the rest of its unit was to call it.
func (s *Store) halfway(ctx context.Context, lane int64) (map[string]map[string]reconcile.Halfway, error) {
	rows, err := s.pool.Query(ctx, `SELECT w.account, w.attribute, w.value, c.body, n.body FROM written w JOIN plans p ON p.lane_id = w.lane_id
		JOIN changes c ON c.plan_id = p.id AND c.account = w.account AND c.body->>'between' = 'true'
		LEFT JOIN changes n ON n.plan_id = p.id AND n.account = c.account AND n.verb = c.verb AND n.body->>'unit' = c.body->>'unit' AND n.number <> c.number
		WHERE w.lane_id = $1 AND w.attribute IN ('userName', 'email') AND w.value LIKE 'between-%' ORDER BY p.id`, lane)
	if err != nil {
		return nil, translate(err)
	}
	list := map[string]map[string]reconcile.Halfway{}
	var account, attribute, value string
	var step JSON[planning.Change]
	var next JSON[*planning.Change]
	_, err = pgx.ForEachRow(rows, []any{&account, &attribute, &value, &step, &next}, func() error {
		h := reconcile.Halfway{Value: value}
		for _, e := range step.V.Edits {
			if e.Attribute == attribute && e.New == value {
				h.Former = e.Old
			}
		}
		if next.V != nil && h.Former != "" {
			for _, e := range next.V.Edits {
				if e.Attribute == attribute && e.Old == value {
					h.Wanted = e.New
				}
			}
		}
		if h.Former != "" { // of the newest plan that wrote it
			if list[account] == nil {
				list[account] = map[string]reconcile.Halfway{}
			}
			list[account][attribute] = h
		}
		step, next = JSON[planning.Change]{}, JSON[*planning.Change]{}
		return nil
	})
	return list, translate(err)
}
