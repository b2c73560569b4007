package scim_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
	"twinning/internal/connector/connectortest"
	"twinning/internal/connector/scim"
	"twinning/internal/core/budget"
	"twinning/internal/core/record"
	"twinning/internal/standin/scimapp"
)

const token = "larkspur-token"

func edit(native string, values ...string) connector.Edit {
	return connector.Edit{Native: native, New: values}
}

var newcomer = []connector.Edit{edit("userName", "nkester"), edit("externalId", "L7"), edit("name.givenName", "Nova"), edit("name.familyName", "Kester"), edit("title", "Cook"), edit("emails.primary", "nova@l.example"), edit("emails.other", "n.kester@l.example"), edit("enterprise.department", "Kitchen"), edit("active", "true")}

// serve runs an application over TLS with three users.
func serve(t *testing.T) (*scimapp.App, *httptest.Server, map[string]string) {
	t.Helper()
	app, err := scimapp.New("", token)
	require.NoError(t, err)
	for _, id := range []string{"b", "a", "c"} {
		app.Put(map[string]any{"id": id, "userName": "user-" + id, "password": "never shown", "active": id != "c"})
	}
	app.PutGroup("g1", "Observers")
	server := httptest.NewUnstartedServer(app)
	server.Config.ErrorLog = log.New(io.Discard, "", 0) // probes hang up after the handshake
	server.StartTLS()
	t.Cleanup(server.Close)
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}), 0o600))
	return app, server, map[string]string{"url": server.URL + "/scim/v2/", "ca-file": ca, "page": "2"}
}

func connect(t *testing.T, settings map[string]string, pairs ...string) connector.Connector {
	t.Helper()
	settings = maps.Clone(settings)
	for i := 0; i < len(pairs); i += 2 {
		settings[pairs[i]] = pairs[i+1]
	}
	c, err := scim.New(connector.Config{Settings: settings, Secret: token})
	require.NoError(t, err)
	return c
}

// asked are the attributes that lists are asked for where one of them comes on request.
const asked = "userName,externalId,active,name,emails,title,urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department"

// The same promises hold for PATCH in every dialect and for PUT, by index and
// by cursor, with a token and with a client's secret.
func TestBehaviour(t *testing.T) {
	for name, v := range map[string]struct {
		is       scimapp.Misbehaviour
		settings []string
	}{
		"patch":                     {scimapp.Misbehaviour{}, nil},
		"put":                       {scimapp.Misbehaviour{NoPatch: true}, nil},
		"title case":                {scimapp.Misbehaviour{Wants: "title-case", NoDiscover: true}, nil},
		"no paths":                  {scimapp.Misbehaviour{Wants: "no-path", Silent: true}, []string{"dialect", "no-path"}},
		"put, and it does not say":  {scimapp.Misbehaviour{NoPatch: true, NoDiscover: true}, nil},
		"title on request":          {scimapp.Misbehaviour{OnRequest: "title"}, []string{"attributes", asked}},
		"title on request, by PUT":  {scimapp.Misbehaviour{OnRequest: "title", NoPatch: true}, []string{"attributes", asked}},
		"mark on request":           {scimapp.Misbehaviour{OnRequest: "externalId"}, []string{"attributes", asked}},
		"mark on request, by PUT":   {scimapp.Misbehaviour{OnRequest: "externalId", NoPatch: true, NoDiscover: true}, []string{"attributes", asked}},
		"members on request":        {scimapp.Misbehaviour{OnRequest: "members"}, nil},
		"members by address":        {scimapp.Misbehaviour{RefMembers: true}, nil},
		"members by address, PUT":   {scimapp.Misbehaviour{RefMembers: true, NoPatch: true}, nil},
		"behind a gateway":          {scimapp.Misbehaviour{RefMembers: true, Gateway: "https://inner.larkspur.example/scim"}, []string{"also-at", "https://inner.larkspur.example/scim"}},
		"ids that are JSON numbers": {scimapp.Misbehaviour{JSONNumbers: true}, nil},
		"the same, by PUT":          {scimapp.Misbehaviour{JSONNumbers: true, NoPatch: true}, nil},
		"cursor":                    {scimapp.Misbehaviour{Cursor: true}, nil},
		"another mind, PATCH alone": {scimapp.Another(http.MethodPatch), []string{"lag", "2", "page", "100"}},
		"another mind, PUT alone":   {scimapp.Another(http.MethodPut), []string{"lag", "2", "page", "100"}},
		"oauth":                     {scimapp.Misbehaviour{}, []string{"auth", "oauth", "client-id", "twinning"}},
	} {
		t.Run(name, func(t *testing.T) {
			app, server, settings := serve(t)
			app.Misbehave(v.is)
			spoil := func(change func(m *scimapp.Misbehaviour)) func(t *testing.T) {
				return func(t *testing.T) {
					m := v.is
					change(&m)
					app.Misbehave(m)
					t.Cleanup(func() { app.Misbehave(v.is) })
				}
			}
			x := connectortest.Subject{
				IDs: []string{"a", "b", "c"},
				New: func(t *testing.T) connector.Connector {
					return connect(t, settings, append(v.settings, "token-url", server.URL+"/standin/token")...)
				},
				Spoil: map[string]func(t *testing.T){
					"pages repeat":           spoil(func(m *scimapp.Misbehaviour) { m.RepeatPage = true }),
					"pages skip":             spoil(func(m *scimapp.Misbehaviour) { m.SkipUsers = true }),
					"the total is too large": spoil(func(m *scimapp.Misbehaviour) { m.TotalOff = 2 }),
					"the total is too small": spoil(func(m *scimapp.Misbehaviour) { m.TotalOff = -1 }),
					"the JSON is cut":        spoil(func(m *scimapp.Misbehaviour) { m.CutJSON = true }),
					"a sign-in page comes":   spoil(func(m *scimapp.Misbehaviour) { m.HTML = true }),
				},
				Create: newcomer, Change: edit("title", "Head cook"), Rename: edit("userName", "nova.kester"), Group: "g1",
			}
			switch name {
			case "cursor":
				x.Spoil["the cursor expires"] = spoil(func(m *scimapp.Misbehaviour) { m.OldCursor = true })
			case "patch":
				x.Spoil["the connection is cut"] = spoil(func(m *scimapp.Misbehaviour) { m.ResetPage = true })
			case "no paths":
				x.Group = "" // members are named by paths
			}
			connectortest.Run(t, x)
		})
	}
}

