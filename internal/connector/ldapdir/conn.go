package ldapdir

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
	"twinning/internal/connector/outbound"
)

func (d *directory) readTLS() (err error) {
	if d.url.Scheme == "ldap" && !d.startTLS {
		return nil
	}
	d.tls, err = outbound.TLS(cmp.Or(d.set.Text("server-name"), d.url.Hostname()), d.set.Text("ca-file"), d.set.Text("client-cert"), d.set.Text("client-key"), d.cfg.ReadFile)
	return err
}

func (d *directory) fault(kind connector.Kind, doing, reason, next string) *connector.Error {
	return &connector.Error{Kind: kind, Doing: doing, Target: d.url.Scheme + "://" + d.host, Reason: outbound.Clear(reason, d.cfg.Secret), Next: next}
}

// dial connects, encrypts and signs in.
func (d *directory) dial(ctx context.Context, doing string) (*ldap.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, d.timeout)
	defer cancel()
	raw, err := d.cfg.Outbound.Dialer(d.timeout).DialContext(ctx, "tcp", d.host)
	if err != nil {
		return nil, d.network(doing, err, connector.Unreachable)
	}
	if d.startTLS {
		if err := d.askForTLS(ctx, raw, doing); err != nil {
			_ = raw.Close() // the answer tells
			return nil, err
		}
	}
	if d.tls != nil {
		secured := tls.Client(raw, d.tls)
		if err := secured.HandshakeContext(ctx); err != nil {
			_ = raw.Close() // the handshake's error tells
			return nil, d.network(doing, err, connector.Unreachable)
		}
		raw = secured
	}
	c := ldap.NewConn(raw, d.tls != nil)
	c.SetTimeout(d.timeout)
	c.Start()
	if err := d.signIn(c, doing); err != nil {
		_ = c.Close() // as above
		return nil, err
	}
	return c, nil
}

// askForTLS sends the StartTLS request (RFC 4511 section 4.14) and reads its
// answer. The library's own StartTLS turns a failed handshake into a text, and
// what exactly failed is what people need to know.
func (d *directory) askForTLS(ctx context.Context, raw net.Conn, doing string) error {
	const oid = "1.3.6.1.4.1.1466.20037"
	if deadline, ok := ctx.Deadline(); ok {
		if err := raw.SetDeadline(deadline); err != nil {
			return err
		}
		defer raw.SetDeadline(time.Time{}) // the connection lives on
	}
	message := ber.NewSequence("LDAPMessage")
	message.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, 1, "messageID"))
	request := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationExtendedRequest, nil, "ExtendedRequest")
	request.AppendChild(ber.NewString(ber.ClassContext, ber.TypePrimitive, 0, oid, "requestName"))
	message.AppendChild(request)
	if _, err := raw.Write(message.Bytes()); err != nil {
		return d.network(doing, err, connector.Unreachable)
	}
	answer, err := ber.ReadPacket(io.LimitReader(raw, 64<<10))
	if err != nil {
		return d.network(doing, err, connector.Unreachable)
	}
	var told *ldap.Error
	if err := ldap.GetLDAPError(answer); errors.As(err, &told) {
		return d.fault(connector.Unreachable, doing, "the server refuses StartTLS: "+diagnosis(told), "use ldaps://, or ask the directory's team to give it a certificate")
	}
	return nil
}

func (d *directory) signIn(c *ldap.Conn, doing string) error {
	var err error
	switch d.auth {
	case "anonymous":
		return nil
	case "external":
		err = c.ExternalBind()
	default:
		if d.secret == "" {
			return d.fault(connector.Denied, doing, "no secret is set, and a bind without one would be anonymous", "set the password: twinning system put NAME --secret-file FILE")
		}
		err = c.Bind(d.bind, d.secret)
	}
	switch {
	case err == nil:
		return nil
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials):
		return d.fault(connector.Denied, doing, fmt.Sprintf("the directory does not accept the DN %s with this secret", d.bind), "check the DN's spelling; set a new secret; ask the directory's team whether the account is locked or expired")
	}
	return d.explain(doing, err)
}

