package httpapi

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/labstack/echo/v5"

	"twinning/internal/core/budget"
	"twinning/internal/core/document"
	"twinning/internal/service"
)

const (
	asJSON = "application/json"
	asFile = "application/octet-stream"
)

func malformed(field, detail string) error {
	title := "the request can't be read"
	if field != "" {
		detail = field + ": " + detail
	}
	return &service.Error{Kind: service.Malformed, Title: title, Detail: detail, Field: field}
}

// read takes the body of a request, once and strictly, whatever its content type
// says: a request that two readers could take for two things is none. raw is the
// body, but for that of a file, which is read by whoever keeps it.
func (s *server) read(w http.ResponseWriter, r *http.Request, op *openapi3.Operation) (raw []byte, err error) {
	if op.RequestBody == nil {
		b, err := io.ReadAll(io.LimitReader(r.Body, 1))
		if err != nil || len(b) > 0 {
			return nil, malformed("", "this operation takes no body")
		}
		return nil, nil
	}
	wanted := op.RequestBody.Value
	media, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil {
		media = ""
	}
	if wanted.Content[asFile] != nil {
		if media != asFile && (media != "" || r.ContentLength != 0 || wanted.Required) {
			return nil, media415(media, asFile)
		}
		return nil, nil
	}
	raw, err = io.ReadAll(http.MaxBytesReader(w, r.Body, budget.Body.Value()))
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		return nil, &service.Error{Kind: service.Invalid, Title: budget.Body.Over(1<<62, "the request").Error()}
	case err != nil:
		return nil, malformed("", "the body breaks off")
	case len(raw) == 0 && !wanted.Required:
		return nil, nil
	case media != asJSON:
		return nil, media415(media, asJSON)
	}
	if field, err := budget.Strict(raw); err != nil {
		return nil, malformed(field, err.Error())
	}
	d := json.NewDecoder(bytes.NewReader(raw))
	var whole any
	if err := d.Decode(&whole); err != nil {
		return nil, malformed("", "the body can't be read as JSON")
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, malformed("", "more follows the JSON value in the body")
	}
	r.Body = io.NopCloser(bytes.NewReader(raw))
	return raw, nil
}

func media415(got, want string) error {
	if got == "" {
		got = "nothing"
	}
	return &service.Error{Kind: service.Media, Title: fmt.Sprintf("the body's Content-Type is %s; this operation takes %s", got, want)}
}

// pacing gives every body a deadline that grows with it, read or not: a connection
// that sends nothing, or a byte now and then, is ended.
func pacing(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if r := c.Request(); r.ContentLength != 0 {
			p := &paced{ReadCloser: r.Body, connection: http.NewResponseController(c.Response()), began: time.Now()}
			p.extend()
			r = r.WithContext(r.Context()) // the server's own keeps its body: it must know what was read of it
			r.Body = p
			c.SetRequest(r)
		}
		return next(c)
	}
}

type paced struct {
	io.ReadCloser
	connection *http.ResponseController
	began      time.Time
	got        int64
}

// slowest is how many bytes a second a body must keep up in the long run.
const slowest = 16 << 10

// patience is for whatever has not begun to come, or to be taken.
func patience() time.Duration { return time.Duration(budget.Patience.Value()) * time.Second }

func (p *paced) extend() {
	_ = p.connection.SetReadDeadline(p.began.Add(patience() + time.Duration(p.got)*time.Second/slowest)) // a recorder in a test has none
}

func (p *paced) Read(b []byte) (n int, err error) {
	p.extend()
	n, err = p.ReadCloser.Read(b)
	p.got += int64(n)
	if err == io.EOF { // it is all there: what is computed now may take its time
		_ = p.connection.SetReadDeadline(time.Time{})
	} // else the deadline stays: the server drops what is left of a body before it answers
	return n, err
}

// taken makes sure that an answer is taken: whoever stops reading is cut off.
type taken struct {
	http.ResponseWriter
	connection *http.ResponseController
	begun      bool
}

func newTaken(w http.ResponseWriter) *taken {
	t := &taken{ResponseWriter: w, connection: http.NewResponseController(w)}
	_ = t.connection.SetWriteDeadline(time.Time{}) // the last answer's deadline on this connection is over
	return t
}

// Unwrap lets a response controller find what it controls.
func (t *taken) Unwrap() http.ResponseWriter { return t.ResponseWriter }

func (t *taken) WriteHeader(status int) {
	t.begun = true
	t.ResponseWriter.WriteHeader(status)
}

