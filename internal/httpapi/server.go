// Package httpapi is the HTTP door: it finds out who asks and whether they may,
// checks the request against the contract, calls the service, and turns its
// answer into the contract's types. The contract's names are the service's
// JSON names, so the translation is one step.
package httpapi

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/labstack/echo/v5"

	"twinning/api"
	"twinning/internal/core/document"
	"twinning/internal/httpapi/openapi"
	"twinning/internal/service"
)

// Config of the door.
type Config struct {
	Service *service.Service
	Console fs.FS // the built console; nil serves none
	Log     *slog.Logger
	TLS     bool           // browsers come by TLS, to us or to a proxy before us
	Proxies []netip.Prefix // whose word on where a request comes from is taken
}

type server struct {
	cfg        Config
	router     routers.Router
	crossSites *http.CrossOriginProtection
}

// base is where the contract's paths begin.
const base = "/v1"

// New makes the Echo server with every route in place.
func New(cfg Config) (*echo.Echo, error) {
	if cfg.Log == nil {
		cfg.Log = slog.New(slog.DiscardHandler)
	}
	spec, err := openapi.GetSpec()
	if err != nil {
		return nil, err
	}
	router, err := gorillamux.NewRouter(spec)
	if err != nil {
		return nil, err
	}
	s := &server{cfg: cfg, router: router, crossSites: http.NewCrossOriginProtection()}
	e := echo.New()
	e.Logger = cfg.Log
	e.HTTPErrorHandler = s.fail
	e.IPExtractor = addressOf(cfg.Proxies)
	e.Use(s.recovering, pacing, secureHeaders(cfg.TLS))
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	e.GET("/readyz", func(c *echo.Context) error {
		if err := cfg.Service.Ready(c.Request().Context()); err != nil {
			return c.String(http.StatusServiceUnavailable, "the database does not answer\n")
		}
		return c.String(http.StatusOK, "ok\n")
	})
	e.GET("/openapi.yaml", func(c *echo.Context) error { return c.Blob(http.StatusOK, "application/yaml", api.Contract) }) // it is no secret
	group := e.Group(base, s.guard)
	openapi.RegisterHandlers(group, openapi.NewStrictHandler(s, nil))
	if cfg.Console != nil {
		e.GET("/*", s.console)
	}
	return e, nil
}

func secureHeaders(encrypted bool) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			h := c.Response().Header()
			h.Set("X-Content-Type-Options", "nosniff")
			h.Set("Referrer-Policy", "no-referrer")
			h.Set("X-Frame-Options", "DENY")
			h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
			if encrypted {
				h.Set("Strict-Transport-Security", "max-age=31536000")
			}
			return next(c)
		}
	}
}

// addressOf is where a request comes from: the last address that no proxy of ours
// stands at. Without proxies, nobody's word is taken.
func addressOf(proxies []netip.Prefix) echo.IPExtractor {
	direct := echo.ExtractIPDirect()
	return func(r *http.Request) string {
		at := direct(r)
		hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
		for i := len(hops) - 1; i >= 0 && within(proxies, at); i-- {
			hop, err := netip.ParseAddr(strings.TrimSpace(hops[i]))
			if err != nil {
				break
			}
			at = hop.Unmap().String()
		}
		return at
	}
}

func within(proxies []netip.Prefix, at string) bool {
	addr, err := netip.ParseAddr(at)
	return err == nil && slices.ContainsFunc(proxies, func(p netip.Prefix) bool { return p.Contains(addr.Unmap()) })
}

type (
	callerKey  struct{}
	sessionKey struct{}
	sourceKey  struct{}
	deviceKey  struct{}
	listKey    struct{} // which list a request is about
)

// source is the address that a request comes from.
func source(ctx context.Context) string {
	at, _ := ctx.Value(sourceKey{}).(string)
	return at
}

func caller(ctx context.Context) service.Caller {
	who, _ := ctx.Value(callerKey{}).(service.Caller)
	return who
}

// Cookie is the console session's name; behind TLS, browsers hold it to this host
// and to TLS.
const Cookie = "twinning_session"

const deviceCookie = "twinning_device"

