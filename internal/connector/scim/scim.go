// Package scim speaks SCIM 2.0 (RFC 7643, RFC 7644) to an application.
//
// What is used is what the application says that it has
// (/ServiceProviderConfig). Reading pages through /Users, by index or by
// cursor (RFC 9865), and is whole only if as many records came as the
// application says it has, none of them twice; while the list shifts, it is
// read again. Writing is POST and PATCH; where PATCH is not offered, PUT of
// what was just read with only our edits merged in, guarded by the ETag.
package scim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/oauth2"

	"twinning/internal/connector"
	"twinning/internal/connector/outbound"
	"twinning/internal/core/record"
	"twinning/internal/format/scimjson"
)

// Settings of a SCIM system.
var Settings = connector.Settings{Of: "a SCIM application", List: []connector.Setting{
	{Name: "url", What: "base address", Example: "https://app.example/scim/v2"},
	{Name: "auth", What: "what the secret is: a token, user:password, or that of a client who asks for tokens", Words: []string{"bearer", "basic", "oauth"}, Example: "basic"},
	{Name: "token-url", What: "for oauth: where a token is asked for", Example: "https://app.example/oauth/token"},
	{Name: "client-id", What: "for oauth: who asks", Example: "twinning"},
	{Name: "oauth-scope", What: "for oauth: what for, where the application wants to know", Example: "users.write"},
	{Name: "ca-file", What: "file with the CA certificates to trust (PEM), in `files` of the data folder or in a folder of `--files`; default those of this machine", Example: "/etc/twinning/ca.pem"},
	{Name: "filter", What: "SCIM filter that says which users are read: this is the scope of its rosters; default all", Example: "userType ne \"guest\""},
	{Name: "attributes", What: "attributes to ask for, comma-separated; default all", Example: "userName,emails,active"},
	{Name: "also-at", What: "another base address by which the application names its users and groups ($ref), where it stands behind a gateway; nothing is sent there", Example: "https://app.internal.example/scim/v2"},
	{Name: "page", What: "records to ask for at a time", Number: true, Default: "100", Lowest: 1, Highest: 10000, Example: "500"},
	{Name: "paging", What: "how a long list is asked for", Words: []string{"auto", "index", "cursor"}, Example: "index"},
	{Name: "totals", What: "ignore: for applications whose totalResults is wrong; a list that is cut short is then not noticed", Words: []string{"strict", "ignore"}, Example: "ignore"},
	{Name: "inactive", What: "whether inactive users stand in the list, or are asked for by a filter", Words: []string{"listed", "asked"}, Example: "asked"},
	{Name: "method", What: "how a user is changed", Words: []string{"auto", "patch", "put"}, Example: "put"},
	{Name: "dialect", What: "how PATCH must be said: standard, or some of title-case, no-path, text-booleans", Default: "auto", Example: "title-case,text-booleans"},
	{Name: "put-without-etag", What: "yes: PUT even where the application gives no ETag, at the risk of undoing somebody else's change", Words: []string{"no", "yes"}, Example: "yes"},
	{Name: "timeout", What: "seconds to wait for an answer", Number: true, Default: "10", Lowest: 1, Highest: 10000, Example: "30"},
	{Name: "lag", What: "seconds a write may take to show in reading", Number: true, Default: "0", Highest: 10000, Example: "5"},
}}

type app struct {
	base    *url.URL
	alsoAt  *url.URL // by which it names its own as well; nil: no other
	cfg     connector.Config
	set     connector.Given
	client  *http.Client
	header  string             // Authorization, where it stays the same
	tokens  oauth2.TokenSource // where it is asked for
	issuer  func() oauth2.TokenSource
	page    int
	timeout time.Duration
	lag     time.Duration

	dialects  []dialect
	dialect   atomic.Int32 // the one in use
	confirmed atomic.Bool  // a change was taken in it
	unasked   atomic.Bool  // the members of a group have come without being asked for
	noPatch   atomic.Bool  // a change was answered by knowing no PATCH, see patchless

	tokenMu sync.Mutex // guards tokens and said
	said    string     // the token that was given last
	putting sync.Mutex // held from reading a group to seeing it written, where it is written as a whole
	offerMu sync.Mutex // guards offered; held while asking
	offered *offer
}

