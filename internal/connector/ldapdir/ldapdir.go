// Package ldapdir speaks LDAP (RFC 4510 to 4519) to a directory.
//
// A whole reading pages through the scope (RFC 2696), or follows the content
// synchronisation operation (RFC 4533) where it is offered, so that the next
// reading can ask for what changed. Whatever the server says that it did not
// give (a size limit, a time limit, a referral) ends the reading: a part of
// the tree never looks like all of it.
//
// Changes are exact deltas: a value is deleted by its old text and added by
// its new one, under an assertion (RFC 4528) where the server knows it, so
// that nobody else's change is overwritten. Two natives are not attributes:
// "dn" is the entry's name, "parent" the name of the entry above it; setting
// the naming attribute or "parent" renames or moves the entry.
package ldapdir

import (
	"crypto/tls"
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
	"twinning/internal/core/document"
	"twinning/internal/core/record"
)

// Settings of a directory.
var Settings = map[string]string{
	"url":             "ldap://host or ldaps://host, with a port where it is not the usual one",
	"start-tls":       "yes (default) or no: encrypt an ldap:// connection before signing in",
	"ca-file":         "file with the CA certificates to trust (PEM); default those of this machine",
	"server-name":     "name that the certificate must have, when it is not the host of url",
	"client-cert":     "file with our certificate (PEM), for auth external",
	"client-key":      "file with its key (PEM)",
	"auth":            "simple (default; the secret is the password), external (our certificate says who we are) or anonymous",
	"bind":            "DN to sign in as",
	"base":            "DN below which to read",
	"scope":           "sub (default), one or base",
	"filter":          "which entries are records (default (objectClass=person))",
	"attributes":      "further attributes to read, comma-separated; those the shape names are always read",
	"page":            "entries to ask for at a time (default 500); 0 asks for all at once",
	"size-limit":      "entries that the server may give at most; 0 (default) is its own limit",
	"time-limit":      "seconds that the server may search; 0 (default) is its own limit",
	"timeout":         "seconds to wait for an answer (default 30)",
	"referrals":       "refuse (default) or leave-out: what to do when part of the tree lives in another server",
	"changes":         "auto (default), sync, stamp or off: how to ask for what changed",
	"create-in":       "DN in which new entries go (default base)",
	"rdn":             "attribute that names new entries (default uid)",
	"reference-base":  "DN below which references to an entry are looked for when it is renamed (default the naming context)",
	"references":      "attributes that hold DNs of entries (default member,uniqueMember,manager,owner,seeAlso,secretary)",
	"group-base":      "DN below which the groups are (default base)",
	"group-filter":    "which entries are groups (default the usual group classes)",
	"membership":      "list (default: groups name their members) or reverse (entries name their groups in memberOf)",
	"group-must-have": "DN that is put into a group that may not be empty when its last member leaves",
	"lag":             "seconds a write may take to show in reading (default 0)",
}

type directory struct {
	url      *url.URL
	host     string // name:port
	tls      *tls.Config
	startTLS bool
	auth     string
	bind     string
	secret   string
	cfg      connector.Config
	timeout  time.Duration
	lag      time.Duration
	page     int
	size     int
	time     int
	scope    int

	shape      record.Shape
	id         record.Source     // where the id comes from
	codings    map[string]string // native (folded) -> coding
	attributes []string          // what to ask for

	mu   sync.Mutex
	idle []*ldap.Conn
	root *rootDSE
	must map[string][]string
}

func (d *directory) setting(name, fallback string) string {
	if v := d.cfg.Settings[name]; v != "" {
		return v
	}
	return fallback
}

// maxAnswer bounds one message of a server: a page of large entries, or the
// list of a very large group.
const maxAnswer = 128 << 20

var bound = sync.OnceFunc(func() { ber.MaxPacketLengthBytes = maxAnswer })

