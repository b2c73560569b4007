package app

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"twinning/demo"
	"twinning/internal/access"
	"twinning/internal/standin/scimapp"
	"twinning/internal/store"
)

// DemoConfig of the demo; zero values take the defaults named.
type DemoConfig struct {
	DataDir  string // a temporary folder when not given
	Listen   string // default 127.0.0.1:7413
	Volatile bool   // no fsync, for tests
	Talk     interface{ Write([]byte) (int, error) }
	Ready    func(a *App, url string, standin *scimapp.App) // for tests; called instead of printing
}

// demoToken is what dome-booking wants from whoever speaks SCIM to it.
const demoToken = "larkspur-dome-booking"

// Demo runs the service with the Larkspur Observatories until the context ends.
func Demo(ctx context.Context, cfg DemoConfig) (err error) {
	if cfg.DataDir == "" {
		if cfg.DataDir, err = os.MkdirTemp("", "twinning-demo-"); err != nil {
			return err
		}
		defer os.RemoveAll(cfg.DataDir) // best effort
	}
	a, err := Open(ctx, Config{DataDir: filepath.Join(cfg.DataDir, "service"), Listen: cfg.Listen, Volatile: cfg.Volatile})
	if err != nil {
		return err
	}
	defer a.Close()
	app, address, err := demoApplication(ctx, cfg.DataDir)
	if err != nil {
		return err
	}
	defer app.Flush()
	d := &director{App: a, ctx: ctx, who: access.Caller{Name: "demo", Rights: access.All}, application: app}
	if _, err := a.Service.System(ctx, "hq"); err != nil {
		if err := d.play(cfg.DataDir, address); err != nil {
			return fmt.Errorf("the demo's story went wrong: %w", err)
		}
	} else if err := d.reconnect(address); err != nil {
		return err
	}
	return a.Serve(ctx, func(url string) {
		if cfg.Ready != nil {
			cfg.Ready(a, url, app)
			return
		}
		password, _ := os.ReadFile(filepath.Join(a.cfg.DataDir, FirstSignIn))
		fmt.Fprintf(cfg.Talk, `
Twinning is running with the Larkspur Observatories.

  console   %s
  sign in   %s

Try, in another terminal:
  bin/twinning sign-in --address %s --name admin
  bin/twinning lane show hq-dome-booking
  bin/twinning twin list hq-dome-booking --state contested

dome-booking, the simulated application, is at %s (see /standin/effects there).
Ctrl-C stops everything.
`, url, strings.TrimSpace(strings.ReplaceAll(string(password), "\n", "   ")), url, address)
	})
}

func demoApplication(ctx context.Context, dir string) (*scimapp.App, string, error) {
	app, err := scimapp.New(filepath.Join(dir, "dome-booking.json"), demoToken)
	if err != nil {
		return nil, "", err
	}
	app.Misbehave(scimapp.Misbehaviour{TitleLimit: demo.TitleLimit})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, "", err
	}
	server := &http.Server{Handler: app, ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(l) // ends with the context
	go func() {
		<-ctx.Done()
		_ = server.Close()
	}()
	return app, "http://" + l.Addr().String(), nil
}

// director plays the story up to where the visitor takes over.
type director struct {
	*App
	ctx         context.Context
	who         access.Caller
	application *scimapp.App
}

func (d *director) play(dir, address string) error {
	world := demo.FirstDay()
	for _, u := range world.Users {
		d.application.Put(u)
	}
	steps := []func() error{
		func() error { return d.export(dir, world, false) },
		func() error {
			hq := store.System{Name: "hq", Kind: "file", Shape: demo.HQShape}
			hq.Settings.V = map[string]string{"path": filepath.Join(dir, "hq.csv")}
			_, err := d.Service.PutSystem(d.ctx, d.who, hq, nil, 0)
			return err
		},
		func() error { return d.connectApplication(address) },
		func() error { _, err := d.Service.SetWriting(d.ctx, d.who, "dome-booking", true); return err },
		func() error { return d.read("hq", "dome-booking") },
		func() error { return d.charter("hq-dome-booking", demo.DomeBooking) },
		func() error { return d.charter("hq-dome-admins", demo.DomeAdmins) },
		// the pilot group, twice: the second run shows what the application does not keep
		func() error { return d.pilot() },
		func() error { return d.read("dome-booking") },
		func() error { return d.pilot() },
		// the second day
		func() error { world.SecondDay(); return d.export(dir, world, true) },
		func() error { return d.behind() },
		func() error { return d.claimTwice() },
		func() error { return d.read("hq", "dome-booking") },
		func() error { return d.task(d.Service.Reconcile(d.ctx, d.who, "hq-dome-admins")) },
		func() error { return d.task(d.Service.Reconcile(d.ctx, d.who, "hq-dome-booking")) },
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

func (d *director) export(dir string, w *demo.World, broken bool) error {
	return os.WriteFile(filepath.Join(dir, "hq.csv"), []byte(w.CSV(broken)), 0o600)
}

func (d *director) connectApplication(address string) error {
	secret := demoToken
	x := store.System{Name: "dome-booking", Kind: "scim"}
	x.Settings.V = map[string]string{"url": address + "/scim/v2"}
	_, err := d.Service.PutSystem(d.ctx, d.who, x, &secret, 0)
	return err
}

// reconnect tells a kept demo where the application is now.
func (d *director) reconnect(address string) error { return d.connectApplication(address) }

func (d *director) read(systems ...string) error {
	for _, s := range systems {
		if err := d.task(d.Service.TakeRoster(d.ctx, d.who, s, nil)); err != nil {
			return err
		}
	}
	return nil
}

func (d *director) charter(lane, source string) error {
	_, err := d.Service.PutCharter(d.ctx, d.who, lane, source, -1)
	return err
}

// task carries queued work out here and now.
func (d *director) task(t store.Task, err error) error {
	if err != nil {
		return err
	}
	for {
		did, err := d.Service.Perform(d.ctx)
		if err != nil {
			return err
		}
		if !did {
			break
		}
	}
	t, err = d.Service.Task(d.ctx, t.ID)
	if err == nil && t.State != "finished" {
		err = errors.New(t.Name + ": " + t.State + ": " + t.Message)
	}
	return err
}

func (d *director) pilot() error {
	if err := d.task(d.Service.Reconcile(d.ctx, d.who, "hq-dome-booking")); err != nil {
		return err
	}
	p, err := d.Service.Draft(d.ctx, d.who, "hq-dome-booking", nil, []string{"pilot"})
	if err != nil {
		return err
	}
	if p, err = d.Service.Seal(d.ctx, d.who, p.ID, p.Hash, ""); err != nil {
		return err
	}
	r, err := d.Service.StartRun(d.ctx, d.who, p.ID, p.Hash, "")
	if err != nil {
		return err
	}
	return d.task(d.Service.Task(d.ctx, r.Task))
}

func (d *director) behind() error {
	var users []demo.User
	for _, u := range d.application.Users() {
		users = append(users, u)
	}
	put, remove := demo.Behind(users)
	for _, u := range put {
		d.application.Put(u)
	}
	for _, id := range remove {
		d.application.Remove(id)
	}
	return nil
}

// claimTwice lets both lanes rule on one account, as two engineers who did not
// talk to each other might.
func (d *director) claimTwice() error {
	for _, lane := range []string{"hq-dome-booking", "hq-dome-admins"} {
		if _, err := d.Service.Rule(d.ctx, d.who, lane, store.Ruling{Kind: "same", Person: "L0942", Account: "u90942", Reason: "Nerea's account"}); err != nil {
			return err
		}
	}
	return nil
}
