package outbound

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Where connections may go: what directories live on is open, what keeps the
// secrets of a machine is not, in whatever clothes it comes.
func TestCheck(t *testing.T) {
	for _, c := range []struct {
		address, allow string
		open           bool
	}{
		{"127.0.0.1", "", true}, {"10.1.2.3", "", true}, {"192.168.1.1", "", true}, {"172.16.0.9", "", true}, {"93.184.216.34", "", true},
		{"::1", "", true}, {"fd12:3456::1", "", true}, {"2a00:1450::1", "", true}, {"2606:2800::1", "", true},
		// link-local and metadata
		{"169.254.169.254", "", false}, {"169.254.1.1", "", false}, {"fe80::1", "", false}, {"fe80::1%eth0", "", false}, {"fec0::1", "", false}, {"fd00:ec2::254", "", false},
		{"100.100.100.200", "", false}, {"192.0.0.192", "", false},
		// what means no machine, or many
		{"0.0.0.0", "", false}, {"::", "", false}, {"0.1.2.3", "", false}, {"255.255.255.255", "", false}, {"240.0.0.1", "", false}, {"224.0.0.1", "", false}, {"239.1.1.1", "", false}, {"ff02::1", "", false}, {"ff0e::1", "", false},
		// set apart by IANA's registries
		{"100.64.0.1", "", false}, {"192.0.0.8", "", false}, {"192.0.2.1", "", false}, {"192.31.196.1", "", false}, {"192.52.193.1", "", false}, {"192.88.99.1", "", false}, {"192.175.48.1", "", false},
		{"198.18.0.1", "", false}, {"198.19.255.1", "", false}, {"198.51.100.1", "", false}, {"203.0.113.7", "", false},
		{"100::1", "", false}, {"100:0:0:1::1", "", false}, {"2001:2::1", "", false}, {"2001:20::1", "", false}, {"2001:db8::1", "", false}, {"2620:4f:8000::1", "", false}, {"3fff::1", "", false}, {"5f00::1", "", false},
		// tunnels
		{"2001::1", "", false}, {"2001:0:4136:e378:8000:63bf:5601:5601", "", false}, {"2002:a9fe:a9fe::1", "", false}, {"2002:cb00:7107::1", "", false}, {"2002:a01:203::1", "", false}, {"64:ff9b:1::a9fe:a9fe", "", false},
		// IPv4 inside IPv6
		{"::ffff:169.254.169.254", "", false}, {"::ffff:169.254.169.254%eth0", "", false}, {"::ffff:0:169.254.169.254", "", false}, {"64:ff9b::a9fe:a9fe", "", false}, {"::a9fe:a9fe", "", false},
		{"fd12::5efe:a9fe:a9fe", "", false}, {"fd12::200:5efe:a9fe:a9fe", "", false}, {"2a00::5efe:169.254.169.254", "", false},
		{"64:ff9b::a01:203", "", true}, {"::ffff:10.1.2.3", "", true}, {"::a01:203", "", true},
		// what is allowed on purpose
		{"169.254.7.9", "169.254.7.0/24", true}, {"::ffff:169.254.7.9", "169.254.7.0/24", true}, {"64:ff9b::a9fe:709", "169.254.7.0/24", true},
		{"169.254.8.9", "169.254.7.0/24", false}, {"fe80::9", "10.0.0.0/8, fe80::/64", true}, {"fe80::9%eth0", "fe80::/64", true}, {"203.0.113.7", "0.0.0.0/0", true},
	} {
		p, err := ParsePolicy(c.allow)
		require.NoError(t, err)
		err = p.Check(netip.MustParseAddr(c.address))
		require.Equal(t, c.open, err == nil, "%s: %v", c.address, err)
		if !c.open {
			require.ErrorIs(t, err, ErrForbidden)
		}
	}
	require.Error(t, (*Policy)(nil).Check(netip.MustParseAddr("169.254.169.254")), "no policy is the default one")
	_, err := ParsePolicy("169.254.7.0")
	require.ErrorContains(t, err, "is not a range of addresses")
}

// A name that leads to a forbidden address is stopped when it is dialled, not
// when it is read.
func TestDialer(t *testing.T) {
	_, err := (*Policy)(nil).Dialer(time.Second).DialContext(context.Background(), "tcp", "169.254.169.254:80")
	require.ErrorIs(t, err, ErrForbidden)
	f := Explain(err, "metadata.example:80", time.Second)
	require.Equal(t, "connect", f.Step)
	require.Contains(t, f.Next, "--allow-network")
}

// A proxy is not asked for what the policy refuses, nor for a name whose addresses
// nobody here knows.
func TestProxy(t *testing.T) {
	proxy, err := url.Parse("http://127.0.0.1:3128")
	require.NoError(t, err)
	through := func(*http.Request) (*url.URL, error) { return proxy, nil }
	for _, c := range []struct {
		target, allow string
		open          bool
	}{
		{"http://169.254.169.254/latest", "", false}, {"http://[::ffff:169.254.169.254]/", "", false}, {"http://[fe80::1%25eth0]/", "", false},
		{"http://app.larkspur.invalid/", "", false}, {"http://app.larkspur.invalid/", "0.0.0.0/0", true},
		{"http://10.1.2.3/", "", true}, {"http://localhost/", "", true},
	} {
		p, err := ParsePolicy(c.allow)
		require.NoError(t, err)
		r, err := http.NewRequest(http.MethodGet, c.target, nil)
		require.NoError(t, err)
		got, err := p.Proxy(through)(r)
		if !c.open {
			require.ErrorIs(t, err, ErrForbidden, c.target)
			continue
		}
		require.NoError(t, err, c.target)
		require.Equal(t, proxy, got)
	}
}

