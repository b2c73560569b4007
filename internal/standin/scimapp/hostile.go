package scimapp

import (
	"bytes"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"path"
	"regexp"
	"slices"
	"strings"

	"twinning/internal/standin"
)

// number is an id that may be said as one: more digits than a float has.
var number = regexp.MustCompile(`^[1-9]\d{15,}$`)

// hostile answers a request, and then alters the answer as it is told to.
func (a *App) hostile(w http.ResponseWriter, r *http.Request, wrong Misbehaviour, inner http.Handler) {
	if !wrong.SayBack && wrong.AnswerID == "" && wrong.AnswerMark == "" && !wrong.GetAnother && !wrong.Endless && wrong.OnRequest == "" && wrong.Gateway == "" && !wrong.JSONNumbers && wrong.MixEvery == 0 {
		inner.ServeHTTP(w, r)
		return
	}
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	a.hear(strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer "))
	var sent map[string]any
	if json.Unmarshal(body, &sent) == nil {
		a.hearPasswords(sent)
	}
	users := strings.HasPrefix(strings.TrimPrefix(r.URL.Path, "/scim/v2"), "/Users")
	if list, id := path.Split(r.URL.Path); r.Method == http.MethodGet && (list == "/scim/v2/Users/" || list == "/scim/v2/Groups/") && (wrong.GetAnother || a.mixes(wrong.MixEvery)) {
		r.URL.Path = list + a.after(id)
	}
	got := httptest.NewRecorder()
	inner.ServeHTTP(got, r)
	var said map[string]any
	if json.Unmarshal(got.Body.Bytes(), &said) != nil {
		said = nil
	}
	if _, endless := said["Resources"]; endless && wrong.Endless {
		said["totalResults"] = 1 << 30
		if q := r.URL.Query().Get("startIndex"); q != "" && q != "1" {
			said["Resources"] = []any{}
		}
	}
	if write := r.Method != http.MethodGet && users && got.Code < 300 && said != nil; write {
		if wrong.AnswerID != "" {
			said["id"] = wrong.AnswerID
		}
		if wrong.AnswerMark != "" {
			said["externalId"] = wrong.AnswerMark
		}
	}
	if wrong.SayBack {
		a.sayBack(said)
	}
	groups := strings.HasPrefix(strings.TrimPrefix(r.URL.Path, "/scim/v2"), "/Groups")
	if wrong.OnRequest != "" && (users || groups) && !strings.Contains(r.URL.Query().Get("attributes"), wrong.OnRequest) {
		list, _ := said["Resources"].([]any)
		for _, user := range append(list, said) {
			if m, is := user.(map[string]any); is {
				delete(m, wrong.OnRequest)
			}
		}
	}
	if wrong.Gateway != "" && users {
		list, _ := said["Resources"].([]any)
		for _, user := range append(list, said) {
			if m, is := user.(map[string]any); is && m["userName"] != nil {
				meta, _ := m["meta"].(map[string]any)
				meta["location"] = wrong.Gateway + "/Users/" + m["id"].(string)
			}
		}
	}
	if wrong.JSONNumbers {
		list, _ := said["Resources"].([]any)
		for _, resource := range append(list, said) {
			if m, is := resource.(map[string]any); is {
				if id, _ := m["id"].(string); number.MatchString(id) {
					m["id"] = json.Number(id)
				}
			}
		}
	}
	maps.Copy(w.Header(), got.Header())
	w.Header().Del("Content-Length")
	w.WriteHeader(got.Code)
	if said == nil {
		_, _ = w.Write(got.Body.Bytes()) // a reader who has gone away
		return
	}
	_ = json.NewEncoder(w).Encode(said)
}

// sayBack puts what was heard into an answer, wherever somebody may read it.
func (a *App) sayBack(said map[string]any) {
	if said == nil {
		return
	}
	heard := standin.SaidBack(a.Heard()...)
	list, _ := said["Resources"].([]any)
	for _, user := range append(list, said) {
		if m, is := user.(map[string]any); is && m["userName"] != nil {
			m["title"] = heard
		}
	}
	if _, refused := said["detail"]; refused {
		said["detail"], said["scimType"] = heard, heard
	}
}

func (a *App) hear(secret string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if secret != "" && !slices.Contains(a.heard, secret) {
		a.heard = append(a.heard, secret)
	}
}

// hearPasswords looks for new passwords in a request, whatever its form.
func (a *App) hearPasswords(v any) {
	switch v := v.(type) {
	case map[string]any:
		if path, _ := v["path"].(string); strings.EqualFold(path, "password") {
			if s, is := v["value"].(string); is {
				a.hear(s)
			}
		}
		for name, inner := range v {
			if s, is := inner.(string); is && strings.EqualFold(name, "password") {
				a.hear(s)
			}
			a.hearPasswords(inner)
		}
	case []any:
		for _, inner := range v {
			a.hearPasswords(inner)
		}
	}
}

// SetToken changes the token that requests must carry.
func (a *App) SetToken(token string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.token = token
}

// Heard are the secrets that hostile answers know: the token, and new passwords.
func (a *App) Heard() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.Clone(a.heard)
}

// mixes counts who asks for one record, and reports whether it is the turn of one to be given another.
func (a *App) mixes(every int) bool {
	if every == 0 {
		return false
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.asked++
	return a.asked%every == 0
}

// after is the id of the user, or the group, behind another one.
func (a *App) after(id string) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, ids := range [][]string{slices.Sorted(maps.Keys(a.users)), slices.Sorted(maps.Keys(a.groups))} {
		if at := slices.Index(ids, id); at >= 0 {
			return ids[(at+1)%len(ids)]
		}
	}
	return id
}
