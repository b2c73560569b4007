package outbound

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"syscall"
	"time"
)

// Failure says at which step of reaching a server something went wrong, what
// that means, and whom to ask for what.
type Failure struct {
	Step   string // name, connect, tls, answer
	Reason string
	Next   string
}

// Explain tells what a network error means; host is "name:port".
func Explain(err error, host string, timeout time.Duration) Failure {
	name, port, _ := net.SplitHostPort(host)
	var dns *net.DNSError
	var op *net.OpError
	var verify *tls.CertificateVerificationError
	var header tls.RecordHeaderError
	switch {
	case errors.Is(err, ErrForbidden):
		return Failure{"connect", err.Error(), "link-local and metadata addresses are refused; whoever runs the service can allow the range (--allow-network)"}
	case errors.As(err, &dns):
		return Failure{"name", fmt.Sprintf("the name %s is not known here", dns.Name), "check its spelling, or ask the network team for a DNS entry that this machine can resolve"}
	case errors.As(err, &verify):
		return verification(verify.Err, name)
	case errors.As(err, &header):
		return Failure{"tls", "the server does not speak TLS on port " + port, "is it the right port? a directory speaks TLS at once on ldaps (636), after StartTLS on ldap (389)"}
	case errors.As(err, &op) && op.Op == "remote error": // a TLS alert, which crypto/tls keeps to itself
		return Failure{"tls", "the server ended the handshake: " + op.Err.Error(), "ask its team which TLS versions it speaks (1.2 or better is needed) and whether it wants a client certificate"}
	case errors.Is(err, syscall.ECONNREFUSED):
		return Failure{"connect", "nothing listens on port " + port + " (connection refused)", "is the server up, and is the port right? ask its team"}
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return Failure{"connect", "there is no route to it", "ask the network team for a route from this machine to " + name}
	case errors.As(err, &op) && op.Op == "dial" && op.Timeout():
		return Failure{"connect", fmt.Sprintf("no connection within %s", timeout), fmt.Sprintf("a firewall probably drops it: ask the network team to let this machine through to %s, TCP port %s", name, port)}
	case errors.As(err, &op) && op.Op == "dial":
		return Failure{"connect", "no connection: " + op.Err.Error(), fmt.Sprintf("is the server up, and does the firewall let this machine through to %s?", host)}
	}
	var timed net.Error
	if errors.As(err, &timed) && timed.Timeout() {
		return Failure{"answer", fmt.Sprintf("no answer within %s", timeout), "is it slow or overloaded? raise the setting timeout"}
	}
	reason := "the connection broke before the answer"
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, syscall.ECONNRESET) {
		reason += ": " + err.Error()
	}
	return Failure{"answer", reason, "try again; if it goes on, ask its team what its log says at this time"}
}

func verification(err error, name string) Failure {
	var host x509.HostnameError
	var unknown x509.UnknownAuthorityError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(err, &host):
		return Failure{"tls", fmt.Sprintf("its certificate is for other names, not for %s", name), "use a name that the certificate has, or ask its team for a certificate with this name (a subjectAltName)"}
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return Failure{"tls", fmt.Sprintf("its certificate is good from %s to %s, and now it is %s", day(invalid.Cert.NotBefore), day(invalid.Cert.NotAfter), time.Now().UTC().Format("2006-01-02 15:04")), "ask its team to renew the certificate; if the dates look right, check this machine's clock"}
	case errors.As(err, &unknown):
		return Failure{"tls", "its certificate is signed by somebody who is not trusted here", "ask its team for the CA certificate (PEM) and name it in the setting ca-file"}
	}
	return Failure{"tls", "its certificate is not accepted: " + err.Error(), "ask its team to mend the certificate"}
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04") }
