package app

import (
	"context"
	"errors"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"time"

	"twinning/demo"
	"twinning/internal/access"
	"twinning/internal/connector"
	"twinning/internal/connector/ldapdir"
	"twinning/internal/core/record"
	"twinning/internal/service"
	"twinning/internal/standin/certs"
	"twinning/internal/standin/directory"
	"twinning/internal/standin/mailbox"
	"twinning/internal/standin/mailgate"
	"twinning/internal/standin/scimapp"
	"twinning/internal/store"
)

// director plays the story up to where the visitor takes over.
type director struct {
	*App
	*Outside
	ctx  context.Context
	who  access.Caller
	dir  string // of the outside systems
	mail *mailbox.Server
}

// demoToken is what the applications want from whoever speaks SCIM to them.
const demoToken = "larkspur-applications"

// start starts what the demo is connected to, as it is on the first day.
func (d *director) start(dir string) (o *Outside, err error) {
	o = &Outside{Mail: d.mail}
	d.Outside, d.dir = o, dir
	defer func() {
		if err != nil {
			d.Outside.stop() // o is nil by then
		}
	}()
	world := demo.FirstDay()
	if o.HQ, err = directory.Start(d.ctx, directory.Config{Dir: filepath.Join(dir, "hq"), Suffix: demo.HQSuffix, Schema: demo.HQSchema, SessionLog: 1000}, world.LDIF()); err != nil {
		return nil, err
	}
	if o.Candlewick, err = directory.Start(d.ctx, directory.Config{Dir: filepath.Join(dir, "candlewick"), Suffix: demo.CandlewickSuffix, Schema: demo.CandlewickSchema}, demo.Candlewick(world)); err != nil {
		return nil, err
	}
	if o.DomeBooking, o.domeBooking, err = application(d.ctx, filepath.Join(dir, "dome-booking.json"), world.Users); err != nil {
		return nil, err
	}
	if o.domeSecure, err = secured(d.ctx, filepath.Join(dir, "dome-booking"), o.DomeBooking); err != nil {
		return nil, err
	}
	o.DomeBooking.Misbehave(scimapp.Misbehaviour{TitleLimit: demo.TitleLimit})
	if o.NightLog, o.nightLog, err = application(d.ctx, filepath.Join(dir, "night-log.json"), demo.NightLog(world)); err != nil {
		return nil, err
	}
	o.NightLog.Misbehave(scimapp.Misbehaviour{Cursor: true, HideInactive: true})
	for name, members := range demo.NightLogGroups(world) {
		if len(o.NightLog.Members(name)) == 0 {
			o.NightLog.PutGroup(name, name, members...)
		}
	}
	files := filepath.Join(d.cfg.DataDir, "files", "mail-gate")
	o.MailGate = mailgate.Gate{List: filepath.Join(files, "list.csv"), Inbox: filepath.Join(files, "inbox")}
	if _, err := os.Stat(o.MailGate.List); err == nil {
		return o, nil
	}
	if err := os.MkdirAll(o.MailGate.Inbox, 0o700); err != nil {
		return nil, err
	}
	return o, os.WriteFile(o.MailGate.List, []byte(demo.MailGate(world)), 0o600)
}

func (o *Outside) stop() {
	if o.Mail != nil {
		_ = o.Mail.Stop() // it dies with us anyway
	}
	for _, s := range []*directory.Server{o.HQ, o.Candlewick} {
		if s != nil {
			_ = s.Stop() // it dies with us anyway
		}
	}
	for _, a := range []*scimapp.App{o.DomeBooking, o.NightLog} {
		if a != nil {
			a.Flush()
		}
	}
}