func (s *server) cookieName(name string) string {
	if s.cfg.TLS {
		return "__Host-" + name
	}
	return name
}

// guard lets a request through when its operation is known, its caller is
// known and holds the operation's right in the lane that it is about, and it is of
// the contract's form. An operation without x-right is closed to everybody.
func (s *server) guard(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		c.Response().Header().Set("Cache-Control", "no-store")
		r := c.Request()
		route, params, err := s.router.FindRoute(r)
		if err != nil {
			return &service.Error{Kind: service.NotFound, Title: "there is nothing at " + r.Method + " " + strconv.Quote(r.URL.Path)}
		}
		for name, escaped := range params {
			if params[name], err = url.PathUnescape(escaped); err != nil {
				return malformed(name, "it is not escaped as an address must be")
			}
		}
		if right, _ := route.Operation.Extensions["x-right"].(string); right != "none" {
			who, err := s.identify(r)
			if err != nil {
				return err
			}
			if err := s.allowed(r, who, right, params); err != nil {
				return err
			}
			r = r.WithContext(context.WithValue(r.Context(), callerKey{}, who))
			if streams(route.Operation) {
				r = r.WithContext(context.WithValue(r.Context(), stillKey{}, s.still(r, right, params)))
			}
			leave, err := s.cfg.Service.Share(r.Context(), who, streams(route.Operation))
			if err != nil {
				return err
			}
			defer leave()
		} else if err := s.crossSites.Check(r); err != nil {
			return &service.Error{Kind: service.Denied, Title: "requests from other sites are refused"}
		}
		r = r.WithContext(context.WithValue(r.Context(), sourceKey{}, c.RealIP()))
		if device, err := r.Cookie(s.cookieName(deviceCookie)); err == nil {
			r = r.WithContext(context.WithValue(r.Context(), deviceKey{}, device.Value))
		}
		raw, err := s.read(c.Response(), r, route.Operation)
		if err != nil {
			return err
		}
		if err := s.validate(r, route, params, raw); err != nil {
			return err
		}
		r = r.WithContext(context.WithValue(r.Context(), listKey{}, listOf(r)))
		c.SetRequest(r)
		if r.Method == http.MethodGet && !streams(route.Operation) {
			return conditional(c, next)
		}
		return s.once(c, route.Operation, raw, next)
	}
}

// streams tells of an operation that lasts as long as the caller sends or takes: it
// holds nothing that others wait for, but places of its own kind.
func streams(op *openapi3.Operation) bool {
	if op.RequestBody != nil && op.RequestBody.Value.Content[asFile] != nil {
		return true
	}
	ok := op.Responses.Status(http.StatusOK)
	return ok != nil && len(ok.Value.Content) > 0 && ok.Value.Content[asJSON] == nil
}

// stillKey finds what tells whether whoever is being sent something may still have it.
type stillKey struct{}

// still asks anew who sends a request, and whether they hold the right.
func (s *server) still(r *http.Request, right string, params map[string]string) func() bool {
	return func() bool {
		who, err := s.identify(r)
		return err == nil && s.allowed(r, who, right, params) == nil
	}
}

// allowed tells whether the caller holds the right, everywhere or in the lane that
// the request is about.
func (s *server) allowed(r *http.Request, who service.Caller, right string, params map[string]string) error {
	if right == "self" || right != "" && who.May(service.Right(right)) {
		return nil
	}
	if right != "" && len(who.Lanes) > 0 {
		lane, err := s.cfg.Service.LaneOf(r.Context(), params)
		if err != nil {
			return err
		}
		if who.MayIn(service.Right(right), lane) {
			return nil
		}
	}
	return &service.Error{Cause: "right-missing", Kind: service.Denied, Title: fmt.Sprintf("this needs the right %q", right), Detail: fmt.Sprintf("%s holds %v", who.Name, who.Rights), Next: "ask an administrator for it"}
}

