package scim

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"twinning/internal/connector"
	"twinning/internal/core/record"
	"twinning/internal/format/scimjson"
)

func (a *app) Write(ctx context.Context, w connector.Write) (r connector.Record, err error) {
	put := false
	if w.Record == nil {
		r, err = a.create(ctx, w.Edits)
	} else if put, err = a.puts(ctx); err == nil && put {
		r, err = a.replace(ctx, *w.Record, w.Edits)
	} else if err == nil {
		if r, err = a.patch(ctx, *w.Record, w.Edits); a.patchless(err) {
			r, err = a.replace(ctx, *w.Record, w.Edits)
		}
		err = a.orPut(err, func() (err error) {
			r, err = a.replace(ctx, *w.Record, w.Edits)
			return err
		})
	}
	if err != nil || a.lag == 0 {
		return r, err
	}
	return a.shown(ctx, r, w.Edits), nil
}

// shown waits, no longer than the application is said to need, until it shows what
// was written: whatever is done to the same user next goes by what is read then.
func (a *app) shown(ctx context.Context, r connector.Record, edits []connector.Edit) connector.Record {
	for until := time.Now().Add(a.lag); ; {
		now, err := a.One(ctx, r.ID)
		if err == nil && shows(now, edits) || !time.Now().Before(until) {
			if err == nil {
				return now
			}
			return r
		}
		select {
		case <-ctx.Done():
			return r
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func shows(r connector.Record, edits []connector.Edit) bool {
	return !slices.ContainsFunc(edits, func(e connector.Edit) bool {
		return len(e.New) != len(r.Values[e.Native]) || len(e.New) == 1 && !strings.EqualFold(e.New[0], r.Values[e.Native][0])
	})
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
		return a.whole(ctx, r, edits)
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
	if err := scimjson.Unmarshal(r.Raw, &top); err != nil {
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
		after, err := a.send(ctx, http.MethodPatch, r, body, edits)
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
	if r.Version == "" && a.set.Text("put-without-etag") == "no" {
		return connector.Record{}, a.fault(connector.Refused, doing, "the application gives no ETag, so a PUT could undo somebody else's change", "use method patch, or set put-without-etag to yes")
	}
	body, err := a.withAsked(ctx, doing, r.ID, r.Raw, strings.Join(paths, ",")) // what is left out of a PUT is cleared
	if kind := connector.KindOf(err); err != nil && kind != connector.Refused && kind != connector.Unsupported {
		return connector.Record{}, err
	} else if err != nil {
		body = r.Raw // it does not know all of the paths
	}
	var top map[string]any
	if err := scimjson.Unmarshal(body, &top); err != nil {
		return connector.Record{}, a.fault(connector.Broken, doing, err.Error(), "")
	}
	for _, readOnly := range []string{"meta", "groups", "password"} {
		delete(top, readOnly)
	}
	if err := merge(top, edits); err != nil {
		return connector.Record{}, a.fault(connector.Refused, doing, err.Error(), "")
	}
	body, _ = json.Marshal(top)
	return a.send(ctx, http.MethodPut, r, body, edits)
}

func (a *app) send(ctx context.Context, method string, r connector.Record, body []byte, edits []connector.Edit) (connector.Record, error) {
	doing := "change user " + r.ID
	answer, header, err := a.do(ctx, doing, method, "/Users/"+url.PathEscape(r.ID), body, r.Version)
	if err != nil {
		return connector.Record{}, err
	}
	if len(answer) == 0 { // 204: done, but how it looks now must be read
		if a.lag > 0 {
			return connector.Record{ID: r.ID, Values: map[string][]string{}}, nil // once it shows
		}
		now, err := a.One(ctx, r.ID)
		if err != nil || now.ID != r.ID {
			return now, err
		}
		return a.whole(ctx, now, edits)
	}
	after, err := a.answered(doing, answer, header)
	if err != nil || after.ID != r.ID { // whoever asked tells that it is about another one
		return after, err
	}
	return a.whole(ctx, after, edits)
}

// whole reads a user again of whom an answer to a write says less than lists are asked for, or
// not what was written: some attributes come on request alone.
func (a *app) whole(ctx context.Context, r connector.Record, edits []connector.Edit) (connector.Record, error) {
	asked := a.set.Text("attributes")
	for _, e := range edits {
		if len(e.New) > 0 && len(r.Values[e.Native]) == 0 && !record.IsSecret(e.Native) {
			asked += "," + pathOf(e.Native)
		}
	}
	asked = strings.Trim(asked, ",")
	var top map[string]any
	if asked == "" || a.lag > 0 || scimjson.Unmarshal(r.Raw, &top) != nil || a.hasAll(top, asked) {
		return r, nil
	}
	doing := "read user " + r.ID
	body, header, err := a.patient(ctx, doing, "/Users/"+url.PathEscape(r.ID))
	if err == nil {
		body, err = a.withAsked(ctx, doing, r.ID, body, asked)
	}
	if err != nil { // it is done; what it shows is another question
		return r, nil
	}
	now, err := a.answered(doing, body, header)
	if err != nil || now.ID != r.ID {
		return r, nil
	}
	return now, nil
}

// Delete removes a user; one that is gone already is no error.
func (a *app) Delete(ctx context.Context, r connector.Record) error {
	_, _, err := a.do(ctx, "delete user "+r.ID, http.MethodDelete, "/Users/"+url.PathEscape(r.ID), nil, r.Version)
	if connector.KindOf(err) == connector.NotFound {
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
	if _, _, err = a.do(ctx, doing, http.MethodPatch, "/Users/"+url.PathEscape(r.ID), body, ""); a.patchless(err) {
		return a.Reissue(ctx, r, secret)
	}
	return err
}
