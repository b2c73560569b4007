// Package outbound decides where connections to other systems may go, and
// dials them. Addresses are judged after the name was resolved, at the moment
// of connecting, so that a name can't be pointed elsewhere in between. Where a
// proxy stands between, what it would connect to is judged before it is asked.
//
// Private ranges and loopback are what directories mostly live on, and are
// allowed. Refused by default is whatever IANA's registries of special-purpose
// addresses (RFC 6890) set apart otherwise: link-local ranges, where cloud machines
// keep the secrets of the machine itself, metadata services elsewhere, tunnels,
// multicast, documentation, benchmarks, addresses that mean no machine; and any
// IPv6 address that stands for such an IPv4 one.
package outbound

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"
)

// Policy says where connections may go.
type Policy struct {
	Allow []netip.Prefix // ranges that are allowed although they are refused by default
}

// ErrForbidden is an address that the policy refuses.
var ErrForbidden = errors.New("connections to this range are not allowed")

func prefixes(list ...string) (out []netip.Prefix) {
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

// refused are the special-purpose ranges, private use and loopback left out.
var refused = prefixes(
	"0.0.0.0/8",         // this network
	"100.64.0.0/10",     // shared by a carrier's customers, and a metadata service
	"169.254.0.0/16",    // link-local
	"192.0.0.0/24",      // protocol assignments, and a metadata service
	"192.0.2.0/24",      // documentation
	"192.31.196.0/24",   // AS112
	"192.52.193.0/24",   // multicast tunnels
	"192.88.99.0/24",    // relays of 6to4
	"192.175.48.0/24",   // AS112
	"198.18.0.0/15",     // benchmarks
	"198.51.100.0/24",   // documentation
	"203.0.113.0/24",    // documentation
	"224.0.0.0/4",       // multicast
	"240.0.0.0/4",       // reserved, and broadcast
	"::/128",            // unspecified
	"64:ff9b:1::/48",    // translation, local
	"100::/64",          // discarded
	"100:0:0:1::/64",    // a dummy
	"2001::/23",         // protocol assignments, Teredo among them
	"2001:db8::/32",     // documentation
	"2002::/16",         // tunnels of 6to4
	"2620:4f:8000::/48", // AS112
	"3fff::/20",         // documentation
	"5f00::/16",         // segment routing
	"fd00:ec2::/32",     // a metadata service
	"fe80::/10",         // link-local
	"fec0::/10",         // site-local, given up
	"ff00::/8",          // multicast
)

// Check says whether an address may be connected to.
func (p *Policy) Check(addr netip.Addr) error {
	addr = addr.WithZone("").Unmap()
	if !addr.IsValid() {
		return fmt.Errorf("no address: %w", ErrForbidden)
	}
	if p != nil {
		for _, allowed := range p.Allow {
			if allowed.Contains(addr) {
				return nil
			}
		}
	}
	for _, r := range refused {
		if r.Contains(addr) {
			return fmt.Errorf("%s: %w", addr, ErrForbidden)
		}
	}
	if inner, ok := embedded(addr); ok {
		if err := p.Check(inner); err != nil {
			return fmt.Errorf("%s, which stands for %w", addr, err)
		}
	}
	return nil
}

// carriers are IPv6 ranges whose addresses end in the IPv4 one that they stand for:
// the former compatible form, the translated one (RFC 2765), and translation by
// the well-known prefix (RFC 6052).
var carriers = prefixes("::/96", "::ffff:0:0:0/96", "64:ff9b::/96")

// embedded is the IPv4 address that an IPv6 one leads to.
func embedded(addr netip.Addr) (netip.Addr, bool) {
	if !addr.Is6() || addr.IsLoopback() {
		return addr, false
	}
	b := addr.As16()
	last := netip.AddrFrom4([4]byte(b[12:]))
	for _, c := range carriers {
		if c.Contains(addr) {
			return last, true
		}
	}
	// tunnels within a site (RFC 5214) carry it behind 0:5efe or 200:5efe
	if b[8]&^2 == 0 && b[9] == 0 && b[10] == 0x5e && b[11] == 0xfe {
		return last, true
	}
	return addr, false
}

// Proxy asks another function for the proxy of a request, and refuses what the
// proxy must not be made to reach. A name that is not known here can't be judged,
// and is refused, unless the policy allows everything.
func (p *Policy) Proxy(of func(*http.Request) (*url.URL, error)) func(*http.Request) (*url.URL, error) {
	return func(r *http.Request) (*url.URL, error) {
		proxy, err := of(r)
		if err != nil || proxy == nil || p.all() {
			return proxy, err
		}
		host := r.URL.Hostname()
		addrs := []netip.Addr{}
		if literal, err := netip.ParseAddr(host); err == nil {
			addrs = append(addrs, literal)
		} else if addrs, err = net.DefaultResolver.LookupNetIP(r.Context(), "ip", host); err != nil {
			return nil, fmt.Errorf("%s is behind the proxy %s, and where the name leads is not known here: %w", host, proxy.Host, ErrForbidden)
		}
		for _, a := range addrs {
			if err := p.Check(a); err != nil {
				return nil, err
			}
		}
		return proxy, nil
	}
}

// all reports whether every address of IPv4 is allowed.
func (p *Policy) all() bool {
	return p != nil && slices.Contains(p.Allow, netip.MustParsePrefix("0.0.0.0/0"))
}

// Dialer dials where the policy lets it.
func (p *Policy) Dialer(timeout time.Duration) *net.Dialer {
	return &net.Dialer{Timeout: timeout, ControlContext: func(_ context.Context, _, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		return p.Check(at.Addr())
	}}
}

// ParsePolicy reads ranges such as "169.254.7.0/24, fe80::/64".
func ParsePolicy(text string) (*Policy, error) {
	p := &Policy{}
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		prefix, err := netip.ParsePrefix(part)
		if err != nil {
			return nil, fmt.Errorf("%q is not a range of addresses; expected one such as 169.254.7.0/24", part)
		}
		p.Allow = append(p.Allow, prefix)
	}
	return p, nil
}

// Files reads a file that a setting names; nil reads any that there is.
type Files func(path string) ([]byte, error)

// TLS makes the configuration for one server: TLS 1.2 or better, the name
// always checked. caFile, when not empty, holds the only certificates
// trusted; certFile and keyFile identify us.
func TLS(serverName, caFile, certFile, keyFile string, read Files) (*tls.Config, error) {
	if read == nil {
		read = os.ReadFile
	}
	cfg := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: serverName}
	if caFile != "" {
		pem, err := read(caFile)
		if err != nil {
			return nil, fmt.Errorf("setting ca-file: %w", err)
		}
		cfg.RootCAs = x509.NewCertPool()
		if !cfg.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("setting ca-file: %q holds no certificate in PEM form", caFile)
		}
	}
	if (certFile == "") != (keyFile == "") {
		return nil, errors.New("settings client-cert and client-key: give both or none")
	}
	if certFile != "" {
		cert, err := read(certFile)
		if err != nil {
			return nil, fmt.Errorf("setting client-cert: %w", err)
		}
		key, err := read(keyFile)
		if err != nil {
			return nil, fmt.Errorf("setting client-key: %w", err)
		}
		pair, err := tls.X509KeyPair(cert, key)
		if err != nil {
			return nil, fmt.Errorf("settings client-cert and client-key: %w", err)
		}
		cfg.Certificates = []tls.Certificate{pair}
	}
	return cfg, nil
}

// ExpiresSoon is how long before its end a certificate is warned of.
const ExpiresSoon = 30 * 24 * time.Hour
