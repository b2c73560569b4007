package ldapdir_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
	"twinning/internal/connector/connectortest"
	"twinning/internal/connector/ldapdir"
	"twinning/internal/core/record"
	"twinning/internal/standin/directory"
)

const suffix = "dc=larkspur,dc=example"

// tree has two branches of people and some groups.
func tree(people int) string {
	var b strings.Builder
	for _, ou := range []string{"people", "former", "groups", "secret"} {
		fmt.Fprintf(&b, "dn: ou=%[1]s,%[2]s\nobjectClass: organizationalUnit\nou: %[1]s\n\n", ou, suffix)
	}
	fmt.Fprintf(&b, "dn: cn=nobody,%s\nobjectClass: organizationalRole\ncn: nobody\n\n", suffix)
	for i := range people {
		fmt.Fprintf(&b, "dn: uid=p%05d,ou=people,%[2]s\nobjectClass: inetOrgPerson\nuid: p%05[1]d\ncn: Person %[1]d\nsn: Person\ngivenName: No. %[1]d\nmail: p%05[1]d@larkspur.example\nemployeeNumber: %[1]d\nuserPassword: never-shown\n\n", i, suffix)
	}
	fmt.Fprintf(&b, "dn: cn=observers,ou=groups,%[1]s\nobjectClass: groupOfNames\ncn: observers\nmember: cn=nobody,%[1]s\n\n", suffix)
	return b.String()
}

func serve(t *testing.T, cfg directory.Config, ldif string) *directory.Server {
	t.Helper()
	cfg.Dir = t.TempDir()
	s, err := directory.Start(context.Background(), cfg, ldif)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Stop()) })
	return s
}

// connect makes a connector; settings come in pairs.
func connect(t *testing.T, s *directory.Server, pairs ...string) connector.Connector {
	t.Helper()
	settings := map[string]string{"url": s.URL, "ca-file": s.CAFile, "bind": s.Admin(), "base": "ou=people," + suffix, "group-base": "ou=groups," + suffix, "group-must-have": "cn=nobody," + suffix, "page": "2"}
	for i := 0; i < len(pairs); i += 2 {
		settings[pairs[i]] = pairs[i+1]
	}
	c, err := ldapdir.New(connector.Config{Settings: settings, Secret: directory.Secret})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.(connector.Closer).Close() })
	return c
}

func edit(native string, values ...string) connector.Edit {
	return connector.Edit{Native: native, New: values}
}

// The same promises hold over StartTLS and LDAPS, with and without the
// server's help with references, following stamps or the synchronisation.
func TestBehaviour(t *testing.T) {
	for name, v := range map[string]struct {
		server   directory.Config
		settings func(*directory.Server) []string
	}{
		"StartTLS, synchronisation": {directory.Config{SessionLog: 1000}, func(*directory.Server) []string { return nil }},
		"LDAPS, EXTERNAL, stamps, no overlays": {directory.Config{Plain: true}, func(s *directory.Server) []string {
			cert, key := s.ClientFiles()
			return []string{"url", s.Secure, "auth", "external", "client-cert", cert, "client-key", key, "changes", "stamp", "page", "0"}
		}},
		"reverse membership": {directory.Config{}, func(*directory.Server) []string { return []string{"membership", "reverse", "changes", "stamp"} }},
	} {
		t.Run(name, func(t *testing.T) {
			s := serve(t, v.server, tree(5))
			spoiled := ""
			connectortest.Run(t, connectortest.Subject{
				Count: 5,
				New: func(t *testing.T) connector.Connector {
					settings := append(v.settings(s), "create-in", "ou=people,"+suffix, "base", suffix)
					if spoiled != "" {
						settings = append(settings, strings.Fields(spoiled)...)
					}
					return connect(t, s, settings...)
				},
				Spoil: map[string]func(t *testing.T){
					"it may give two entries": func(t *testing.T) { spoiled = "size-limit 2 page 0"; t.Cleanup(func() { spoiled = "" }) },
					"it is down":              func(t *testing.T) { spoiled = "url ldap://127.0.0.1:1"; t.Cleanup(func() { spoiled = "" }) },
				},
				Create: []connector.Edit{edit("uid", "nkester"), edit("cn", "Nova Kester"), edit("sn", "Kester"), edit("givenName", "Nova"), edit("mail", "nova@larkspur.example"), edit("title", "Cook")},
				Change: edit("title", "Head cook"),
				Rename: edit("uid", "Nova, K.+#"), Place: edit("parent", "ou=former,"+suffix),
				Group: "cn=observers,ou=groups," + suffix,
			})
		})
	}
}

