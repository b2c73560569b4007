package scim

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"twinning/internal/connector"
)

// maxAnswer bounds one answer: a page of a thousand large users.
const maxAnswer = 32 << 20

func newClient(timeout time.Duration) *http.Client {
	return &http.Client{
		Timeout: timeout,
		Transport: &http.Transport{
			Proxy:                 http.ProxyFromEnvironment,
			DialContext:           (&net.Dialer{Timeout: timeout}).DialContext,
			TLSClientConfig:       &tls.Config{MinVersion: tls.VersionTLS12},
			MaxIdleConnsPerHost:   16,
			IdleConnTimeout:       time.Minute,
			ResponseHeaderTimeout: timeout,
		},
		// a redirect could carry the secret elsewhere
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

func authorization(kind, secret string) string {
	if secret == "" {
		return ""
	}
	if kind == "basic" {
		return "Basic " + base64.StdEncoding.EncodeToString([]byte(secret))
	}
	return "Bearer " + secret
}

func (a *app) fault(kind connector.Kind, doing, reason, next string) *connector.Error {
	return &connector.Error{Kind: kind, Doing: doing, Target: a.base.Scheme + "://" + a.base.Host + a.base.Path, Reason: reason, Next: next}
}

// do sends one request and turns whatever goes wrong into a *connector.Error.
func (a *app) do(ctx context.Context, doing, method, path string, body []byte, version string) ([]byte, http.Header, error) {
	req, err := http.NewRequestWithContext(ctx, method, a.base.String()+path, bytes.NewReader(body))
	if err != nil {
		return nil, nil, a.fault(connector.Unreachable, doing, err.Error(), "")
	}
	req.Header.Set("Accept", "application/scim+json, application/json")
	if a.header != "" {
		req.Header.Set("Authorization", a.header)
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/scim+json")
	}
	if version != "" {
		req.Header.Set("If-Match", version)
	}
	if method != http.MethodGet {
		// Go resends a request whose connection died before an answer when it
		// thinks it safe; a write is only ever sent once.
		req.GetBody = nil
	}
	res, err := a.client.Do(req)
	if err != nil {
		return nil, nil, a.network(ctx, doing, err)
	}
	defer res.Body.Close() // read to its end below
	answer, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer+1))
	if err != nil {
		return nil, nil, a.fault(connector.Unanswered, doing, "the answer broke off: "+err.Error(), "")
	}
	if len(answer) > maxAnswer {
		return nil, nil, a.fault(connector.Broken, doing, fmt.Sprintf("the answer is larger than %d MiB", maxAnswer>>20), "set a smaller page")
	}
	if res.StatusCode >= 200 && res.StatusCode < 300 {
		return answer, res.Header, nil
	}
	return nil, nil, a.status(doing, res, answer)
}

// network explains a request that got no answer.
func (a *app) network(ctx context.Context, doing string, err error) error {
	if ctx.Err() != nil && !errors.Is(err, context.DeadlineExceeded) {
		return a.fault(connector.Unanswered, doing, "it was interrupted", "")
	}
	var dns *net.DNSError
	var op *net.OpError
	var unknown *tls.CertificateVerificationError
	switch {
	case errors.As(err, &dns):
		return a.fault(connector.Unreachable, doing, "the name "+dns.Name+" is not known here", "check the setting url, or ask the network team for the name")
	case errors.As(err, &unknown):
		return a.fault(connector.Unreachable, doing, "its certificate is not trusted: "+unknown.Err.Error(), "ask for the CA certificate and install it on this machine")
	case errors.As(err, &op) && op.Op == "dial":
		return a.fault(connector.Unreachable, doing, "no connection: "+op.Err.Error(), "is the application up, and does the firewall let this machine through to "+a.base.Host+"?")
	}
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() {
		return a.fault(connector.Unanswered, doing, fmt.Sprintf("no answer within %s", a.timeout), "is the application slow? raise the setting timeout")
	}
	return a.fault(connector.Unanswered, doing, "the connection broke before the answer", "")
}

// status explains an answer that is not a success (RFC 7644 section 3.12).
func (a *app) status(doing string, res *http.Response, body []byte) error {
	var told struct {
		Detail string `json:"detail"`
		Type   string `json:"scimType"`
	}
	_ = json.Unmarshal(body, &told)
	reason := fmt.Sprintf("answered %d", res.StatusCode)
	if told.Detail != "" {
		reason += ", " + strconv.Quote(told.Detail)
	}
	kind, next := connector.Refused, ""
	switch code := res.StatusCode; {
	case code == http.StatusUnauthorized:
		kind, next = connector.Denied, "the secret is not accepted: set a new one, or check whether auth must be bearer or basic"
	case code == http.StatusForbidden:
		kind, next = connector.Denied, "the secret is accepted but lacks the right; ask the application's owner for it"
	case code == http.StatusNotFound:
		kind = connector.NotFound
	case code == http.StatusConflict || told.Type == "uniqueness":
		kind, next = connector.Conflict, "a value that must be unique is in use"
	case code == http.StatusPreconditionFailed:
		kind = connector.Stale
	case code == http.StatusTooManyRequests || code == http.StatusServiceUnavailable:
		kind, next = connector.Throttled, "the application asks for a slower pace"
	case code >= 500:
		kind = connector.Unanswered
	case code >= 300 && code < 400:
		next = "it wants to send us to " + strconv.Quote(res.Header.Get("Location")) + "; set url to the right address"
	}
	e := a.fault(kind, doing, reason, next)
	e.After = retryAfter(res.Header.Get("Retry-After"))
	return e
}

// retryAfter reads both forms of RFC 9110 section 10.2.3.
func retryAfter(v string) time.Duration {
	if n, err := strconv.Atoi(strings.TrimSpace(v)); err == nil && n >= 0 {
		return time.Duration(n) * time.Second
	}
	if at, err := http.ParseTime(v); err == nil {
		return max(0, time.Until(at))
	}
	return 0
}
