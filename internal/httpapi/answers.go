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

func page(ctx context.Context, text, cursor *string, limit *int) service.Page {
	list, _ := ctx.Value(listKey{}).(asked)
	return service.Page{Text: strings.TrimSpace(value(text)), Cursor: value(cursor), Limit: value(limit), Of: list.of, Count: list.count}
}

// asked is which list a request is about, all of it but where it goes on and how much
// of it is wanted; and whether it is to be counted.
type asked struct {
	of    string
	count bool
}

func listOf(r *http.Request) asked {
	q := r.URL.Query()
	count := q.Get("count") == "true"
	for _, name := range []string{"cursor", "limit", "count"} {
		q.Del(name)
	}
	return asked{r.URL.Path + "?" + q.Encode(), count}
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
		v["cursor"] = next
	}
	return v
}

func counted[T any](list []T, next string, total int) map[string]any {
	v := onPage(list, next)
	if total >= 0 {
		v["total"] = total
	}
	return v
}

// ifMatch reads the version that a change was made from; none where the caller does
// not say, and so can mean only what does not exist yet; any where whatever there is is
// meant (*).
func ifMatch(header *string, none, any int64) (int64, error) {
	switch {
	case header == nil:
		return none, nil
	case strings.TrimSpace(*header) == "*":
		return any, nil
	}
	version, _, _ := strings.Cut(strings.Trim(*header, `W/"`), "-")
	n, err := strconv.ParseInt(version, 10, 64)
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

// stillThere is how often a watcher is told that there is nothing new, by which one
// that went away without a word is noticed.
const stillThere = 15 * time.Second

// watchEvery is how often a task is looked at for watchers, listenEvery whether
// anything happened, askEvery whether whoever listens may still hear it.
const (
	watchEvery  = 250 * time.Millisecond
	listenEvery = time.Second
	askEvery    = time.Second
)

// listenLongest is when a listener has to come back.
const listenLongest = 5 * time.Minute

// stream sends server-sent events until there are no more, or nobody listens.
type stream struct {
	ctx   context.Context
	every time.Duration
	// next are the events that there are now; over says that they were the last.
	next func() (list []service.Event, over bool, err error)
}

func (a stream) write(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	flush := http.NewResponseController(w)
	if flush.Flush() != nil {
		return nil // the watcher went away
	}
	may, _ := a.ctx.Value(stillKey{}).(func() bool)
	told, asked := time.Now(), time.Now()
	for {
		if may != nil && time.Since(asked) >= askEvery {
			if !may() {
				return nil // who has lost the right hears nothing more
			}
			asked = time.Now()
		}
		list, over, err := a.next()
		if err != nil {
			return nil // the stream has begun; the watcher asks again
		}
		for _, e := range list {
			text, err := json.Marshal(e.Body)
			if err != nil {
				return err
			}
			if e.Number > 0 {
				fmt.Fprintf(w, "id: %d\n", e.Number) // what is wrong with w shows below
			}
			if _, err := fmt.Fprintf(w, "event: %s\ndata: %s\n\n", e.Kind, text); err != nil {
				return nil // the watcher went away
			}
		}
		if len(list) == 0 && time.Since(told) > stillThere {
			if _, err := io.WriteString(w, ": nothing new\n\n"); err != nil {
				return nil // as above
			}
			list = append(list, service.Event{})
		}
		if len(list) > 0 {
			told = time.Now()
			if flush.Flush() != nil {
				return nil // as above
			}
		}
		if over {
			return nil
		}
		select {
		case <-a.ctx.Done():
			return nil
		case <-time.After(a.every):
		}
	}
}

func (a stream) VisitWatchTaskResponse(w http.ResponseWriter) error   { return a.write(w) }
func (a stream) VisitWatchEventsResponse(w http.ResponseWriter) error { return a.write(w) }

// begun answers that work has begun, and where to see how it goes.
type begun[T any] struct {
	body T
	at   string
}

func beginning[T any](v any, err error, at func(T) string) (begun[T], error) {
	body, err := as[T](v, err)
	if err != nil {
		return begun[T]{}, err
	}
	return begun[T]{body, at(body)}, nil
}

func (a begun[T]) write(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", asJSON)
	w.Header().Set("Location", a.at)
	w.WriteHeader(http.StatusAccepted)
	return json.NewEncoder(w).Encode(a.body)
}

func taskAt(t openapi.Task) string { return fmt.Sprintf("%s/tasks/%d", base, t.Id) }
func runAt(r openapi.Run) string   { return fmt.Sprintf("%s/runs/%d", base, r.Id) }

func (a begun[T]) VisitTakeRosterResponse(w http.ResponseWriter) error     { return a.write(w) }
func (a begun[T]) VisitReconcileResponse(w http.ResponseWriter) error      { return a.write(w) }
func (a begun[T]) VisitTryEvidenceResponse(w http.ResponseWriter) error    { return a.write(w) }
func (a begun[T]) VisitVerifyRunResponse(w http.ResponseWriter) error      { return a.write(w) }
func (a begun[T]) VisitDraftPlanResponse(w http.ResponseWriter) error      { return a.write(w) }
func (a begun[T]) VisitDraftActionResponse(w http.ResponseWriter) error    { return a.write(w) }
func (a begun[T]) VisitDraftUndoResponse(w http.ResponseWriter) error      { return a.write(w) }
func (a begun[T]) VisitLoadSheetResponse(w http.ResponseWriter) error      { return a.write(w) }
func (a begun[T]) VisitCompareCharterResponse(w http.ResponseWriter) error { return a.write(w) }
func (a begun[T]) VisitRunPlanResponse(w http.ResponseWriter) error        { return a.write(w) }

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
