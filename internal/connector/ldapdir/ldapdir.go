// Package ldapdir speaks LDAP (RFC 4510 to 4519) to a directory.
//
// A whole reading pages through the scope (RFC 2696). Where the content synchronisation
// operation (RFC 4533) is offered, it asks for the server's cookie first, and the next
// reading asks for what changed since; but what is newest is always searched for as
// well, since a synchronisation may leave it out. Whatever the server says that it did not
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
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
	"twinning/internal/core/record"
)

// Settings of a directory.
var Settings = connector.Settings{Of: "a directory", List: []connector.Setting{
	{Name: "url", What: "ldap://host or ldaps://host, with a port where it is not the usual one", Example: "ldaps://directory.larkspur.example"},
	{Name: "start-tls", What: "encrypt an ldap:// connection before signing in", Words: []string{"yes", "no"}, Example: "no"},
	{Name: "ca-file", What: "file with the CA certificates to trust (PEM), in `files` of the data folder or in a folder of `--files`; default those of this machine", Example: "/etc/twinning/ca.pem"},
	{Name: "server-name", What: "name that the certificate must have, when it is not the host of url", Example: "directory.larkspur.example"},
	{Name: "client-cert", What: "file with our certificate (PEM), for auth external", Example: "/etc/twinning/client.pem"},
	{Name: "client-key", What: "file with its key (PEM)", Example: "/etc/twinning/client.key"},
	{Name: "auth", What: "who we are: the secret is the password, our certificate says so, or nobody", Words: []string{"simple", "external", "anonymous"}, Example: "external"},
	{Name: "bind", What: "DN to sign in as", Example: "cn=twinning,dc=larkspur,dc=example"},
	{Name: "base", What: "DN below which to read", Example: "ou=people,dc=larkspur,dc=example"},
	{Name: "scope", What: "how far below", Words: []string{"sub", "one", "base"}, Example: "one"},
	{Name: "filter", What: "which entries are records; base, scope and filter are the scope of its rosters", Default: "(objectClass=person)", Example: "(&(objectClass=person)(!(ou=guests)))"},
	{Name: "attributes", What: "further attributes to read, comma-separated; those the shape names are always read", Example: "description"},
	{Name: "page", What: "entries to ask for at a time; 0 asks for all at once", Number: true, Default: "500", Highest: 1_000_000, Example: "1000"},
	{Name: "size-limit", What: "entries that the server may give at most; 0 is its own limit", Number: true, Default: "0", Highest: 1_000_000, Example: "10000"},
	{Name: "time-limit", What: "seconds that the server may search; 0 is its own limit", Number: true, Default: "0", Highest: 1_000_000, Example: "60"},
	{Name: "timeout", What: "seconds to wait for an answer", Number: true, Default: "30", Lowest: 1, Highest: 1_000_000, Example: "60"},
	{Name: "referrals", What: "what to do when part of the tree lives in another server", Words: []string{"refuse", "leave-out"}, Example: "leave-out"},
	{Name: "changes", What: "how to ask for what changed", Words: []string{"auto", "sync", "stamp", "off"}, Example: "stamp"},
	{Name: "create-in", What: "DN in which new entries go; default base", Example: "ou=new,ou=people,dc=larkspur,dc=example"},
	{Name: "rdn", What: "attribute that names new entries", Default: "uid", Example: "cn"},
	{Name: "reference-base", What: "DN below which references to an entry are looked for when it is renamed; default the naming context", Example: "dc=larkspur,dc=example"},
	{Name: "references", What: "attributes that hold DNs of entries", Default: "member,uniqueMember,manager,owner,seeAlso,secretary", Example: "member,manager"},
	{Name: "group-base", What: "DN below which the groups are; default base", Example: "ou=groups,dc=larkspur,dc=example"},
	{Name: "group-filter", What: "which entries are groups; default the usual group classes", Example: "(objectClass=groupOfNames)"},
	{Name: "group-class", What: "the class of groups that are made", Words: []string{"groupOfNames", "groupOfUniqueNames", "groupOfMembers", "group"}, Example: "groupOfUniqueNames"},
	{Name: "membership", What: "groups name their members, or (reverse) entries name their groups in memberOf", Words: []string{"list", "reverse"}, Example: "reverse"},
	{Name: "group-must-have", What: "DN that is put into a group that may not be empty when its last member leaves", Example: "cn=nobody,dc=larkspur,dc=example"},
	{Name: "lag", What: "seconds a write may take to show in reading", Number: true, Default: "0", Highest: 1_000_000, Example: "5"},
}}

