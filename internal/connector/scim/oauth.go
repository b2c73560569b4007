package scim

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"twinning/internal/connector"
)

// prepare makes the HTTP client and how we identify ourselves.
func (a *app) prepare() error {
	var err error
	if a.client, err = newClient(a.timeout, a.cfg.Outbound, a.set.Text("ca-file"), a.cfg.ReadFile); err != nil {
		return err
	}
	if a.set.Text("auth") != "oauth" {
		a.header = authorization(a.set.Text("auth"), a.cfg.Secret)
		return nil
	}
	at, err := url.Parse(a.set.Text("token-url"))
	if err != nil || at.Scheme != "https" && at.Scheme != "http" || at.Host == "" {
		return fmt.Errorf("setting token-url is %q; expected the address where a token is asked for", a.set.Text("token-url"))
	}
	if a.set.Text("client-id") == "" {
		return errors.New("setting client-id is empty; oauth needs to say who asks")
	}
	// RFC 6749 section 4.4
	cfg := clientcredentials.Config{ClientID: a.set.Text("client-id"), ClientSecret: a.cfg.Secret, TokenURL: at.String(), Scopes: strings.Fields(a.set.Text("oauth-scope"))}
	a.issuer = func() oauth2.TokenSource {
		return cfg.TokenSource(context.WithValue(context.Background(), oauth2.HTTPClient, a.client))
	}
	a.tokens = a.issuer()
	return nil
}

// authorise puts who we are into a request.
func (a *app) authorise(req *http.Request, doing string) error {
	if a.issuer == nil {
		if a.header != "" {
			req.Header.Set("Authorization", a.header)
		}
		return nil
	}
	token, err := a.token(doing)
	if err != nil {
		return err
	}
	token.SetAuthHeader(req)
	return nil
}

func (a *app) token(doing string) (*oauth2.Token, error) {
	a.tokenMu.Lock()
	source := a.tokens
	a.tokenMu.Unlock()
	token, err := source.Token()
	if err == nil {
		a.tokenMu.Lock()
		a.said = token.AccessToken
		a.tokenMu.Unlock()
		return token, nil
	}
	var told *oauth2.RetrieveError
	if errors.As(err, &told) {
		reason := fmt.Sprintf("no token: answered %d", told.Response.StatusCode)
		if told.ErrorCode != "" {
			reason += ", " + told.ErrorCode
		}
		next := "check client-id, secret and oauth-scope, or ask the identity provider's team whether this client may ask for a token"
		if to, err := told.Response.Location(); err == nil {
			next = "it redirects: set token-url to " + to.Scheme + "://" + to.Host + to.EscapedPath() + " if the identity provider's team says so"
		}
		return nil, a.at(a.set.Text("token-url"), connector.Denied, doing, reason, next)
	}
	var address *url.Error
	if errors.As(err, &address) {
		return nil, a.networkAt(a.set.Text("token-url"), doing, address.Err)
	}
	return nil, a.at(a.set.Text("token-url"), connector.Denied, doing, "no token: the answer is not understood", "is token-url the address where a token is asked for?")
}

// renew forgets a token that the application no longer takes, though its time
// is not over.
func (a *app) renew() {
	a.tokenMu.Lock()
	defer a.tokenMu.Unlock()
	a.tokens = a.issuer()
}

// soon is how long before its end a token that can't be renewed is warned of.
const soon = 14 * 24 * time.Hour

// probeToken asks for a token, or looks at how long a given one is good.
func (a *app) probeToken(_ context.Context, tell func(connector.Step)) bool {
	if a.issuer != nil {
		token, err := a.token("ask for a token")
		if err != nil {
			tell(connector.FailedStep("token", err))
			return false
		}
		said := "given"
		if !token.Expiry.IsZero() {
			said = fmt.Sprintf("given, good for %s; it is renewed by itself", time.Until(token.Expiry).Round(time.Second))
		}
		tell(connector.Step{Name: "token", State: connector.StepOK, Said: said})
		return true
	}
	if ends, ok := expiry(a.cfg.Secret); ok {
		s := connector.Step{Name: "token", State: connector.StepOK, Said: "good until " + ends.UTC().Format("2006-01-02 15:04")}
		switch left := time.Until(ends); {
		case left <= 0:
			s.State = connector.StepFailed
			s.Said, s.Next = tokenOver(ends)
		case left < soon:
			s.State, s.Means, s.Next = connector.StepWarning, fmt.Sprintf("it ends in %d days; after that nothing is read or written", int(left.Hours()/24)), "ask the application's owner for a new token in time"
		}
		tell(s)
		return s.State != connector.StepFailed
	}
	return true
}

// secrets are what must not be told, whoever says it back.
func (a *app) secrets() []string {
	a.tokenMu.Lock()
	defer a.tokenMu.Unlock()
	return []string{a.cfg.Secret, a.said}
}

// tokenOver tells of a given token whose time is over, and what to do.
func tokenOver(ends time.Time) (said, next string) {
	return "its time was over on " + ends.UTC().Format("2006-01-02 15:04"), "ask the application's owner for a new token and set it"
}