// A token that is no longer taken is asked for anew; one that is not given is
// told in words.
func TestTokens(t *testing.T) {
	app, server, settings := serve(t)
	c := connect(t, settings, "auth", "oauth", "client-id", "twinning", "token-url", server.URL+"/standin/token")
	require.Len(t, connectortest.Read(t, c).Records, 3)
	app.Revoke()
	app.Misbehave(scimapp.Misbehaviour{ThrottleEvery: 2, RetryDate: true}) // a reading waits as long as it is asked to
	require.Len(t, connectortest.Read(t, c).Records, 3)
	for words, pairs := range map[string][]string{"invalid_client": {"client-id", "stranger"}, "is token-url the address": {"token-url", server.URL + "/standin/effects"}} {
		c := connect(t, settings, append([]string{"auth", "oauth", "client-id", "twinning", "token-url", server.URL + "/standin/token"}, pairs...)...)
		_, err := c.Read(context.Background(), connector.Reading{}, &connectortest.Kept{})
		require.Equal(t, connector.Denied, connector.KindOf(err), "%v", err)
		require.ErrorContains(t, err, words)
	}
}

// Inactive users that a list leaves out are noticed, and read when asked for.
func TestInactive(t *testing.T) {
	app, _, settings := serve(t)
	app.Misbehave(scimapp.Misbehaviour{HideInactive: true})
	read := connectortest.Read(t, connect(t, settings, "page", "10"))
	require.Len(t, read.Records, 2)
	require.Equal(t, []connector.Left{{Kind: record.Hidden, Reason: "inactive users that the list leaves out: set inactive to asked", What: "1 users"}}, read.Left)
	read = connectortest.Read(t, connect(t, settings, "page", "10", "inactive", "asked"))
	require.Equal(t, []string{"a", "b", "c"}, read.IDs())
}

// Bulk tells of each write what became of it.
func TestBulk(t *testing.T) {
	app, _, settings := serve(t)
	c := connect(t, settings)
	ctx := context.Background()
	one, err := c.One(ctx, "a")
	require.NoError(t, err)
	stale := one
	stale.Version = `W/"99"`
	var writes []connector.Write
	for i := range 120 {
		writes = append(writes, connector.Write{Edits: []connector.Edit{edit("userName", fmt.Sprintf("bulk-%d", i)), edit("urn:larkspur:params:scim:schemas:2.0:Observer:dome", "North")}})
	}
	writes = append(writes, connector.Write{Record: &one, Edits: []connector.Edit{edit("title", "Cook")}}, connector.Write{Record: &stale, Edits: []connector.Edit{edit("title", "Driver")}}, writes[0])
	done, err := c.(connector.Bulker).WriteAll(ctx, writes)
	require.NoError(t, err)
	require.Len(t, done, 123)
	for i, w := range done[:121] {
		require.NoError(t, w.Err, i)
		require.NotEmpty(t, w.ID)
	}
	require.Equal(t, connector.Stale, connector.KindOf(done[121].Err))
	require.Equal(t, connector.Conflict, connector.KindOf(done[122].Err))
	require.Equal(t, 120, app.Effects().Creates)
	r, err := c.One(ctx, done[5].ID)
	require.NoError(t, err)
	require.Equal(t, []string{"North"}, r.Values["urn:larkspur:params:scim:schemas:2.0:Observer:dome"])
}