func (d *directory) network(doing string, err error, kind connector.Kind) error {
	f := outbound.Explain(err, d.host, d.timeout)
	return d.fault(kind, doing, f.Reason, f.Next)
}

// diagnosis is what the server says, without the library's frame.
func diagnosis(e *ldap.Error) string {
	name := ldap.LDAPResultCodeMap[e.ResultCode]
	said := ""
	if e.Err != nil {
		said = strings.TrimSpace(e.Err.Error())
	}
	if said == "" || said == name {
		return fmt.Sprintf("%s (%d)", name, e.ResultCode)
	}
	return fmt.Sprintf("%s (%d): %s", name, e.ResultCode, said)
}

// explain turns a result code (RFC 4511 appendix A) into what it means here.
func (d *directory) explain(doing string, err error) error {
	var e *ldap.Error
	switch {
	case errors.As(err, &e):
	case cutOff(err):
		e = &ldap.Error{ResultCode: ldap.ErrorNetwork, Err: err}
	default:
		return err // ours, the sink's, or that somebody stopped us
	}
	kind, next := connector.Refused, ""
	switch e.ResultCode {
	case ldap.ErrorNetwork:
		var timed net.Error
		if errors.As(e.Err, &timed) || e.Err == nil {
			return d.network(doing, e.Err, connector.Unanswered)
		}
		return d.fault(connector.Unanswered, doing, "the connection broke before the answer", "try again; if it goes on, ask the directory's team what its log says at this time")
	case ldap.LDAPResultInvalidCredentials:
		kind, next = connector.Denied, fmt.Sprintf("set a new secret for %s, or ask the directory's team whether it is locked", d.bind)
	case ldap.LDAPResultInsufficientAccessRights:
		kind, next = connector.Forbidden, fmt.Sprintf("ask the directory's team for the right for %s", d.bind)
	case ldap.LDAPResultStrongAuthRequired, ldap.LDAPResultConfidentialityRequired:
		kind, next = connector.Denied, "the directory wants an encrypted connection: use ldaps:// or set start-tls to yes"
	case ldap.LDAPResultInappropriateAuthentication:
		kind, next = connector.Denied, "the directory does not let anybody in this way: set bind and a secret"
	case ldap.LDAPResultNoSuchObject:
		kind = connector.NotFound
	case ldap.LDAPResultEntryAlreadyExists, ldap.LDAPResultAttributeOrValueExists:
		kind, next = connector.Conflict, "a name or value that must be unique is in use"
	case ldap.LDAPResultConstraintViolation:
		if e.Err != nil && strings.Contains(strings.ToLower(e.Err.Error()), "unique") {
			kind, next = connector.Conflict, "a value that must be unique is in use"
		}
	case ldap.LDAPResultAssertionFailed, ldap.LDAPResultNoSuchAttribute:
		kind = connector.Stale
	case ldap.LDAPResultBusy, ldap.LDAPResultUnavailable:
		kind, next = connector.Throttled, "the directory asks for a slower pace"
	case ldap.LDAPResultSizeLimitExceeded, ldap.LDAPResultAdminLimitExceeded:
		next = "a partial list is never used: set a smaller page, or ask the directory's team to raise the size limit for " + d.bind
	case ldap.LDAPResultTimeLimitExceeded:
		next = "a partial list is never used: raise time-limit, narrow base or filter, or ask the directory's team for an index or a longer limit"
	case ldap.LDAPResultReferral:
		next = "this server passes it on to another one; set url to the server that answers itself"
	case ldap.LDAPResultObjectClassViolation, ldap.LDAPResultUndefinedAttributeType, ldap.LDAPResultInvalidAttributeSyntax, ldap.LDAPResultNamingViolation:
		next = "the directory's schema does not allow it: check classes and attributes of the shape"
	case ldap.LDAPResultUnavailableCriticalExtension:
		kind = connector.Unsupported
	case ldap.LDAPResultSyncRefreshRequired:
		kind = connector.Expired
	case ldap.LDAPResultUnwillingToPerform:
		next = "the directory's team can say what it is unwilling to do, and why"
	case ldap.LDAPResultOther, ldap.LDAPResultOperationsError, ldap.LDAPResultProtocolError:
		kind = connector.Unanswered
	}
	told := d.fault(kind, doing, diagnosis(e), next)
	told.Answered, told.Cause = true, err
	return told
}

