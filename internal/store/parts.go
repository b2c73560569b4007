package store

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
)

// parted are the tables of which every reconciliation has a part of its own: filled first,
// then given its indexes, and dropped as a whole.
var parted = []string{"verdicts", "findings", "compared"}

// listed are those that people sort and search.
var listed = []string{"verdicts", "findings"}

func partOf(table string, reconciliation int64) string {
	return fmt.Sprintf("%s_of_%d", table, reconciliation)
}

// openPart makes a part that is filled before it is attached.
func openPart(ctx context.Context, tx bare, table string, reconciliation int64) error {
	// the check spares the look at every row when the part is attached
	_, err := tx.Exec(ctx, fmt.Sprintf(`CREATE TABLE %s (LIKE %s INCLUDING DEFAULTS, CHECK (reconciliation_id = %d))`, partOf(table, reconciliation), table, reconciliation))
	return err
}

// attachPart gives a part its indexes and its place.
func attachPart(ctx context.Context, tx bare, table string, reconciliation int64) error {
	// without statistics, what joins it would look at every row for a few
	_, err := tx.Exec(ctx, fmt.Sprintf(`ALTER TABLE %[1]s ATTACH PARTITION %[2]s FOR VALUES IN (%[3]d); ANALYZE %[2]s`, table, partOf(table, reconciliation), reconciliation))
	return err
}

// searched are the texts that a search of a list looks through: the same expression as its
// index. What is compared byte by byte elsewhere is compared as people read it here.
var searched = map[string]string{
	"verdicts": joined("native_id", "label", "login", "twin", "twin_label"),
	"findings": joined("person", "account", "person_label", "account_label", "detail"),
}

func joined(columns ...string) string {
	for i, c := range columns {
		columns[i] = c + ` COLLATE "default"`
	}
	return "(" + strings.Join(columns, " || ' ' || ") + ")"
}

// searchedQuestions are those of a question.
const searchedQuestions = `(person COLLATE "default" || ' ' || account COLLATE "default" || ' ' || reason || ' ' || person_label || ' ' || account_label)`

// byName is what a list is sorted by, when it is by name.
var byName = map[string]string{"verdicts": "label", "findings": "(coalesce(nullif(person_label, ''), account_label))"}

// LongList is how many rows are searched and sorted as quickly without an index.
const LongList = 20000

// Furnish gives the parts of a reconciliation what makes long lists quick to sort and to
// search. The lists are there without it.
func (s *Store) Furnish(ctx context.Context, reconciliation int64) error {
	return s.furnish(ctx, reconciliation, LongList)
}

func (s *Store) furnish(ctx context.Context, reconciliation int64, least int) error {
	var words bool
	if err := s.get(ctx, &words, `SELECT EXISTS (SELECT FROM pg_extension WHERE extname = 'pg_trgm')`); err != nil {
		return err
	}
	for _, table := range listed {
		part := partOf(table, reconciliation)
		var rows int
		if err := s.get(ctx, &rows, `SELECT coalesce((SELECT reltuples::bigint FROM pg_class WHERE oid = to_regclass($1)), 0)`, part); err != nil {
			return err
		}
		if rows < least {
			continue
		}
		first, last := map[string]string{"verdicts": "side, ", "findings": ""}[table], map[string]string{"verdicts": "native_id", "findings": "number"}[table]
		queries := []string{fmt.Sprintf(`CREATE INDEX IF NOT EXISTS %[1]s_by_name ON %[1]s (%[2]s%[3]s, %[4]s)`, part, first, byName[table], last)}
		if words {
			queries = append(queries, fmt.Sprintf(`CREATE INDEX IF NOT EXISTS %[1]s_search ON %[1]s USING gin (%[2]s gin_trgm_ops)`, part, searched[table]))
		}
		queries = append(queries, `ANALYZE `+part) // of what its indexes hold: else a rare word is looked for row by row
		for _, q := range queries {
			if _, err := s.exec(ctx, q); err != nil {
				return err
			}
		}
	}
	return nil
}

// searchedRecords are the texts that a search of records looks through: id and values.
const searchedRecords = `(native_id COLLATE "default" || ' ' || jsonb_path_query_array(native, '$.*[*]')::text)`

// FurnishRecords gives the records of a system what makes searching them quick, where they
// are many and do not have it yet.
func (s *Store) FurnishRecords(ctx context.Context, system int64) error {
	return s.furnishRecords(ctx, system, LongList)
}

func (s *Store) furnishRecords(ctx context.Context, system int64, least int) error {
	wanted, err := s.bare(ctx, system, least)
	if err != nil || !wanted {
		return err
	}
	table := tableOf(system)
	if _, err = s.exec(ctx, fmt.Sprintf(`CREATE INDEX IF NOT EXISTS %[1]s_search ON %[1]s USING gin (%[2]s gin_trgm_ops)`, table, searchedRecords)); err != nil {
		return err
	}
	_, err = s.exec(ctx, `ANALYZE `+table)
	return err
}

// Bare reports whether the records of a system are many, and can be but are not yet searched
// by an index.
func (s *Store) Bare(ctx context.Context, system int64) (bare bool, err error) {
	return s.bare(ctx, system, LongList)
}

func (s *Store) bare(ctx context.Context, system int64, least int) (bare bool, err error) {
	table := tableOf(system)
	return bare, s.get(ctx, &bare, `SELECT coalesce((SELECT reltuples FROM pg_class WHERE oid = to_regclass($1)), 0) >= $3 AND to_regclass($2) IS NULL AND EXISTS (SELECT FROM pg_extension WHERE extname = 'pg_trgm')`, table, table+"_search", least)
}

// FurnishChanges merges what drafts have added into the index that changes are searched by.
func (s *Store) FurnishChanges(ctx context.Context) error {
	if _, err := s.exec(ctx, `SELECT gin_clean_pending_list(c.oid) FROM pg_class c WHERE c.oid = to_regclass('changes_search')`); err != nil {
		return err
	}
	_, err := s.exec(ctx, `ANALYZE changes`)
	return err
}

// Long reports whether lists of so many rows want an index for sorting and searching.
func Long(rows int) bool { return rows >= LongList }

// Forget drops the parts of reconciliations that nobody asks for any more: older than the
// newest of their lane and without a plan that is open, or of no lane at all. What somebody
// is reading at this moment stays for the next time.
func (s *Store) Forget(ctx context.Context) error {
	for _, table := range parted {
		var parts []string
		if err := s.list(ctx, &parts, `SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid WHERE i.inhparent = to_regclass($1)
			AND NOT EXISTS (SELECT FROM reconciliations r WHERE c.relname = $1 || '_of_' || r.id AND (r.id = (SELECT max(id) FROM reconciliations n WHERE n.lane_id = r.lane_id)
				OR EXISTS (SELECT FROM plans p WHERE p.reconciliation_id = r.id AND p.state IN ('draft', 'sealed', 'running', 'halted')))) ORDER BY 1`, table); err != nil {
			return err
		}
		for _, part := range parts {
			if !strings.HasPrefix(part, table+"_of_") {
				continue
			}
			err := s.InTx(ctx, func(tx *Store) error {
				if _, err := tx.exec(ctx, `SET LOCAL lock_timeout = '500ms'`); err != nil {
					return err
				}
				_, err := tx.exec(ctx, `DROP TABLE IF EXISTS `+part)
				return err
			})
			if err != nil && !inUse(err) {
				return err
			}
		}
	}
	return nil
}

// inUse tells that somebody held a lock for too long, or would have had to wait for us.
func inUse(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (pg.Code == "55P03" || pg.Code == "40P01")
}