// Of what a bulk request that stops in the middle does not answer, nothing is known; the rest is as
// it says.
func TestBulkStopsInTheMiddle(t *testing.T) {
	app, _, settings := serve(t)
	app.Misbehave(scimapp.Misbehaviour{BulkStops: 7})
	var writes []connector.Write
	for i := range 60 { // two requests
		writes = append(writes, connector.Write{Edits: []connector.Edit{edit("userName", fmt.Sprintf("bulk-%d", i))}})
	}
	done, err := connect(t, settings).(connector.Bulker).WriteAll(context.Background(), writes)
	require.NoError(t, err)
	require.Len(t, done, len(writes))
	for i, w := range done {
		if i%50 < 7 {
			require.NoError(t, w.Err, i)
			require.NotEmpty(t, w.ID)
			continue
		}
		require.Equal(t, connector.Unanswered, connector.KindOf(w.Err), "%d: %v", i, w.Err)
		require.Empty(t, w.ID)
	}
	require.Equal(t, 14, app.Effects().Creates)
}

// A probe says at the first failure what it means and what to ask whom, warns
// of what is about to end, and tells no secret.
func TestProbe(t *testing.T) {
	app, server, settings := serve(t)
	jwt := func(d time.Duration) string {
		return "h." + base64.RawURLEncoding.EncodeToString([]byte(fmt.Sprintf(`{"exp":%d}`, time.Now().Add(d).Unix()))) + ".s"
	}
	app.Put(map[string]any{"id": "b", "userName": "user-b", "active": true, "title": "Cook", "externalId": "L2"})
	for name, x := range map[string]struct {
		secret string
		pairs  []string
		is     scimapp.Misbehaviour
		step   string
		state  string
		words  string
	}{
		"all well":                        {token, nil, scimapp.Misbehaviour{}, "writing", connector.StepOK, "tried only when a plan is run"},
		"wrong secret":                    {"wrong", nil, scimapp.Misbehaviour{}, "sign in", connector.StepFailed, "the secret is not accepted"},
		"wrong path":                      {token, []string{"url", server.URL + "/elsewhere"}, scimapp.Misbehaviour{}, "sign in", connector.StepFailed, "404"},
		"unknown CA":                      {token, []string{"ca-file", ""}, scimapp.Misbehaviour{}, "tls", connector.StepFailed, "ca-file"},
		"no such name":                    {token, []string{"url", "https://app.larkspur.invalid"}, scimapp.Misbehaviour{}, "name", connector.StepFailed, "network team"},
		"nobody there":                    {token, []string{"url", "https://127.0.0.1:1"}, scimapp.Misbehaviour{}, "connect", connector.StepFailed, "nothing listens"},
		"sign-in page":                    {token, nil, scimapp.Misbehaviour{HTML: true}, "sign in", connector.StepFailed, "a sign-in page or a proxy"},
		"clock":                           {token, nil, scimapp.Misbehaviour{ClockMinutes: 30}, "clock", connector.StepWarning, "30m0s apart"},
		"a title on request":              {token, nil, scimapp.Misbehaviour{OnRequest: "title"}, "on request", connector.StepWarning, "title come only to whoever asks for them"},
		"the setting that mends it":       {token, nil, scimapp.Misbehaviour{OnRequest: "title"}, "on request", connector.StepWarning, "set attributes to active,externalId,title,userName"},
		"a mark on request":               {token, nil, scimapp.Misbehaviour{OnRequest: "externalId"}, "on request", connector.StepWarning, "set attributes to active,externalId,title,userName"},
		"a mark that the setting forgets": {token, []string{"attributes", "userName,active,title"}, scimapp.Misbehaviour{OnRequest: "externalId"}, "on request", connector.StepWarning, "set attributes to active,externalId,title,userName"},
		"a mark that is asked for":        {token, []string{"attributes", "userName,active,externalId"}, scimapp.Misbehaviour{OnRequest: "externalId"}, "writing", connector.StepOK, "only when a plan is run"},
		"a gateway":                       {token, nil, scimapp.Misbehaviour{Gateway: "https://inner.larkspur.example/scim"}, "its own address", connector.StepWarning, "set also-at to https://inner.larkspur.example/scim"},
		"a gateway that is known":         {token, []string{"also-at", "https://inner.larkspur.example/scim"}, scimapp.Misbehaviour{Gateway: "https://inner.larkspur.example/scim"}, "writing", connector.StepOK, "only when a plan is run"},
		"says nothing":                    {token, nil, scimapp.Misbehaviour{NoDiscover: true}, "what it offers", connector.StepWarning, "does not say"},
		"token is over":                   {jwt(-time.Hour), nil, scimapp.Misbehaviour{}, "token", connector.StepFailed, "ask the application's owner for a new token"},
		"token ends":                      {jwt(72 * time.Hour), nil, scimapp.Misbehaviour{}, "token", connector.StepWarning, "ends in"},
	} {
		t.Run(name, func(t *testing.T) {
			app.Misbehave(x.is)
			all := maps.Clone(settings)
			for i := 0; i < len(x.pairs); i += 2 {
				all[x.pairs[i]] = x.pairs[i+1]
			}
			c, err := scim.New(connector.Config{Settings: all, Secret: x.secret})
			require.NoError(t, err)
			steps := connector.Probe(context.Background(), c)
			i := slices.IndexFunc(steps, func(s connector.Step) bool { return s.Name == x.step })
			require.GreaterOrEqual(t, i, 0, "%+v", steps)
			require.Equal(t, x.state, steps[i].State)
			text := fmt.Sprintf("%+v", steps)
			require.Contains(t, fmt.Sprintf("%+v", steps[i]), x.words)
			require.NotContains(t, text, x.secret)
			if x.state == connector.StepOK {
				require.NotContains(t, text, "on request")
				require.NotContains(t, text, "its own address")
			}
			if x.state == connector.StepFailed {
				require.Equal(t, len(steps)-1, i, "a probe stops at what fails")
				_, err := c.Read(context.Background(), connector.Reading{}, &connectortest.Kept{})
				var told *connector.Error
				require.ErrorAs(t, err, &told)
				require.Equal(t, steps[i].Said, told.Reason, "a reading fails in the words of the probe")
			}
		})
	}
}

