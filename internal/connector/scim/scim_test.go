package scim_test

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
	"twinning/internal/connector/connectortest"
	"twinning/internal/connector/scim"
	"twinning/internal/standin/scimapp"
)

func edit(native string, values ...string) connector.Edit {
	return connector.Edit{Native: native, New: values}
}

var newcomer = []connector.Edit{edit("userName", "nkester"), edit("externalId", "L7"), edit("name.givenName", "Nova"), edit("name.familyName", "Kester"), edit("title", "Cook"), edit("emails.primary", "nova@l.example"), edit("emails.other", "n.kester@l.example"), edit("enterprise.department", "Kitchen"), edit("active", "true")}

// The same promises hold for PATCH and for PUT.
func TestBehaviour(t *testing.T) {
	for _, method := range []string{"patch", "put"} {
		t.Run(method, func(t *testing.T) {
			app, err := scimapp.New("", "secret")
			require.NoError(t, err)
			for _, id := range []string{"b", "a", "c"} {
				app.Put(map[string]any{"id": id, "userName": "user-" + id, "password": "never shown"})
			}
			var cut atomic.Bool
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if cut.Load() && strings.Contains(r.URL.RawQuery, "startIndex=3") { // the second page is empty, though three are promised
					_, _ = w.Write([]byte(`{"totalResults": 3, "Resources": []}`))
					return
				}
				app.ServeHTTP(w, r)
			}))
			t.Cleanup(server.Close)
			connectortest.Run(t, connectortest.Subject{
				IDs: []string{"a", "b", "c"},
				New: func(t *testing.T) connector.Connector {
					c, err := scim.New(connector.Config{Settings: map[string]string{"url": server.URL + "/scim/v2/", "page": "2", "method": method}, Secret: "secret"})
					require.NoError(t, err)
					return c
				},
				Spoil:  func(t *testing.T) { cut.Store(true); t.Cleanup(func() { cut.Store(false) }) },
				Create: newcomer, Change: edit("title", "Head cook"),
			})
		})
	}
}

// Setting a primary leaves one, keeps what else is known of the others, and
// PUT without an ETag is only done when the system's owner says so.
func TestAddresses(t *testing.T) {
	app, err := scimapp.New("", "secret")
	require.NoError(t, err)
	app.Put(map[string]any{"id": "a", "userName": "ana", "emails": []any{map[string]any{"value": "old@l.example", "type": "work", "primary": true}, map[string]any{"value": "home@l.example", "type": "home"}}})
	server := httptest.NewServer(app)
	t.Cleanup(server.Close)
	settings := map[string]string{"url": server.URL + "/scim/v2"}
	c, err := scim.New(connector.Config{Settings: settings, Secret: "secret"})
	require.NoError(t, err)
	ctx := context.Background()
	r, err := c.One(ctx, "a")
	require.NoError(t, err)
	after, err := c.Write(ctx, connector.Write{Record: &r, Edits: []connector.Edit{edit("emails.primary", "new@l.example"), edit("emails.other", "home@l.example", "old@l.example")}})
	require.NoError(t, err)
	require.Equal(t, []string{"new@l.example"}, after.Values["emails.primary"])
	require.Equal(t, []string{"home@l.example", "old@l.example"}, after.Values["emails.other"])
	text, err := json.Marshal(app.Users()[0]["emails"])
	require.NoError(t, err)
	require.JSONEq(t, `[{"value":"new@l.example","primary":true},{"value":"home@l.example","type":"home","primary":false},{"value":"old@l.example","type":"work","primary":false}]`, string(text))

	app.Misbehave(scimapp.Misbehaviour{NoETag: true})
	settings["method"] = "put"
	for blind, want := range map[string]connector.Kind{"": connector.Refused, "yes": connector.Broken} {
		settings["put-without-etag"] = blind
		c, err := scim.New(connector.Config{Settings: settings, Secret: "secret"})
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
	require.ErrorContains(t, err, "firewall")
	for _, bad := range []map[string]string{{"url": "ftp://x"}, {"url": "https://user:pw@x.example"}, {"url": "https://x.example", "page": "many"}, {"uri": "x"}} {
		_, err := scim.New(connector.Config{Settings: bad})
		require.Error(t, err, "%v", bad)
	}
}