// New makes the connector.
func New(cfg connector.Config) (connector.Connector, error) {
	given, err := Settings.Read(cfg.Settings)
	if err != nil {
		return nil, err
	}
	a := &app{cfg: cfg, set: given, page: given.Number("page"), timeout: time.Duration(given.Number("timeout")) * time.Second, lag: time.Duration(given.Number("lag")) * time.Second}
	a.base, err = url.Parse(strings.TrimRight(given.Text("url"), "/"))
	if err != nil || a.base.Scheme != "http" && a.base.Scheme != "https" || a.base.Host == "" {
		return nil, errors.New("setting url is no address such as https://app.example/scim/v2")
	}
	if given.Text("also-at") != "" {
		a.alsoAt, err = url.Parse(strings.TrimRight(given.Text("also-at"), "/"))
		if err != nil || a.alsoAt.Scheme != "http" && a.alsoAt.Scheme != "https" || a.alsoAt.Host == "" {
			return nil, errors.New("setting also-at is no address such as https://app.internal.example/scim/v2")
		}
	}
	for _, name := range []string{"url", "token-url", "also-at"} {
		if at, err := url.Parse(given.Text(name)); err != nil || at.User != nil || at.RawQuery != "" || at.Fragment != "" {
			return nil, fmt.Errorf("setting %s holds more than an address: no user, password, ?query or #fragment may stand in it; a secret is set as the secret", name)
		}
	}
	if a.dialects, err = parseDialect(given.Text("dialect")); err != nil {
		return nil, err
	}
	return a, a.prepare()
}

// Shape is how SCIM's attributes feed the canonical ones.
var Shape = func() record.Shape {
	s := record.Shape{Stable: true, Mark: "externalId", Attributes: map[string]record.Source{}}
	for canonical, native := range scimjson.Names {
		s.Attributes[canonical] = record.Source{Native: native}
	}
	return s
}()

func (a *app) Declare() connector.Declaration {
	scope := "all users"
	if f := a.set.Text("filter"); f != "" {
		scope = "users with " + f
	}
	return connector.Declaration{
		Kind: "scim", Shape: Shape, Extents: []string{connector.Whole, connector.Sample}, Writes: true, ReadsOne: true, Finds: "externalId", Lag: a.lag, Scope: scope,
		Origin:  a.base.String(),
		Reaches: []string{"url", "token-url", "ca-file", "auth"},
		Verbs:   []string{"create", "mark", "set", "rename", "readdress", "enrol", "withdraw", "suspend", "reinstate", "reissue", "delete"},
	}
}

