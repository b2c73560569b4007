package store

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/require"

	"twinning/internal/cluster"
)

// migrated opens a store that was at a version and held what the statements say.
func migrated(t *testing.T, version int64, statements string) *Store {
	t.Helper()
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "twinning-store-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	db, err := cluster.Start(ctx, cluster.Config{Dir: filepath.Join(dir, "db"), Volatile: true})
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Stop() })
	pool, err := pgxpool.New(ctx, db.URL)
	require.NoError(t, err)
	t.Cleanup(pool.Close)
	files, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	provider, err := goose.NewProvider(goose.DialectPostgres, stdlib.OpenDBFromPool(pool), files)
	require.NoError(t, err)
	_, err = provider.UpTo(ctx, version)
	require.NoError(t, err)
	_, err = pool.Exec(ctx, statements)
	require.NoError(t, err)
	s, err := Open(ctx, db.URL)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// The release before knew no zone of a lane, and counted absences by both rosters.
func TestMigrationKeepsDays(t *testing.T) {
	ctx := context.Background()
	s := migrated(t, 4, `INSERT INTO systems (name, kind) VALUES ('hq', 'file'), ('app', 'scim');
		INSERT INTO lanes (name, authority, downstream) VALUES ('tokyo', 1, 2), ('quoted', 1, 2), ('none', 1, 2), ('unknown', 1, 2);
		INSERT INTO charters (lane_id, version, source, created_by) VALUES (1, 1, 'zone: Asia/Seoul', 'ana'), (1, 2, E'lane: tokyo\nzone: Asia/Tokyo\nguards: {}', 'ana'), (2, 1, 'zone: "America/Santiago" # the office', 'ana'), (3, 1, 'lane: none', 'ana'), (4, 1, 'zone: Mars/Olympus', 'ana');
		INSERT INTO absences (lane_id, person, since, readings, last) VALUES (1, 'L1', '2026-11-20', 2, '17/202')`)
	lanes, err := s.Lanes(ctx)
	require.NoError(t, err)
	zones := map[string]string{}
	for _, l := range lanes {
		zones[l.Name] = l.Location().String()
	}
	require.Equal(t, map[string]string{"tokyo": "Asia/Tokyo", "quoted": "America/Santiago", "none": "UTC", "unknown": "UTC"}, zones)
	m, _, err := s.Remembered(ctx, 1)
	require.NoError(t, err)
	require.Equal(t, "17", m.Absent["L1"].Last)

	_, err = s.pool.Exec(ctx, `INSERT INTO goose_db_version (version_id, is_applied) VALUES (9000, true)`)
	require.NoError(t, err)
	_, err = Open(ctx, s.pool.Config().ConnString())
	require.ErrorContains(t, err, "the database is of a newer release (schema 9000)")
}

func TestMigrationKeepsRecords(t *testing.T) {
	ctx := context.Background()
	s := migrated(t, 1, `INSERT INTO systems (name, kind) VALUES ('old', 'file'), ('empty', 'file');
		INSERT INTO rosters (system_id, extent, state, shape) VALUES (1, 'whole', 'whole', 's'), (1, 'whole', 'failed', 's');
		INSERT INTO records (system_id, native_id, since, native, digest) VALUES (1, 'a', 1, '{"v": ["1"]}', 'x')`)
	r, err := s.NewestRoster(ctx, 1)
	require.NoError(t, err)
	require.EqualValues(t, 1, r.ID)
	n := 0
	require.NoError(t, s.RosterRecords(ctx, 1, r.ID, func(string, map[string][]string, []byte) error { n++; return nil }))
	require.Equal(t, 1, n)
	require.NoError(t, s.RemoveSystem(ctx, "old"))
	require.NoError(t, s.RemoveSystem(ctx, "empty"))
}