// A rename leaves no reference to the old name behind, whether the server
// mends them or not; deleting takes them away.
func TestReferences(t *testing.T) {
	for _, plain := range []bool{false, true} {
		s := serve(t, directory.Config{Plain: plain}, tree(4))
		c := connect(t, s)
		ctx := context.Background()
		group := "cn=observers,ou=groups," + suffix
		find := func(uid string) connector.Record {
			list, err := c.Find(ctx, "uid", uid)
			require.NoError(t, err)
			require.Len(t, list, 1, uid)
			return list[0]
		}
		boss, cook := find("p00000"), find("p00001")
		_, err := c.Write(ctx, connector.Write{Record: &cook, Edits: []connector.Edit{edit("manager", boss.Values["dn"]...)}})
		require.NoError(t, err)
		require.Equal(t, boss.Values["dn"], find("p00001").Values["manager"])
		// a server that checks uniqueness lets our assertion loose on its own search
		cook = find("p00001")
		_, err = c.Write(ctx, connector.Write{Record: &cook, Edits: []connector.Edit{edit("mail", "chef@larkspur.example")}})
		require.NoError(t, err)
		_, err = c.Write(ctx, connector.Write{Record: &cook, Edits: []connector.Edit{{Native: "mail", Old: []string{"nobody@larkspur.example"}, New: []string{"cook@larkspur.example"}}}})
		require.Equal(t, connector.Stale, connector.KindOf(err), "%v", err)
		g := c.(connector.Grouper)
		require.NoError(t, g.Enrol(ctx, group, []string{boss.ID, cook.ID}, nil))
		boss, err = c.Write(ctx, connector.Write{Record: &boss, Edits: []connector.Edit{edit("uid", "chief"), edit("title", "Director")}})
		require.NoError(t, err)
		require.Equal(t, []string{"uid=chief,ou=people," + suffix}, boss.Values["dn"])
		require.Equal(t, []string{"Director"}, boss.Values["title"])
		require.Equal(t, boss.Values["dn"], find("p00001").Values["manager"])
		members := func() (ids []string) {
			require.NoError(t, g.Members(ctx, group, func(id string) error { ids = append(ids, id); return nil }, func(connector.Left) error { return nil }))
			return ids
		}
		require.ElementsMatch(t, []string{boss.ID, cook.ID}, members())
		require.NoError(t, c.(connector.Deleter).Delete(ctx, boss))
		require.Equal(t, []string{cook.ID}, members())
		require.NotContains(t, find("p00001").Values["manager"], boss.Values["dn"][0])
	}
}

