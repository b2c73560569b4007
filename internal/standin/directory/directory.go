// Package directory runs a private directory server for the demo and the
// tests: Debian's slapd on loopback, on a free port, with a data folder and a
// certificate of its own. It never touches a server that the system runs.
package directory

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"twinning/internal/standin/certs"
)

// Config of a server; zero values take the defaults named.
type Config struct {
	Dir    string // folder for data, configuration and certificates, made when missing
	Suffix string // naming context (default dc=larkspur,dc=example)
	// Plain leaves out the overlays that keep references whole and uids unique.
	Plain bool
	// Access are further access rules, as slapd.conf(5) has them, before the
	// rule that lets who has signed in read.
	Access []string
	// Limits are further directives of the database.
	Limits []string
	// SessionLog is how many deletions the server remembers for synchronisation.
	SessionLog int
	// Expired gives the server a certificate whose time is over.
	Expired bool
	// Policy is the DN of the policy that passwords must keep to, and Reader may set them; "": there
	// is none.
	Policy string
	Schema string // further schema, as slapd.conf(5) has it
}

// Server is a running directory.
type Server struct {
	URL    string // ldap://127.0.0.1:port
	Secure string // ldaps://127.0.0.1:port
	CAFile string
	Suffix string
	cfg    Config
	cmd    *exec.Cmd
	ended  chan error
	stderr *bytes.Buffer
}

// Admin and Secret may do everything; Reader, with the same secret, may read.
const Secret = "larkspur-directory"

// Admin is the DN that may do everything.
func (s *Server) Admin() string { return "cn=admin," + s.Suffix }

// Reader is the DN that may only read.
func (s *Server) Reader() string { return "cn=reader," + s.Suffix }

const binary = "/usr/sbin/slapd"

// Start writes the configuration, loads the entries (LDIF) when the folder is
// new, and waits until the server answers.
func Start(ctx context.Context, cfg Config, ldif string) (*Server, error) {
	if cfg.Suffix == "" {
		cfg.Suffix = "dc=larkspur,dc=example"
	}
	if _, err := os.Stat(binary); err != nil {
		return nil, errors.New("no directory server is installed here; install Debian's package `slapd`")
	}
	s := &Server{cfg: cfg, Suffix: cfg.Suffix}
	data := filepath.Join(cfg.Dir, "data")
	_, err := os.Stat(data)
	fresh := errors.Is(err, os.ErrNotExist)
	if err := os.MkdirAll(data, 0o700); err != nil {
		return nil, err
	}
	if err := s.certify(); err != nil {
		return nil, err
	}
	if err := os.WriteFile(s.file("slapd.conf"), []byte(s.configuration()), 0o600); err != nil {
		return nil, err
	}
	if fresh {
		if err := s.load(ctx, s.top()+ldif); err != nil {
			return nil, err
		}
	}
	return s, s.launch(ctx)
}

func (s *Server) file(name string) string { return filepath.Join(s.cfg.Dir, name) }

func (s *Server) configuration() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	for _, schema := range []string{"core", "cosine", "inetorgperson", "nis"} {
		line("include /etc/ldap/schema/%s.schema", schema)
	}
	line("%s", s.cfg.Schema)
	line("modulepath /usr/lib/ldap")
	for _, m := range []string{"back_mdb", "memberof", "refint", "unique", "syncprov", "ppolicy"} {
		line("moduleload %s", m)
	}
	line("pidfile %s", s.file("slapd.pid"))
	line("TLSCertificateFile %s\nTLSCertificateKeyFile %s\nTLSCACertificateFile %s\nTLSVerifyClient allow", s.file("server.pem"), s.file("server.key"), s.file("ca.pem"))
	line("authz-regexp cn=client cn=admin,%s", s.Suffix)
	line("threads 4\nloglevel none")
	line("database mdb\nsuffix %q\nrootdn %q\nrootpw %s\ndirectory %s\nmaxsize 1073741824", s.Suffix, s.Admin(), Secret, filepath.Join(s.cfg.Dir, "data"))
	line("dbnosync")
	line("index objectClass,entryUUID,entryCSN eq\nindex uid,mail,cn,member,memberOf,uniqueMember,modifyTimestamp eq")
	for _, l := range s.cfg.Limits {
		line("%s", l)
	}
	reader := ""
	if s.cfg.Policy != "" { // a policy binds whoever is not the admin
		reader = fmt.Sprintf("by dn.exact=%q write ", s.Reader())
	}
	line("access to attrs=userPassword %sby self write by anonymous auth by * none", reader)
	for _, a := range s.cfg.Access {
		line("access %s", a)
	}
	line("access to * by users read by * none")
	if !s.cfg.Plain {
		line("overlay memberof\noverlay refint\nrefint_attributes member manager\nrefint_nothing cn=nobody,%s", s.Suffix)
		line("overlay unique\nunique_uri ldap:///?uid?sub?\nunique_uri ldap:///?mail?sub?")
	}
	if s.cfg.Policy != "" {
		line("overlay ppolicy\nppolicy_default %q", s.cfg.Policy)
	}
	line("overlay syncprov\nsyncprov-checkpoint 1000 60")
	if s.cfg.SessionLog > 0 {
		line("syncprov-sessionlog %d", s.cfg.SessionLog)
	}
	return b.String()
}

