package scimapp

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"time"

	"github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/optional"
	"github.com/elimity-com/scim/schema"
)

// observer is an extension of the observatories' own.
var observer = schema.Schema{
	ID: "urn:larkspur:params:scim:schemas:2.0:Observer", Name: optional.NewString("Observer"), Description: optional.NewString("What an observer may use"),
	Attributes: []schema.CoreAttribute{schema.SimpleCoreAttribute(schema.SimpleStringParams(schema.StringParams{Name: "dome"}))},
}

// protocol answers what the library leaves to others, and spoils what it is
// told to spoil. The path is below /scim.
func (a *App) protocol(w http.ResponseWriter, r *http.Request, wrong Misbehaviour) {
	if wrong.ClockMinutes != 0 {
		w.Header().Set("Date", time.Now().Add(time.Duration(wrong.ClockMinutes)*time.Minute).UTC().Format(http.TimeFormat))
	}
	path := strings.TrimPrefix(r.URL.Path, "/v2")
	switch {
	case path == "/ServiceProviderConfig":
		a.abilities(w, wrong)
	case path == "/Bulk" && r.Method == http.MethodPost:
		a.bulk(w, r, wrong.BulkStops)
	case r.Method == http.MethodPatch && wrong.NoPatch:
		refuse(w, errors.ScimError{Status: cmp.Or(wrong.PatchIs, http.StatusNotImplemented), Detail: "PATCH is not offered"})
	case r.Method == http.MethodPut && wrong.NoPut:
		refuse(w, errors.ScimError{Status: http.StatusNotImplemented, Detail: "PUT is not offered"})
	case r.Method == http.MethodPut && wrong.Silent:
		got := httptest.NewRecorder()
		if a.inner.ServeHTTP(got, r); got.Code == http.StatusOK {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		w.Header().Set("Content-Type", "application/scim+json")
		w.WriteHeader(got.Code)
		_, _ = w.Write(got.Body.Bytes())
	case wrong.EqOnly && !plainFilter(r.URL.Query().Get("filter")):
		refuse(w, errors.ScimError{Status: http.StatusBadRequest, ScimType: errors.ScimTypeInvalidFilter, Detail: "filters compare one attribute by eq"})
	case r.Method == http.MethodPatch && wrong.Wants != "" && !speaks(r, wrong.Wants):
		refuse(w, errors.ScimError{Status: http.StatusBadRequest, ScimType: errors.ScimTypeInvalidSyntax, Detail: "the operation is not understood"})
	case r.Method == http.MethodGet && path == "/Users":
		a.list(w, r, wrong)
	default:
		a.inner.ServeHTTP(w, r)
	}
}

// plainFilter reports whether a filter is one comparison by eq, or none.
func plainFilter(filter string) bool {
	fields := strings.Fields(filter)
	return len(fields) == 0 || len(fields) >= 3 && strings.EqualFold(fields[1], "eq") && !strings.ContainsAny(fields[0], "[(") && !strings.Contains(strings.ToLower(filter), " or ") && !strings.Contains(strings.ToLower(filter), " and ")
}

// speaks reports whether a PATCH is in the dialect that alone is taken.
func speaks(r *http.Request, wants string) bool {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return false
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	var told struct {
		Operations []struct{ Op, Path string }
	}
	if json.Unmarshal(body, &told) != nil {
		return false
	}
	for _, op := range told.Operations {
		if wants == "title-case" && op.Op != strings.ToUpper(op.Op[:1])+op.Op[1:] || wants == "no-path" && op.Path != "" && !strings.EqualFold(op.Op, "remove") {
			return false
		}
	}
	return true
}

func (a *App) abilities(w http.ResponseWriter, wrong Misbehaviour) {
	if wrong.NoDiscover {
		refuse(w, errors.ScimError{Status: http.StatusNotFound, Detail: "there is nothing here"})
		return
	}
	is := func(b bool) map[string]any { return map[string]any{"supported": b} }
	answer(w, http.StatusOK, map[string]any{
		"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"},
		"patch":   is(!wrong.NoPatch), "filter": map[string]any{"supported": true, "maxResults": 200}, "sort": is(false), "etag": is(!wrong.NoETag), "changePassword": is(true),
		"bulk":                  map[string]any{"supported": true, "maxOperations": 50, "maxPayloadSize": 1 << 20},
		"pagination":            map[string]any{"index": true, "cursor": wrong.Cursor},
		"authenticationSchemes": []any{},
	})
}

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/scim+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body) // a reader who has gone away
}

// bulk carries operations out one by one (RFC 7644 section 3.7), or the first of them alone.
func (a *App) bulk(w http.ResponseWriter, r *http.Request, stops int) {
	var asked struct {
		Operations []struct {
			Method, BulkID, Version, Path string
			Data                          json.RawMessage
		}
	}
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&asked); err != nil || len(asked.Operations) > 50 {
		refuse(w, errors.ScimError{Status: http.StatusRequestEntityTooLarge, Detail: "at most 50 operations and 1 MiB"})
		return
	}
	var results []any
	for i, op := range asked.Operations {
		if stops > 0 && i == stops {
			break
		}
		inner := httptest.NewRequest(op.Method, "/v2"+op.Path, bytes.NewReader(op.Data))
		if op.Version != "" {
			inner.Header.Set("If-Match", op.Version)
		}
		got := httptest.NewRecorder()
		a.inner.ServeHTTP(got, inner)
		result := map[string]any{"method": op.Method, "bulkId": op.BulkID, "status": strconv.Itoa(got.Code)}
		var body map[string]any
		if json.Unmarshal(got.Body.Bytes(), &body) == nil {
			if got.Code < 300 {
				result["location"] = "https://" + r.Host + "/scim/v2/Users/" + body["id"].(string) // the library always names it
			} else {
				result["response"] = body
			}
		}
		results = append(results, result)
	}
	answer(w, http.StatusOK, map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:BulkResponse"}, "Operations": results})
}

