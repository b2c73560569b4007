package directory

import (
	"crypto/tls"
	"errors"
	"net"
	"slices"
	"strings"
	"sync"

	ber "github.com/go-asn1-ber/asn1-ber"

	"twinning/internal/standin"
)

// Misbehaviour is what a relay does wrong.
type Misbehaviour struct {
	SayBack bool   // every entry and every result carries the secrets that were heard, in several forms
	Refuse  bool   // writes are refused, and nothing is done
	EntryID string // an entry that is asked for by its name comes with this entryUUID
	Endless bool   // after the first page come empty ones, without end
}

// Relay stands between a client and a directory server, in whose name it speaks TLS, and can be
// told to misbehave.
type Relay struct {
	URL      string // ldaps://127.0.0.1:port
	upstream string
	listener net.Listener
	mu       sync.Mutex
	wrong    Misbehaviour
	heard    []string // secrets, the newest last
	open     []net.Conn
	served   sync.WaitGroup
}

// Relay begins to relay to the server.
func (s *Server) Relay() (*Relay, error) {
	pair, err := tls.LoadX509KeyPair(s.file("server.pem"), s.file("server.key"))
	if err != nil {
		return nil, err
	}
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}})
	if err != nil {
		return nil, err
	}
	r := &Relay{URL: "ldaps://" + l.Addr().String(), upstream: strings.TrimPrefix(s.URL, "ldap://"), listener: l}
	r.served.Go(r.accept)
	return r, nil
}

// Behave says what it does wrong from now on.
func (r *Relay) Behave(wrong Misbehaviour) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.wrong = wrong
}

// Heard are the secrets that came by: of binds, and of new passwords.
func (r *Relay) Heard() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.heard)
}

// Stop ends it and every connection.
func (r *Relay) Stop() error {
	err := r.listener.Close()
	r.mu.Lock()
	for _, c := range r.open {
		err = errors.Join(err, ignoreClosed(c.Close()))
	}
	r.mu.Unlock()
	r.served.Wait()
	return err
}

