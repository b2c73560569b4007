// Package cluster keeps a private PostgreSQL server in a data folder: made with
// the Debian package's own binaries, on loopback only, on a free port, with a
// password, durable by default. It survives kill -9 of its parent and of
// itself: a server that was left running is taken over, one that died is
// recovered by PostgreSQL at the next start.
//
// PostgreSQL refuses to run as root. Started by root, the folder belongs to
// the account postgres (made by the Debian package) and the server runs as it.
package cluster

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Config says where and how.
type Config struct {
	Dir      string            // folder of the cluster, made when missing
	Volatile bool              // no fsync: for tests only
	Settings map[string]string // further server settings
}

// Cluster is a running server.
type Cluster struct {
	URL string // of the database "twinning", password included, where it was when it was started
	cfg Config
	dir string
	uid *syscall.Credential
	bin string

	mu   sync.Mutex // guards port
	port string
	stop func()        // ends the watch
	over chan struct{} // closed when the watch has ended
}

const password = "password" // file in the cluster's folder, mode 0600

// Start makes the cluster when needed, starts it when it isn't running, and
// waits until it answers.
func Start(ctx context.Context, cfg Config) (*Cluster, error) {
	dir, err := filepath.Abs(cfg.Dir)
	if err != nil {
		return nil, err
	}
	c := &Cluster{dir: dir, cfg: cfg}
	if c.bin, err = binaries(); err != nil {
		return nil, err
	}
	if c.uid, err = c.owner(); err != nil {
		return nil, err
	}
	if _, err := os.Stat(c.data("PG_VERSION")); errors.Is(err, fs.ErrNotExist) {
		if err := c.create(ctx); err != nil {
			return nil, err
		}
	}
	secret, err := os.ReadFile(filepath.Join(dir, password))
	if err != nil {
		return nil, err
	}
	port, running := c.running()
	if !running {
		if port, err = c.launch(ctx, cfg); err != nil {
			return nil, err
		}
	}
	c.port = port
	c.URL = (&url.URL{Scheme: "postgres", User: url.UserPassword("twinning", strings.TrimSpace(string(secret))), Host: net.JoinHostPort("127.0.0.1", port), Path: "/twinning"}).String()
	return c, c.wait(ctx)
}

func (c *Cluster) data(name string) string { return filepath.Join(c.dir, "data", name) }

// binaries finds the newest server that Debian's packages have installed.
func binaries() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if err != nil || len(found) == 0 {
		return "", errors.New("no PostgreSQL server is installed here; install Debian's package `postgresql`, or give the service a database by --database-url")
	}
	best, version := "", -1
	for _, f := range found {
		dir := filepath.Dir(f)
		if v, err := strconv.Atoi(filepath.Base(filepath.Dir(dir))); err == nil && v > version {
			best, version = dir, v
		}
	}
	return best, nil
}

// owner makes the folder and says whom the server runs as: nil for ourselves.
func (c *Cluster) owner() (*syscall.Credential, error) {
	if err := os.MkdirAll(c.dir, 0o700); err != nil {
		return nil, err
	}
	if os.Geteuid() != 0 {
		return nil, nil
	}
	account, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("started as root, the database server needs the account `postgres`, which Debian's package makes: %w", err)
	}
	uid, _ := strconv.Atoi(account.Uid)
	gid, _ := strconv.Atoi(account.Gid)
	if err := os.Chown(c.dir, uid, gid); err != nil {
		return nil, err
	}
	if err := letThrough(filepath.Dir(c.dir)); err != nil {
		return nil, err
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil // ids of the system
}

// letThrough lets the server's account through the data folder, which is ours. No
// folder above it is opened to anybody: who is locked out by one is told.
func letThrough(data string) error {
	info, err := os.Stat(data)
	if err != nil {
		return err
	}
	if info.Mode()&0o001 == 0 {
		if err := os.Chmod(data, info.Mode().Perm()|0o001); err != nil {
			return err
		}
	}
	for dir := filepath.Dir(data); dir != "/"; dir = filepath.Dir(dir) {
		info, err := os.Stat(dir)
		if err != nil {
			return err
		}
		if info.Mode()&0o001 == 0 {
			return fmt.Errorf("started as root, the database server runs as the account `postgres`, which %q lets nobody but its owner through; take a data folder elsewhere (--data-dir /var/lib/twinning), start the service as an account of its own, or open that folder yourself (chmod o+x)", dir)
		}
	}
	return nil
}

// Aim directs a connection that is about to be made: to where the server answers
// now, and to nobody but it.
func (c *Cluster) Aim(cfg *pgx.ConnConfig) {
	c.mu.Lock()
	defer c.mu.Unlock()
	n, _ := strconv.ParseUint(c.port, 10, 16) // of our own making
	cfg.Host, cfg.Port, cfg.TLSConfig, cfg.Fallbacks = "127.0.0.1", uint16(n), nil, nil
	cfg.AfterNetConnect = OnlySCRAM
}

// watchEvery is how often the server is looked at.
const watchEvery = time.Second

// Watch starts the server again whenever it has died, until Stop.
func (c *Cluster) Watch(log *slog.Logger) {
	ctx, stop := context.WithCancel(context.Background())
	c.stop, c.over = stop, make(chan struct{})
	go func() {
		defer close(c.over)
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(watchEvery):
			}
			port, running := c.running()
			if !running {
				log.Warn("the database server has died; it is started again", "folder", c.dir)
				var err error
				if port, err = c.launch(ctx, c.cfg); err != nil {
					log.Error("the database server could not be started again", "error", err.Error())
					continue
				}
			}
			c.mu.Lock()
			c.port = port
			c.mu.Unlock()
		}
	}()
}