func (t *taken) Write(b []byte) (n int, err error) {
	t.begun = true
	for {
		_ = t.connection.SetWriteDeadline(time.Now().Add(patience()))
		part := b[:min(len(b), 64<<10)] // a large piece may take longer than one patience
		m, err := t.ResponseWriter.Write(part)
		n += m
		if b = b[m:]; err != nil || len(b) == 0 {
			return n, err
		}
	}
}

// parameters refuses what no parameter of ours can hold.
func parameters(r *http.Request, op *openapi3.Operation, path map[string]string) error {
	check := func(name, v string) error {
		switch {
		case !utf8.ValidString(v):
			return malformed(name, budget.ErrNotUTF8.Error())
		case strings.IndexByte(v, 0) >= 0:
			return malformed(name, budget.ErrNUL.Error())
		}
		return nil
	}
	for name, v := range path {
		if err := check(name, v); err != nil {
			return err
		}
	}
	query := r.URL.Query()
	var names []string
	for _, p := range op.Parameters {
		if p.Value != nil && p.Value.In == openapi3.ParameterInQuery {
			names = append(names, p.Value.Name)
		}
	}
	for name, list := range query {
		for _, v := range list {
			if err := check(name, v); err != nil {
				return err
			}
		}
		if len(list) > 1 {
			return malformed(name, "it is given twice")
		}
		if !slices.Contains(names, name) {
			return &service.Error{Kind: service.Invalid, Title: fmt.Sprintf("there is no parameter %.60q%s", name, document.Suggest(name, names)), Detail: took(names), Field: name}
		}
	}
	for _, p := range op.Parameters {
		x := p.Value
		if x == nil || x.In != openapi3.ParameterInQuery || x.Schema == nil || x.Schema.Value == nil || !x.Schema.Value.Type.Is("number") || !query.Has(x.Name) {
			continue
		}
		if n, err := strconv.ParseFloat(query.Get(x.Name), 64); err != nil || math.IsNaN(n) || math.IsInf(n, 0) {
			return malformed(x.Name, "it is no number")
		}
	}
	return nil
}

func took(names []string) string {
	if len(names) == 0 {
		return "this operation takes none"
	}
	return "this operation takes " + strings.Join(names, ", ")
}

// validate holds a request against the contract.
func (s *server) validate(r *http.Request, route *routers.Route, params map[string]string, raw []byte) error {
	if err := parameters(r, route.Operation, params); err != nil {
		return err
	}
	seen := r.WithContext(r.Context()) // the validator takes all of a body into memory, that of a file too
	if seen.Body = http.NoBody; raw != nil {
		seen.Body = io.NopCloser(bytes.NewReader(raw))
	}
	err := openapi3filter.ValidateRequest(r.Context(), &openapi3filter.RequestValidationInput{
		Request: seen, PathParams: params, Route: route,
		Options: &openapi3filter.Options{MultiError: true, ExcludeRequestBody: raw == nil, AuthenticationFunc: openapi3filter.NoopAuthenticationFunc},
	})
	if err == nil {
		return nil
	}
	e := &service.Error{Kind: service.Invalid, Cause: "request-invalid", Title: "the request is not of the contract's form"}
	faults := apart(err)
	for _, f := range faults {
		field, detail := explain(f)
		e.Problems = append(e.Problems, document.Problem{Path: field, Message: detail})
	}
	e.Field, e.Detail = e.Problems[0].Path, e.Problems[0].Message
	if unreadable(faults[0]) {
		e.Kind = service.Malformed
	}
	if e.Field != "" { // the fault alone, in one sentence
		e.Title, e.Detail = e.Field+": "+e.Detail, ""
	}
	return e
}

// apart are the single faults of a request, at most mostFaults.
func apart(err error) (list []error) {
	var many openapi3.MultiError
	if !errors.As(err, &many) || len(many) == 0 {
		return []error{err}
	}
	for _, e := range many {
		var bad *openapi3filter.RequestError
		var inside openapi3.MultiError
		if errors.As(e, &bad) && bad.Parameter == nil && errors.As(bad.Err, &inside) { // what is wrong with the body, one by one
			list = append(list, apart(inside)...)
			continue
		}
		list = append(list, e)
	}
	return list[:min(len(list), mostFaults)]
}

// mostFaults of a request are told at once.
const mostFaults = 50

// unreadable tells a value that is none of its type from one that is not allowed.
func unreadable(err error) bool {
	var parse *openapi3filter.ParseError
	return errors.As(err, &parse)
}