// What a directory may do to a reader, and what is said about it.
func TestTroubleInWords(t *testing.T) {
	hidden := directory.Config{Access: []string{`to dn.subtree="ou=secret,` + suffix + `" filter=(objectClass=person) by dn.base="cn=admin,` + suffix + `" read by * none`, `to dn.children="ou=former,` + suffix + `" attrs=entryUUID by * none`}}
	s := serve(t, hidden, tree(3)+fmt.Sprintf("dn: uid=x,ou=secret,%[1]s\nobjectClass: inetOrgPerson\nuid: x\ncn: X\nsn: X\n\ndn: uid=y,ou=former,%[1]s\nobjectClass: inetOrgPerson\nuid: y\ncn: Y\nsn: Y\n\ndn: ou=elsewhere,%[1]s\nobjectClass: referral\nobjectClass: extensibleObject\nou: elsewhere\nref: ldap://other.larkspur.example/ou=elsewhere,%[1]s\n\n", suffix))
	expired := serve(t, directory.Config{Expired: true}, tree(1))
	for name, x := range map[string]struct {
		settings []string
		secret   string
		kind     connector.Kind
		words    string
	}{
		"wrong secret":    {nil, "wrong", connector.Denied, "does not accept the DN"},
		"no secret":       {nil, "", connector.Denied, "would be anonymous"},
		"wrong name":      {[]string{"url", "ldaps://directory.larkspur.invalid"}, directory.Secret, connector.Unreachable, "is not known here"},
		"wrong port":      {[]string{"url", "ldap://127.0.0.1:1"}, directory.Secret, connector.Unreachable, "nothing listens on port 1"},
		"no TLS there":    {[]string{"url", strings.Replace(s.URL, "ldap:", "ldaps:", 1), "timeout", "3"}, directory.Secret, connector.Unreachable, ""},
		"unknown CA":      {[]string{"ca-file", ""}, directory.Secret, connector.Unreachable, "name it in the setting ca-file"},
		"other name":      {[]string{"server-name", "other.example"}, directory.Secret, connector.Unreachable, "for other names, not for"},
		"expired":         {[]string{"url", expired.Secure, "ca-file", expired.CAFile}, directory.Secret, connector.Unreachable, "ask its team to renew the certificate"},
		"no base":         {[]string{"base", "ou=nowhere," + suffix}, directory.Secret, connector.NotFound, "does not exist, or is hidden from"},
		"referral":        {[]string{"base", suffix}, directory.Secret, connector.Refused, "lives in another server: ldap://other.larkspur.example"},
		"link-local":      {[]string{"url", "ldap://169.254.169.254"}, directory.Secret, connector.Unreachable, "metadata addresses are refused"},
		"stopped halfway": {[]string{"size-limit", "2", "page", "0"}, directory.Secret, connector.Refused, "a partial list is never used"},
	} {
		t.Run(name, func(t *testing.T) {
			settings := map[string]string{"url": s.URL, "ca-file": s.CAFile, "bind": s.Reader(), "base": "ou=people," + suffix}
			for i := 0; i < len(x.settings); i += 2 {
				settings[x.settings[i]] = x.settings[i+1]
			}
			c, err := ldapdir.New(connector.Config{Settings: settings, Secret: x.secret})
			require.NoError(t, err)
			_, err = c.Read(context.Background(), connector.Reading{}, &connectortest.Kept{})
			require.Equal(t, x.kind, connector.KindOf(err), "%v", err)
			require.ErrorContains(t, err, x.words)
			require.NotContains(t, err.Error(), directory.Secret)
			steps := connector.Probe(context.Background(), c)
			if name != "referral" && name != "stopped halfway" { // a probe reads one entry only
				require.Equal(t, connector.StepFailed, steps[len(steps)-1].State, "%+v", steps)
				require.NotEmpty(t, steps[len(steps)-1].Next)
				var told *connector.Error
				require.ErrorAs(t, err, &told)
				require.Equal(t, steps[len(steps)-1].Said, told.Reason, "a reading fails in the words of the probe")
			}
		})
	}
	read := connectortest.Read(t, connect(t, s, "bind", s.Reader(), "base", suffix, "referrals", "leave-out"))
	require.Len(t, read.Records, 3)
	require.Len(t, read.Rejected, 1)
	require.Contains(t, read.Rejected[0].Reason, "uid=y,ou=former")
	require.Contains(t, read.Rejected[0].Reason, "hidden from cn=reader")
	require.ElementsMatch(t, []connector.Left{
		{Kind: record.Elsewhere, Reason: "lives in another server", What: "ldap://other.larkspur.example/ou=elsewhere," + suffix + "??sub"},
		{Kind: record.Hidden, Reason: "says it has entries below, and shows none: hidden by access rules?", What: "ou=secret," + suffix},
	}, read.Left)
}

// Settings that can't work are refused before anything is sent.
func TestSettings(t *testing.T) {
	good := map[string]string{"url": "ldaps://d.example", "bind": "cn=x", "base": "dc=x"}
	for _, bad := range []string{"url=http://x", "url=ldap://u:p@x", "base=", "base=people", "bind=", "filter=(uid=", "scope=tree", "page=many", "timeout=0", "start-tls=maybe", "auth=ntlm", "baze=x", "client-cert=a", "ca-file=/no/such"} {
		name, value, _ := strings.Cut(bad, "=")
		settings := map[string]string{}
		for k, v := range good {
			settings[k] = v
		}
		settings[name] = value
		_, err := ldapdir.New(connector.Config{Settings: settings})
		require.ErrorContains(t, err, "setting", bad)
	}
}