// Setting a primary leaves one, keeps what else is known of the others, and
// PUT without an ETag is only done when the system's owner says so.
func TestAddresses(t *testing.T) {
	app, err := scimapp.New("", token)
	require.NoError(t, err)
	app.Put(map[string]any{"id": "a", "userName": "ana", "emails": []any{map[string]any{"value": "old@l.example", "type": "work", "primary": true}, map[string]any{"value": "home@l.example", "type": "home"}}})
	server := httptest.NewServer(app)
	t.Cleanup(server.Close)
	settings := map[string]string{"url": server.URL + "/scim/v2"}
	c, err := scim.New(connector.Config{Settings: settings, Secret: token})
	require.NoError(t, err)
	ctx := context.Background()
	r, err := c.One(ctx, "a")
	require.NoError(t, err)
	after, err := c.Write(ctx, connector.Write{Record: &r, Edits: []connector.Edit{edit("emails.primary", "new@l.example"), edit("emails.other", "home@l.example", "old@l.example")}})
	require.NoError(t, err)
	require.Equal(t, []string{"new@l.example"}, after.Values["emails.primary"])
	require.ElementsMatch(t, []string{"home@l.example", "old@l.example"}, after.Values["emails.other"])
	text, err := json.Marshal(app.Users()[0]["emails"])
	require.NoError(t, err)
	require.JSONEq(t, `[{"value":"new@l.example","type":"work","primary":true},{"value":"home@l.example","type":"home"},{"value":"old@l.example","type":"other"}]`, string(text))

	app.Misbehave(scimapp.Misbehaviour{NoETag: true})
	settings["method"] = "put"
	for blind, want := range map[string]connector.Kind{"": connector.Refused, "yes": connector.Broken} {
		settings["put-without-etag"] = blind
		c, err := scim.New(connector.Config{Settings: settings, Secret: token})
		require.NoError(t, err)
		r, err := c.One(ctx, "a")
		require.NoError(t, err)
		_, err = c.Write(ctx, connector.Write{Record: &r, Edits: []connector.Edit{edit("title", "Cook")}})
		if blind == "yes" {
			require.NoError(t, err)
			continue
		}
		require.Equal(t, want, connector.KindOf(err))
	}
}

