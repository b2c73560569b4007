package connector

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"twinning/internal/connector/outbound"
	"twinning/internal/core/calendar"
)

// Step is one thing that a probe tried. Nothing in it is secret: the report
// can be handed to another team.
type Step struct {
	Name   string `json:"name"`            // name, connect, tls, sign in, base, read one, …
	State  string `json:"state"`           // ok, warning, failed
	Said   string `json:"said"`            // what was found
	Means  string `json:"means,omitempty"` // what a failure or warning means
	Next   string `json:"next,omitempty"`  // what to do, or whom to ask for what
	Millis int64  `json:"millis"`
}

// States of a step.
const (
	StepOK      = "ok"
	StepWarning = "warning"
	StepFailed  = "failed"
)

// Prober goes step by step and stops at the first failure.
type Prober interface {
	Probe(ctx context.Context, told func(Step))
}

// Probe collects the steps of a connector's probe.
func Probe(ctx context.Context, c Connector) []Step {
	var steps []Step
	began := time.Now()
	tell := func(s Step) {
		s.Millis = time.Since(began).Milliseconds()
		began = time.Now()
		steps = append(steps, s)
	}
	if p, ok := c.(Prober); ok {
		p.Probe(ctx, tell)
		return steps
	}
	tell(FailedStep("read", &Error{Kind: Unsupported, Doing: "probe", Reason: "this kind of system has no probe"}))
	return steps
}

// Discreet keeps secrets that the other side says back out of what a probe tells.
func Discreet(tell func(Step), secrets func() []string) func(Step) {
	return func(s Step) {
		known := secrets()
		s.Said, s.Means, s.Next = outbound.Clear(s.Said, known...), outbound.Clear(s.Means, known...), outbound.Clear(s.Next, known...)
		tell(s)
	}
}

// FailedStep tells an error as a step.
func FailedStep(name string, err error) Step {
	var told *Error
	if errors.As(err, &told) {
		return Step{Name: name, State: StepFailed, Said: told.Reason, Next: told.Next}
	}
	return Step{Name: name, State: StepFailed, Said: err.Error()}
}

// Reach tries the first steps that every network system has in common: the
// name, the connection and, unless cfg is nil, TLS with its certificate's end.
func Reach(ctx context.Context, policy *outbound.Policy, host string, cfg *tls.Config, timeout time.Duration, tell func(Step)) bool {
	name, port, _ := net.SplitHostPort(host)
	addresses := []string{name}
	if _, err := netip.ParseAddr(name); err != nil {
		var err error
		if addresses, err = net.DefaultResolver.LookupHost(ctx, name); err != nil {
			f := outbound.Explain(err, host, timeout)
			tell(Step{Name: "name", State: StepFailed, Said: f.Reason, Next: f.Next})
			return false
		}
	}
	tell(Step{Name: "name", State: StepOK, Said: fmt.Sprintf("%s is %s", name, strings.Join(addresses, ", "))})
	conn, err := policy.Dialer(timeout).DialContext(ctx, "tcp", host)
	if err != nil {
		f := outbound.Explain(err, host, timeout)
		tell(Step{Name: "connect", State: StepFailed, Said: f.Reason, Next: f.Next})
		return false
	}
	defer conn.Close() // only looked at
	tell(Step{Name: "connect", State: StepOK, Said: fmt.Sprintf("port %s answers", port)})
	if cfg == nil {
		return true
	}
	cfg = cfg.Clone()
	if cfg.ServerName == "" {
		cfg.ServerName = name
	}
	secured := tls.Client(conn, cfg)
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	if err := secured.HandshakeContext(ctx); err != nil {
		f := outbound.Explain(err, host, timeout)
		tell(Step{Name: "tls", State: StepFailed, Said: f.Reason, Next: f.Next})
		return false
	}
	tell(CertificateStep(secured.ConnectionState()))
	return true
}

// CertificateStep tells of a TLS connection and warns of a certificate's end.
func CertificateStep(state tls.ConnectionState) Step {
	s := Step{Name: "tls", State: StepOK, Said: tls.VersionName(state.Version)}
	if len(state.PeerCertificates) == 0 {
		return s
	}
	ends := state.PeerCertificates[0].NotAfter
	s.Said += ", certificate good until " + calendar.Day(ends, nil)
	if left := time.Until(ends); left < outbound.ExpiresSoon {
		s.State, s.Means = StepWarning, fmt.Sprintf("the certificate ends in %d days; after that nothing is read or written", int(left.Hours()/24))
		s.Next = "ask the system's team to renew it"
	}
	return s
}