// Native forms come in and go out by the shape: a guid, flags, epochs, words.
func TestCodingsByShape(t *testing.T) {
	schema := `attributetype ( 1.3.6.1.4.1.4203.666.1.901 NAME 'badgeGuid' EQUALITY octetStringMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.40 SINGLE-VALUE )
attributetype ( 1.3.6.1.4.1.4203.666.1.902 NAME 'badgeFlags' EQUALITY integerMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.27 SINGLE-VALUE )
attributetype ( 1.3.6.1.4.1.4203.666.1.903 NAME 'badgeUntil' EQUALITY integerMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.27 SINGLE-VALUE )
objectclass ( 1.3.6.1.4.1.4203.666.1.904 NAME 'badge' SUP top AUXILIARY MUST badgeGuid MAY ( badgeFlags $ badgeUntil ) )`
	s := serve(t, directory.Config{Schema: schema}, tree(0))
	shape, err := record.ParseShape([]byte(`shape:
  id: {from: badgeGuid, coding: guid}
  userName: uid
  cn: cn
  familyName: sn
  active: {from: badgeFlags, bit: 2, means: false}
  endsOn: {from: badgeUntil, date: filetime}
classes: [inetOrgPerson, badge]
`))
	require.NoError(t, err)
	c, err := ldapdir.New(connector.Config{Settings: map[string]string{"url": s.URL, "ca-file": s.CAFile, "bind": s.Admin(), "base": "ou=people," + suffix}, Secret: directory.Secret, Shape: shape})
	require.NoError(t, err)
	ctx := context.Background()
	_, err = c.Write(ctx, connector.Write{Edits: []connector.Edit{edit("uid", "ana"), edit("cn", "Ana")}})
	require.ErrorContains(t, err, "the classes inetOrgPerson, badge require sn, badgeGuid")
	guid := "3f2504e0-4f89-11d3-9a0c-0305e82c3301"
	r, err := c.Write(ctx, connector.Write{Edits: []connector.Edit{edit("uid", "ana"), edit("cn", "Ana"), edit("sn", "Soto"), edit("badgeGuid", guid), edit("badgeFlags", "514"), edit("badgeUntil", "134270784000000000")}})
	require.NoError(t, err)
	require.Equal(t, guid, r.ID)
	r, err = c.One(ctx, guid)
	require.NoError(t, err)
	reader := shape.NewReader([]string{"active", "endsOn"})
	cells := make([]string, 2)
	require.NoError(t, reader.Row(r.Values, cells))
	require.Equal(t, []string{"false", "2026-06-28"}, cells)
	flags, err := shape.Attributes["active"].Encode(record.Bool, []string{"true"}, r.Values["badgeFlags"], nil)
	require.NoError(t, err)
	r, err = c.Write(ctx, connector.Write{Record: &r, Edits: []connector.Edit{{Native: "badgeFlags", New: flags}}})
	require.NoError(t, err)
	require.Equal(t, []string{"512"}, r.Values["badgeFlags"])
}

// Twenty thousand entries, and a group of them all: whole, in pages, and
// halted when somebody says so.
func TestLarge(t *testing.T) {
	const n = 20000
	s := serve(t, directory.Config{Plain: true}, tree(n))
	c := connect(t, s, "page", "500")
	k := connectortest.Read(t, c)
	require.Len(t, k.Records, n)
	ids := k.IDs()
	group := "cn=observers,ou=groups," + suffix
	g := c.(connector.Grouper)
	ctx := context.Background()
	require.NoError(t, g.Enrol(ctx, group, ids[:3000], nil))
	require.NoError(t, g.Enrol(ctx, group, ids[2990:3010], ids[:5]))
	members := map[string]bool{}
	require.NoError(t, g.Members(ctx, group, func(id string) error { members[id] = true; return nil }, func(connector.Left) error { return nil }))
	require.Len(t, members, 3005)
	require.False(t, members[ids[4]])
	require.True(t, members[ids[3009]])

	halted, cancel := context.WithCancel(ctx)
	stop := &stopper{after: 700, cancel: cancel}
	_, err := c.Read(halted, connector.Reading{}, stop)
	require.ErrorIs(t, err, context.Canceled)
	require.Less(t, len(stop.Records), n)
	require.Len(t, connectortest.Read(t, c).Records, n, "the connector is good for another reading")
}