// cutOff: the library tells a connection that broke under a waiting request as plain
// text.
func cutOff(err error) bool {
	return strings.HasPrefix(err.Error(), "unable to read LDAP response packet") || strings.Contains(err.Error(), "connection closed")
}

// with lends a connection that is signed in. One that broke is not given back;
// only if it was an old one, and nothing can have been written, is a new one
// tried once: servers close what is idle.
func (d *directory) with(ctx context.Context, doing string, idempotent bool, fn func(c *ldap.Conn) error) error {
	leave, err := d.cfg.Pace.Enter(ctx)
	if err != nil {
		return err
	}
	defer leave()
	c, old := d.take(), true
	for {
		if c == nil {
			old = false
			if c, err = d.dial(ctx, doing); err != nil {
				return err
			}
		}
		stop := context.AfterFunc(ctx, func() { _ = c.Close() }) // the library's calls know no context
		err = fn(c)
		stopped := !stop()
		switch broken := ldap.IsErrorWithCode(err, ldap.ErrorNetwork) || c.IsClosing(); {
		case stopped:
			return ctx.Err()
		case !broken:
			d.give(c)
			return d.explained(doing, err)
		case old && idempotent:
			_ = c.Close() // broken anyway
			c = nil
		default:
			_ = c.Close() // broken anyway
			return d.explained(doing, err)
		}
	}
}

func (d *directory) explained(doing string, err error) error {
	if err == nil {
		return nil
	}
	return d.explain(doing, err)
}

// maxIdle connections are kept for the next request.
const maxIdle = 8

func (d *directory) take() *ldap.Conn {
	d.mu.Lock()
	defer d.mu.Unlock()
	for len(d.idle) > 0 {
		c := d.idle[len(d.idle)-1]
		d.idle = d.idle[:len(d.idle)-1]
		if !c.IsClosing() {
			return c
		}
	}
	return nil
}

func (d *directory) give(c *ldap.Conn) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.idle) < maxIdle && !c.IsClosing() {
		d.idle = append(d.idle, c)
		return
	}
	_ = c.Close() // enough are kept
}

// rootDSE is what the server says of itself (RFC 4512 section 5.1).
type rootDSE struct {
	controls, extensions, contexts []string
	schema                         string
}

const (
	pagedResults  = "1.2.840.113556.1.4.319"
	assertion     = "1.3.6.1.1.12"
	contentSync   = "1.3.6.1.4.1.4203.1.9.1.1"
	passwordModif = "1.3.6.1.4.1.4203.1.11.1"
)

func (d *directory) discover(c *ldap.Conn) (*rootDSE, error) {
	d.mu.Lock()
	known := d.root
	d.mu.Unlock()
	if known != nil {
		return known, nil
	}
	res, err := c.Search(ldap.NewSearchRequest("", ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, int(d.timeout/time.Second), false, "(objectClass=*)",
		[]string{"supportedControl", "supportedExtension", "namingContexts", "subschemaSubentry"}, nil))
	if err != nil {
		return nil, err
	}
	root := &rootDSE{}
	if len(res.Entries) == 1 {
		e := res.Entries[0]
		root.controls, root.extensions = e.GetAttributeValues("supportedControl"), e.GetAttributeValues("supportedExtension")
		root.contexts, root.schema = e.GetAttributeValues("namingContexts"), e.GetAttributeValue("subschemaSubentry")
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.root = root
	return root, nil
}
