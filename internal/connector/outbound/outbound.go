// Package outbound decides where connections to other systems may go, and
// dials them. Addresses are judged after the name was resolved, at the moment
// of connecting, so that a name can't be pointed elsewhere in between.
//
// Refused by default are link-local ranges, where cloud machines keep the
// secrets of the machine itself (169.254.169.254 and its kin), multicast and
// unspecified addresses. Private ranges and loopback are what directories
// mostly live on, and are allowed.
package outbound

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
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

// refused by default, besides what netip knows as link-local or multicast:
// metadata services that live outside the link-local ranges, and addresses
// that mean no machine.
var refused = []netip.Prefix{
	netip.MustParsePrefix("100.100.100.200/32"),
	netip.MustParsePrefix("fd00:ec2::/32"),
	netip.MustParsePrefix("192.0.0.192/32"),
	netip.MustParsePrefix("0.0.0.0/8"),
	netip.MustParsePrefix("255.255.255.255/32"),
}

// Check says whether an address may be connected to.
func (p *Policy) Check(addr netip.Addr) error {
	addr = addr.Unmap()
	if p != nil {
		for _, allowed := range p.Allow {
			if allowed.Contains(addr) {
				return nil
			}
		}
	}
	if inner, ok := embedded(addr); ok {
		return p.Check(inner)
	}
	bad := addr.IsLinkLocalUnicast() || addr.IsMulticast() || addr.IsUnspecified()
	for _, r := range refused {
		bad = bad || r.Contains(addr)
	}
	if bad {
		return fmt.Errorf("%s: %w", addr, ErrForbidden)
	}
	return nil
}

// carriers are IPv6 ranges whose addresses stand for an IPv4 one, at a byte:
// translation (RFC 6052), the former compatible form, and 6to4 (RFC 3056).
var carriers = []struct {
	prefix netip.Prefix
	at     int
}{
	{netip.MustParsePrefix("64:ff9b::/96"), 12}, {netip.MustParsePrefix("::/96"), 12}, {netip.MustParsePrefix("2002::/16"), 2},
}

// embedded is the IPv4 address that an IPv6 one leads to.
func embedded(addr netip.Addr) (netip.Addr, bool) {
	if !addr.Is6() || addr.IsUnspecified() || addr.IsLoopback() {
		return addr, false
	}
	for _, c := range carriers {
		if c.prefix.Contains(addr) {
			b := addr.As16()
			return netip.AddrFrom4([4]byte(b[c.at : c.at+4])), true
		}
	}
	return addr, false
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

// TLS makes the configuration for one server: TLS 1.2 or better, the name
// always checked. caFile, when not empty, holds the only certificates
// trusted; certFile and keyFile identify us.
func TLS(serverName, caFile, certFile, keyFile string) (*tls.Config, error) {
	cfg := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: serverName}
	if caFile != "" {
		pem, err := os.ReadFile(caFile)
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
		pair, err := tls.LoadX509KeyPair(certFile, keyFile)
		if err != nil {
			return nil, fmt.Errorf("settings client-cert and client-key: %w", err)
		}
		cfg.Certificates = []tls.Certificate{pair}
	}
	return cfg, nil
}

// ExpiresSoon is how long before its end a certificate is warned of.
const ExpiresSoon = 30 * 24 * time.Hour
