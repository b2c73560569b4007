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
	"mime"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"twinning/internal/connector"
	"twinning/internal/connector/outbound"
	"twinning/internal/format/scimjson"
)

// maxAnswer bounds one answer: a page of a thousand large users.
const maxAnswer = 32 << 20

func newClient(timeout time.Duration, policy *outbound.Policy, caFile string, files outbound.Files) (*http.Client, error) {
	trust, err := outbound.TLS("", caFile, "", "", files)
	if err != nil {
		return nil, err
	}
	return &http.Client{
		Timeout: timeout,
		Transport: &http.Transport{
			Proxy:                 policy.Proxy(http.ProxyFromEnvironment),
			DialContext:           policy.Dialer(timeout).DialContext,
			TLSClientConfig:       trust,
			MaxIdleConnsPerHost:   16,
			IdleConnTimeout:       time.Minute,
			ResponseHeaderTimeout: timeout,
		},
		// a redirect could carry the secret elsewhere
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}, nil
}

// tlsOf is what the client trusts.
func tlsOf(c *http.Client) *tls.Config {
	return c.Transport.(*http.Transport).TLSClientConfig // made above
}

func hostPort(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	return net.JoinHostPort(u.Hostname(), port)
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
	return a.at(a.base.Scheme+"://"+a.base.Host+a.base.Path, kind, doing, reason, next)
}

func (a *app) at(target string, kind connector.Kind, doing, reason, next string) *connector.Error {
	secrets := a.secrets()
	return &connector.Error{Kind: kind, Doing: outbound.Clear(doing, secrets...), Target: outbound.Clear(target, secrets...), Reason: outbound.Clear(reason, secrets...), Next: outbound.Clear(next, secrets...)}
}

// do sends one request and turns whatever goes wrong into a *connector.Error.
// A token that is no longer taken is renewed once.
func (a *app) do(ctx context.Context, doing, method, path string, body []byte, version string) ([]byte, http.Header, error) {
	leave, err := a.cfg.Pace.Enter(ctx)
	if err != nil {
		return nil, nil, err
	}
	defer leave()
	answer, header, err := a.once(ctx, doing, method, path, body, version)
	var refused *refusal
	if a.issuer != nil && errors.As(err, &refused) && refused.status == http.StatusUnauthorized {
		a.renew()
		return a.once(ctx, doing, method, path, body, version)
	}
	return answer, header, err
}

func (a *app) once(ctx context.Context, doing, method, path string, body []byte, version string) ([]byte, http.Header, error) {
	req, err := http.NewRequestWithContext(ctx, method, a.base.String()+path, bytes.NewReader(body))
	if err != nil {
		return nil, nil, a.fault(connector.Unreachable, doing, err.Error(), "")
	}
	req.Header.Set("Accept", "application/scim+json, application/json")
	if err := a.authorise(req, doing); err != nil {
		return nil, nil, err
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
		return nil, nil, a.fault(connector.Unanswered, doing, "the answer broke off: "+err.Error(), "try again; if it goes on, ask the application's owner what its log says at this time")
	}
	if len(answer) > maxAnswer {
		return nil, nil, a.fault(connector.Broken, doing, fmt.Sprintf("the answer is larger than %d MiB", maxAnswer>>20), "set a smaller page")
	}
	if res.StatusCode < 200 || res.StatusCode >= 300 {
		return nil, nil, a.status(doing, method, res, answer)
	}
	if kind, _, err := mime.ParseMediaType(res.Header.Get("Content-Type")); len(answer) > 0 && (err != nil || !strings.HasSuffix(kind, "json")) && !json.Valid(answer) {
		return nil, nil, a.fault(connector.Broken, doing, fmt.Sprintf("the answer is %q and not a SCIM list or user", res.Header.Get("Content-Type")), "check the setting url; a sign-in page or a proxy answers in its place")
	}
	return answer, res.Header, nil
}

// network explains a request that got no answer.
func (a *app) network(ctx context.Context, doing string, err error) error {
	if ctx.Err() != nil && !errors.Is(err, context.DeadlineExceeded) {
		return a.fault(connector.Unanswered, doing, "it was interrupted", "")
	}
	return a.networkAt(a.base.String(), doing, err)
}

func (a *app) networkAt(target, doing string, err error) error {
	at, parseErr := url.Parse(target)
	if parseErr != nil {
		at = a.base
	}
	f := outbound.Explain(err, hostPort(at), a.timeout)
	kind := connector.Unreachable // name, connect, tls: nothing was sent
	if f.Step == "answer" {
		kind = connector.Unanswered
	}
	return a.at(at.Scheme+"://"+at.Host+at.Path, kind, doing, f.Reason, f.Next)
}

// refusal is an answer that is no success; it stands behind the error.
type refusal struct {
	status   int
	scimType string
}

func (r *refusal) Error() string { return strconv.Itoa(r.status) }

