package main

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
	"twinning/internal/connector/ldapdir"
	"twinning/internal/connector/scim"
	"twinning/internal/core/record"
	"twinning/internal/standin/directory"
)

// counter is a sink that only counts.
type counter struct{ n int }

func (c *counter) Expect(int)                      {}
func (c *counter) Record(connector.Record) error   { c.n++; return nil }
func (c *counter) Reject(r record.Rejection) error { return fmt.Errorf("rejected: %s", r.Reason) }
func (c *counter) Gone(string) error               { return nil }
func (c *counter) Restart() error                  { c.n = 0; return nil }
func (c *counter) LeftOut(connector.Left) error    { return nil }

func timedReading(c connector.Connector, n int) (float64, error) {
	if closer, ok := c.(connector.Closer); ok {
		defer closer.Close() // only read
	}
	var k counter
	start := time.Now()
	_, err := c.Read(context.Background(), connector.Reading{}, &k)
	seconds := time.Since(start).Seconds()
	if err == nil && k.n != n {
		err = fmt.Errorf("%d records where there are %d", k.n, n)
	}
	return seconds, err
}

// directories measures the reading of a directory beside a bare loop with the
// same library over the same pages, and the server's own client.
func directories(o options) error {
	const n = 20000
	dir, err := os.MkdirTemp("", "twinning-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir) // best effort
	var ldif strings.Builder
	for i := range n {
		fmt.Fprintf(&ldif, "dn: uid=p%[1]d,dc=larkspur,dc=example\nobjectClass: inetOrgPerson\nuid: p%[1]d\ncn: Given%[1]d Family%[1]d\nsn: Family%[1]d\ngivenName: Given%[1]d\nmail: p%[1]d@larkspur.example\ntitle: Night assistant\nemployeeNumber: L%[1]d\nou: Operations\n\n", i)
	}
	s, err := directory.Start(context.Background(), directory.Config{Dir: dir, Limits: []string{"sizelimit unlimited"}}, ldif.String())
	if err != nil {
		return err
	}
	defer s.Stop() // best effort
	c, err := ldapdir.New(connector.Config{Secret: directory.Secret, Settings: map[string]string{"url": s.URL, "ca-file": s.CAFile, "bind": s.Reader(), "base": s.Suffix}})
	if err != nil {
		return err
	}
	wanted := []string{"entryUUID"}
	for _, name := range ldapdir.Shape.Canonical() {
		wanted = append(wanted, ldapdir.Shape.Attributes[name].Native)
	}
	var mine, bare, client, ratio, ratioClient []float64
	for range o.rounds {
		a, err := timedReading(c, n)
		if err != nil {
			return err
		}
		b, err := bareSearch(s, wanted, n)
		if err != nil {
			return err
		}
		cmd := exec.Command("ldapsearch", append([]string{"-x", "-ZZ", "-H", s.URL, "-D", s.Reader(), "-w", directory.Secret, "-b", s.Suffix, "-E", "pr=500/noprompt", "-LLL", "-o", "ldif-wrap=no", "(objectClass=person)"}, wanted...)...) // our own arguments
		cmd.Env = append(os.Environ(), "LDAPTLS_CACERT="+s.CAFile)
		start := time.Now()
		if err := cmd.Run(); err != nil {
			return fmt.Errorf("ldapsearch: %w", err)
		}
		d := time.Since(start).Seconds()
		mine, bare, client, ratio, ratioClient = append(mine, a), append(bare, b), append(client, d), append(ratio, a/b), append(ratioClient, a/d)
	}
	fmt.Printf("\nreading %d entries of a directory; limit 1.3 beside a bare loop with the library\n%9s  %9s  %9s  %9s  %9s\n%9.2f  %9.2f  %9.2f  %9.2f  %9.2f\n", n,
		"ours s", "loop s", "ratio", "client s", "ratio", median(mine), median(bare), median(ratio), median(client), median(ratioClient))
	return nil
}

func bareSearch(s *directory.Server, wanted []string, n int) (float64, error) {
	start := time.Now()
	c, err := ldap.DialURL(s.URL)
	if err != nil {
		return 0, err
	}
	defer c.Close() // only read
	pem, err := os.ReadFile(s.CAFile)
	if err != nil {
		return 0, err
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(pem)
	if err := c.StartTLS(&tls.Config{MinVersion: tls.VersionTLS12, RootCAs: roots, ServerName: "127.0.0.1"}); err != nil {
		return 0, err
	}
	if err := c.Bind(s.Reader(), directory.Secret); err != nil {
		return 0, err
	}
	seen, paging := 0, ldap.NewControlPaging(500)
	for {
		res, err := c.Search(ldap.NewSearchRequest(s.Suffix, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=person)", wanted, []ldap.Control{paging}))
		if err != nil {
			return 0, err
		}
		seen += len(res.Entries)
		next, _ := ldap.FindControl(res.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if next == nil || len(next.Cookie) == 0 {
			break
		}
		paging.SetCookie(next.Cookie)
	}
	if seen != n {
		return 0, fmt.Errorf("the bare loop saw %d entries of %d", seen, n)
	}
	return time.Since(start).Seconds(), nil
}

// pages serves a list of users that were rendered before, from any one on.
type pages struct {
	n    int
	text []byte // of all users, a comma after each
	ends []int
}

func newPages(n int) *pages {
	p := &pages{n: n, ends: make([]int, n+1)}
	var b bytes.Buffer
	for i := 1; i <= n; i++ {
		fmt.Fprintf(&b, `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"id":"u%[1]d","externalId":"L%[1]d","userName":"p%[1]d","name":{"givenName":"Given%[1]d","familyName":"Family%[1]d"},"displayName":"Given%[1]d Family%[1]d","active":true,"title":"Night assistant","emails":[{"value":"p%[1]d@larkspur.example","type":"work","primary":true},{"value":"p.%[1]d@larkspur.example","type":"other"}],"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"department":"Operations"},"meta":{"resourceType":"User","version":"W/\"1\""}},`, i)
		p.ends[i] = b.Len()
	}
	p.text = b.Bytes()
	return p
}

func (p *pages) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !strings.HasSuffix(r.URL.Path, "/Users") {
		http.NotFound(w, r)
		return
	}
	start, _ := strconv.Atoi(r.URL.Query().Get("startIndex"))
	count, _ := strconv.Atoi(r.URL.Query().Get("count"))
	from := min(max(start, 1)-1, p.n)
	to := min(from+count, p.n)
	head := fmt.Sprintf(`{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":%d,"startIndex":%d,"itemsPerPage":%d,"Resources":[`, p.n, start, to-from)
	users := bytes.TrimSuffix(p.text[p.ends[from]:p.ends[to]], []byte(","))
	w.Header().Set("Content-Type", "application/scim+json")
	w.Header().Set("Content-Length", strconv.Itoa(len(head)+len(users)+len("]}")))
	for _, part := range [][]byte{[]byte(head), users, []byte("]}")} {
		_, _ = w.Write(part) // whoever went away does not matter
	}
}

// applications measures the reading of an application beside bare loops over
// the same pages: one that only takes the bytes, one that decodes them.
func applications(o options) error {
	const n, size = 50000, 200
	p := newPages(n)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	server := &http.Server{Handler: p, ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(l)   // closed below
	defer server.Close() // only read
	base := "http://" + l.Addr().String() + "/scim/v2"
	c, err := scim.New(connector.Config{Secret: "token", Settings: map[string]string{"url": base, "page": strconv.Itoa(size)}})
	if err != nil {
		return err
	}
	var mine, bytesOnly, decoded, r1, r2 []float64
	for range o.rounds {
		a, err := timedReading(c, n)
		if err != nil {
			return err
		}
		b, err := barePages(base, n, size, false)
		if err != nil {
			return err
		}
		d, err := barePages(base, n, size, true)
		if err != nil {
			return err
		}
		mine, bytesOnly, decoded, r1, r2 = append(mine, a), append(bytesOnly, b), append(decoded, d), append(r1, a/b), append(r2, a/d)
	}
	fmt.Printf("\nreading %d users of an application; limit 1.2 beside a bare loop\n%9s  %14s  %9s  %13s  %9s\n%9.2f  %14.2f  %9.2f  %13.2f  %9.2f\n", n,
		"ours s", "decoding loop", "ratio", "bytes alone", "ratio", median(mine), median(decoded), median(r2), median(bytesOnly), median(r1))
	return nil
}

func barePages(base string, n, size int, decode bool) (float64, error) {
	start, seen := time.Now(), 0
	for at := 1; at <= n; at += size {
		res, err := http.Get(fmt.Sprintf("%s/Users?startIndex=%d&count=%d", base, at, size)) // our own server
		if err != nil {
			return 0, err
		}
		if decode {
			var list struct{ Resources []map[string]any }
			err = json.NewDecoder(res.Body).Decode(&list)
			seen += len(list.Resources)
		} else {
			_, err = io.Copy(io.Discard, res.Body)
			seen += size
		}
		if err := res.Body.Close(); err != nil {
			return 0, err
		}
		if err != nil {
			return 0, err
		}
	}
	if seen != n {
		return 0, fmt.Errorf("the bare loop saw %d users of %d", seen, n)
	}
	return time.Since(start).Seconds(), nil
}