// The release before kept a lane's memory in one value, knew no basis of a bond,
// and sealed plans by less than what is looked at now.
func TestMigrationKeepsMemory(t *testing.T) {
	ctx := context.Background()
	s := migrated(t, 3, `INSERT INTO systems (name, kind) VALUES ('hq', 'file'), ('app', 'scim');
		INSERT INTO lanes (name, authority, downstream, memory) VALUES
			('one', 1, 2, '{"absent": {"L1": {"since": "2026-11-20", "readings": 2, "last": "r7"}}, "counts": {"people": 425}, "filled": {"people.email": 0.97},
				"suspended": {"u1": true, "u2": false}, "written": {"u3": {"title": {"value": "Driver", "rounds": 2}}}, "parted": [{"person": "L4", "account": "u4"}]}'),
			('two', 1, 2, '{}');
		INSERT INTO rosters (system_id, extent, state, shape) VALUES (1, 'whole', 'taken', 's'), (2, 'whole', 'taken', 's');
		INSERT INTO left_out (roster_id, number, reason, what) VALUES (1, 0, 'lives in another server', 'ldap://b'), (2, 0, 'inactive accounts are not listed', '3 users');
		INSERT INTO rejections (roster_id, number, line, native_id, native_column, reason) VALUES (1, 0, 7, 'L9', 'mail', 'broken');
		INSERT INTO reconciliations (lane_id, charter_version, people_roster, accounts_roster, inputs, balance, findings, changes, withheld, guards, notes) VALUES (1, 1, 1, 2, '', '{}', '{}', '{}', '{}', '[]', '[]'), (2, 1, 1, 2, '', '{}', '{}', '{}', '{}', '[]', '[]');
		INSERT INTO verdicts (reconciliation_id, side, native_id, state, label, login, basis, twin, twin_label, note) VALUES (1, 'people', 'L5', 'twinned', '', '', 'weighed', 'u5', '', ''), (1, 'people', 'L6', 'twinned', '', '', 'bonded', 'u6', '', '');
		INSERT INTO weights (lane_id, version, digest, weights, by) VALUES (1, 1, 'd', '{}', 'task 1');
		INSERT INTO bonds (lane_id, person, account, made_by) VALUES (1, 'L5', 'u5', 'run 1'), (1, 'L6', 'u6', 'run 1'), (1, 'L7', 'u7', 'ruling 2'), (2, 'L6', 'u8', 'run 2');
		INSERT INTO plans (lane_id, reconciliation_id, state, created_by, hash, verbs, waves, guards) SELECT 1, 1, s, 'ana', 'h', '{}', '[]', '[]' FROM unnest(ARRAY['draft', 'sealed', 'running', 'finished', 'halted', 'void']) s;
		INSERT INTO tasks (kind, name, created_by) VALUES ('run', 'run', 'ana');
		INSERT INTO runs (plan_id, task_id, created_by) VALUES (4, 1, 'ana'), (4, 1, 'ana');
		INSERT INTO changes (plan_id, number, change, wave, verb, person, account, label, body) VALUES (4, 0, 'c-1', 'all', 'create', 'L6', '', 'Ana', '{"id": "c-1", "edits": [{"attribute": "userName", "new": "asoto", "old": ""}]}');
		INSERT INTO receipts (run_id, number, change, account, outcome) VALUES (2, 0, 'c-1', 'u8', 'done');
		INSERT INTO reservations (system_id, name, plan_id, person) VALUES (2, 'asoto', 2, 'L1'), (2, 'blund', 3, 'L2')`)
	for _, x := range []struct{ what, query, want string }{
		{"absences", `SELECT person || ' ' || since || ' ' || readings || ' ' || last FROM absences`, "L1 2026-11-20 2 r7"},
		{"counts", `SELECT side || ' ' || records FROM former_counts`, "people 425"},
		{"coverage", `SELECT attribute || ' ' || share FROM former_coverage`, "people.email 0.97"},
		{"suspensions", `SELECT account FROM suspensions`, "u1"},
		{"what was written", `SELECT account || ' ' || attribute || ' ' || value || ' ' || rounds FROM written`, "u3 title Driver 2"},
		{"who was parted", `SELECT person || ' ' || account FROM partings`, "L4 u4"},
		{"the old memory", `SELECT string_agg(memory::text, ' ') FROM lanes`, "{} {}"},
		{"gaps", `SELECT string_agg(kind, ' ' ORDER BY roster_id) FROM left_out`, "elsewhere hidden"},
		{"rejections", `SELECT native_id || ' ' || swallows || ' ' || named FROM rejections`, "L9 false false"},
		{"bonds", `SELECT string_agg(lane_id || ' ' || person || ' ' || basis, ', ' ORDER BY lane_id, person) FROM bonds`, "1 L5 weighed, 1 L6 weighed, 1 L7 ruled, 2 L6 created"},
		{"changes", `SELECT words || ' ' || (body->>'id') FROM changes`, `L6  Ana ["asoto"] [""] c-1`},
		{"plans", `SELECT string_agg(state, ' ' ORDER BY id) FROM plans`, "void void running finished halted void"},
		{"verdicts", `SELECT string_agg(reconciliation_id || ' ' || native_id, ', ' ORDER BY native_id) FROM verdicts`, "1 L5, 1 L6"},
		{"their part", `SELECT count(*)::text FROM verdicts_of_1`, "2"},
		{"reservations", `SELECT string_agg(name, ' ') FROM reservations`, "blund"},
	} {
		var got string
		require.NoError(t, s.pool.QueryRow(ctx, x.query).Scan(&got), x.what)
		require.Equal(t, x.want, got, x.what)
	}
	m, seen, err := s.Remembered(ctx, 1)
	require.NoError(t, err)
	require.EqualValues(t, 1, seen)
	require.True(t, m.Suspended["u1"])
	require.Equal(t, 2, m.Absent["L1"].Readings)
	// what was running without a task that runs is gone on with by a human
	stopped, err := s.StopStray(ctx, 3)
	require.NoError(t, err)
	require.True(t, stopped)
}