// New makes the connector.
func New(cfg connector.Config) (connector.Connector, error) {
	for name := range cfg.Settings {
		if _, ok := Settings[name]; !ok {
			known := slices.Sorted(maps.Keys(Settings))
			return nil, fmt.Errorf("setting %q is not known for a directory%s; known are %s", name, document.Suggest(name, known), strings.Join(known, ", "))
		}
	}
	bound()
	d := &directory{cfg: cfg, secret: cfg.Secret}
	if err := d.readAddress(); err != nil {
		return nil, err
	}
	if err := d.readNumbers(); err != nil {
		return nil, err
	}
	words := []struct {
		name string
		into *string
		ok   []string
	}{
		{"auth", &d.auth, []string{"simple", "external", "anonymous"}}, {"scope", nil, []string{"sub", "one", "base"}}, {"referrals", nil, []string{"refuse", "leave-out"}},
		{"changes", nil, []string{"auto", "sync", "stamp", "off"}}, {"membership", nil, []string{"list", "reverse"}},
	}
	for _, w := range words {
		v := d.setting(w.name, w.ok[0])
		if !slices.Contains(w.ok, v) {
			return nil, fmt.Errorf("setting %s is %q; expected %s", w.name, v, strings.Join(w.ok, " or "))
		}
		if w.into != nil {
			*w.into = v
		}
	}
	d.scope = map[string]int{"sub": ldap.ScopeWholeSubtree, "one": ldap.ScopeSingleLevel, "base": ldap.ScopeBaseObject}[d.setting("scope", "sub")]
	d.bind = cfg.Settings["bind"]
	if d.auth == "simple" && d.bind == "" {
		return nil, fmt.Errorf("setting bind is empty; name the DN to sign in as, or set auth to anonymous")
	}
	for _, name := range []string{"bind", "base", "create-in", "reference-base", "group-base", "group-must-have"} {
		if _, err := ldap.ParseDN(cfg.Settings[name]); err != nil {
			return nil, fmt.Errorf("setting %s is %q, which is no DN: %v", name, cfg.Settings[name], plain(err))
		}
	}
	if cfg.Settings["base"] == "" {
		return nil, fmt.Errorf("setting base is empty; name the DN below which to read, such as ou=people,dc=larkspur,dc=example")
	}
	for _, name := range []string{"filter", "group-filter"} {
		if f := cfg.Settings[name]; f != "" {
			if _, err := ldap.CompileFilter(f); err != nil {
				return nil, fmt.Errorf("setting %s is %q, which is no LDAP filter (RFC 4515): %v", name, f, plain(err))
			}
		}
	}
	d.readShape()
	return d, nil
}

func plain(err error) string {
	return strings.TrimPrefix(strings.TrimPrefix(err.Error(), "LDAP Result Code 201 \"Filter Compile Error\": "), "ldap: ")
}

func (d *directory) readAddress() (err error) {
	raw := d.cfg.Settings["url"]
	d.url, err = url.Parse(raw)
	if err != nil || d.url.Scheme != "ldap" && d.url.Scheme != "ldaps" || d.url.Hostname() == "" || d.url.User != nil || strings.Trim(d.url.Path, "/") != "" {
		return fmt.Errorf("setting url is %q; expected an address such as ldaps://directory.example, without base or secret in it", raw)
	}
	port := d.url.Port()
	if port == "" {
		port = map[string]string{"ldap": "389", "ldaps": "636"}[d.url.Scheme]
	}
	d.host = net.JoinHostPort(d.url.Hostname(), port)
	d.startTLS = d.url.Scheme == "ldap" && d.setting("start-tls", "yes") == "yes"
	if v := d.setting("start-tls", "yes"); v != "yes" && v != "no" {
		return fmt.Errorf("setting start-tls is %q; expected yes or no", v)
	}
	return d.readTLS()
}

