package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	openapitypes "github.com/oapi-codegen/runtime/types"

	"twinning/internal/httpapi/openapi"
	"twinning/internal/service"
)

func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

// dayText is a calendar day as the service takes it.
func dayText(d *openapitypes.Date) *string {
	if d == nil {
		return nil
	}
	text := d.String()
	return &text
}

func page(text, cursor *string, limit *int) service.Page {
	return service.Page{Text: strings.TrimSpace(value(text)), Cursor: value(cursor), Limit: value(limit)}
}

func listed[T any](list []T) map[string]any {
	if list == nil {
		list = []T{}
	}
	return map[string]any{"items": list}
}

func onPage[T any](list []T, next string) map[string]any {
	v := listed(list)
	if next != "" {
		v["next"] = next
	}
	return v
}

func counted[T any](list []T, next string, total int) map[string]any {
	v := onPage(list, next)
	v["total"] = total
	return v
}

// ifMatch reads the version that a change was made from; fallback when the
// caller does not say.
func ifMatch(header *string, fallback int64) (int64, error) {
	if header == nil {
		return fallback, nil
	}
	n, err := strconv.ParseInt(strings.Trim(*header, `W/"`), 10, 64)
	if err != nil {
		return 0, &service.Error{Kind: service.Invalid, Title: "If-Match is not an ETag that this service gave", Field: "If-Match"}
	}
	return n, nil
}

func me(who service.Caller) openapi.Me {
	m := openapi.Me{Name: who.Name, Rights: []openapi.Right{}, Lanes: openapi.Lanes{}}
	for _, r := range who.Rights {
		m.Rights = append(m.Rights, openapi.Right(r))
	}
	for lane, rights := range who.Lanes {
		for _, r := range rights {
			m.Lanes[lane] = append(m.Lanes[lane], openapi.Right(r))
		}
	}
	return m
}

// signedIn answers with the session in a cookie that no script can read and
// that no other site makes the browser send.
type signedIn struct {
	server *server
	in     service.SignedIn
	me     openapi.Me
}

// deviceDays is how long a device is known again.
const deviceDays = 180

func (a signedIn) VisitSignInResponse(w http.ResponseWriter) error {
	http.SetCookie(w, a.server.cookie(Cookie, a.in.Secret, 12*60*60))
	http.SetCookie(w, a.server.cookie(deviceCookie, a.in.Device, deviceDays*24*60*60))
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(a.me)
}

func (s *server) cookie(name, secret string, age int) *http.Cookie {
	return &http.Cookie{Name: s.cookieName(name), Value: secret, Path: "/", MaxAge: age, HttpOnly: true, Secure: s.cfg.TLS, SameSite: http.SameSiteStrictMode}
}

type signedOut struct{ server *server }

func (a signedOut) VisitSignOutResponse(w http.ResponseWriter) error {
	http.SetCookie(w, a.server.cookie(Cookie, "", -1))
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// watch streams a task's state as server-sent events until it ends.
type watch struct {
	ctx     context.Context
	service *service.Service
	task    int64
}

// stillThere is how often a watcher is told that there is nothing new, by which one
// that went away without a word is noticed.
const stillThere = 15 * time.Second

// watchEvery is how often a task is looked at for watchers.
const watchEvery = 250 * time.Millisecond

func (a watch) VisitWatchTaskResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	flush := http.NewResponseController(w)
	last, told := "", time.Now()
	for {
		t, err := a.service.Task(a.ctx, a.task)
		if err != nil {
			return nil // the stream has begun; the watcher asks again
		}
		text, _ := json.Marshal(t)
		if string(text) != last {
			last, told = string(text), time.Now()
			if _, err := fmt.Fprintf(w, "event: task\ndata: %s\n\n", text); err != nil {
				return nil // the watcher went away
			}
			if err := flush.Flush(); err != nil {
				return nil // as above
			}
		}
		if t.Ended != nil {
			return nil
		}
		if time.Since(told) > stillThere {
			told = time.Now()
			if _, err := io.WriteString(w, ": nothing new\n\n"); err != nil || flush.Flush() != nil {
				return nil // the watcher went away
			}
		}
		select {
		case <-a.ctx.Done():
			return nil
		case <-time.After(watchEvery):
		}
	}
}

// versioned is an answer whose version becomes its ETag.
type versioned[T any] struct {
	body    T
	version int64
}

func (v versioned[T]) write(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("ETag", fmt.Sprintf(`"%d"`, v.version))
	return json.NewEncoder(w).Encode(v.body)
}

func (v versioned[T]) VisitGetSystemResponse(w http.ResponseWriter) error  { return v.write(w) }
func (v versioned[T]) VisitGetCharterResponse(w http.ResponseWriter) error { return v.write(w) }