// recovering turns a panic into an error of this one request, told by a number
// under which the log has more.
func (s *server) recovering(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) (err error) {
		w := newTaken(c.Response())
		c.SetResponse(w)
		defer func() {
			p := recover()
			if p == nil {
				return
			}
			if p == http.ErrAbortHandler { // on purpose
				panic(p)
			}
			err = s.cfg.Service.Mistake(c.Request().Method+" "+c.Request().URL.Path, p)
			if w.begun {
				s.cfg.Log.Error("an answer was broken off by it", "error", err.Error())
				panic(http.ErrAbortHandler)
			}
		}()
		return next(c)
	}
}

func (s *server) identify(r *http.Request) (service.Caller, error) {
	if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return s.cfg.Service.Who(r.Context(), token, false)
	}
	cookie, err := r.Cookie(s.cookieName(Cookie))
	if err != nil {
		return service.Caller{}, &service.Error{Kind: service.NotSigned, Title: "sign in first", Detail: "this needs a bearer token or a console session"}
	}
	// A cookie travels by itself: what changes anything must come from our own pages.
	if err := s.crossSites.Check(r); err != nil {
		return service.Caller{}, &service.Error{Kind: service.Denied, Title: "requests from other sites are refused"}
	}
	who, err := s.cfg.Service.Who(r.Context(), cookie.Value, true)
	*r = *r.WithContext(context.WithValue(r.Context(), sessionKey{}, cookie.Value))
	return who, err
}

// explain takes field and reason out of the validator's errors, whose own text
// embeds whole schemas and values.
func explain(err error) (field, detail string) {
	var bad *openapi3filter.RequestError
	var schema *openapi3.SchemaError
	if errors.As(err, &bad) && bad.Parameter != nil {
		field = bad.Parameter.Name
	}
	if errors.As(err, &schema) {
		if path := strings.Join(schema.JSONPointer(), "."); path != "" {
			field = path
		}
		field, reason := plainReason(field, schema.Reason)
		value := schema.Value
		if bad != nil && bad.Parameter != nil && bad.Input != nil {
			value = bad.Input.Request.URL.Query().Get(bad.Parameter.Name)
		}
		return field, plainEnum(value, reason)
	}
	if bad != nil {
		if bad.Reason != "" {
			return field, bad.Reason
		}
		return field, "the body can't be read as JSON"
	}
	return field, "it can't be read"
}

// plainEnum says of a value that it is none of those there are, and which is meant;
// any other reason stays as it is.
func plainEnum(value any, reason string) string {
	list, ok := strings.CutPrefix(reason, "value must be one of ")
	if !ok {
		if list, ok = strings.CutPrefix(reason, "value is not one of the allowed values "); !ok {
			return reason
		}
	}
	var words []string
	for _, w := range strings.Split(strings.Trim(list, "[]"), ",") {
		words = append(words, strings.Trim(strings.TrimSpace(w), `'"`))
	}
	if word, is := value.(string); is {
		return fmt.Sprintf("there is no %.60q%s; expected one of %s", word, document.Suggest(word, words), strings.Join(words, ", "))
	}
	return "expected one of " + strings.Join(words, ", ")
}

// plainReason takes the first fault out of what the validator says over several
// lines, under an address that means nothing to anybody.
func plainReason(field, reason string) (string, string) {
	for _, l := range strings.Split(reason, "\n") {
		at, fault, ok := strings.Cut(strings.TrimPrefix(strings.TrimSpace(l), "- at '"), "': ")
		if !ok || !strings.Contains(l, "- at '") {
			continue
		}
		if path := strings.ReplaceAll(strings.Trim(at, "/"), "/", "."); path != "" {
			field = path
		}
		return field, fault
	}
	return field, reason
}

var statuses = map[service.Kind]int{
	service.Invalid: http.StatusUnprocessableEntity, service.NotFound: http.StatusNotFound, service.Conflict: http.StatusConflict, service.Denied: http.StatusForbidden,
	service.Internal: http.StatusInternalServerError, service.Malformed: http.StatusBadRequest, service.Media: http.StatusUnsupportedMediaType,
	service.Changed: http.StatusConflict, service.NotSigned: http.StatusUnauthorized, service.Slow: http.StatusTooManyRequests, service.Stopped: http.StatusLocked,
}