// stopper cancels a reading after so many records.
type stopper struct {
	connectortest.Kept
	after  int
	cancel func()
}

func (s *stopper) Record(r connector.Record) error {
	if len(s.Records) == s.after {
		s.cancel()
	}
	return s.Kept.Record(r)
}

// cutter stands between us and a server, and cuts a connection when it is told to.
type cutter struct {
	net.Listener
	mu    sync.Mutex
	conns []net.Conn
}

func newCutter(t *testing.T, to string) *cutter {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	x := &cutter{Listener: l}
	t.Cleanup(func() { _ = l.Close(); x.cut() })
	go func() {
		for {
			here, err := l.Accept()
			if err != nil {
				return
			}
			there, err := net.Dial("tcp", to)
			if err != nil {
				_ = here.Close()
				return
			}
			x.mu.Lock()
			x.conns = append(x.conns, here, there)
			x.mu.Unlock()
			go func() { _, _ = io.Copy(here, there); _ = here.Close() }()
			go func() { _, _ = io.Copy(there, here); _ = there.Close() }()
		}
	}()
	return x
}

func (x *cutter) cut() {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, c := range x.conns {
		_ = c.Close()
	}
	x.conns = nil
}

// counting is a sink that does something at a record.
type counting struct {
	connector.Sink
	ids    map[string]bool
	at     int
	then   func()
	anew   int
	counts int
}

func (c *counting) Expect(int) {}
func (c *counting) Record(r connector.Record) error {
	c.ids[r.ID] = true
	if c.counts++; c.counts == c.at {
		c.then()
	}
	return nil
}
func (c *counting) Restart() error {
	c.anew++
	c.ids = map[string]bool{}
	return nil
}
func (c *counting) Reject(record.Rejection) error { return nil }
func (c *counting) LeftOut(connector.Left) error  { return nil }
func (c *counting) Gone(string) error             { return nil }

// A roster survives a cut, and pages that are too large; what was given before is
// begun anew, so that nothing is there twice and nothing is missing.
func TestReadingSurvives(t *testing.T) {
	s := serve(t, directory.Config{Limits: []string{"limits dn.exact=\"cn=reader,dc=larkspur,dc=example\" size.pr=30 size.prtotal=unlimited"}}, tree(120))
	host := strings.TrimPrefix(s.URL, "ldap://")
	for name, c := range map[string]struct {
		at       int
		settings []string
		anew     int
	}{
		"one cut":                  {40, []string{"page", "25", "changes", "stamp"}, 1},
		"cut in a synchronisation": {1, []string{"page", "25"}, -1}, // the rest may have come already
		"pages that are too large": {0, []string{"page", "100", "changes", "stamp", "bind", s.Reader()}, 2},
	} {
		x := newCutter(t, host)
		sink := &counting{ids: map[string]bool{}, at: c.at, then: x.cut}
		dir := connect(t, s, append([]string{"url", "ldap://" + x.Addr().String(), "server-name", "localhost"}, c.settings...)...)
		_, err := dir.Read(context.Background(), connector.Reading{}, sink)
		require.NoError(t, err, name)
		require.Len(t, sink.ids, 120, name)
		if c.anew >= 0 {
			require.Equal(t, c.anew, sink.anew, name)
		}
	}
}

// References by DN are understood however the directory writes them.
func TestOddReferences(t *testing.T) {
	people := `dn: cn=Soto\, Ana+uid=ana,ou=people,` + suffix + "\nobjectClass: inetOrgPerson\nuid: ana\ncn: Soto, Ana\nsn: Soto\n\n"
	for i, boss := range []string{`CN=Soto\2C Ana+UID=ana,OU=people,DC=larkspur,DC=example`, `uid=ana + cn=Soto\, Ana, ou=People, dc=larkspur, dc=example`, `cn=\53oto\2C Ana+uid=ANA,ou=people,` + suffix} {
		people += fmt.Sprintf("dn: uid=w%[1]d,ou=people,%[2]s\nobjectClass: inetOrgPerson\nuid: w%[1]d\ncn: W\nsn: W\nmanager: %[3]s\n\n", i, suffix, boss)
	}
	s := serve(t, directory.Config{}, tree(0)+people)
	load := ldapdir.Shape.NewLoader([]string{"userName", "manager"})
	for _, r := range connectortest.Read(t, connect(t, s)).Records {
		require.NoError(t, load.AddNative(0, r.Values))
	}
	roster, err := load.Roster()
	require.NoError(t, err)
	require.Empty(t, roster.Broken())
	boss := ""
	for i := range roster.Len() {
		if roster.Column("userName").Cell(i) == "ana" {
			boss = roster.ID(i)
		}
	}
	for i := range roster.Len() {
		if roster.ID(i) != boss {
			require.Equal(t, boss, roster.Column("manager").Cell(i))
		}
	}
	require.Equal(t, 4, roster.Len())
}