// patient is a GET that waits when the application asks for it.
func (a *app) patient(ctx context.Context, doing, path string) ([]byte, http.Header, error) {
	for wait := 0; ; wait++ {
		body, header, err := a.do(ctx, doing, http.MethodGet, path, nil, "")
		kind := connector.KindOf(err)
		if err == nil || kind != connector.Throttled && kind != connector.Unanswered || wait == 8 || kind == connector.Unanswered && wait == 3 {
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
	doing := "read user " + id
	body, header, err := a.patient(ctx, doing, "/Users/"+url.PathEscape(id))
	if err != nil {
		return connector.Record{}, err
	}
	if body, err = a.withAsked(ctx, doing, id, body, a.set.Text("attributes")); err != nil {
		return connector.Record{}, err
	}
	r, err := a.answered(doing, body, header)
	if err == nil && r.ID != id {
		return connector.Record{}, a.mixedUp(doing, fmt.Sprintf("the answer is about another user, %q", r.ID))
	}
	return r, err
}

// withAsked adds to a user those of the asked attributes, comma-separated, that do not come unasked
// (RFC 7643 section 7: returned on request). The rest of the user stays: a PUT sends it back.
func (a *app) withAsked(ctx context.Context, doing, id string, body []byte, asked string) ([]byte, error) {
	var whole, more map[string]any
	if asked == "" || scimjson.Unmarshal(body, &whole) != nil || a.hasAll(whole, asked) {
		return body, nil
	}
	err := unmixed(func() error {
		answer, _, err := a.patient(ctx, doing, "/Users/"+url.PathEscape(id)+"?"+url.Values{"attributes": {asked}}.Encode())
		if err != nil {
			return err
		}
		more = nil
		if err := scimjson.Unmarshal(answer, &more); err != nil {
			return a.fault(connector.Broken, doing, "the answer is no user: "+err.Error(), "")
		}
		if said := scimjson.ID(more); said != id {
			return a.mixedUp(doing, fmt.Sprintf("the answer is about another user, %q", said))
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if version := func(top map[string]any) any { meta, _ := top["meta"].(map[string]any); return meta["version"] }; version(more) != nil && version(more) != version(whole) {
		return nil, a.fault(connector.Stale, doing, "it changed while it was read", "try again")
	}
	for name, v := range more {
		if in, both := whole[name].(map[string]any); both { // what an extension, or a name, has beyond
			if from, is := v.(map[string]any); is {
				for sub, w := range from {
					if _, there := in[sub]; !there {
						in[sub] = w
					}
				}
			}
		} else if _, there := whole[name]; !there {
			whole[name] = v
		}
	}
	return json.Marshal(whole)
}

// hasAll: a user carries all the attributes that a list of them names.
func (a *app) hasAll(top map[string]any, names string) bool {
	for _, path := range strings.Split(names, ",") {
		object, name := scimjson.Split(strings.TrimSpace(path))
		in := top
		if object != "" {
			in, _ = top[object].(map[string]any)
		}
		if _, there := field(in, name); !there {
			return false
		}
	}
	return true
}

// field is an attribute of an object. Names of attributes have capitals as they please (RFC 7643
// section 2.1).
func field(in map[string]any, name string) (v any, there bool) {
	if v, there = in[name]; there {
		return v, true
	}
	for have, v := range in {
		if strings.EqualFold(have, name) {
			return v, true
		}
	}
	return nil, false
}

// mixedUp is the fault of an answer that belongs to another question.
func (a *app) mixedUp(doing, reason string) error {
	e := a.fault(connector.Broken, doing, reason, "nothing is done by it: ask the application's owner, or whoever runs what stands before it, since answers are mixed up")
	e.Cause = errMixed
	return e
}

var errMixed = errors.New("the answer belongs to another question")

// unmixed reads again, a few times, while the answers belong to other questions: a request that is
// made of several readings would seldom come through else.
func unmixed(read func() error) error {
	for attempt := 1; ; attempt++ {
		if err := read(); attempt == 4 || !errors.Is(err, errMixed) {
			return err
		}
	}
}

// answered makes a record of one user that an answer holds.
func (a *app) answered(doing string, body []byte, header http.Header) (connector.Record, error) {
	x, err := scimjson.Flatten(body)
	if err != nil {
		return connector.Record{}, a.fault(connector.Broken, doing, "the answer is no user: "+err.Error(), "check the setting url; it must end where /Users begins")
	}
	r := connector.Record{ID: x.ID, Values: x.Values, Version: x.Version, Raw: body}
	if tag := header.Get("ETag"); r.Version == "" && tag != "" {
		r.Version = tag
	}
	return r.Cleared(outbound.ForValues(a.secrets()...)), nil
}

// quoted is a comparison value in a filter: JSON (RFC 7644 figure 1).
func quoted(value string) string {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false) // plain characters are understood by more parsers
	_ = e.Encode(value)    // a string always can
	return strings.TrimSuffix(b.String(), "\n")
}

// Holders asks for a login, and for an address as any of a user's. The scope's
// filter is left out on purpose: who is outside holds names too.
func (a *app) Holders(ctx context.Context, name string) (holders []string, err error) {
	doing := "ask who holds " + name
	filters := []string{"userName eq " + quoted(name)}
	if strings.Contains(name, "@") { // both forms are RFC 7644's, and many applications know one alone
		filters = append(filters, "emails.value eq "+quoted(name), "emails[value eq "+quoted(name)+"]")
	}
	understood := false
	var refused error
	for _, filter := range filters {
		list, err := a.holding(ctx, doing, filter, name)
		switch kind := connector.KindOf(err); {
		case err == nil:
			understood = true
		case kind == connector.Refused || kind == connector.Unsupported:
			refused = err
		default:
			return nil, err
		}
		for _, id := range list {
			if !slices.Contains(holders, id) {
				holders = append(holders, id)
			}
		}
	}
	if !understood {
		return nil, refused
	}
	return holders, nil
}

// holding lists who of those that a filter gives holds a name: an application that
// ignores filters gives everybody.
func (a *app) holding(ctx context.Context, doing, filter, name string) (ids []string, err error) {
	body, _, err := a.patient(ctx, doing, "/Users?filter="+url.QueryEscape(filter))
	if err != nil {
		return nil, err
	}
	var list struct{ Resources []json.RawMessage }
	if err := json.Unmarshal(body, &list); err != nil {
		return nil, a.fault(connector.Broken, doing, "the answer is not a SCIM list", "")
	}
	folded := record.Normal(record.Email, name)
	for _, raw := range list.Resources {
		r, err := a.answered(doing, raw, http.Header{})
		if err != nil {
			return nil, err
		}
		for _, native := range []string{"userName", "emails", "emails.primary", "emails.other"} {
			if slices.ContainsFunc(r.Values[native], func(v string) bool { return record.Normal(record.Email, v) == folded }) {
				ids = append(ids, r.ID)
				break
			}
		}
	}
	return ids, nil
}

func (a *app) Find(ctx context.Context, native, value string) ([]connector.Record, error) {
	doing := "look for " + native
	q := url.Values{"filter": {pathOf(native) + " eq " + quoted(value)}}
	list, err := a.filtered(ctx, doing, q)
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(list, func(r connector.Record) bool { return len(r.Values[native]) == 0 }) { // it may come on request alone
		q.Set("attributes", "userName,"+pathOf(native))
		asked, err := a.filtered(ctx, doing, q)
		if err != nil {
			return nil, err
		}
		for _, with := range asked {
			if i := slices.IndexFunc(list, func(r connector.Record) bool { return r.ID == with.ID }); i >= 0 {
				list[i].Values[native] = with.Values[native]
			}
		}
	}
	var found []connector.Record
	for _, r := range list {
		switch have := r.Values[native]; {
		case len(have) == 1 && have[0] == value:
			found = append(found, r)
		case !slices.ContainsFunc(have, func(v string) bool { return strings.EqualFold(v, value) }):
			// whoever is given others knows nothing of those that were asked for: they may stand on another page
			return nil, a.fault(connector.Broken, doing, fmt.Sprintf("the answer holds user %q, who does not carry the value", r.ID), "the application ignores the filter, or answers are mixed up: ask its owner")
		}
	}
	return found, nil
}

// filtered lists the users of one page.
func (a *app) filtered(ctx context.Context, doing string, q url.Values) (found []connector.Record, err error) {
	body, _, err := a.patient(ctx, doing, "/Users?"+q.Encode())
	if err != nil {
		return nil, err
	}
	var list struct {
		Total     int `json:"totalResults"`
		Resources []json.RawMessage
	}
	if err := json.Unmarshal(body, &list); err != nil {
		return nil, a.fault(connector.Broken, doing, "the answer is not a SCIM list", "")
	}
	if list.Total > 0 && len(list.Resources) == 0 {
		return nil, a.fault(connector.Broken, doing, fmt.Sprintf("the answer says that there are %d, and holds none", list.Total), "ask the application's owner")
	}
	for _, raw := range list.Resources {
		r, err := a.answered(doing, raw, http.Header{})
		if err != nil {
			return nil, err
		}
		found = append(found, r)
	}
	return found, nil
}

// pathOf is how a request names an attribute (RFC 7644 figure 1); of addresses, the whole list.
func pathOf(native string) string {
	switch object, name := scimjson.Split(native); {
	case object == scimjson.Enterprise:
		return object + ":" + name
	case object == "emails":
		return object
	}
	return native
}
