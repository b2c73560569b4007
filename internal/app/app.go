// Package app puts the pieces together: configuration, the data folder, the
// database, the service with its connectors, the worker and the HTTP door.
package app

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/labstack/echo/v5"

	"twinning/console"
	"twinning/internal/cluster"
	"twinning/internal/connector"
	"twinning/internal/connector/file"
	"twinning/internal/connector/ldapdir"
	"twinning/internal/connector/outbound"
	"twinning/internal/connector/scim"
	"twinning/internal/crypt"
	"twinning/internal/execution"
	"twinning/internal/httpapi"
	"twinning/internal/job"
	"twinning/internal/notify"
	"twinning/internal/service"
	"twinning/internal/store"
)

// Connectors are the kinds of system that are known; a new kind is one line.
var Connectors = map[string]connector.Factory{
	"file": file.New,
	"ldap": ldapdir.New,
	"scim": scim.New,
}

// settings are what each kind declares.
var settings = map[string]connector.Settings{"file": file.Settings, "ldap": ldapdir.Settings, "scim": scim.Settings}

// Config of a node; zero values take the defaults named.
type Config struct {
	DataDir     string        // keys, spool, and the private database
	DatabaseURL string        // "" keeps a private PostgreSQL in the data folder
	Listen      string        // default 127.0.0.1:7413
	Admin       string        // name of the first administrator (default admin)
	MasterKey   string        // base64; "" uses the file master.key in the data folder
	Lease       time.Duration // see service.Config
	Files       []string      // folders, besides files in the data folder, that files of systems may be in
	Networks    string        // ranges of addresses to allow that are refused by default
	TLSCert     string        // file with our certificate and those above it (PEM); "" serves plain HTTP
	TLSKey      string        // file with its key (PEM)
	BehindTLS   bool          // a proxy before us speaks TLS with browsers
	Proxies     string        // ranges of addresses of proxies whose X-Forwarded-For is taken
	Mail        notify.Config // the mail server that letters go through; none where its URL is ""
	AdoptTrail  bool          // key the trail of a release that did not
	Volatile    bool          // a private database without fsync, for tests
	Log         io.Writer     // structured log; nil none
	Talk        io.Writer     // what a person at the terminal should know; nil none
}

func (c Config) withDefaults() Config {
	if c.Listen == "" {
		c.Listen = "127.0.0.1:7413"
	}
	if c.Admin == "" {
		c.Admin = "admin"
	}
	if c.Log == nil {
		c.Log = io.Discard
	}
	if c.Talk == nil {
		c.Talk = io.Discard
	}
	return c
}

// App is a node.
type App struct {
	cfg      Config
	Service  *service.Service
	Password string // of the administrator that this start made; "" otherwise
	echo     *echo.Echo
	worker   *job.Worker
	store    *store.Store
	cluster  *cluster.Cluster
	lock     *os.File
	log      *slog.Logger

	certificate *certificate // nil: plain HTTP
}

// FirstSignIn is the file in the data folder that tells the first
// administrator's password, until somebody removes it.
const FirstSignIn = "first-sign-in"

// Open prepares a node; Close gives everything back.
func Open(ctx context.Context, cfg Config) (a *App, err error) {
	cfg = cfg.withDefaults()
	if cfg.DataDir == "" {
		return nil, errors.New("a data folder is needed: --data-dir")
	}
	opened := &App{cfg: cfg, log: slog.New(slog.NewJSONHandler(cfg.Log, &slog.HandlerOptions{ReplaceAttr: harmless}))}
	a = opened
	defer func() {
		if err != nil { // what was returned is nil by then
			opened.Close()
		}
	}()
	if a.cfg.DataDir, err = filepath.Abs(cfg.DataDir); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(a.cfg.DataDir, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder %q can't be made: %w; make it, or name another with --data-dir", a.cfg.DataDir, errors.Unwrap(err))
	}
	if err := a.lockData(); err != nil {
		return nil, err
	}
	if a.certificate, err = loadCertificate(cfg.TLSCert, cfg.TLSKey); err != nil {
		return nil, err
	}
	proxies, err := outbound.ParsePolicy(cfg.Proxies)
	if err != nil {
		return nil, fmt.Errorf("--trusted-proxy: %w", err)
	}
	policy, err := outbound.ParsePolicy(cfg.Networks)
	if err != nil {
		return nil, fmt.Errorf("--allow-network: %w", err)
	}
	folders, err := declaredFolders(a.cfg.DataDir, cfg.Files)
	if err != nil {
		return nil, err
	}
	post, err := notify.New(cfg.Mail)
	if err != nil {
		return nil, fmt.Errorf("--mail, --mail-from: %w", err)
	}
	keeper, err := crypt.LoadKey(cfg.MasterKey, filepath.Join(a.cfg.DataDir, "master.key"))
	if err != nil {
		return nil, fmt.Errorf("the master key can't be used: %w", err)
	}
	url, aim := cfg.DatabaseURL, (func(*pgx.ConnConfig))(nil)
	if url == "" {
		if a.cluster, err = cluster.Start(ctx, cluster.Config{Dir: filepath.Join(a.cfg.DataDir, "db"), Volatile: cfg.Volatile}); err != nil {
			return nil, err
		}
		a.cluster.Watch(a.log)
		url, aim = a.cluster.URL, a.cluster.Aim
	}
	if a.store, err = store.OpenAt(ctx, url, aim); err != nil {
		return nil, err
	}
	if err := a.store.KeyTrail(ctx, keeper.Derive("audit trail"), cfg.AdoptTrail); err != nil {
		return nil, err
	}
	node, err := a.nodeID()
	if err != nil {
		return nil, err
	}
	a.Service = service.New(service.Config{Store: a.store, Keeper: keeper, Connectors: Connectors, Settings: settings, Node: node, DataDir: a.cfg.DataDir, Files: folders, Outbound: policy, Lease: cfg.Lease, Post: posted(post), Log: a.log})
	if err := a.firstStart(ctx); err != nil {
		return nil, err
	}
	a.worker = job.New(job.Config{Service: a.Service, Log: a.log})
	pages, err := fs.Sub(console.Dist, "dist")
	if err != nil {
		return nil, err
	}
	a.echo, err = httpapi.New(httpapi.Config{Service: a.Service, Console: pages, Log: a.log, TLS: a.certificate != nil || cfg.BehindTLS, Proxies: proxies.Allow})
	return a, err
}