// top is what every directory here begins with.
func (s *Server) top() string {
	name, _, _ := strings.Cut(strings.TrimPrefix(s.Suffix, "dc="), ",")
	return fmt.Sprintf("dn: %[1]s\nobjectClass: domain\ndc: %[2]s\n\ndn: cn=reader,%[1]s\nobjectClass: organizationalRole\nobjectClass: simpleSecurityObject\ncn: reader\nuserPassword: %[3]s\n\n", s.Suffix, name, Secret)
}

func (s *Server) load(ctx context.Context, ldif string) error {
	path := s.file("load.ldif")
	if err := os.WriteFile(path, []byte(ldif), 0o600); err != nil {
		return err
	}
	out, err := exec.CommandContext(ctx, "/usr/sbin/slapadd", "-q", "-w", "-f", s.file("slapd.conf"), "-b", s.Suffix, "-l", path).CombinedOutput()
	if err != nil {
		return fmt.Errorf("the directory can't be loaded: %w\n%s", err, out)
	}
	return os.Remove(path)
}

func freePort() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	_, port, err := net.SplitHostPort(l.Addr().String())
	return port, errors.Join(err, l.Close())
}

func (s *Server) launch(ctx context.Context) error {
	var failure error
	for range 5 { // somebody else may take the free port first
		plain, err := freePort()
		if err != nil {
			return err
		}
		secure, err := freePort()
		if err != nil {
			return err
		}
		s.URL, s.Secure, s.stderr, s.ended = "ldap://127.0.0.1:"+plain, "ldaps://127.0.0.1:"+secure, &bytes.Buffer{}, make(chan error, 1)
		s.cmd = exec.Command(binary, "-d", "0", "-f", s.file("slapd.conf"), "-h", s.URL+"/ "+s.Secure+"/")
		s.cmd.Stderr = s.stderr
		// it dies with us, however we die
		s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
		if err := s.cmd.Start(); err != nil {
			return err
		}
		go func() { s.ended <- s.cmd.Wait() }()
		if failure = s.wait(ctx, "127.0.0.1:"+plain); failure == nil {
			failure = s.wait(ctx, "127.0.0.1:"+secure) // it takes them one after the other
		}
		if failure == nil {
			return nil
		}
	}
	return failure
}

func (s *Server) wait(ctx context.Context, address string) error {
	for range 300 {
		if c, err := net.DialTimeout("tcp", address, time.Second); err == nil {
			return c.Close()
		}
		select {
		case <-ctx.Done():
			return errors.Join(ctx.Err(), s.Stop())
		case err := <-s.ended:
			s.ended <- err
			return fmt.Errorf("the directory server does not start: %v\n%s", err, s.stderr.String())
		case <-time.After(20 * time.Millisecond):
		}
	}
	return errors.Join(errors.New("the directory server does not answer"), s.Stop())
}

// Stop ends the server.
func (s *Server) Stop() error {
	_ = s.cmd.Process.Signal(syscall.SIGTERM) // it may have ended by itself
	select {
	case err := <-s.ended:
		s.ended <- err
	case <-time.After(10 * time.Second):
		return s.cmd.Process.Kill()
	}
	return nil
}

// certify makes the server's certificate, and that of a client.
func (s *Server) certify() error {
	s.CAFile = s.file("ca.pem")
	return certs.Make(s.cfg.Dir, s.cfg.Expired)
}

// ClientFiles are the certificate and key of a client that is the admin.
func (s *Server) ClientFiles() (cert, key string) { return s.file("client.pem"), s.file("client.key") }
