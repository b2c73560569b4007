// Package scim speaks SCIM 2.0 (RFC 7643, RFC 7644) to an application.
//
// Reading pages through /Users and is whole only if as many records came as
// the application says it has. Writing is POST and PATCH; where PATCH is not
// offered, PUT of what was just read with only our edits merged in, guarded by
// the record's ETag.
package scim

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"twinning/internal/connector"
	"twinning/internal/core/record"
)

// Settings of a SCIM system.
var Settings = map[string]string{
	"url":              "base address, such as https://app.example/scim/v2",
	"auth":             "bearer (the secret is a token, default) or basic (the secret is user:password)",
	"page":             "records to ask for at a time (default 100)",
	"method":           "patch (default) or put",
	"put-without-etag": "yes: PUT even where the application gives no ETag, at the risk of undoing somebody else's change",
	"timeout":          "seconds to wait for an answer (default 10)",
	"lag":              "seconds a write may take to show in reading (default 0)",
	"concurrency":      "changes to send at once (default 4)",
}

type app struct {
	base    *url.URL
	client  *http.Client
	header  string // Authorization
	page    int
	put     bool
	blind   bool
	timeout time.Duration
	lag     time.Duration
}

// New makes the connector.
func New(cfg connector.Config) (connector.Connector, error) {
	for name := range cfg.Settings {
		if _, ok := Settings[name]; !ok {
			return nil, fmt.Errorf("setting %q is not known for SCIM; known are url, auth, page, method, put-without-etag, timeout, lag, concurrency", name)
		}
	}
	a := &app{put: cfg.Settings["method"] == "put", blind: cfg.Settings["put-without-etag"] == "yes"}
	var err error
	a.base, err = url.Parse(strings.TrimRight(cfg.Settings["url"], "/"))
	if err != nil || a.base.Scheme != "http" && a.base.Scheme != "https" || a.base.Host == "" || a.base.User != nil {
		return nil, fmt.Errorf("setting url is %q; expected an address such as https://app.example/scim/v2, without a secret in it", cfg.Settings["url"])
	}
	numbers := map[string]*int{"page": &a.page, "timeout": new(int), "lag": new(int), "concurrency": new(int)}
	for name, fallback := range map[string]int{"page": 100, "timeout": 10, "lag": 0, "concurrency": 4} {
		*numbers[name] = fallback
		if v := cfg.Settings[name]; v != "" {
			n, err := strconv.Atoi(v)
			if err != nil || n < 0 || n > 10000 || n == 0 && name != "lag" {
				return nil, fmt.Errorf("setting %s is %q; expected a whole number", name, v)
			}
			*numbers[name] = n
		}
	}
	a.timeout, a.lag = time.Duration(*numbers["timeout"])*time.Second, time.Duration(*numbers["lag"])*time.Second
	a.header = authorization(cfg.Settings["auth"], cfg.Secret)
	a.client = newClient(a.timeout)
	return a, nil
}

// Shape is how SCIM's attributes feed the canonical ones.
var Shape = func() record.Shape {
	s := record.Shape{Stable: true, Mark: "externalId", Attributes: map[string]record.Source{}}
	for canonical, native := range map[string]string{
		"id": "id", "externalId": "externalId", "userName": "userName", "givenName": "name.givenName", "middleName": "name.middleName", "familyName": "name.familyName",
		"displayName": "displayName", "email": "emails.primary", "aliases": "emails.other", "phoneNumbers": "phoneNumbers", "userType": "userType", "active": "active",
		"title": "title", "locale": "locale", "timezone": "timezone", "roles": "roles", "groups": "groups", "entitlements": "entitlements",
		"employeeNumber": "enterprise.employeeNumber", "department": "enterprise.department", "division": "enterprise.division",
		"organization": "enterprise.organization", "costCenter": "enterprise.costCenter", "manager": "enterprise.manager", "created": "meta.created",
	} {
		s.Attributes[canonical] = record.Source{Native: native}
	}
	return s
}()

func (a *app) Declare() connector.Declaration {
	return connector.Declaration{Kind: "scim", Shape: Shape, Extents: []string{"whole"}, Writes: true, ReadsOne: true, Finds: "externalId", Lag: a.lag}
}

type listing struct {
	Total     int               `json:"totalResults"`
	Resources []json.RawMessage `json:"Resources"`
}

// attempts at a whole reading before pages that shift are given up on.
const attempts = 3