// list gives a page of users, by index or by cursor, with what is wrong in it.
func (a *App) list(w http.ResponseWriter, r *http.Request, wrong Misbehaviour) {
	q := r.URL.Query()
	cursor := ""
	if q.Has("cursor") {
		if cursor = q.Get("cursor"); cursor != "" && wrong.OldCursor {
			refuse(w, errors.ScimError{Status: http.StatusBadRequest, ScimType: "expiredCursor", Detail: "the cursor is too old"})
			return
		}
		start, _ := base64.RawURLEncoding.DecodeString(cursor)
		if cursor == "" {
			start = []byte("1")
		}
		q.Set("startIndex", string(start))
	}
	first := q.Get("startIndex") == "" || q.Get("startIndex") == "1"
	if wrong.RepeatPage {
		q.Set("startIndex", "1")
	}
	if n, err := strconv.Atoi(q.Get("count")); wrong.PageMost > 0 && (err != nil || n > wrong.PageMost) {
		q.Set("count", strconv.Itoa(wrong.PageMost))
	}
	ask := r.Clone(r.Context())
	ask.URL.RawQuery = q.Encode()
	got := httptest.NewRecorder()
	a.inner.ServeHTTP(got, ask)
	var page map[string]any
	if got.Code != http.StatusOK || json.Unmarshal(got.Body.Bytes(), &page) != nil {
		w.WriteHeader(got.Code)
		_, _ = w.Write(got.Body.Bytes())
		return
	}
	users, _ := page["Resources"].([]any)
	total, _ := page["totalResults"].(float64)
	if q.Has("cursor") {
		start, _ := strconv.Atoi(q.Get("startIndex"))
		delete(page, "startIndex")
		if next := start + len(users); next <= int(total) {
			page["nextCursor"] = base64.RawURLEncoding.EncodeToString([]byte(strconv.Itoa(next)))
		}
	}
	if wrong.SkipUsers && !first && len(users) > 0 {
		users = users[1:]
	}
	if wrong.HideInactive && !strings.Contains(q.Get("filter"), "active") {
		shown := []any{}
		for _, u := range users {
			if m, _ := u.(map[string]any); m["active"] != false {
				shown = append(shown, u)
			}
		}
		total -= float64(len(users) - len(shown))
		users = shown
	}
	page["Resources"], page["totalResults"] = users, int(total)+wrong.TotalOff
	a.spoil(w, page, wrong)
}

// spoil sends a page, or what is left of it.
func (a *App) spoil(w http.ResponseWriter, page map[string]any, wrong Misbehaviour) {
	text, _ := json.Marshal(page) // came from JSON
	switch {
	case wrong.HTML:
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, "<!doctype html><title>Sign in</title>")
	case wrong.CutJSON:
		w.Header().Set("Content-Type", "application/scim+json")
		_, _ = w.Write(text[:len(text)/2])
	case wrong.ResetPage:
		w.Header().Set("Content-Type", "application/scim+json")
		w.Header().Set("Content-Length", strconv.Itoa(len(text)))
		_, _ = w.Write(text[:len(text)/2])
		panic(http.ErrAbortHandler)
	default:
		w.Header().Set("Content-Type", "application/scim+json")
		_, _ = w.Write(text)
	}
}

// token gives a client a token (RFC 6749 section 4.4): the client is
// "twinning", its secret the application's own.
func (a *App) issue(w http.ResponseWriter, r *http.Request) {
	id, secret, ok := r.BasicAuth()
	if !ok {
		id, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	w.Header().Set("Content-Type", "application/json")
	if id != "twinning" || secret != a.token || r.FormValue("grant_type") != "client_credentials" {
		w.WriteHeader(http.StatusUnauthorized)
		_, _ = io.WriteString(w, `{"error": "invalid_client"}`)
		return
	}
	var raw [16]byte
	_, _ = rand.Read(raw[:]) // never fails
	token := hex.EncodeToString(raw[:])
	a.mu.Lock()
	a.issued = map[string]bool{token: true} // a new one ends those before
	a.mu.Unlock()
	_ = json.NewEncoder(w).Encode(map[string]any{"access_token": token, "token_type": "Bearer", "expires_in": 3600})
}

// Revoke ends every token that was given.
func (a *App) Revoke() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.issued = nil
}

// known reports whether a request carries the application's token, or one that
// was given for it.
func (a *App) known(r *http.Request) bool {
	token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	a.mu.Lock()
	defer a.mu.Unlock()
	return ok && (token == a.token || a.issued[token])
}