// What goes wrong is told in words, and the secret is in none of them.
func TestErrorsInWords(t *testing.T) {
	answers := map[string]struct {
		status int
		body   string
		kind   connector.Kind
		words  string
	}{
		"wrong secret": {401, "", connector.Denied, "the secret is not accepted"},
		"no right":     {403, "", connector.Denied, "lacks the right"},
		"refused":      {400, `{"detail": "no such field"}`, connector.Refused, `"no such field"`},
		"taken":        {409, "", connector.Conflict, "in use"},
		"elsewhere":    {302, "", connector.Refused, "https://elsewhere.example"},
		"not scim":     {200, "<html>", connector.Broken, "not a SCIM list"},
	}
	for name, a := range answers {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Location", "https://elsewhere.example")
			w.WriteHeader(a.status)
			_, _ = w.Write([]byte(a.body))
		}))
		c, err := scim.New(connector.Config{Settings: map[string]string{"url": server.URL}, Secret: "very-secret"})
		require.NoError(t, err)
		_, err = c.Find(context.Background(), "userName", "x")
		require.Equal(t, a.kind, connector.KindOf(err), name)
		require.ErrorContains(t, err, a.words)
		require.NotContains(t, err.Error(), "very-secret")
		server.Close()
	}
	c, err := scim.New(connector.Config{Settings: map[string]string{"url": "http://127.0.0.1:1"}})
	require.NoError(t, err)
	_, err = c.Write(context.Background(), connector.Write{Edits: newcomer})
	require.Equal(t, connector.Unreachable, connector.KindOf(err), "nothing was sent")
	require.ErrorContains(t, err, "nothing listens")
	for _, bad := range []map[string]string{{"url": "ftp://x"}, {"url": "https://user:pw@x.example"}, {"url": "https://x.example", "page": "many"}, {"uri": "x"}} {
		_, err := scim.New(connector.Config{Settings: bad})
		require.Error(t, err, "%v", bad)
	}
}

// A group of fifty thousand is read whole, and changed by what differs: nobody
// else's membership goes over the wire.
func TestLargeGroup(t *testing.T) {
	app, _, settings := serve(t)
	const n = 50000
	ids := make([]string, n)
	for i := range ids {
		ids[i] = fmt.Sprintf("u%05d", i)
	}
	app.PutGroup("g1", "Observers", ids...)
	g := connect(t, settings).(connector.Grouper)
	ctx := context.Background()
	seen := map[string]bool{}
	require.NoError(t, g.Members(ctx, "g1", func(id string) error { seen[id] = true; return nil }, func(connector.Left) error { return nil }))
	require.Len(t, seen, n)
	require.NoError(t, g.Enrol(ctx, "g1", []string{"a", "b"}, []string{ids[0], ids[1], "nobody"}))
	after := app.Members("g1")
	require.Len(t, after, n)
	require.Contains(t, after, "a")
	require.NotContains(t, after, ids[0])
	for _, id := range append(slices.Clone(ids[1000:1250]), ids[0]) {
		app.Put(map[string]any{"id": id, "userName": id})
	}
	require.NoError(t, g.Enrol(ctx, "g1", []string{ids[0]}, ids[1000:1250])) // more than one request takes
	require.Len(t, app.Members("g1"), n-249)
	require.NoError(t, g.Enrol(ctx, "g1", ids[1000:1250], []string{ids[0]}))
	require.ElementsMatch(t, after, app.Members("g1"), "in and out again, each of them once")
}

// Groups that are in groups are read for whoever asks for them alone, also where they are in
// one another.
func TestNestedGroups(t *testing.T) {
	app, _, settings := serve(t)
	app.PutGroup("g1", "observers", "a", "g3")
	app.PutGroup("g2", "staff", "g1")
	app.PutGroup("g3", "everybody", "g2", "b")
	shape := record.Shape{Attributes: map[string]record.Source{"id": {Native: "id"}, "nestedGroups": {Native: connector.Nested}}}
	var kept connectortest.Kept
	_, err := connector.Read(context.Background(), connect(t, settings), shape, connector.Reading{Extent: connector.Whole}, &kept)
	require.NoError(t, err)
	nested := map[string][]string{}
	for _, r := range kept.Records {
		nested[r.ID] = r.Values[connector.Nested]
	}
	require.Equal(t, map[string][]string{"a": {"everybody", "staff"}, "b": {"observers", "staff"}, "c": nil}, nested)
}

