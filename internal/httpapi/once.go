package httpapi

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"twinning/internal/httpapi/openapi"
	"twinning/internal/service"
)

// once carries out a request that names itself (Idempotency-Key) one time only,
// however often it is sent: its key commits with its act, and a request that was
// carried out is answered as it was.
func (s *server) once(c *echo.Context, operation string, raw []byte, next echo.HandlerFunc) error {
	r := c.Request()
	key := r.Header.Get("Idempotency-Key")
	if key == "" {
		return next(c)
	}
	who := caller(r.Context())
	digest := sha256.New()
	fmt.Fprintf(digest, "%s\n%s\n%d\n", operation, r.URL.RequestURI(), r.ContentLength)
	digest.Write(raw)
	request, done, err := s.cfg.Service.Request(r.Context(), who, key, digest.Sum(nil))
	if err != nil {
		return err
	}
	if done.Status != nil {
		return replay(c, operation, done)
	}
	c.SetRequest(r.WithContext(service.WithRequest(r.Context(), request)))
	kept := &keeping{ResponseWriter: c.Response()}
	c.SetResponse(kept)
	err = next(c)
	if service.DoneBefore(err) { // by a request of this name that came at the same moment
		c.SetResponse(kept.ResponseWriter)
		for range 20 {
			if _, done, err = s.cfg.Service.Request(r.Context(), who, key, request.Digest); err == nil && done.Status != nil {
				return replay(c, operation, done)
			}
			time.Sleep(50 * time.Millisecond)
		}
		return err
	}
	if err == nil && kept.status >= 200 && kept.status < 300 && !strings.EqualFold(operation, "createToken") { // its answer holds a secret
		if err := s.cfg.Service.KeepAnswer(r.Context(), request, kept.status, kept.body); err != nil {
			s.cfg.Log.Error("an answer could not be kept for its Idempotency-Key", "error", err.Error())
		}
	}
	return err
}

func replay(c *echo.Context, operation string, done service.Request) error {
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
	k.body = append(k.body, b...)
	return k.ResponseWriter.Write(b)
}
