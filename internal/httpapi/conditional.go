package httpapi

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"twinning/internal/httpapi/openapi"
	"twinning/internal/service"
)

// conditional answers a GET under a validator that changes with whatever the answer
// stands for, and without a body (304) where the caller has it already. Where the
// thing has a version, the validator begins with it: If-Match goes by that alone.
func conditional(c *echo.Context, next echo.HandlerFunc) error {
	through := c.Response()
	held := &holding{ResponseWriter: through}
	if err := func() error {
		c.SetResponse(held)
		defer c.SetResponse(through) // by which a panic is answered, too
		return next(c)
	}(); err != nil {
		return err
	}
	h := through.Header()
	if held.status == http.StatusOK {
		tag := tagOf(held.body.Bytes())
		if version := strings.Trim(h.Get("ETag"), `"`); version != "" {
			tag = `"` + version + "-" + tag[1:]
		}
		h.Set("ETag", tag)
		if has(c.Request().Header.Values("If-None-Match"), tag) {
			h.Del("Content-Type")
			through.WriteHeader(http.StatusNotModified)
			return nil
		}
	}
	through.WriteHeader(held.status)
	_, err := through.Write(held.body.Bytes())
	return err
}

// tagOf is the validator of a body.
func tagOf(body []byte) string {
	sum := sha256.Sum256(body)
	return `"` + hex.EncodeToString(sum[:12]) + `"`
}

// has tells whether a list of validators names this one; weak ones compare alike
// (RFC 9110 section 13.1.2).
func has(lists []string, tag string) bool {
	for _, list := range lists {
		for _, t := range strings.Split(list, ",") {
			if t = strings.TrimPrefix(strings.TrimSpace(t), "W/"); t == tag || t == "*" {
				return true
			}
		}
	}
	return false
}

// holding keeps an answer back until it is known whether it is needed.
type holding struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

func (w *holding) WriteHeader(status int) { w.status = status }

func (w *holding) Write(b []byte) (int, error) {
	if w.status == 0 {
		w.status = http.StatusOK
	}
	return w.body.Write(b)
}

// preconditioned tells of a change that was made from something else than what is
// there: 412 where the caller said from what, 428 where an operation that wants to
// know it was not told (RFC 6585), 409 elsewhere.
func preconditioned(c *echo.Context, told *service.Error) openapi.Problem {
	p := problem(told)
	switch r := c.Request(); {
	case r.Header.Get("If-Match") != "":
		p.Status = http.StatusPreconditionFailed
	case r.Method == http.MethodPut:
		next := "read it, and send its ETag as If-Match with the change"
		p = openapi.Problem{Type: "urn:twinning:precondition-required", Status: http.StatusPreconditionRequired, Title: "it exists already: say which state of it you change", Next: &next}
	}
	return p
}