// command runs a server binary as the cluster's owner, in a process group of
// its own so that Ctrl-C reaches us and not it.
func (c *Cluster) command(ctx context.Context, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(c.bin, name), args...)
	cmd.Dir = "/"
	cmd.Env = []string{"LC_ALL=C.UTF-8", "PATH=/usr/bin:/bin", "TZ=UTC"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: c.uid, Setpgid: true}
	return cmd
}

func (c *Cluster) create(ctx context.Context) error {
	var secret [24]byte
	if _, err := rand.Read(secret[:]); err != nil {
		return err
	}
	file := filepath.Join(c.dir, password)
	if err := os.WriteFile(file, []byte(hex.EncodeToString(secret[:])), 0o600); err != nil {
		return err
	}
	if c.uid != nil {
		if err := os.Chown(file, int(c.uid.Uid), int(c.uid.Gid)); err != nil {
			return err
		}
	}
	if err := os.RemoveAll(filepath.Join(c.dir, "data.new")); err != nil { // left by a start that was killed
		return err
	}
	fresh := filepath.Join(c.dir, "data.new")
	out, err := c.command(ctx, "initdb", "-D", fresh, "-U", "twinning", "--pwfile", file, "--auth=scram-sha-256", "--encoding=UTF8", "--locale=C.UTF-8").CombinedOutput()
	if err != nil {
		return fmt.Errorf("the database folder %q can't be made: %w\n%s", c.dir, err, out)
	}
	return os.Rename(fresh, filepath.Join(c.dir, "data"))
}

// running reads postmaster.pid: line 1 is the process, line 4 the port.
func (c *Cluster) running() (port string, ok bool) {
	text, err := os.ReadFile(c.data("postmaster.pid"))
	if err != nil {
		return "", false
	}
	lines := strings.Split(string(text), "\n")
	if len(lines) < 4 {
		return "", false
	}
	pid, err := strconv.Atoi(lines[0])
	if err != nil || !isServerOf(pid, c.data("")) {
		return "", false
	}
	return strings.TrimSpace(lines[3]), true
}

// isServerOf tells a living server of this folder from a stranger that got the
// same process number later.
func isServerOf(pid int, dir string) bool {
	if syscall.Kill(pid, 0) != nil {
		return false
	}
	command, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err == nil && strings.Contains(string(command), filepath.Clean(dir))
}

func freePort() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	_, port, err := net.SplitHostPort(l.Addr().String())
	return port, errors.Join(err, l.Close())
}

// shared is how much memory the server shares between its processes, in MiB: the server's own
// default is for the smallest of machines, and makes a result of millions of rows write
// everything twice.
func shared() uint64 {
	const least, most = 128, 1024
	var system syscall.Sysinfo_t
	if err := syscall.Sysinfo(&system); err != nil {
		return least
	}
	return min(max(system.Totalram*uint64(system.Unit)>>20/16, least), most)
}

func (c *Cluster) launch(ctx context.Context, cfg Config) (string, error) {
	var failure error
	for range 5 { // somebody else may take the free port first
		port, err := freePort()
		if err != nil {
			return "", err
		}
		settings := map[string]string{
			"listen_addresses": "127.0.0.1", "port": port, "unix_socket_directories": c.data(""), "max_connections": "60",
			"shared_buffers": fmt.Sprintf("%dMB", shared()), "maintenance_work_mem": "256MB", "max_wal_size": "2GB", "checkpoint_timeout": "15min",
			"password_encryption": "scram-sha-256", "log_min_messages": "warning", "log_timezone": "UTC", "timezone": "UTC", "lc_messages": "C.UTF-8",
		}
		if cfg.Volatile {
			settings["fsync"], settings["synchronous_commit"], settings["full_page_writes"] = "off", "off", "off"
		}
		for k, v := range cfg.Settings {
			settings[k] = v
		}
		options := make([]string, 0, 2*len(settings))
		for k, v := range settings {
			options = append(options, "-c "+k+"="+v)
		}
		cmd := c.command(ctx, "pg_ctl", "start", "-w", "-t", "60", "-s", "-D", c.data(""), "-l", filepath.Join(c.dir, "data", "server.log"), "-o", strings.Join(options, " "))
		if out, err := cmd.CombinedOutput(); err != nil {
			failure = fmt.Errorf("the database server in %q does not start: %w\n%s\nits log is %s", c.dir, err, out, c.data("server.log"))
			continue
		}
		return port, nil
	}
	return "", failure
}

func (c *Cluster) wait(ctx context.Context) error {
	admin, err := pgx.ParseConfig(strings.TrimSuffix(c.URL, "/twinning") + "/postgres")
	if err != nil {
		return err
	}
	c.Aim(admin)
	var conn *pgx.Conn
	for range 150 {
		if conn, err = pgx.ConnectConfig(ctx, admin); err == nil || errors.Is(err, ErrNotOurs) {
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
	if err != nil {
		return fmt.Errorf("the database server in %q does not answer: %w", c.dir, err)
	}
	defer conn.Close(ctx) // nothing was written
	var exists bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = 'twinning')").Scan(&exists); err != nil || exists {
		return err
	}
	_, err = conn.Exec(ctx, "CREATE DATABASE twinning")
	return err
}

// Stop ends the server after its sessions have been cut off.
func (c *Cluster) Stop() error {
	if c.stop != nil {
		c.stop()
		<-c.over
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	out, err := c.command(ctx, "pg_ctl", "stop", "-w", "-s", "-m", "fast", "-D", c.data("")).CombinedOutput()
	if err != nil {
		return fmt.Errorf("the database server in %q does not stop: %w\n%s", c.dir, err, out)
	}
	return nil
}
