package scim

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strings"

	"twinning/internal/connector"
	"twinning/internal/format/scimjson"
)

func (a *app) Write(ctx context.Context, w connector.Write) (connector.Record, error) {
	if w.Record == nil {
		return a.create(ctx, w.Edits)
	}
	put, err := a.puts(ctx)
	if err != nil {
		return connector.Record{}, err
	}
	if put {
		return a.replace(ctx, *w.Record, w.Edits)
	}
	return a.patch(ctx, *w.Record, w.Edits)
}

func (a *app) create(ctx context.Context, edits []connector.Edit) (connector.Record, error) {
	user := map[string]any{"schemas": []string{scimjson.User}, "active": true}
	if err := merge(user, edits); err != nil {
		return connector.Record{}, a.fault(connector.Refused, "create a user", err.Error(), "")
	}
	doing := "create user"
	if name, ok := user["userName"].(string); ok {
		doing += " " + name
	}
	body, _ := json.Marshal(user)
	answer, header, err := a.do(ctx, doing, http.MethodPost, "/Users", body, "")
	if err != nil {
		return connector.Record{}, err
	}
	if r, err := a.answered(doing, answer, header); err == nil {
		return r, nil
	}
	// created, but the answer does not say what: read it by its address
	location, err := url.Parse(header.Get("Location"))
	if err != nil || !strings.Contains(location.Path, "/Users/") {
		return connector.Record{}, a.fault(connector.Unanswered, doing, "the answer does not name the new user", "")
	}
	return a.One(ctx, location.Path[strings.LastIndex(location.Path, "/")+1:])
}

// patch sends one PATCH, in the first dialect that the application takes.
func (a *app) patch(ctx context.Context, r connector.Record, edits []connector.Edit) (connector.Record, error) {
	doing := "change user " + r.ID
	var top map[string]any
	if err := json.Unmarshal(r.Raw, &top); err != nil {
		return connector.Record{}, a.fault(connector.Broken, doing, err.Error(), "")
	}
	if err := merge(top, edits); err != nil {
		return connector.Record{}, a.fault(connector.Refused, doing, err.Error(), "")
	}
	ops := operations(top, edits)
	for {
		at := a.dialect.Load()
		body, err := patchBody(a.dialects[at].say(ops))
		if err != nil {
			return connector.Record{}, err
		}
		after, err := a.send(ctx, http.MethodPatch, r, body)
		if err == nil {
			a.confirmed.Store(true)
		}
		if !formRefused(err, ops) || a.confirmed.Load() {
			return after, err
		}
		if int(at)+1 >= len(a.dialects) {
			a.dialect.Store(0) // none of them: it is about this change
			return after, err
		}
		a.dialect.CompareAndSwap(at, at+1)
	}
}

// replace sends the whole record back with only our edits merged in: what is
// read-only or never returned is left out, as RFC 7644 section 3.5.1 has it.
func (a *app) replace(ctx context.Context, r connector.Record, edits []connector.Edit) (connector.Record, error) {
	doing := "change user " + r.ID
	if r.Version == "" && a.setting("put-without-etag", "no") == "no" {
		return connector.Record{}, a.fault(connector.Refused, doing, "the application gives no ETag, so a PUT could undo somebody else's change", "use method patch, or set put-without-etag to yes")
	}
	var top map[string]any
	if err := json.Unmarshal(r.Raw, &top); err != nil {
		return connector.Record{}, a.fault(connector.Broken, doing, err.Error(), "")
	}
	for _, readOnly := range []string{"meta", "groups", "password"} {
		delete(top, readOnly)
	}
	if err := merge(top, edits); err != nil {
		return connector.Record{}, a.fault(connector.Refused, doing, err.Error(), "")
	}
	body, _ := json.Marshal(top)
	return a.send(ctx, http.MethodPut, r, body)
}

func (a *app) send(ctx context.Context, method string, r connector.Record, body []byte) (connector.Record, error) {
	doing := "change user " + r.ID
	answer, header, err := a.do(ctx, doing, method, "/Users/"+url.PathEscape(r.ID), body, r.Version)
	if err != nil {
		return connector.Record{}, err
	}
	if len(answer) == 0 { // 204: done, but how it looks now must be read
		return a.One(ctx, r.ID)
	}
	return a.answered(doing, answer, header)
}

// Delete removes a user; one that is gone already is no error.
func (a *app) Delete(ctx context.Context, r connector.Record) error {
	_, _, err := a.do(ctx, "delete user "+r.ID, http.MethodDelete, "/Users/"+url.PathEscape(r.ID), nil, r.Version)
	if connector.KindOf(err) == connector.NotFound && err != nil {
		return nil
	}
	return err
}

// Reissue sets a new password, over an encrypted connection only.
func (a *app) Reissue(ctx context.Context, r connector.Record, secret string) error {
	doing := "set the secret of user " + r.ID
	if a.base.Scheme != "https" {
		return a.fault(connector.Refused, doing, "the connection is not encrypted", "set url to an https:// address: secrets are never sent in the clear")
	}
	if put, err := a.puts(ctx); err != nil || put {
		if err == nil {
			_, err = a.replace(ctx, r, []connector.Edit{{Native: "password", New: []string{secret}}})
		}
		return err
	}
	body, err := patchBody(a.dialects[a.dialect.Load()].say([]operation{{Op: "replace", Path: "password", Value: secret}}))
	if err != nil {
		return err
	}
	_, _, err = a.do(ctx, doing, http.MethodPatch, "/Users/"+url.PathEscape(r.ID), body, "")
	return err
}