// What an answer to a write means for whoever must know whether it was done.
func TestAnswersToWrites(t *testing.T) {
	for status, want := range map[int]connector.Kind{
		400: connector.Refused,
		401: connector.Denied,
		403: connector.Forbidden, // about this record, as far as anybody knows
		404: connector.NotFound,
		409: connector.Conflict,
		412: connector.Stale,
		429: connector.Throttled,
		500: connector.Unanswered,
		502: connector.Unanswered,
		503: connector.Unanswered, // whoever stands between says so after the work was done, too
		504: connector.Unanswered,
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodGet {
				_, _ = w.Write([]byte(`{"id": "a", "userName": "user-a"}`))
				return
			}
			w.WriteHeader(status)
		}))
		c, err := scim.New(connector.Config{Settings: map[string]string{"url": server.URL}, Secret: "very-secret"})
		require.NoError(t, err)
		rec, err := c.One(context.Background(), "a")
		require.NoError(t, err)
		_, err = c.Write(context.Background(), connector.Write{Record: &rec, Edits: []connector.Edit{edit("title", "Cook")}})
		var told *connector.Error
		require.ErrorAs(t, err, &told, "%d", status)
		require.Equal(t, want, told.Kind, "%d: %v", status, err)
		require.True(t, told.Answered, "%d", status)
		server.Close()
	}
}

// Who holds a name is asked of the whole application, whatever it makes of case
// and of filters.
func TestHolders(t *testing.T) {
	app, _, settings := serve(t)
	app.Put(map[string]any{"id": "n", "userName": "nkester", "externalId": "L7", "active": false, "emails": []any{map[string]any{"value": "nova@l.example", "primary": true}, map[string]any{"value": "n.kester@l.example"}}})
	holder := connect(t, settings).(connector.NameHolder)
	for name, want := range map[string][]string{"nkester": {"n"}, "NKester": {"n"}, "nova@l.example": {"n"}, "n.kester@l.example": {"n"}, "user-a": {"a"}, "nobody": nil, `qu"ote`: nil} {
		got, err := holder.Holders(context.Background(), name)
		require.NoError(t, err, name)
		require.Equal(t, want, got, name)
	}
	ignores := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { // every user, whatever was asked
		_, _ = w.Write([]byte(`{"totalResults": 2, "Resources": [{"id": "a", "userName": "anne"}, {"id": "b", "userName": "bo", "emails": [{"value": "bo@l.example"}]}]}`))
	}))
	t.Cleanup(ignores.Close)
	c, err := scim.New(connector.Config{Settings: map[string]string{"url": ignores.URL}, Secret: "x"})
	require.NoError(t, err)
	got, err := c.(connector.NameHolder).Holders(context.Background(), "bo@l.example")
	require.NoError(t, err)
	require.Equal(t, []string{"b"}, got)
}

// Whatever an application says back of what it was sent, in whatever answer and
// form, no secret of ours is in an error, a step or a refusal.
func TestSecretsSaidBack(t *testing.T) {
	const secret = "lamp & harbour 7"
	for name, settings := range map[string]map[string]string{"bearer": {}, "basic": {"auth": "basic"}, "oauth": {"auth": "oauth", "client-id": "twinning"}, "oauth, refused": {"auth": "oauth", "client-id": "twinning"}} {
		for _, status := range []int{200, 400, 401, 403, 404, 409, 412, 413, 500} {
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				body, _ := io.ReadAll(r.Body)
				if r.URL.Path == "/token" && name == "oauth" {
					_, _ = io.WriteString(w, `{"access_token": "made of moonlight", "token_type": "Bearer", "expires_in": 60}`)
					return
				}
				said := fmt.Sprintf("%s %s %s", r.Header.Get("Authorization"), body, strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer "))
				if user, password, ok := r.BasicAuth(); ok {
					said += user + " " + password
				}
				w.Header().Set("Content-Type", "application/scim+json")
				w.WriteHeader(status)
				_ = json.NewEncoder(w).Encode(map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:Error"}, "detail": said, "scimType": said, "error": said, "error_description": said,
					"totalResults": said, "id": said, "Resources": []any{map[string]any{"id": said, "userName": said}}, "authenticationSchemes": []any{map[string]any{"name": said, "type": said}}, "patch": map[string]any{"supported": said}})
			}))
			settings["url"], settings["timeout"] = server.URL, "2"
			if settings["auth"] == "oauth" {
				settings["token-url"] = server.URL + "/token"
			}
			given := secret
			if name == "basic" {
				given = "twinning:" + secret
			}
			c, err := scim.New(connector.Config{Settings: settings, Secret: given})
			require.NoError(t, err)
			ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
			var told []string
			for _, step := range connector.Probe(ctx, c) {
				told = append(told, fmt.Sprint(step))
			}
			_, one := c.One(ctx, "x")
			_, read := c.Read(ctx, connector.Reading{}, &connectortest.Kept{})
			_, wrote := c.Write(ctx, connector.Write{Record: &connector.Record{ID: "x"}, Edits: []connector.Edit{edit("title", "Cook")}})
			cancel()
			server.Close()
			for _, err := range []error{one, read, wrote} {
				if err != nil {
					told = append(told, err.Error())
				}
			}
			require.NotEmpty(t, told)
			for _, form := range []string{secret, "harbour", "moonlight", url.QueryEscape(secret), base64.StdEncoding.EncodeToString([]byte(secret))} {
				require.NotContains(t, strings.Join(told, "\n"), form, "%s, %d", name, status)
			}
		}
	}
}