func ignoreClosed(err error) error {
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

func (r *Relay) accept() {
	for {
		client, err := r.listener.Accept()
		if err != nil {
			return // it was stopped
		}
		server, err := net.Dial("tcp", r.upstream)
		if err != nil {
			_ = client.Close() // the client sees that nobody answers
			continue
		}
		r.mu.Lock()
		r.open = append(r.open, client, server)
		r.mu.Unlock()
		x := &relayed{r: r, client: client, server: server, named: map[int64]bool{}}
		r.served.Go(func() { x.pass(client, x.asked) })
		r.served.Go(func() { x.pass(server, x.answered) })
	}
}

// relayed is one connection.
type relayed struct {
	r              *Relay
	client, server net.Conn
	writing        sync.Mutex     // to the client: both directions answer it
	named          map[int64]bool // requests for one entry by its name
}

// pass reads messages (RFC 4511 section 4.1.1) until either side ends.
func (x *relayed) pass(from net.Conn, each func(*ber.Packet) error) {
	defer func() { _, _ = x.client.Close(), x.server.Close() }() // both end together
	for {
		m, err := ber.ReadPacket(from)
		if err != nil || len(m.Children) < 2 || each(m) != nil {
			return
		}
	}
}

const (
	bindRequest, searchRequest, searchEntry, searchDone, modifyRequest, addRequest, extendedRequest = 0, 3, 4, 5, 6, 8, 23

	unwilling   = 53
	pagedOID    = "1.2.840.113556.1.4.319"
	endlessMark = "again"
)

// results are the answers that carry a diagnostic message.
var results = map[ber.Tag]bool{1: true, searchDone: true, 7: true, 9: true, 11: true, 13: true, 24: true}

// asked handles a request.
func (x *relayed) asked(m *ber.Packet) error {
	id, op := m.Children[0].Value.(int64), m.Children[1]
	x.r.mu.Lock()
	wrong := x.r.wrong
	switch op.Tag {
	case bindRequest:
		if len(op.Children) > 2 {
			x.r.hear(op.Children[2].Data.String())
		}
	case modifyRequest, addRequest:
		x.r.hearPasswords(op)
	case extendedRequest: // a new password (RFC 3062): [2]
		if value, err := ber.DecodePacketErr(op.Children[len(op.Children)-1].Data.Bytes()); err == nil && len(value.Children) > 1 {
			x.r.hear(value.Children[len(value.Children)-1].Data.String())
		}
	case searchRequest:
		scope, _ := op.Children[1].Value.(int64)
		x.named[id] = scope == 0
	}
	x.r.mu.Unlock()
	switch {
	case wrong.Refuse && (op.Tag == modifyRequest || op.Tag == addRequest || op.Tag == 10 || op.Tag == 12 || op.Tag == extendedRequest):
		return x.answer(message(id, result(op.Tag+1, unwilling, x.r.said())))
	case op.Tag == searchRequest && wrong.Endless && cookieOf(m) == endlessMark:
		return x.answer(message(id, result(searchDone, 0, ""), pagedControl(endlessMark)))
	}
	_, err := x.server.Write(m.Bytes())
	return err
}

// answered handles an answer.
func (x *relayed) answered(m *ber.Packet) error {
	id, op := m.Children[0].Value.(int64), m.Children[1]
	x.r.mu.Lock()
	wrong, named := x.r.wrong, x.named[id]
	x.r.mu.Unlock()
	switch {
	case op.Tag == searchEntry && wrong != (Misbehaviour{}):
		list := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
		for _, a := range op.Children[1].Children {
			name := a.Children[0].Data.String()
			var values []string
			for _, v := range a.Children[1].Children {
				values = append(values, v.Data.String())
			}
			if strings.EqualFold(name, "entryUUID") && named && wrong.EntryID != "" {
				values = []string{wrong.EntryID}
			}
			if strings.EqualFold(name, "title") && wrong.SayBack {
				values = []string{x.r.said()}
			}
			list.AppendChild(attribute(name, values))
		}
		return x.answer(message(id, operation(searchEntry, text(op.Children[0].Data.String()), list)))
	case results[op.Tag] && wrong.SayBack && len(op.Children) > 2:
		code, _ := op.Children[0].Value.(int64)
		return x.answer(message(id, result(op.Tag, code, x.r.said()), m.Children[2:]...))
	case op.Tag == searchDone && wrong.Endless && cookieOf(m) != "":
		return x.answer(message(id, result(searchDone, 0, ""), pagedControl(endlessMark)))
	}
	return x.answer(m)
}

func (x *relayed) answer(m *ber.Packet) error {
	x.writing.Lock()
	defer x.writing.Unlock()
	_, err := x.client.Write(m.Bytes())
	return err
}

func (r *Relay) hear(secret string) {
	if secret != "" && !slices.Contains(r.heard, secret) {
		r.heard = append(r.heard, secret)
	}
}

// hearPasswords looks for userPassword at whatever depth of a request.
func (r *Relay) hearPasswords(p *ber.Packet) {
	if len(p.Children) == 2 && strings.EqualFold(p.Children[0].Data.String(), "userPassword") {
		for _, v := range p.Children[1].Children {
			r.hear(v.Data.String())
		}
		return
	}
	for _, c := range p.Children {
		r.hearPasswords(c)
	}
}

func (r *Relay) said() string { return standin.SaidBack(r.Heard()...) }

// message is one of the server's. A packet is written when it is put into another, so that it has
// to be whole by then.
func message(id int64, op *ber.Packet, controls ...*ber.Packet) *ber.Packet {
	m := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	m.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, ""))
	m.AppendChild(op)
	for _, c := range controls {
		m.AppendChild(c)
	}
	return m
}

func operation(tag ber.Tag, children ...*ber.Packet) *ber.Packet {
	o := ber.Encode(ber.ClassApplication, ber.TypeConstructed, tag, nil, "")
	for _, c := range children {
		o.AppendChild(c)
	}
	return o
}

func result(tag ber.Tag, code int64, said string) *ber.Packet {
	return operation(tag, ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, code, ""), text(""), text(said))
}

func text(s string) *ber.Packet {
	return ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, s, "")
}

func attribute(name string, values []string) *ber.Packet {
	a := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	a.AppendChild(text(name))
	set := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSet, nil, "")
	for _, v := range values {
		set.AppendChild(text(v))
	}
	a.AppendChild(set)
	return a
}

// pagedControl is the answer's control of paged results (RFC 2696).
func pagedControl(cookie string) *ber.Packet {
	value := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	value.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, int64(0), ""))
	value.AppendChild(text(cookie))
	control := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	control.AppendChild(text(pagedOID))
	control.AppendChild(text(string(value.Bytes())))
	all := ber.Encode(ber.ClassContext, ber.TypeConstructed, 0, nil, "")
	all.AppendChild(control)
	return all
}

// cookieOf is the cookie of a message's control of paged results; "" where it has none.
func cookieOf(m *ber.Packet) string {
	for _, controls := range m.Children[2:] {
		for _, c := range controls.Children {
			if len(c.Children) == 0 || c.Children[0].Data.String() != pagedOID {
				continue
			}
			value, err := ber.DecodePacketErr(c.Children[len(c.Children)-1].Data.Bytes())
			if err == nil && len(value.Children) == 2 {
				return value.Children[1].Data.String()
			}
		}
	}
	return ""
}