// fail answers an error as problem+json (RFC 9457). What is not meant for the
// caller goes to the log, under nobody's name.
func (s *server) fail(c *echo.Context, err error) {
	p := openapi.Problem{Type: "about:blank"}
	var told *service.Error
	var status interface{ StatusCode() int }
	switch {
	case errors.As(err, &told):
		p = problem(told)
		if told.Kind == service.Changed {
			p = preconditioned(c, told)
		}
		if told.Wait > 0 {
			c.Response().Header().Set("Retry-After", strconv.Itoa(int(told.Wait.Seconds())+1))
		}
	case service.OfAnotherList(err):
		p = problem(&service.Error{Cause: "cursor-of-another-list", Kind: service.Invalid, Title: "the cursor belongs to another list", Detail: "it was given under other filters, or before there was a newer result", Field: "cursor", Next: "ask for the list from its beginning, without a cursor"})
	case service.Unreadable(err):
		told := service.Error{Kind: service.Malformed, Title: "the request can't be read", Detail: err.Error()}
		p = problem(&told)
	case errors.As(err, &status) && status.StatusCode() < http.StatusInternalServerError:
		p.Status, p.Title = status.StatusCode(), http.StatusText(status.StatusCode())
	case c.Request().Context().Err() != nil:
		return
	case service.Away(err):
		s.cfg.Log.Error("PostgreSQL does not answer", "method", c.Request().Method, "path", c.Request().URL.Path, "error", err.Error())
		next := "is PostgreSQL running? Look at what is there, then try again"
		p.Status, p.Title, p.Next = http.StatusServiceUnavailable, "PostgreSQL does not answer: it is not known whether this was done", &next
	default:
		p = problem(s.cfg.Service.Mistake(c.Request().Method+" "+c.Request().URL.Path, err))
	}
	body, _ := json.Marshal(p)
	if err := c.Blob(p.Status, "application/problem+json", body); err != nil {
		s.cfg.Log.Warn("an answer could not be sent", "error", err.Error())
	}
}

func problem(e *service.Error) openapi.Problem {
	p := openapi.Problem{Type: "urn:twinning:" + cmp.Or(e.Cause, string(e.Kind)), Title: e.Title, Status: statuses[e.Kind]}
	optional := func(s string) *string {
		if s == "" {
			return nil
		}
		return &s
	}
	p.Detail, p.Field, p.Next = optional(e.Detail), optional(e.Field), optional(e.Next)
	if len(e.Problems) > 0 {
		list := make([]openapi.Fault, len(e.Problems))
		for i, x := range e.Problems {
			list[i] = openapi.Fault{Detail: x.Message, Field: optional(x.Path)}
			if x.Line > 0 {
				list[i].Line, list[i].Column = &x.Line, &x.Column
			}
		}
		p.Errors = &list
	}
	return p
}

// console serves the built pages: assets for a year, everything else is the
// one page whose own router knows the path.
func (s *server) console(c *echo.Context) error {
	path := strings.TrimPrefix(c.Request().URL.Path, "/")
	if strings.HasPrefix(path, "v1/") {
		return &service.Error{Kind: service.NotFound, Title: "there is nothing at " + c.Request().URL.Path}
	}
	if info, err := fs.Stat(s.cfg.Console, path); err == nil && !info.IsDir() && path != "index.html" {
		if strings.HasPrefix(path, "assets/") {
			c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		return c.FileFS(path, s.cfg.Console)
	}
	if strings.HasPrefix(path, "assets/") {
		return c.String(http.StatusNotFound, "not found\n")
	}
	page, err := fs.ReadFile(s.cfg.Console, "index.html")
	if err != nil {
		return c.String(http.StatusNotFound, "The console is not built into this program; run make build.\n")
	}
	c.Response().Header().Set("Cache-Control", "no-cache")
	return c.HTMLBlob(http.StatusOK, page)
}

// as turns an answer of the service into a type of the contract. The JSON names
// are the same by design; a test holds every answer against the contract.
func as[T any](v any, err error) (T, error) {
	var out T
	if err != nil {
		return out, err
	}
	b, err := json.Marshal(v)
	if err == nil {
		err = json.Unmarshal(b, &out)
	}
	if err != nil {
		return out, fmt.Errorf("an answer does not fit the contract: %w", err)
	}
	return out, nil
}