// posted lets runs open letters; nil where there is no mail server.
func posted(post *notify.Post) execution.Post {
	if post == nil {
		return nil
	}
	return func(ctx context.Context, to string) (execution.Letter, error) { return post.Open(ctx, to) }
}

// declaredFolders makes the folders absolute, and the one of the data folder.
func declaredFolders(data string, folders []string) (out []string, err error) {
	if err := os.MkdirAll(filepath.Join(data, "files"), 0o700); err != nil {
		return nil, err
	}
	for _, f := range folders {
		abs, err := filepath.Abs(f)
		if err != nil {
			return nil, err
		}
		if info, err := os.Stat(abs); err != nil || !info.IsDir() {
			return nil, fmt.Errorf("--files %q is no folder; make it first", f)
		}
		out = append(out, abs)
	}
	return out, nil
}

// lockData makes sure that one process alone uses the data folder. The lock
// dies with the process, however it dies.
func (a *App) lockData() (err error) {
	if a.lock, err = os.OpenFile(filepath.Join(a.cfg.DataDir, "lock"), os.O_CREATE|os.O_RDWR, 0o600); err != nil {
		return fmt.Errorf("the data folder %q can't be written: %w; give the service the right, or name another with --data-dir", a.cfg.DataDir, errors.Unwrap(err))
	}
	if err := syscall.Flock(int(a.lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil { // descriptors are small
		return fmt.Errorf("the data folder %q is in use by another twinning; stop that one, or use another folder", a.cfg.DataDir)
	}
	return nil
}

// nodeID is the data folder's identity.
func (a *App) nodeID() (string, error) {
	path := filepath.Join(a.cfg.DataDir, "node")
	id, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		var raw [8]byte
		if _, err := rand.Read(raw[:]); err != nil {
			return "", err
		}
		id = []byte(hex.EncodeToString(raw[:]))
		err = os.WriteFile(path, id, 0o600)
		return string(id), err
	}
	return strings.TrimSpace(string(id)), err
}

func (a *App) firstStart(ctx context.Context) error {
	password, err := a.Service.FirstStart(ctx, a.cfg.Admin)
	if err != nil || password == "" {
		return err
	}
	a.Password = password
	path := filepath.Join(a.cfg.DataDir, FirstSignIn)
	text := fmt.Sprintf("name: %s\npassword: %s\n", a.cfg.Admin, password)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		return err
	}
	fmt.Fprintf(a.cfg.Talk, "This is the first start: administrator %q was made; the password is in %s (remove the file once you have it)\n", a.cfg.Admin, path)
	return nil
}

// Serve answers requests and works on tasks until the context ends. ready is
// called with the address once requests are answered.
func (a *App) Serve(ctx context.Context, ready func(url string)) error {
	if host, _, err := net.SplitHostPort(a.cfg.Listen); err == nil && host != "127.0.0.1" && host != "::1" && host != "localhost" {
		if a.certificate == nil && !a.cfg.BehindTLS {
			fmt.Fprintf(a.cfg.Talk, "Listening on %s, beyond this machine, without TLS: passwords and lists of people go over the network as they are; give --tls-cert and --tls-key, or put a proxy before it (--behind-tls)\n", a.cfg.Listen)
		}
	}
	if a.cfg.BehindTLS && a.cfg.Proxies == "" {
		fmt.Fprintln(a.cfg.Talk, "Behind a proxy that is not named (--trusted-proxy), everybody seems to come from its address: one who guesses passwords slows everybody's sign-in down")
	}
	scheme := "http"
	working, stop := context.WithCancel(ctx)
	defer stop()
	done := make(chan struct{})
	go func() {
		defer close(done)
		a.worker.Run(working)
	}()
	start := echo.StartConfig{
		Address: a.cfg.Listen, HideBanner: true, HidePort: true, GracefulTimeout: 5 * time.Second,
		ListenerAddrFunc: func(addr net.Addr) { ready(scheme + "://" + addr.String()) },
		BeforeServeFunc: func(s *http.Server) error {
			// bodies and answers have deadlines of their own, which grow with them
			s.ReadTimeout, s.WriteTimeout = 0, 0
			s.ReadHeaderTimeout, s.IdleTimeout, s.MaxHeaderBytes = 10*time.Second, 2*time.Minute, 64<<10
			return nil
		},
	}
	if a.certificate != nil {
		scheme, start.TLSConfig = "https", a.certificate.config()
	}
	err := start.Start(ctx, a.echo)
	stop()
	<-done
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("can't listen on %s: %w", a.cfg.Listen, err)
	}
	return nil
}

// Close gives back what Open took; a private database is stopped.
func (a *App) Close() {
	if a.store != nil {
		a.store.Close()
	}
	if a.cluster != nil {
		if err := a.cluster.Stop(); err != nil {
			a.log.Error("the database server", "error", err.Error())
		}
	}
	if a.lock != nil {
		_ = a.lock.Close()
	}
}
