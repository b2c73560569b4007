package cluster

import (
	"bytes"
	"context"
	"crypto/md5"
	"encoding/binary"
	"encoding/hex"
	"log/slog"
	"net"
	"net/url"
	"os"
	"path/filepath"
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

	killed(t, c)
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

// Whoever takes the port of our server learns nothing: a client goes on only with
// one that asks for SCRAM, and proves that it knows the password.
func TestImpostors(t *testing.T) {
	const secret = "the password of our server"
	asks := func(kind uint32, more string) []byte { // an authentication request
		b := binary.BigEndian.AppendUint32([]byte{'R'}, uint32(8+len(more)))
		return append(binary.BigEndian.AppendUint32(b, kind), more...)
	}
	for name, answer := range map[string][]byte{
		"lets anybody in":       append(asks(0, ""), 'Z', 0, 0, 0, 5, 'I'),
		"in the clear":          asks(3, ""),
		"MD5":                   asks(5, "salt"),
		"GSSAPI":                asks(7, ""),
		"SCRAM without knowing": asks(10, "SCRAM-SHA-256\x00\x00"),
		"says nothing of it":    {'S', 0, 0, 0, 9, 'a', 0, 'b', 0, 0},
	} {
		t.Run(name, func(t *testing.T) {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			heard := make(chan string, 1)
			go func() {
				c, err := l.Accept()
				if err != nil {
					heard <- ""
					return
				}
				defer c.Close() // the test is over
				_ = c.SetDeadline(time.Now().Add(5 * time.Second))
				all, buf := []byte{}, make([]byte, 4096)
				n, _ := c.Read(buf) // how a client begins
				all = append(all, buf[:n]...)
				_, _ = c.Write(answer)
				n, _ = c.Read(buf)
				all = append(all, buf[:n]...)
				if bytes.HasPrefix(answer[5:], []byte{0, 0, 0, 10}) { // it makes up the rest
					_, _ = c.Write(asks(11, "r=made-up,s=c2FsdA==,i=4096"))
					n, _ = c.Read(buf)
					all = append(all, buf[:n]...)
					_, _ = c.Write(asks(0, ""))
				}
				heard <- string(all)
			}()
			at, err := url.Parse("postgres://twinning@" + l.Addr().String() + "/twinning?sslmode=disable")
			require.NoError(t, err)
			at.User = url.UserPassword("twinning", secret)
			cfg, err := pgx.ParseConfig(at.String())
			require.NoError(t, err)
			cfg.AfterNetConnect = OnlySCRAM
			_, err = pgx.ConnectConfig(context.Background(), cfg)
			require.Error(t, err)
			require.NoError(t, l.Close())
			text := <-heard
			require.NotContains(t, text, secret)
			sum := md5.Sum([]byte(secret + "twinning")) // what MD5 would have been made of
			again := md5.Sum(append([]byte(hex.EncodeToString(sum[:])), "salt"...))
			require.NotContains(t, text, hex.EncodeToString(again[:]))
		})
	}
}

// A server that dies is started again, and found where it is then; nothing above
// our own folder is opened for it.
func TestWatched(t *testing.T) {
	dir, err := os.MkdirTemp("", "twinning-cluster-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	ctx := context.Background()
	if os.Geteuid() == 0 {
		_, err := Start(ctx, Config{Dir: filepath.Join(dir, "data", "db")})
		require.ErrorContains(t, err, "lets nobody but its owner through")
		info, err := os.Stat(dir)
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o700), info.Mode().Perm(), "it stays shut")
	}
	c, err := Start(ctx, Config{Dir: filepath.Join(dir, "db"), Volatile: true})
	require.NoError(t, err)
	c.Watch(slog.New(slog.DiscardHandler))
	t.Cleanup(func() { require.NoError(t, c.Stop()) })
	answers := func() bool {
		cfg, err := pgx.ParseConfig(c.URL)
		require.NoError(t, err)
		c.Aim(cfg)
		conn, err := pgx.ConnectConfig(ctx, cfg)
		if err == nil {
			err = conn.Close(ctx)
		}
		return err == nil
	}
	require.True(t, answers())
	for range 2 {
		killed(t, c)
		require.Eventually(t, answers, time.Minute, 200*time.Millisecond)
	}
}

// killed ends a cluster's server as a crash does.
func killed(t *testing.T, c *Cluster) {
	t.Helper()
	text, err := os.ReadFile(c.data("postmaster.pid"))
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	require.Eventually(t, func() bool { return syscall.Kill(pid, 0) != nil }, 30*time.Second, 50*time.Millisecond)
}