type directory struct {
	url      *url.URL
	host     string // name:port
	tls      *tls.Config
	startTLS bool
	auth     string
	bind     string
	secret   string
	cfg      connector.Config
	set      connector.Given
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
	dns  map[string]string // of the groups that were listed, by their folded form
}

// maxAnswer bounds one message of a server: a page of large entries, or the
// list of a very large group.
const maxAnswer = 128 << 20

var bound = sync.OnceFunc(func() { ber.MaxPacketLengthBytes = maxAnswer })

// New makes the connector.
func New(cfg connector.Config) (connector.Connector, error) {
	given, err := Settings.Read(cfg.Settings)
	if err != nil {
		return nil, err
	}
	bound()
	d := &directory{cfg: cfg, set: given, secret: cfg.Secret, auth: given.Text("auth"), bind: given.Text("bind"), page: given.Number("page"), size: given.Number("size-limit"), time: given.Number("time-limit")}
	d.timeout, d.lag = time.Duration(given.Number("timeout"))*time.Second, time.Duration(given.Number("lag"))*time.Second
	if err := d.readAddress(); err != nil {
		return nil, err
	}
	d.scope = map[string]int{"sub": ldap.ScopeWholeSubtree, "one": ldap.ScopeSingleLevel, "base": ldap.ScopeBaseObject}[d.set.Text("scope")]
	if d.auth == "simple" && d.bind == "" {
		return nil, fmt.Errorf("setting bind is empty; name the DN to sign in as, or set auth to anonymous")
	}
	for _, name := range []string{"bind", "base", "create-in", "reference-base", "group-base", "group-must-have"} {
		if _, err := ldap.ParseDN(given.Text(name)); err != nil {
			return nil, fmt.Errorf("setting %s is %q, which is no DN: %v", name, given.Text(name), plain(err))
		}
	}
	if given.Text("base") == "" {
		return nil, fmt.Errorf("setting base is empty; name the DN below which to read, such as ou=people,dc=larkspur,dc=example")
	}
	for _, name := range []string{"filter", "group-filter"} {
		if f := given.Text(name); f != "" {
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
	raw := d.set.Text("url")
	d.url, err = url.Parse(raw)
	if err != nil || d.url.Scheme != "ldap" && d.url.Scheme != "ldaps" || d.url.Hostname() == "" || d.url.User != nil || strings.Trim(d.url.Path, "/") != "" {
		return fmt.Errorf("setting url is %q; expected an address such as ldaps://directory.example, without base or secret in it", raw)
	}
	port := d.url.Port()
	if port == "" {
		port = map[string]string{"ldap": "389", "ldaps": "636"}[d.url.Scheme]
	}
	d.host = net.JoinHostPort(d.url.Hostname(), port)
	d.startTLS = d.url.Scheme == "ldap" && d.set.Text("start-tls") == "yes"
	return d.readTLS()
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
func pseudo(native string) bool {
	return native == "dn" || native == "parent" || native == connector.Memberships || native == connector.Nested || native == connector.Owned
}

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
	for _, more := range strings.Split(d.set.Text("attributes"), ",") {
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
		Kind: "ldap", Shape: Shape, Extents: []string{connector.Whole, connector.Sample}, Writes: true, ReadsOne: true, Place: "dn", Lag: d.lag, Finds: d.set.Text("rdn"),
		Verbs: []string{"create", "set", "rename", "place", "enrol", "withdraw", "suspend", "reinstate", "reissue", "delete"},
		Scope: fmt.Sprintf("%s of %s, %s", d.set.Text("scope"), d.set.Text("base"), d.filter()),
	}
	x.Origin = d.url.Scheme + "://" + d.host
	x.Reaches = []string{"url", "start-tls", "ca-file", "server-name", "auth"}
	if d.set.Text("changes") != "off" {
		x.Extents = append(x.Extents, connector.Changes)
	}
	if mark, ok := d.shape.Attributes[d.shape.Mark]; ok {
		x.Finds = mark.Native
	}
	return x
}

func (d *directory) filter() string { return d.set.Text("filter") }

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