func (a *app) Read(ctx context.Context, sink connector.Sink) error {
	var records []connector.Record
	var rejected []record.Rejection
	var err error
	for range attempts {
		records, rejected, err = a.readAll(ctx, sink)
		if err == nil || connector.KindOf(err) != connector.Stale {
			break
		}
	}
	if err != nil {
		return err
	}
	for _, r := range records {
		if err := sink.Record(r); err != nil {
			return err
		}
	}
	for _, r := range rejected {
		if err := sink.Reject(r); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) readAll(ctx context.Context, sink connector.Sink) (records []connector.Record, rejected []record.Rejection, err error) {
	const doing = "read the list of users"
	seen := map[string]bool{}
	for got := 0; ; {
		var page listing
		body, _, err := a.patient(ctx, doing, "/Users?startIndex="+strconv.Itoa(got+1)+"&count="+strconv.Itoa(a.page))
		if err != nil {
			return nil, nil, err
		}
		if err := json.Unmarshal(body, &page); err != nil {
			return nil, nil, a.fault(connector.Broken, doing, "the answer is not a SCIM list: "+err.Error(), "check the setting url; it must end where /Users begins")
		}
		sink.Expect(page.Total)
		for _, raw := range page.Resources {
			r, err := parse(raw)
			switch {
			case err != nil:
				rejected = append(rejected, record.Rejection{ID: r.ID, Reason: err.Error()})
			case seen[r.ID]:
				return nil, nil, a.fault(connector.Stale, doing, fmt.Sprintf("user %q came on two pages: the list shifted while it was read", r.ID), "try again when the application is quieter")
			default:
				seen[r.ID] = true
				records = append(records, r)
			}
		}
		got += len(page.Resources)
		if got >= page.Total {
			return records, rejected, nil
		}
		if len(page.Resources) == 0 {
			return nil, nil, a.fault(connector.Stale, doing, fmt.Sprintf("the application says it has %d users and gave %d", page.Total, got), "a partial list is never used; ask the application's owner")
		}
	}
}

// patient is a GET that waits when the application asks for it.
func (a *app) patient(ctx context.Context, doing, path string) ([]byte, http.Header, error) {
	for wait := 0; ; wait++ {
		body, header, err := a.do(ctx, doing, http.MethodGet, path, nil, "")
		kind := connector.KindOf(err)
		if err == nil || kind != connector.Throttled && kind != connector.Unanswered || wait == 8 {
			return body, header, err
		}
		pause := min(time.Duration(1<<wait)*100*time.Millisecond, 5*time.Second)
		pause = pause/2 + rand.N(pause)
		if e, ok := err.(*connector.Error); ok && e.After > 0 { // do returns no other
			pause = min(e.After, time.Minute)
		}
		select {
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		case <-time.After(pause):
		}
	}
}

func (a *app) One(ctx context.Context, id string) (connector.Record, error) {
	body, header, err := a.patient(ctx, "read user "+id, "/Users/"+url.PathEscape(id))
	if err != nil {
		return connector.Record{}, err
	}
	return a.answered("read user "+id, body, header)
}

func (a *app) answered(doing string, body []byte, header http.Header) (connector.Record, error) {
	r, err := parse(body)
	if err != nil {
		return r, a.fault(connector.Broken, doing, err.Error(), "")
	}
	if tag := header.Get("ETag"); r.Version == "" && tag != "" {
		r.Version = tag
	}
	return r, nil
}

func (a *app) Find(ctx context.Context, native, value string) ([]connector.Record, error) {
	quoted, _ := json.Marshal(value) // RFC 7644 figure 1: a comparison value is JSON
	body, _, err := a.patient(ctx, "look for "+native, "/Users?filter="+url.QueryEscape(native+" eq "+string(quoted)))
	if err != nil {
		return nil, err
	}
	var page listing
	if err := json.Unmarshal(body, &page); err != nil {
		return nil, a.fault(connector.Broken, "look for "+native, "the answer is not a SCIM list", "")
	}
	var found []connector.Record
	for _, raw := range page.Resources {
		r, err := parse(raw)
		if err != nil {
			return nil, a.fault(connector.Broken, "look for "+native, err.Error(), "")
		}
		if have := r.Values[native]; len(have) == 1 && have[0] == value { // filters that are ignored give everything
			found = append(found, r)
		}
	}
	return found, nil
}