// A list whose pages never end is given up on, whether they are empty or hold the same users again
// and again.
func TestEndlessLists(t *testing.T) {
	require.NoError(t, budget.Set("records=5000"))
	t.Cleanup(func() { require.NoError(t, budget.Set("records=10000000")) })
	for name, x := range map[string]struct{ users, want string }{
		"empty pages":    {``, "pages came without a user"},
		"the same pages": {`{"id": "a", "userName": "anne"}`, "came twice"},
	} {
		n := 0
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			n++
			_, _ = fmt.Fprintf(w, `{"totalResults": 1000000, "nextCursor": "c%d", "Resources": [%s]}`, n, x.users)
		}))
		t.Cleanup(server.Close)
		c, err := scim.New(connector.Config{Settings: map[string]string{"url": server.URL, "paging": "cursor"}, Secret: "x"})
		require.NoError(t, err)
		_, err = c.Read(context.Background(), connector.Reading{}, &connectortest.Kept{})
		require.ErrorContains(t, err, x.want, name)
	}
}

// Ids that are numbers are read as their text, and no number loses a digit on its way back.
func TestNumbersStayAsTheyAreWritten(t *testing.T) {
	const user = `{"id": 90071992547409931, "userName": "nkester", "badge": 12345678901234567890, "height": 1.70, "title": "Cook"}`
	sent := ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method == http.MethodPut:
			body, _ := io.ReadAll(r.Body)
			sent = string(body)
			_, _ = w.Write(body)
		case r.URL.Path == "/Users/90071992547409931":
			_, _ = io.WriteString(w, user)
		case r.URL.Path == "/Users/7":
			_, _ = io.WriteString(w, `{"id": {"of": 7}, "userName": "x"}`)
		case r.URL.Path == "/Users/8":
			_, _ = io.WriteString(w, `{"id": 8, "userName": "y", "externalId": {"value": "L8"}}`)
		case r.URL.Query().Get("startIndex") == "1":
			_, _ = fmt.Fprintf(w, `{"totalResults": 1, "Resources": [%s]}`, user)
		default:
			_, _ = io.WriteString(w, `{"totalResults": 1, "Resources": []}`)
		}
	}))
	t.Cleanup(server.Close)
	c, err := scim.New(connector.Config{Settings: map[string]string{"url": server.URL, "method": "put", "put-without-etag": "yes"}, Secret: "x"})
	require.NoError(t, err)
	ctx := context.Background()
	var kept connectortest.Kept
	_, err = c.Read(ctx, connector.Reading{Extent: connector.Whole}, &kept)
	require.NoError(t, err)
	require.Equal(t, "90071992547409931", kept.Records[0].ID)
	one, err := c.One(ctx, "90071992547409931")
	require.NoError(t, err)
	require.Equal(t, []string{"12345678901234567890"}, one.Values["badge"])
	require.Equal(t, []string{"1.7"}, one.Values["height"])
	after, err := c.Write(ctx, connector.Write{Record: &one, Edits: []connector.Edit{edit("title", "Chef")}})
	require.NoError(t, err)
	require.Equal(t, one.ID, after.ID)
	require.JSONEq(t, strings.Replace(user, "Cook", "Chef", 1), sent)
	require.Contains(t, sent, "12345678901234567890")
	_, err = c.One(ctx, "7")
	require.ErrorContains(t, err, `the id of user "x" is neither a text nor a number`)
	_, err = c.One(ctx, "8")
	require.ErrorContains(t, err, `externalId of user "y" is an object where a text is expected`, "it is not blank")
}