// application starts a simulated one; with users when it is new.
func application(ctx context.Context, state string, users []demo.User) (*scimapp.App, string, error) {
	a, err := scimapp.New(state, demoToken)
	if err != nil {
		return nil, "", err
	}
	if len(a.Users()) == 0 {
		for _, u := range users {
			a.Put(u)
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, "", err
	}
	server := &http.Server{Handler: a, ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(l) // ends with the context
	go func() {
		<-ctx.Done()
		_ = server.Close()
	}()
	return a, "http://" + l.Addr().String(), nil
}

// secured serves an application over TLS as well: secrets go no other way.
func secured(ctx context.Context, dir string, a http.Handler) (string, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	if err := certs.Make(dir, false); err != nil {
		return "", err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	server := &http.Server{Handler: a, ReadHeaderTimeout: 10 * time.Second, ErrorLog: log.New(io.Discard, "", 0)}
	go server.ServeTLS(l, filepath.Join(dir, "server.pem"), filepath.Join(dir, "server.key")) // ends with the context
	go func() {
		<-ctx.Done()
		_ = server.Close()
	}()
	return "https://" + l.Addr().String(), nil
}

func (d *director) play() error {
	dome := []string{"dome-booking"}
	steps := []func() error{
		d.connectAll,
		func() error { _, err := d.Service.SetWriting(d.ctx, d.who, "dome-booking", true, 0); return err },
		func() error { _, err := d.Service.SetWriting(d.ctx, d.who, "mail-gate", true, 0); return err },
		func() error { return d.read("hq", "dome-booking", "night-log", "mail-gate", "candlewick") },
		func() error { return d.charter("hq-dome-booking", demo.DomeBooking) },
		func() error { return d.charter("hq-dome-admins", demo.DomeAdmins) },
		func() error { return d.charter("hq-mail-gate", demo.MailGateLane) },
		func() error { return d.charter("hq-candlewick", demo.CandlewickLane) },
		func() error { return d.charter("hq-night-log", demo.NightLogLane) },
		func() error { return d.charter("candlewick-visitors", demo.VisitorsLane) },
		// the pilot group, twice: the second run shows what the application does not keep
		d.pilot,
		func() error { return d.read(dome...) },
		d.pilot,
		// the second day
		d.secondDay,
		d.behind,
		d.claimTwice,
		func() error { return d.read("hq", "dome-booking") },
		func() error { return d.task(d.Service.Reconcile(d.ctx, d.who, "hq-mail-gate", false)) },
		func() error { return d.task(d.Service.Reconcile(d.ctx, d.who, "hq-dome-admins", false)) },
		func() error { return d.task(d.Service.Reconcile(d.ctx, d.who, "hq-candlewick", false)) },
		func() error { return d.task(d.Service.Reconcile(d.ctx, d.who, "hq-night-log", false)) },
		func() error { return d.task(d.Service.Reconcile(d.ctx, d.who, "candlewick-visitors", false)) },
		func() error { return d.task(d.Service.Reconcile(d.ctx, d.who, "hq-dome-booking", false)) },
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// trust puts a CA's certificate where files of systems may be.
func (d *director) trust(name, caFile string) (string, error) {
	pem, err := os.ReadFile(caFile)
	if err != nil {
		return "", err
	}
	path := filepath.Join(d.cfg.DataDir, "files", name)
	return path, os.WriteFile(path, pem, 0o600)
}

// connectAll names every system, and tells a kept demo where it is now.
func (d *director) connectAll() error {
	bind, token := directory.Secret, demoToken
	hq, err := d.trust("hq-ca.pem", d.HQ.CAFile)
	if err != nil {
		return err
	}
	dome, err := d.trust("dome-ca.pem", filepath.Join(d.dir, "dome-booking", "ca.pem"))
	if err != nil {
		return err
	}
	candlewick, err := d.trust("candlewick-ca.pem", d.Candlewick.CAFile)
	if err != nil {
		return err
	}
	for _, x := range []struct {
		name, kind, shape string
		settings          map[string]string
		secret            *string
	}{
		{"hq", "ldap", demo.HQShape, map[string]string{"url": d.HQ.URL, "ca-file": hq, "bind": d.HQ.Reader(), "base": demo.HQPeople}, &bind},
		{"candlewick", "ldap", demo.CandlewickShape, map[string]string{"url": d.Candlewick.Secure, "ca-file": candlewick, "bind": d.Candlewick.Reader(), "base": demo.CandlewickSuffix, "page": "25"}, &bind},
		{"dome-booking", "scim", "", map[string]string{"url": d.domeSecure + "/scim/v2", "ca-file": dome}, &token},
		{"night-log", "scim", demo.NightLogShape, map[string]string{"url": d.nightLog + "/scim/v2"}, &token},
		{"mail-gate", "file", demo.MailGateShape, map[string]string{"path": d.MailGate.List, "out": d.MailGate.Inbox}, nil},
	} {
		system := store.System{Name: x.name, Kind: x.kind, Shape: x.shape}
		system.Settings.V = x.settings
		before, err := d.Service.System(d.ctx, x.name)
		wasOpen := err == nil && before.Writable
		after, err := d.Service.PutSystem(d.ctx, d.who, system, service.Putting{Secret: x.secret})
		if err != nil {
			return err
		}
		if wasOpen && !after.Writable { // of a kept demo: it is the same one, at another port
			if _, err := d.Service.SetWriting(d.ctx, d.who, x.name, true, 0); err != nil {
				return err
			}
		}
	}
	return nil
}

// secondDay changes the directory as the house does, with a right that
// Twinning does not have.
func (d *director) secondDay() error {
	shape, err := record.ParseShape([]byte(demo.HQShape))
	if err != nil {
		return err
	}
	c, err := ldapdir.New(connector.Config{Name: "hq", Shape: shape, Secret: directory.Secret,
		Settings: map[string]string{"url": d.HQ.URL, "ca-file": d.HQ.CAFile, "bind": d.HQ.Admin(), "base": demo.HQPeople}})
	if err != nil {
		return err
	}
	defer c.(connector.Closer).Close() // every write was answered
	before, after := demo.FirstDay(), demo.FirstDay()
	after.SecondDay()
	was, passed := map[string]string{}, map[string]bool{} // addresses that go on to somebody else on the second day
	for _, p := range before.People {
		was[p.No] = p.Mail
	}
	for _, p := range after.People {
		if p.Mail != was[p.No] {
			passed[p.Mail] = true
		}
	}
	for _, p := range before.People { // the directory lets no two entries have one
		if passed[p.Mail] {
			was, err := c.One(d.ctx, p.No)
			if err == nil {
				_, err = c.Write(d.ctx, connector.Write{Record: &was, Edits: []connector.Edit{{Native: "mail", Old: []string{p.Mail}}}})
			}
			if err != nil {
				return err
			}
		}
	}
	for _, p := range before.People {
		was, err := c.One(d.ctx, p.No)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(after.People, func(q demo.Person) bool { return q.No == p.No })
		if i < 0 {
			if err := c.(connector.Deleter).Delete(d.ctx, was); err != nil {
				return err
			}
			continue
		}
		old, now := p.Natives(), after.People[i].Natives()
		write := connector.Write{Record: &was}
		for native, v := range now {
			if old[native] == v {
				continue
			}
			edit := connector.Edit{Native: native, New: []string{v}}
			if old[native] != "" && !(native == "mail" && passed[p.Mail]) {
				edit.Old = []string{old[native]}
			}
			write.Edits = append(write.Edits, edit)
		}
		if len(write.Edits) == 0 {
			continue
		}
		if _, err := c.Write(d.ctx, write); err != nil {
			return err
		}
	}
	return nil
}

func (d *director) read(systems ...string) error {
	for _, s := range systems {
		if err := d.task(d.Service.TakeRoster(d.ctx, d.who, s, service.Taking{})); err != nil {
			return err
		}
	}
	return nil
}

func (d *director) charter(lane, source string) error {
	_, err := d.Service.PutCharter(d.ctx, d.who, lane, source, -1, "")
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
		err = errors.New(t.Name + ": " + string(t.State) + ": " + t.Message)
	}
	return err
}

func (d *director) pilot() error {
	if err := d.task(d.Service.Reconcile(d.ctx, d.who, "hq-dome-booking", false)); err != nil {
		return err
	}
	p, err := d.Service.Draft(d.ctx, d.who, "hq-dome-booking", service.Selection{Waves: []string{"pilot"}})
	if err != nil {
		return err
	}
	if p, err = d.Service.Seal(d.ctx, d.who, p.ID, p.Hash, ""); err != nil {
		return err
	}
	r, err := d.Service.StartRun(d.ctx, d.who, p.ID, p.Hash, service.RunOrder{})
	if err != nil {
		return err
	}
	return d.task(d.Service.Task(d.ctx, r.Task))
}

func (d *director) behind() error {
	var users []demo.User
	for _, u := range d.DomeBooking.Users() {
		users = append(users, u)
	}
	put, remove := demo.Behind(users)
	for _, u := range put {
		d.DomeBooking.Put(u)
	}
	for _, id := range remove {
		d.DomeBooking.Remove(id)
	}
	return nil
}

// claimTwice lets both lanes rule on one account, as two engineers who did not
// talk to each other might.
func (d *director) claimTwice() error {
	for _, lane := range []string{"hq-dome-booking", "hq-dome-admins"} {
		if _, err := d.Service.Rule(d.ctx, d.who, lane, store.Ruling{Kind: "same", Person: "L0942", Account: "u90942", Reason: "Nerea's account"}, ""); err != nil {
			return err
		}
	}
	return nil
}