// status explains an answer that is not a success (RFC 7644 section 3.12).
func (a *app) status(doing, method string, res *http.Response, body []byte) error {
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
		if ends, ok := expiry(a.cfg.Secret); ok && a.issuer == nil && time.Until(ends) <= 0 {
			reason, next = tokenOver(ends)
		}
	case code == http.StatusForbidden:
		kind, next = connector.Denied, "the secret is accepted but lacks the right; ask the application's owner for it"
		if method != http.MethodGet {
			kind = connector.Forbidden
		}
	case code == http.StatusNotFound:
		kind = connector.NotFound
	case code == http.StatusConflict || told.Type == "uniqueness":
		kind, next = connector.Conflict, "a value that must be unique is in use"
	case code == http.StatusPreconditionFailed:
		kind = connector.Stale
	case code == http.StatusTooManyRequests || code == http.StatusServiceUnavailable && method == http.MethodGet:
		kind, next = connector.Throttled, "the application asks for a slower pace"
	case code == http.StatusNotImplemented || code == http.StatusMethodNotAllowed:
		kind, next = connector.Unsupported, "the application knows no "+method+" here"
		if method == http.MethodPatch {
			next += ": set method to put"
		}
	case code >= 500: // also 503: whoever stands between may say so after the work was done
		kind = connector.Unanswered
	case code >= 300 && code < 400:
		next = a.movedTo(res)
	}
	e := a.fault(kind, doing, reason, next)
	e.Cause, e.Answered = &refusal{res.StatusCode, told.Type}, true
	e.After = retryAfter(res.Header.Get("Retry-After"))
	return e
}

// movedTo is what to do about a redirect. It is not followed: that could carry the secret elsewhere.
func (a *app) movedTo(res *http.Response) string {
	to, err := res.Location()
	if err != nil {
		return "it redirects, and does not say where to: ask the application's owner for its base address, and set url to it"
	}
	asked := strings.TrimPrefix(res.Request.URL.EscapedPath(), strings.TrimRight(a.base.EscapedPath(), "/"))
	if base, same := strings.CutSuffix(strings.TrimRight(to.EscapedPath(), "/"), strings.TrimRight(asked, "/")); same && asked != "" && to.User == nil {
		if at := strings.TrimRight(to.Scheme+"://"+to.Host+base, "/"); at != a.base.String() {
			return "the application is at another address: set url to " + at + " if its owner says so"
		}
		return "it redirects to the same address: ask the application's owner"
	}
	return "it redirects to " + strconv.Quote(to.Scheme+"://"+to.Host+to.EscapedPath()) + ", which is no address of SCIM users: a sign-in page or a proxy stands before it; check url and the secret"
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

// expiry reads the end of a token that is a JSON Web Token (RFC 7519); it is
// only looked at, not trusted.
func expiry(token string) (time.Time, bool) {
	parts := strings.Split(token, ".")
	if len(parts) != 3 {
		return time.Time{}, false
	}
	body, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return time.Time{}, false
	}
	var claims struct {
		Exp int64 `json:"exp"`
	}
	if json.Unmarshal(body, &claims) != nil || claims.Exp == 0 {
		return time.Time{}, false
	}
	return time.Unix(claims.Exp, 0), true
}

// skew is how far the application's clock may be from ours unmentioned.
const skew = 2 * time.Minute

// probeClock holds the application's clock against ours.
func (a *app) probeClock(header http.Header, tell func(connector.Step)) {
	at, err := http.ParseTime(header.Get("Date"))
	if err != nil {
		return
	}
	if off := time.Since(at); off.Abs() > skew {
		tell(connector.Step{Name: "clock", State: connector.StepWarning, Said: fmt.Sprintf("its clock and ours are %s apart", off.Abs().Round(time.Minute)), Means: "tokens and certificates may look expired or not yet good", Next: "check the clock of this machine, then ask the application's owner to check theirs"})
	}
}

// probePage asks for as many users as a reading will.
func (a *app) probePage(body []byte, _ http.Header) (string, error) {
	page, resources, err := scimjson.Decode(body)
	switch {
	case err != nil:
		return "", a.fault(connector.Broken, reading, "a page can't be understood: "+err.Error(), "")
	case len(resources) < min(a.page, page.Total):
		return fmt.Sprintf("it gives %d users at a time where %d were asked for; all are read all the same", len(resources), a.page), nil
	}
	return fmt.Sprintf("%d of %d users at a time", len(resources), page.Total), nil
}

func (a *app) probeOne(body []byte, _ http.Header) (string, error) {
	page, resources, err := scimjson.Decode(body)
	if err != nil {
		return "", a.fault(connector.Broken, "read one user", "the answer is not a SCIM list: "+err.Error(), "check the setting url; it must end where /Users begins")
	}
	if len(resources) == 0 {
		return "", a.fault(connector.NotFound, "read one user", fmt.Sprintf("the list is empty (totalResults %d)", page.Total), "may this secret see users? ask the application's owner")
	}
	x, err := flatten(resources[0])
	if err != nil {
		return "", a.fault(connector.Broken, "read one user", err.Error(), "")
	}
	return fmt.Sprintf("one of %d users, with %d attributes", page.Total, len(x.Values)), nil
}