// The release before told names apart by case, let tokens live for ever, and did
// not key its trail: that is done when a human says so, and never for a trail
// that was keyed before.
func TestMigrationKeysTheTrail(t *testing.T) {
	ctx := context.Background()
	s := migrated(t, 6, `INSERT INTO users (name, rights, password) VALUES ('Ana', '{look}', ''), ('ana', '{work}', ''), ('Bo', '{look}', '');
		INSERT INTO tokens (hash, user_id, name) VALUES ('\x01', 1, 'old');
		INSERT INTO tasks (kind, name, created_by, params, state) VALUES ('roster', 'take', 'ana', '{}', 'queued')`)
	var previous []byte
	for seq := int64(1); seq <= 3; seq++ {
		e := AuditEntry{Seq: seq, At: time.Date(2026, 11, 20, 12, 0, int(seq), 0, time.UTC), By: "ana", Action: "act", Salt: []byte{byte(seq)}}
		e.Detail.V = map[string]string{}
		e.Digest = e.digest()
		previous = plainLink(previous, seq, e.Digest)
		_, err := s.exec(ctx, `INSERT INTO audit (seq, at, actor, action, subject, salt, digest, hash, detail) VALUES ($1, $2, $3, $4, '', $5, $6, $7, '{}')`, seq, e.At, e.By, e.Action, e.Salt, e.Digest, previous)
		require.NoError(t, err)
	}
	key := []byte("a key for tests")
	require.ErrorIs(t, s.KeyTrail(ctx, key, false), ErrUnkeyed, "a human says so")
	require.NoError(t, s.KeyTrail(ctx, key, true))
	require.NoError(t, s.Audit(ctx, "ana", "act", "", nil))
	head, err := s.AuditHead(ctx)
	require.NoError(t, err)
	checked, err := s.CheckAudit(ctx, head)
	require.NoError(t, err)
	require.EqualValues(t, 4, checked.Entries)
	require.ErrorIs(t, s.KeyTrail(ctx, []byte("another key"), false), ErrOtherKey)
	_, err = s.exec(ctx, `UPDATE audit SET keyed = false`)
	require.NoError(t, err)
	require.ErrorIs(t, s.KeyTrail(ctx, key, false), ErrUnkeyed, "keys that were taken away are not put back unasked")

	users, err := s.Users(ctx)
	require.NoError(t, err)
	names := map[string]string{}
	for _, u := range users {
		names[u.Name] = u.Key
	}
	require.Equal(t, map[string]string{"Ana": "ana", "ana-2": "ana-2", "Bo": "bo"}, names, "two that are one now")
	var term, deaths int
	require.NoError(t, s.pool.QueryRow(ctx, `SELECT extract(day FROM max(expires) - now())::int FROM tokens`).Scan(&term))
	require.InDelta(t, 366, term, 1)
	require.NoError(t, s.pool.QueryRow(ctx, `SELECT max(deaths) FROM tasks`).Scan(&deaths))
	require.Zero(t, deaths)
}