// authority signs certificates for a test.
type authority struct {
	t    *testing.T
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	file string
}

func newAuthority(t *testing.T) *authority {
	a := &authority{t: t, file: filepath.Join(t.TempDir(), "ca.pem")}
	var err error
	a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "test CA"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &a.key.PublicKey, a.key)
	require.NoError(t, err)
	a.cert, err = x509.ParseCertificate(der)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(a.file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	return a
}

func (a *authority) server(name string, ends time.Time) tls.Certificate {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(a.t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(2), NotBefore: time.Now().Add(-48 * time.Hour), NotAfter: ends, DNSNames: []string{name}}
	der, err := x509.CreateCertificate(rand.Reader, template, a.cert, &key.PublicKey, a.key)
	require.NoError(a.t, err)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// What a network error means, from errors as the machine makes them.
func TestExplain(t *testing.T) {
	ca := newAuthority(t)
	soon := time.Now().Add(time.Hour)
	trusting := func(name string) *tls.Config {
		cfg, err := TLS(name, ca.file, "", "", nil)
		require.NoError(t, err)
		return cfg
	}
	handshake := func(server *tls.Config, client *tls.Config) error {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer l.Close() // the test is over
		go func() {
			c, err := l.Accept()
			if err != nil {
				return
			}
			defer c.Close() // whatever came
			if server == nil {
				_, _ = io.WriteString(c, "220 not TLS at all\r\n") // the client says what it saw
				return
			}
			_ = tls.Server(c, server).Handshake() // as above
			_, _ = io.Copy(io.Discard, c)
		}()
		c, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp", l.Addr().String(), client)
		if err == nil {
			_ = c.SetDeadline(time.Now().Add(5 * time.Second))
			_, err = c.Read(make([]byte, 1)) // TLS 1.3 tells of a missing certificate only now
		}
		return err
	}
	serves := func(name string, ends time.Time) *tls.Config {
		return &tls.Config{Certificates: []tls.Certificate{ca.server(name, ends)}}
	}
	stranger := trusting("d.example")
	stranger.RootCAs = x509.NewCertPool()
	old := serves("d.example", soon)
	old.MaxVersion = tls.VersionTLS11
	old.MinVersion = tls.VersionTLS10
	wants := serves("d.example", soon)
	wants.ClientAuth = tls.RequireAnyClientCert
	_, refused := net.Dial("tcp", "127.0.0.1:1")
	_, unknown := net.LookupHost("directory.larkspur.invalid")
	for name, c := range map[string]struct {
		err                error
		step, reason, next string
	}{
		"other name":         {handshake(serves("other.example", soon), trusting("d.example")), "tls", "for other names, not for d.example", "subjectAltName"},
		"expired":            {handshake(serves("d.example", time.Now().Add(-24*time.Hour)), trusting("d.example")), "tls", "its certificate is good from", "renew the certificate"},
		"unknown CA":         {handshake(serves("d.example", soon), stranger), "tls", "not trusted here", "ca-file"},
		"no TLS":             {handshake(nil, trusting("d.example")), "tls", "does not speak TLS on port 636", "is it the right port?"},
		"old TLS":            {handshake(old, trusting("d.example")), "tls", "the server ended the handshake", "1.2 or better"},
		"client certificate": {handshake(wants, trusting("d.example")), "tls", "the server ended the handshake", "client certificate"},
		"nobody there":       {refused, "connect", "nothing listens on port 636", "is the server up"},
		"unknown name":       {unknown, "name", "directory.larkspur.invalid is not known here", "network team"},
		"no route":           {&net.OpError{Op: "dial", Err: syscall.EHOSTUNREACH}, "connect", "no route", "a route from this machine to d.example"},
		"dropped":            {&net.OpError{Op: "dial", Err: os.ErrDeadlineExceeded}, "connect", "no connection within 7s", "firewall probably drops it"},
		"slow":               {&net.OpError{Op: "read", Err: os.ErrDeadlineExceeded}, "answer", "no answer within 7s", "raise the setting timeout"},
		"cut":                {fmt.Errorf("reading: %w", io.ErrUnexpectedEOF), "answer", "the connection broke before the answer", "try again"},
		"reset":              {&net.OpError{Op: "read", Err: syscall.ECONNRESET}, "answer", "the connection broke before the answer", "its log"},
		"something else":     {errors.New("strange"), "answer", "strange", "try again"},
	} {
		t.Run(name, func(t *testing.T) {
			require.Error(t, c.err)
			f := Explain(c.err, "d.example:636", 7*time.Second)
			require.Equal(t, c.step, f.Step, "%v", c.err)
			require.Contains(t, f.Reason, c.reason)
			require.Contains(t, f.Next, c.next)
		})
	}
}

func TestTLSFiles(t *testing.T) {
	dir := t.TempDir()
	noPEM := filepath.Join(dir, "no.pem")
	require.NoError(t, os.WriteFile(noPEM, []byte("not a certificate"), 0o600))
	for _, c := range []struct{ ca, cert, key, want string }{
		{filepath.Join(dir, "none"), "", "", "setting ca-file"}, {noPEM, "", "", "no certificate in PEM form"}, {"", noPEM, "", "give both or none"}, {"", noPEM, noPEM, "client-cert and client-key"},
	} {
		_, err := TLS("x", c.ca, c.cert, c.key, nil)
		require.ErrorContains(t, err, c.want)
	}
	cfg, err := TLS("x", "", "", "", nil)
	require.NoError(t, err)
	require.EqualValues(t, tls.VersionTLS12, cfg.MinVersion)
	require.False(t, cfg.InsecureSkipVerify)
}