func (d *directory) readNumbers() error {
	var timeout, lag int
	for _, n := range []struct {
		name     string
		into     *int
		fallback int
		lowest   int
	}{{"page", &d.page, 500, 0}, {"size-limit", &d.size, 0, 0}, {"time-limit", &d.time, 0, 0}, {"timeout", &timeout, 30, 1}, {"lag", &lag, 0, 0}} {
		*n.into = n.fallback
		if v := d.cfg.Settings[n.name]; v != "" {
			got, err := strconv.Atoi(v)
			if err != nil || got < n.lowest || got > 1_000_000 {
				return fmt.Errorf("setting %s is %q; expected a whole number of at least %d", n.name, v, n.lowest)
			}
			*n.into = got
		}
	}
	d.timeout, d.lag = time.Duration(timeout)*time.Second, time.Duration(lag)*time.Second
	return nil
}

// Shape is how the usual person classes (RFC 4519, RFC 2798) feed the
// canonical attributes.
var Shape = func() record.Shape {
	s := record.Shape{Stable: true, Classes: []string{"inetOrgPerson"}, Attributes: map[string]record.Source{}}
	for canonical, native := range map[string]string{
		"id": "entryUUID", "userName": "uid", "givenName": "givenName", "familyName": "sn", "displayName": "displayName", "email": "mail", "phoneNumbers": "telephoneNumber",
		"employeeNumber": "employeeNumber", "userType": "employeeType", "title": "title", "department": "departmentNumber", "organization": "o", "location": "l", "locale": "preferredLanguage",
		"container": "parent", "dn": "dn", "cn": "cn",
	} {
		s.Attributes[canonical] = record.Source{Native: native}
	}
	s.Attributes["manager"] = record.Source{Native: "manager", Refers: "dn"}
	s.Attributes["created"] = record.Source{Native: "createTimestamp", Date: "generalized"}
	return s
}()

// pseudo natives are not attributes of the directory.
func pseudo(native string) bool { return native == "dn" || native == "parent" }

func (d *directory) readShape() {
	d.shape = d.cfg.Shape
	if len(d.shape.Attributes) == 0 {
		d.shape = Shape
	}
	d.id = d.shape.Attributes["id"]
	d.codings = map[string]string{}
	for _, name := range d.shape.Canonical() {
		src := d.shape.Attributes[name]
		if src.Coding != "" {
			d.codings[strings.ToLower(src.Native)] = src.Coding
		}
		if src.Refers != "" {
			d.ask(src.Refers)
		}
		d.ask(src.Native)
	}
	for _, more := range strings.Split(d.cfg.Settings["attributes"], ",") {
		d.ask(strings.TrimSpace(more))
	}
}

func (d *directory) ask(native string) {
	known := slices.ContainsFunc(d.attributes, func(a string) bool { return strings.EqualFold(a, native) })
	if native != "" && !pseudo(native) && !known && !record.IsSecret(native) {
		d.attributes = append(d.attributes, native)
	}
}

func (d *directory) Declare() connector.Declaration {
	x := connector.Declaration{
		Kind: "ldap", Shape: Shape, Extents: []string{connector.Whole, connector.Sample}, Writes: true, ReadsOne: true, Place: "dn", Lag: d.lag, Finds: d.setting("rdn", "uid"),
		Verbs: []string{"create", "set", "rename", "place", "enrol", "withdraw", "suspend", "reinstate", "reissue", "delete"},
		Scope: fmt.Sprintf("%s of %s, %s", d.setting("scope", "sub"), d.cfg.Settings["base"], d.filter()),
	}
	x.Origin = d.url.Scheme + "://" + d.host
	x.Reaches = []string{"url", "start-tls", "ca-file", "server-name", "auth"}
	if d.setting("changes", "auto") != "off" {
		x.Extents = append(x.Extents, connector.Changes)
	}
	if mark, ok := d.shape.Attributes[d.shape.Mark]; ok {
		x.Finds = mark.Native
	}
	return x
}

func (d *directory) filter() string { return d.setting("filter", "(objectClass=person)") }

// Close gives the connections back.
func (d *directory) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, c := range d.idle {
		_ = c.Close() // best effort
	}
	d.idle = nil
	return nil
}
