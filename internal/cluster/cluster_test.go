package cluster

import (
	"context"
	"os"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// The private server survives kill -9, of its parent and of itself, keeps its
// data, wants a password, and listens on loopback alone.
func TestSurvivesKill(t *testing.T) {
	dir, err := os.MkdirTemp("", "twinning-cluster-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	ctx := context.Background()
	c, err := Start(ctx, Config{Dir: dir})
	require.NoError(t, err)
	exec := func(c *Cluster, sql string) (n int) {
		conn, err := pgx.Connect(ctx, c.URL)
		require.NoError(t, err)
		defer conn.Close(ctx)
		require.NoError(t, conn.QueryRow(ctx, sql).Scan(&n))
		return n
	}
	require.Equal(t, 1, exec(c, "WITH x AS (SELECT 1) SELECT count(*)::int FROM x"))
	conn, err := pgx.Connect(ctx, c.URL)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, "CREATE TABLE kept (n int); INSERT INTO kept VALUES (7)")
	require.NoError(t, err)
	require.NoError(t, conn.Close(ctx))

	again, err := Start(ctx, Config{Dir: dir})
	require.NoError(t, err)
	require.Equal(t, c.URL, again.URL, "a server that was left running is taken over")

	text, err := os.ReadFile(c.data("postmaster.pid"))
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	require.Eventually(t, func() bool { return syscall.Kill(pid, 0) != nil }, 30*time.Second, 50*time.Millisecond)
	var revived *Cluster
	require.Eventually(t, func() bool { revived, err = Start(ctx, Config{Dir: dir}); return err == nil }, time.Minute, time.Second)
	t.Cleanup(func() { require.NoError(t, revived.Stop()) })
	require.Equal(t, 7, exec(revived, "SELECT n FROM kept"))

	for _, bad := range []string{strings.Replace(revived.URL, ":", ":x", 2), strings.Replace(revived.URL, "twinning:", "postgres:", 1)} {
		_, err := pgx.Connect(ctx, bad)
		require.Error(t, err, "a wrong password or name is refused")
	}
	info, err := os.Stat(dir + "/" + password)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}
