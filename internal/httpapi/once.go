package httpapi

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/labstack/echo/v5"

	"twinning/internal/core/budget"
	"twinning/internal/httpapi/openapi"
	"twinning/internal/service"
)

// named reports whether the contract lets a request of an operation name itself.
func named(op *openapi3.Operation) bool {
	return op.Parameters.GetByInAndName(openapi3.ParameterInHeader, idempotencyKey) != nil
}

const idempotencyKey = "Idempotency-Key"

// holdsSecret is of an operation whose answer nobody may see a second time.
func holdsSecret(op *openapi3.Operation) bool { return op.Extensions["x-secret"] == true }

// once carries out a request that names itself one time only, however often it is
// sent: its key commits with its act, and a request that was carried out is answered
// as it was, unless its answer holds a secret.
func (s *server) once(c *echo.Context, op *openapi3.Operation, raw []byte, next echo.HandlerFunc) error {
	r := c.Request()
	key := r.Header.Get(idempotencyKey)
	if key == "" || !named(op) {
		return next(c)
	}
	who := caller(r.Context())
	body := raw
	digest := sha256.New()
	fmt.Fprintf(digest, "%s\n%s %s\n%s\n", op.OperationID, r.Method, r.URL.RequestURI(), r.Header.Get("Content-Type"))
	whole := func() ([]byte, error) { digest.Write(body); body = nil; return digest.Sum(nil), nil }
	if raw == nil && r.Body != nil { // a file, which is read by whoever keeps it
		read := io.TeeReader(r.Body, digest)
		r.Body = struct {
			io.Reader
			io.Closer
		}{read, r.Body}
		whole = func() ([]byte, error) {
			_, err := io.Copy(io.Discard, io.LimitReader(read, budget.Upload.Value()))
			return digest.Sum(nil), err
		}
	}
	request, done, err := s.cfg.Service.Request(r.Context(), who, key, whole)
	if err != nil {
		return err
	}
	if done.Status != nil {
		return replay(c, op.OperationID, done)
	}
	c.SetRequest(r.WithContext(service.WithRequest(r.Context(), request)))
	kept := &keeping{ResponseWriter: c.Response(), secret: holdsSecret(op)}
	c.SetResponse(kept)
	err = next(c)
	if service.DoneBefore(err) { // by a request of this name that came at the same moment
		c.SetResponse(kept.ResponseWriter)
		for range 20 {
			if _, done, err = s.cfg.Service.Request(r.Context(), who, key, whole); err == nil && done.Status != nil {
				return replay(c, op.OperationID, done)
			}
			time.Sleep(50 * time.Millisecond)
		}
		return err
	}
	if err == nil && kept.status >= 200 && kept.status < 300 && !kept.secret {
		if err := s.cfg.Service.KeepAnswer(r.Context(), request, kept.status, kept.body); err != nil {
			s.cfg.Log.Error("an answer could not be kept for its Idempotency-Key", "error", err.Error())
		}
	}
	return err
}

func replay(c *echo.Context, operation string, done service.Answered) error {
	var answer struct {
		ID int64 `json:"id"`
	}
	if *done.Status == http.StatusAccepted && json.Unmarshal(done.Answer, &answer) == nil {
		at := taskAt(openapi.Task{Id: answer.ID})
		if strings.EqualFold(operation, "runPlan") {
			at = runAt(openapi.Run{Id: answer.ID})
		}
		c.Response().Header().Set("Location", at)
	}
	c.Response().Header().Set("Idempotency-Replayed", "true")
	return c.Blob(*done.Status, asJSON, done.Answer)
}

// keeping keeps what is answered beside sending it.
type keeping struct {
	http.ResponseWriter
	status int
	body   []byte
	secret bool // is not kept
}

// Unwrap lets a response controller find what it controls.
func (k *keeping) Unwrap() http.ResponseWriter { return k.ResponseWriter }

func (k *keeping) WriteHeader(status int) {
	k.status = status
	k.ResponseWriter.WriteHeader(status)
}

func (k *keeping) Write(b []byte) (int, error) {
	if k.status == 0 {
		k.status = http.StatusOK
	}
	if !k.secret {
		k.body = append(k.body, b...)
	}
	return k.ResponseWriter.Write(b)
}
