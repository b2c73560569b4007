package scim_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
	"twinning/internal/connector/connectortest"
	"twinning/internal/connector/scim"
	"twinning/internal/core/parallel"
	"twinning/internal/core/record"
	"twinning/internal/standin/scimapp"
)

// Members that are named by their address alone are known by it where the address is the
// application's own. From any other nothing is concluded: who is in the group is not known.
func TestMembersByAddress(t *testing.T) {
	for says, want := range map[string]string{
		`{"value": "u1"}`: "u1",
		`{"value": "u1", "type": "User", "$ref": "https://elsewhere.example/Users/u9"}`: "u1",
		`{"Value": "u1", "Type": "user-1"}`:                                             "group ",
		`{"Value": "u1"}`:                                                               "u1",
		`{"$ref": "BASE/Users/u1"}`:                                                     "u1",
		`{"$ref": "BASE/Users/u%2F1"}`:                                                  "u/1",
		`{"$ref": "../Users/u1"}`:                                                       "u1",
		`{"$ref": "Users/u1"}`:                                                          "u1",
		`{"$ref": "/scim/v2/Users/u1"}`:                                                 "u1",
		`{"$ref": "BASE/Groups/g2"}`:                                                    "group g2",
		`{"$ref": "../Groups/g2", "type": "Group"}`:                                     "group g2",
		`{"value": "g2", "type": "Group"}`:                                              "group g2",
		`{"$ref": "BASE/Users/u1", "type": "Group"}`:                                    "that of a User, and its type is Group",
		`{"$ref": "https://elsewhere.example/scim/v2/Users/u1"}`:                        "not an address of this application's",
		`{"$ref": "//elsewhere.example/scim/v2/Users/u1"}`:                              "not an address of this application's",
		`{"$ref": "BASE/Users/u1/x"}`:                                                   "not an address of this application's",
		`{"$ref": "BASE/Users/u1?x=y"}`:                                                 "not an address of this application's",
		`{"$ref": "/Users/u1"}`:                                                         "not an address of this application's",
		`{"$ref": "BASE/Users/"}`:                                                       "not an address of this application's",
		`{"$ref": "::"}`:                                                                "no address",
		`{"type": "User"}`:                                                              "neither a value nor a $ref",
		`"u1"`:                                                                          "neither a value nor a $ref",
	} {
		t.Run(says, func(t *testing.T) {
			var server *httptest.Server
			server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				_, _ = fmt.Fprintf(w, `{"id": "g1", "displayName": "Observers", "Members": [%s]}`, strings.ReplaceAll(says, "BASE", server.URL+"/scim/v2"))
			}))
			defer server.Close()
			c, err := scim.New(connector.Config{Settings: map[string]string{"url": server.URL + "/scim/v2"}, Secret: "x"})
			require.NoError(t, err)
			got := ""
			err = c.(connector.Groups).Members(context.Background(), "g1", func(id string) error { got = id; return nil }, func(l connector.Left) error { got = "group " + l.ID; return nil })
			if err != nil {
				require.Equal(t, connector.Broken, connector.KindOf(err))
				require.Empty(t, got)
				got = err.Error()
			}
			require.Contains(t, got, want)
		})
	}
}

// A roster with memberships is the same from an application that says its members by their
// address, and there is none where an answer is another group's.
func TestMembershipsAreWholeOrNotRead(t *testing.T) {
	app, _, settings := serve(t)
	app.PutGroup("g1", "observers", "a", "b")
	app.PutGroup("g2", "staff", "c", "g1")
	shape := record.Shape{Attributes: map[string]record.Source{"id": {Native: "id"}, "groups": {Native: connector.Memberships}, "nestedGroups": {Native: connector.Nested}}}
	read := func() (map[string][]string, error) {
		var kept connectortest.Kept
		_, err := connector.Read(context.Background(), connect(t, settings), shape, connector.Reading{Extent: connector.Whole}, &kept)
		in := map[string][]string{}
		for _, r := range kept.Records {
			in[r.ID] = append(r.Values[connector.Memberships], r.Values[connector.Nested]...)
		}
		return in, err
	}
	plain, err := read()
	require.NoError(t, err)
	require.Equal(t, []string{"observers", "staff"}, plain["a"])
	app.Misbehave(scimapp.Misbehaviour{RefMembers: true})
	byAddress, err := read()
	require.NoError(t, err)
	require.Equal(t, plain, byAddress)
	app.Misbehave(scimapp.Misbehaviour{GetAnother: true})
	_, err = read()
	require.ErrorContains(t, err, "the answer is about another group")
}

// Without PATCH a group is written as a whole. Workers at the same time lose nothing of one
// another's, with an ETag or without one; what somebody else does to the group meanwhile stays
// where there is an ETag.
func TestGroupsWrittenAsAWhole(t *testing.T) {
	for name, x := range map[string]struct {
		is       scimapp.Misbehaviour
		settings []string
	}{
		"with an ETag": {scimapp.Misbehaviour{NoPatch: true}, nil},
		"without":      {scimapp.Misbehaviour{NoPatch: true, NoETag: true}, []string{"put-without-etag", "yes"}},
		"by address":   {scimapp.Misbehaviour{NoPatch: true, RefMembers: true}, nil},
		"slowly":       {scimapp.Misbehaviour{NoPatch: true, SlowMillis: 2}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			app, _, settings := serve(t)
			const n = 24
			in := []string{}
			for i := range n {
				app.Put(map[string]any{"id": fmt.Sprintf("u%02d", i), "userName": fmt.Sprintf("user%02d", i)})
				if i%2 == 1 {
					in = append(in, fmt.Sprintf("u%02d", i))
				}
			}
			app.PutGroup("g1", "Observers", append(in, "g9")...)
			app.PutGroup("g9", "Guests")
			app.Misbehave(x.is)
			g := connect(t, settings, x.settings...).(connector.Grouper)
			stranger := connect(t, settings, x.settings...).(connector.Grouper) // of another process
			var wg parallel.Group
			errs := make([]error, n)
			for i := range n { // the even ones go in, the odd ones out
				wg.Go(func() {
					id := []string{fmt.Sprintf("u%02d", i)}
					add, withdraw := id, []string(nil)
					if i%2 == 1 {
						add, withdraw = nil, id
					}
					errs[i] = g.Enrol(context.Background(), "g1", add, withdraw)
				})
			}
			if !x.is.NoETag {
				require.NoError(t, stranger.Enrol(context.Background(), "g1", []string{"a"}, nil))
			}
			wg.Wait()
			require.NoError(t, errors.Join(errs...))
			want := []string{"g9"}
			for i := 0; i < n; i += 2 {
				want = append(want, fmt.Sprintf("u%02d", i))
			}
			if !x.is.NoETag {
				want = append(want, "a")
			}
			require.ElementsMatch(t, want, app.Members("g1"))
		})
	}
}

// Whoever changes a group that an answer takes for another one changes neither.
func TestNoGroupIsTakenForAnother(t *testing.T) {
	app, _, settings := serve(t)
	app.PutGroup("g1", "Observers", "a")
	app.PutGroup("g2", "Staff", "b")
	app.Misbehave(scimapp.Misbehaviour{NoPatch: true, GetAnother: true})
	err := connect(t, settings).(connector.Grouper).Enrol(context.Background(), "g1", []string{"c"}, nil)
	require.Equal(t, connector.Broken, connector.KindOf(err))
	require.Equal(t, []string{"a"}, app.Members("g1"))
	require.Equal(t, []string{"b"}, app.Members("g2"))
}
