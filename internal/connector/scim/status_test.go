package scim

import (
	"net/http"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
)

// What a status means for what may be done next (RFC 7644 section 3.12, RFC 9110).
func TestStatus(t *testing.T) {
	a := &app{base: &url.URL{Scheme: "https", Host: "app.larkspur.example"}}
	for _, c := range []struct {
		method     string
		code       int
		body       string
		kind       connector.Kind
		told, next string
	}{
		{"PATCH", 400, `{"detail": "title is too long", "scimType": "invalidValue"}`, connector.Refused, `answered 400, "title is too long"`, ""},
		{"POST", 400, `{"scimType": "uniqueness"}`, connector.Conflict, "answered 400", "in use"},
		{"POST", 409, `not JSON`, connector.Conflict, "answered 409", "in use"},
		{"GET", 401, ``, connector.Denied, "answered 401", "set a new one"},
		{"GET", 403, ``, connector.Denied, "answered 403", "lacks the right"},
		{"PATCH", 403, ``, connector.Forbidden, "answered 403", "lacks the right"},
		{"GET", 404, ``, connector.NotFound, "answered 404", ""},
		{"PATCH", 412, ``, connector.Stale, "answered 412", ""},
		{"PATCH", 429, ``, connector.Throttled, "answered 429", "slower pace"},
		{"GET", 503, ``, connector.Throttled, "answered 503", "slower pace"},
		{"POST", 503, ``, connector.Unanswered, "answered 503", ""}, // whoever stands between may say so after the work was done
		{"PATCH", 500, ``, connector.Unanswered, "answered 500", ""},
		{"GET", 302, ``, connector.Refused, "answered 302", "no address of SCIM users"},
	} {
		res := &http.Response{StatusCode: c.code, Request: &http.Request{URL: a.base.JoinPath("Users/1")}, Header: http.Header{"Retry-After": {"7"}, "Location": {"https://elsewhere.example"}}}
		var told *connector.Error
		require.ErrorAs(t, a.status("change user 1", c.method, res, []byte(c.body)), &told)
		require.Equal(t, c.kind, told.Kind, "%s %d", c.method, c.code)
		require.True(t, told.Answered)
		require.Equal(t, 7*time.Second, told.After)
		require.Contains(t, told.Error(), "change user 1 at https://app.larkspur.example: "+c.told, "%s %d", c.method, c.code)
		require.Contains(t, told.Next, c.next, "%s %d", c.method, c.code)
	}
	for location, next := range map[string]string{
		"https://new.larkspur.example/scim/v2/Users/1":      "set url to https://new.larkspur.example/scim/v2 if",
		"https://new.larkspur.example/scim/v2/Users/1/?a=b": "set url to https://new.larkspur.example/scim/v2 if",
		"/scim/v2/Users/1":                                   "set url to https://app.larkspur.example/scim/v2 if",
		"https://app.larkspur.example/Users/1":               "the same address",
		"https://app.larkspur.example/sign-in?back=/Users/1": `redirects to "https://app.larkspur.example/sign-in", which is no address of SCIM users`,
		"": "does not say where to",
	} {
		res := &http.Response{StatusCode: 307, Request: &http.Request{URL: a.base.JoinPath("Users/1")}, Header: http.Header{"Location": {location}}}
		require.Contains(t, a.movedTo(res), next, location)
	}
	require.Zero(t, retryAfter("soon"))
	require.Zero(t, retryAfter(time.Now().Add(-time.Hour).UTC().Format(http.TimeFormat)))
	require.InDelta(t, time.Hour, retryAfter(time.Now().Add(time.Hour).UTC().Format(http.TimeFormat)), float64(2*time.Second))
}

// A refusal that speaks of a value is not tried again in other words.
func TestFormRefused(t *testing.T) {
	text, truth := []operation{{Op: "replace", Path: "title", Value: "Night assistant"}}, []operation{{Op: "replace", Path: "active", Value: true}}
	for _, c := range []struct {
		code         int
		kind, detail string
		ops          []operation
		form         bool
	}{
		{400, "invalidSyntax", "", text, true}, {400, "invalidPath", "", text, true}, {400, "noTarget", "", text, true},
		{400, "invalidValue", "too long", text, false}, {400, "invalidValue", "", truth, true},
		{400, "", "the operation is not understood", text, true}, {400, "", `"Night assistant" is not allowed`, text, false},
		{400, "mutability", "", text, false}, {409, "", "", text, false}, {500, "", "", text, false},
	} {
		err := &connector.Error{Kind: connector.Refused, Reason: c.detail, Cause: &refusal{c.code, c.kind}}
		require.Equal(t, c.form, formRefused(err, c.ops), "%+v", c)
	}
	require.False(t, formRefused(&connector.Error{Kind: connector.Throttled}, text))
}
