package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"twinning/internal/access"
	"twinning/internal/notify"
	"twinning/internal/standin/directory"
	"twinning/internal/standin/mailbox"
	"twinning/internal/standin/mailgate"
	"twinning/internal/standin/scimapp"
)

// DemoConfig of the demo; zero values take the defaults named.
type DemoConfig struct {
	DataDir  string // a temporary folder when not given
	Listen   string // default 127.0.0.1:7413
	Volatile bool   // no fsync, for tests
	Talk     io.Writer
	Ready    func(a *App, url string, out *Outside) // for tests; called instead of printing
}

// Outside are the systems that Twinning is connected to in the demo: none of
// them knows of it.
type Outside struct {
	HQ, Candlewick *directory.Server
	DomeBooking    *scimapp.App
	NightLog       *scimapp.App
	MailGate       mailgate.Gate
	Mail           *mailbox.Server
	domeSecure     string
	domeBooking    string // their addresses
	nightLog       string
}

// Demo runs the service with the Larkspur Observatories until the context ends.
func Demo(ctx context.Context, cfg DemoConfig) (err error) {
	made := true
	if cfg.DataDir == "" {
		if cfg.DataDir, err = os.MkdirTemp("", "twinning-demo-"); err != nil {
			return err
		}
		defer os.RemoveAll(cfg.DataDir) // best effort
	} else if err := os.Mkdir(cfg.DataDir, 0o700); errors.Is(err, fs.ErrExist) {
		made = false // somebody else's to open
	} else if err != nil {
		return err
	}
	if made { // started by root, the database runs as another account; what is in it is closed
		if err := os.Chmod(cfg.DataDir, 0o711); err != nil {
			return err
		}
	}
	mail, err := mailbox.Start(filepath.Join(cfg.DataDir, "mail"))
	if err != nil {
		return err
	}
	a, err := Open(ctx, Config{DataDir: filepath.Join(cfg.DataDir, "service"), Listen: cfg.Listen, Volatile: cfg.Volatile,
		Mail: notify.Config{URL: strings.Replace(mail.URL, "://", "://"+mail.User+"@", 1), From: "Larkspur accounts <accounts@larkspur.example>", Secret: mailbox.Secret, CAFile: mail.CAFile}})
	if err != nil {
		return errors.Join(err, mail.Stop())
	}
	defer a.Close()
	d := &director{App: a, mail: mail, ctx: ctx, who: access.Caller{Name: "demo", Rights: access.All}}
	outside, err := d.start(cfg.DataDir)
	if err != nil {
		return err
	}
	defer outside.stop()
	if _, err := a.Service.System(ctx, "hq"); err != nil {
		if err := d.play(); err != nil {
			return fmt.Errorf("the demo's story went wrong: %w", err)
		}
	} else if err := d.connectAll(); err != nil { // a kept demo: they answer elsewhere now
		return err
	}
	return a.Serve(ctx, func(url string) {
		if cfg.Ready != nil {
			cfg.Ready(a, url, outside)
			return
		}
		password, _ := os.ReadFile(filepath.Join(a.cfg.DataDir, FirstSignIn))
		fmt.Fprintf(cfg.Talk, `
Twinning is running with the Larkspur Observatories.

  console   %s
  sign in   %s

Try, in another terminal:
  bin/twinning sign-in --address %s --name admin
  bin/twinning system list
  bin/twinning lane show hq-dome-booking
  bin/twinning twin list hq-dome-booking --state contested

What it is connected to runs here too:
  hq            a directory (LDAP) at %s
  candlewick    a directory (LDAP) at %s
  dome-booking  an application (SCIM) at %s, see /standin/effects there
  night-log     an application (SCIM) at %s
  mail-gate     files in %s
  letters       that are sent to people, in %s
Ctrl-C stops everything.
`, url, strings.TrimSpace(strings.ReplaceAll(string(password), "\n", "   ")), url, outside.HQ.URL, outside.Candlewick.URL, outside.domeBooking, outside.nightLog, filepath.Dir(outside.MailGate.List), filepath.Join(cfg.DataDir, "mail", "letters.txt"))
	})
}
