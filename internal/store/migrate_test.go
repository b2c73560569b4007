package store

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/require"

	"twinning/internal/cluster"
)

func TestMigrationKeepsRecords(t *testing.T) {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "twinning-store-")
	require.NoError(t, err)
	defer func() { _ = os.RemoveAll(dir) }()
	db, err := cluster.Start(ctx, cluster.Config{Dir: filepath.Join(dir, "db"), Volatile: true})
	require.NoError(t, err)
	defer func() { _ = db.Stop() }()
	pool, err := pgxpool.New(ctx, db.URL)
	require.NoError(t, err)
	defer pool.Close()
	files, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	provider, err := goose.NewProvider(goose.DialectPostgres, stdlib.OpenDBFromPool(pool), files)
	require.NoError(t, err)
	_, err = provider.UpTo(ctx, 1)
	require.NoError(t, err)
	_, err = pool.Exec(ctx, `INSERT INTO systems (name, kind) VALUES ('old', 'file'), ('empty', 'file');
		INSERT INTO rosters (system_id, extent, state, shape) VALUES (1, 'whole', 'whole', 's'), (1, 'whole', 'failed', 's');
		INSERT INTO records (system_id, native_id, since, native, digest) VALUES (1, 'a', 1, '{"v": ["1"]}', 'x')`)
	require.NoError(t, err)
	s, err := Open(ctx, db.URL)
	require.NoError(t, err)
	defer s.Close()
	r, err := s.NewestRoster(ctx, 1)
	require.NoError(t, err)
	require.EqualValues(t, 1, r.ID)
	n := 0
	require.NoError(t, s.RosterRecords(ctx, 1, r.ID, func(string, map[string][]string, []byte) error { n++; return nil }))
	require.Equal(t, 1, n)
	require.NoError(t, s.RemoveSystem(ctx, "old"))
	require.NoError(t, s.RemoveSystem(ctx, "empty"))
}
