// Package mailbox is a simulated mail server, for the demo and the tests: it takes letters
// over STARTTLS, keeps them, counts them, and can be told to misbehave. It sends nothing on.
package mailbox

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"twinning/internal/standin"
	"twinning/internal/standin/certs"
)

// Misbehaviour is what the server does wrong.
type Misbehaviour struct {
	RefuseTo   string // letters to this address are refused for good
	LaterTo    string // and to this one for now
	RefuseText bool   // every letter is refused once its text is there
	DropAnswer bool   // a letter is taken, and the connection cut instead of an answer
	SayBack    bool   // refusals carry the sender's secret and the letter's text
}

// Letter is one that was taken.
type Letter struct {
	From, To, Subject, Text string
	Secure                  bool // it came over TLS
}

// Server is a running one.
type Server struct {
	URL    string // smtp://127.0.0.1:port
	CAFile string
	User   string
	mu     sync.Mutex
	taken  []Letter
	wrong  Misbehaviour
	file   string
	server *smtp.Server
	ended  chan struct{}
}

// Secret is what the server wants of whoever sends something.
const Secret = "larkspur-mail"

// Start runs one whose certificates are in a folder; letters are added to letters.txt there,
// for people to read.
func Start(dir string) (*Server, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if err := certs.Make(dir, false); err != nil {
		return nil, err
	}
	pair, err := tls.LoadX509KeyPair(filepath.Join(dir, "server.pem"), filepath.Join(dir, "server.key"))
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Server{URL: "smtp://" + l.Addr().String(), CAFile: filepath.Join(dir, "ca.pem"), User: "twinning", file: filepath.Join(dir, "letters.txt"), ended: make(chan struct{})}
	s.server = smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &session{s: s, c: c}, nil }))
	s.server.Domain, s.server.ReadTimeout, s.server.WriteTimeout = "mail.larkspur.example", time.Minute, time.Minute
	s.server.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}}
	s.server.ErrorLog = silent{}
	go func() {
		defer close(s.ended)
		_ = s.server.Serve(l) // until it is closed
	}()
	return s, nil
}

// Stop ends it.
func (s *Server) Stop() error {
	err := s.server.Close()
	<-s.ended
	return err
}

// Behave says what it does wrong from now on.
func (s *Server) Behave(wrong Misbehaviour) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.wrong = wrong
}

// Letters are those that were taken.
func (s *Server) Letters() []Letter {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Letter{}, s.taken...)
}

func (s *Server) behaviour() Misbehaviour {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.wrong
}

type session struct {
	s        *Server
	c        *smtp.Conn
	from, to string
	known    bool
}

var refused = &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "no such mailbox"}

func (x *session) secure() bool {
	_, is := x.c.TLSConnectionState()
	return is
}

func (x *session) AuthMechanisms() []string { return []string{sasl.Plain} }
func (x *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if x.known = user == x.s.User && password == Secret; !x.known {
			return errors.New("wrong user or secret")
		}
		return nil
	}), nil
}

func (x *session) Reset()        { x.from, x.to = "", "" }
func (x *session) Logout() error { return nil }
func (x *session) Mail(from string, _ *smtp.MailOptions) error {
	if !x.secure() || !x.known {
		return smtp.ErrAuthRequired
	}
	x.from = from
	return nil
}

func (x *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	switch wrong := x.s.behaviour(); to {
	case wrong.RefuseTo:
		if wrong.SayBack {
			return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: standin.SaidBack(Secret)}
		}
		return refused
	case wrong.LaterTo:
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 7, 1}, Message: "try again later"}
	}
	x.to = to
	return nil
}

func (x *session) Data(r io.Reader) error {
	wrong := x.s.behaviour()
	m, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	if wrong.RefuseText && wrong.SayBack {
		text, _ := io.ReadAll(quotedprintable.NewReader(m.Body)) // what there is of it
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 7, 1}, Message: standin.SaidBack(append(strings.Fields(string(text)), Secret)...)}
	}
	if wrong.RefuseText {
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 7, 1}, Message: "not wanted here"}
	}
	text, err := io.ReadAll(quotedprintable.NewReader(m.Body))
	if err != nil {
		return err
	}
	subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	if err != nil {
		return err
	}
	x.s.take(Letter{From: x.from, To: x.to, Subject: subject, Text: strings.ReplaceAll(string(text), "\r\n", "\n"), Secure: x.secure()})
	if wrong.DropAnswer {
		return x.c.Close()
	}
	return nil
}

func (s *Server) take(l Letter) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.taken = append(s.taken, l)
	f, err := os.OpenFile(s.file, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return // it is kept in memory all the same
	}
	defer f.Close() // best effort, as all of the file
	fmt.Fprintf(f, "To: %s\nSubject: %s\n\n%s\n----\n", l.To, l.Subject, l.Text)
}

// silent says nothing: clients that go away are no news here.
type silent struct{}

func (silent) Printf(string, ...any) {}
func (silent) Println(...any)        {}