// An application that knows no PATCH, and does not say so, is changed by PUT where that is safe;
// else the answer says which setting to change, and nothing is sent twice.
func TestPatchThatIsNotThere(t *testing.T) {
	for name, x := range map[string]struct {
		is       scimapp.Misbehaviour
		settings []string
		says     string
	}{
		"safe":            {scimapp.Misbehaviour{NoPatch: true, NoDiscover: true}, nil, ""},
		"without an ETag": {scimapp.Misbehaviour{NoPatch: true, NoDiscover: true, NoETag: true}, nil, "put-without-etag"},
		"405":             {scimapp.Misbehaviour{NoPatch: true, NoDiscover: true, PatchIs: 405}, nil, ""},
		"400":             {scimapp.Misbehaviour{NoPatch: true, NoDiscover: true, PatchIs: 400}, nil, ""},
		"400, no ETag":    {scimapp.Misbehaviour{NoPatch: true, NoDiscover: true, PatchIs: 400, NoETag: true}, nil, "set method to put"},
		"400, it says":    {scimapp.Misbehaviour{NoPatch: true, PatchIs: 400}, []string{"method", "patch"}, "answered 400"},
		"PATCH alone":     {scimapp.Misbehaviour{NoPatch: true, NoDiscover: true}, []string{"method", "patch"}, "set method to put"},
	} {
		t.Run(name, func(t *testing.T) {
			app, _, settings := serve(t)
			app.Misbehave(x.is)
			c := connect(t, settings, x.settings...)
			one, err := c.One(context.Background(), "a")
			require.NoError(t, err)
			_, err = c.Write(context.Background(), connector.Write{Record: &one, Edits: []connector.Edit{edit("title", "Chef")}})
			if x.says == "" {
				require.NoError(t, err)
				g := c.(connector.Grouper)
				require.NoError(t, g.Enrol(context.Background(), "g1", []string{"a"}, nil))
				fresh := connect(t, settings, x.settings...).(connector.Grouper) // that has written nobody before
				require.NoError(t, fresh.Enrol(context.Background(), "g1", []string{"b"}, []string{"a"}))
				require.Equal(t, []string{"b"}, app.Members("g1"))
				return
			}
			require.ErrorContains(t, err, x.says)
			require.Contains(t, []connector.Kind{connector.Refused, connector.Unsupported}, connector.KindOf(err), "it is not tried again")
		})
	}
}

// What comes on request alone is found, shown after it was written and kept by a PUT, also where
// nobody has set that it is asked for.
func TestOnRequestAndNobodyAsks(t *testing.T) {
	for name, is := range map[string]scimapp.Misbehaviour{
		"a title, by PATCH": {OnRequest: "title"},
		"a title, by PUT":   {OnRequest: "title", NoPatch: true},
		"a mark, by PATCH":  {OnRequest: "externalId", Silent: true},
		"a mark, by PUT":    {OnRequest: "externalId", NoPatch: true},
		"members, by PATCH": {OnRequest: "members"},
		"members, by PUT":   {OnRequest: "members", NoPatch: true},
	} {
		t.Run(name, func(t *testing.T) {
			ctx := context.Background()
			app, _, settings := serve(t)
			app.Misbehave(is)
			c := connect(t, settings)
			made, err := c.Write(ctx, connector.Write{Edits: newcomer})
			require.NoError(t, err)
			for _, e := range newcomer {
				require.Equal(t, e.New, made.Values[e.Native], e.Native)
			}
			found, err := c.Find(ctx, "externalId", "L7")
			require.NoError(t, err)
			require.Len(t, found, 1)
			require.Equal(t, made.ID, found[0].ID)
			one, err := c.One(ctx, made.ID)
			require.NoError(t, err)
			after, err := c.Write(ctx, connector.Write{Record: &one, Edits: []connector.Edit{edit("name.givenName", "Novella")}})
			require.NoError(t, err)
			require.Equal(t, []string{"Novella"}, after.Values["name.givenName"])
			g := c.(connector.Grouper)
			for _, who := range []string{made.ID, "a"} {
				require.NoError(t, g.Enrol(ctx, "g1", []string{who}, nil))
			}
			var members []string
			require.NoError(t, g.Members(ctx, "g1", func(id string) error { members = append(members, id); return nil }, func(connector.Left) error { return nil }))
			require.ElementsMatch(t, []string{made.ID, "a"}, members)
			app.Misbehave(scimapp.Misbehaviour{})
			all, err := c.One(ctx, made.ID)
			require.NoError(t, err)
			for _, e := range newcomer {
				if e.Native != "name.givenName" {
					require.Equal(t, e.New, all.Values[e.Native], "%s is lost", e.Native)
				}
			}
		})
	}
}