// An entry that was moved is not told as refused because something else may not be
// changed; and what an interrupted rename left is mended.
func TestRenameIsDone(t *testing.T) {
	ctx := context.Background()
	s := serve(t, directory.Config{Plain: true, Access: []string{
		`to dn.subtree="ou=groups,dc=larkspur,dc=example" by dn.exact="cn=reader,dc=larkspur,dc=example" read by * read`,
		`to dn.subtree="ou=people,dc=larkspur,dc=example" by dn.exact="cn=reader,dc=larkspur,dc=example" write by * read`,
		`to dn.base="dc=larkspur,dc=example" by dn.exact="cn=reader,dc=larkspur,dc=example" read by * read`,
	}}, tree(3))
	all, some := connect(t, s), connect(t, s, "bind", s.Reader())
	group := "cn=observers,ou=groups," + suffix
	one := func(uid string) connector.Record {
		list, err := all.Find(ctx, "uid", uid)
		require.NoError(t, err)
		require.Len(t, list, 1, uid)
		return list[0]
	}
	was := one("p00000")
	require.NoError(t, all.(connector.Grouper).Enrol(ctx, group, []string{was.ID}, nil))
	now, err := some.Write(ctx, connector.Write{Record: &was, Edits: []connector.Edit{edit("uid", "chief")}})
	require.Equal(t, connector.Incomplete, connector.KindOf(err), "%v", err)
	require.ErrorContains(t, err, "member of "+group)
	require.Equal(t, []string{"uid=chief,ou=people," + suffix}, now.Values["dn"])
	members := func() (ids []string) {
		require.NoError(t, all.(connector.Grouper).Members(ctx, group, func(id string) error { ids = append(ids, id); return nil }, func(connector.Left) error { return nil }))
		return ids
	}
	require.Empty(t, members(), "the old name is dangling")
	require.NoError(t, all.(connector.Mender).Mend(ctx, was, now))
	require.NoError(t, all.(connector.Mender).Mend(ctx, was, now), "once more does nothing")
	require.Equal(t, []string{was.ID}, members())
}

// What several wrote at once is read at once: a synchronisation gives no entry that is
// newer than what its server holds to be settled, and may go on leaving it out for as
// long as nobody writes anything else.
func TestNewestEntriesAreRead(t *testing.T) {
	s := serve(t, directory.Config{SessionLog: 1000}, tree(3))
	dir, ctx := connect(t, s, "page", "500"), context.Background()
	read := func(what connector.Reading) (map[string]bool, string) {
		sink := &counting{ids: map[string]bool{}}
		cursor, err := dir.Read(ctx, what, sink)
		require.NoError(t, err)
		require.Len(t, sink.ids, sink.counts, "an entry is handed over once")
		return sink.ids, cursor
	}
	_, cursor := read(connector.Reading{})
	for burst := range 50 {
		var writers sync.WaitGroup
		made := make([]string, 16)
		for i := range made {
			writers.Go(func() {
				login := fmt.Sprintf("n%d-%d", burst, i)
				if r, err := dir.Write(ctx, connector.Write{Edits: []connector.Edit{edit("uid", login), edit("cn", login), edit("sn", login)}}); err == nil {
					made[i] = r.ID
				}
			})
		}
		writers.Wait()
		whole, _ := read(connector.Reading{})
		changes, next := read(connector.Reading{Extent: connector.Changes, Cursor: cursor})
		cursor = next
		for _, id := range made {
			require.NotEmpty(t, id)
			require.True(t, whole[id], "burst %d", burst)
			require.True(t, changes[id], "burst %d", burst)
		}
	}
}
