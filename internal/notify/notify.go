// Package notify sends letters: to one address each, over an encrypted connection, through the
// mail server of the house. A letter is opened before anything rests on it: the server has
// taken its address by then, and only its text is still to come.
package notify

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"golang.org/x/net/idna"

	"twinning/internal/connector/outbound"
	"twinning/internal/core/record"
)

// Config of the mail server.
type Config struct {
	URL      string        // smtp://[USER@]HOST[:PORT], which upgrades by STARTTLS (RFC 3207), or smtps:// (RFC 8314)
	From     string        // the address that letters come from, with or without a name
	Secret   string        // of USER
	CAFile   string        // certificates to trust beside the machine's (PEM); "" none
	Patience time.Duration // with which a server is waited for, until it is ready for a letter and until it has taken one; 0: 20 s
}

// Post sends letters. A nil one can't.
type Post struct {
	cfg  Config
	host string
	addr string
	user string
	from *mail.Address
	tls  *tls.Config
	now  func() time.Time
}

const patience = 20 * time.Second

// bounded is a connection that ends, whatever deadlines a library sets or takes away.
type bounded struct {
	net.Conn
	end time.Time
}

func (b *bounded) SetDeadline(t time.Time) error {
	if t.IsZero() || t.After(b.end) {
		t = b.end
	}
	return b.Conn.SetDeadline(t)
}

// until sets when it ends.
func (b *bounded) until(t time.Time) {
	b.end = t
	_ = b.SetDeadline(t) // one that is closed has ended
}

// New checks the settings; nil without a URL.
func New(cfg Config) (*Post, error) {
	if cfg.URL == "" {
		return nil, nil
	}
	u, err := url.Parse(cfg.URL)
	if err != nil || u.Scheme != "smtp" && u.Scheme != "smtps" || u.Hostname() == "" || u.Path != "" {
		return nil, fmt.Errorf("%q is no mail server; expected smtp://USER@HOST:PORT or smtps://USER@HOST:PORT", cfg.URL)
	}
	if _, secret := u.User.Password(); secret {
		return nil, errors.New("the secret of the mail server stands in its address, where everybody sees it; put it into a file")
	}
	cfg.Patience = cmp.Or(cfg.Patience, patience)
	p := &Post{cfg: cfg, host: u.Hostname(), user: u.User.Username(), now: time.Now}
	p.addr = net.JoinHostPort(p.host, cmp.Or(u.Port(), map[string]string{"smtp": "587", "smtps": "465"}[u.Scheme]))
	if p.from, err = mail.ParseAddress(cfg.From); err != nil || !record.ValidEmail(p.from.Address) {
		return nil, fmt.Errorf("%q is no address that letters can come from; expected one such as accounts@larkspur.example", cfg.From)
	}
	if (p.user == "") != (cfg.Secret == "") {
		return nil, errors.New("the mail server wants both a user, in its address, and a secret, or neither")
	}
	p.tls, err = outbound.TLS(p.host, cfg.CAFile, "", "", os.ReadFile)
	return p, err
}

// Error says what is wrong with a letter.
type Error struct {
	Reason string
	// Maybe is that it may have been sent all the same.
	Maybe bool
}

func (e *Error) Error() string { return e.Reason }

// MayBeSent tells whoever knows no letters.
func (e *Error) MayBeSent() bool { return e.Maybe }

// Letter is one that the server is ready for.
type Letter struct {
	post   *Post
	client *smtp.Client
	line   *bounded
	to     string
	done   bool
}

// Open has the server take the address of a letter; nothing is sent yet. Send it, or drop it.
func (p *Post) Open(ctx context.Context, to string) (l *Letter, err error) {
	if p == nil {
		return nil, &Error{Reason: "no mail server is set; start the service with --mail smtp://USER@HOST --mail-from ADDRESS"}
	}
	ascii, err := readable(to)
	if err != nil {
		return nil, &Error{Reason: err.Error()}
	}
	client, line, err := p.connect(ctx)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { _ = client.Close() }) // nobody waits for it any more
	defer func() {
		if stop(); err != nil {
			_ = client.Close() // nothing was sent over it
		}
	}()
	if p.user != "" {
		if err := client.Auth(sasl.NewPlainClient("", p.user, p.cfg.Secret)); err != nil {
			return nil, p.wrong("sign in as "+p.user, err)
		}
	}
	if err := client.Mail(p.from.Address, nil); err != nil {
		return nil, p.wrong("send as "+p.from.Address, err)
	}
	if err := client.Rcpt(ascii, nil); err != nil {
		return nil, p.wrong("send to "+to, err)
	}
	return &Letter{post: p, client: client, line: line, to: ascii}, nil
}

// readable is an address as every mail server takes it.
func readable(to string) (string, error) {
	at := strings.LastIndexByte(to, '@')
	if !record.ValidEmail(to) || !record.IsASCII(to[:at]) {
		return "", fmt.Errorf("%q is no address that every mail server takes", to)
	}
	domain, err := idna.Lookup.ToASCII(to[at+1:])
	if err != nil {
		return "", fmt.Errorf("%q has no domain that mail could go to: %w", to, err)
	}
	return to[:at+1] + domain, nil
}

func (p *Post) connect(ctx context.Context) (*smtp.Client, *bounded, error) {
	ctx, cancel := context.WithTimeout(ctx, p.cfg.Patience)
	defer cancel()
	plain, err := (&net.Dialer{}).DialContext(ctx, "tcp", p.addr)
	if err != nil {
		return nil, nil, p.unreached(err)
	}
	line := &bounded{Conn: plain}
	end, _ := ctx.Deadline()
	line.until(end)
	if strings.HasPrefix(p.cfg.URL, "smtps:") {
		secure := tls.Client(line, p.tls)
		if err := secure.HandshakeContext(ctx); err != nil {
			_ = plain.Close() // it is of no use
			return nil, nil, p.unreached(err)
		}
		return smtp.NewClient(secure), line, nil
	}
	client, err := smtp.NewClientStartTLS(line, p.tls)
	if err != nil {
		_ = plain.Close() // it is of no use
		var told *smtp.SMTPError
		if strings.Contains(err.Error(), "STARTTLS") || errors.As(err, &told) {
			return nil, nil, &Error{Reason: fmt.Sprintf("the mail server %s does not encrypt the connection (%s); letters are never sent in the clear: have STARTTLS switched on there, or use smtps://", p.addr, p.clear(err.Error()))}
		}
		return nil, nil, p.unreached(err)
	}
	return client, line, nil
}

func (p *Post) unreached(err error) error {
	f := outbound.Explain(err, p.host, p.cfg.Patience)
	return &Error{Reason: p.clear(strings.TrimSuffix(fmt.Sprintf("the mail server %s can't be reached: %s; %s", p.addr, f.Reason, f.Next), "; "))}
}

func (p *Post) wrong(doing string, err error) *Error {
	e := &Error{Reason: fmt.Sprintf("the mail server %s does not let us %s: %v", p.host, doing, err)}
	var told *smtp.SMTPError
	if errors.As(err, &told) {
		e.Reason = fmt.Sprintf("the mail server %s does not let us %s: %d %s", p.host, doing, told.Code, oneLine(p.clear(told.Message)))
	}
	e.Reason = p.clear(e.Reason)
	return e
}

// clear takes what we sign in with out of what the server says.
func (p *Post) clear(text string) string { return outbound.Clear(text, p.cfg.Secret) }

// oneLine keeps what a stranger says short, and in its place.
func oneLine(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	return s[:min(len(s), 200)]
}

// Send sends the text, once: whatever comes of it, the letter is closed. The error is an
// *Error that says whether it may have left.
func (l *Letter) Send(subject, text string) error {
	if l.done {
		return &Error{Reason: "the letter was sent already", Maybe: true}
	}
	l.done = true
	l.line.until(time.Now().Add(l.post.cfg.Patience))
	defer l.client.Close() // what counts was answered by then
	w, err := l.client.Data()
	if err != nil {
		return l.post.wrong("send it", err)
	}
	body, err := l.compose(subject, text)
	if err == nil {
		_, err = w.Write(body)
	}
	if err != nil { // the text did not end: no server takes it
		return l.post.wrong("send it", err)
	}
	if err := w.Close(); err != nil {
		e := l.post.wrong("send it", err)
		var told *smtp.SMTPError
		e.Maybe = !errors.As(err, &told)
		return e
	}
	_ = l.client.Quit() // it was taken
	return nil
}

// Drop gives an open letter up; one that was sent stays so.
func (l *Letter) Drop() {
	if l != nil && !l.done {
		l.done = true
		_ = l.client.Close() // nothing was sent
	}
}

// compose writes a message by RFC 5322, that no machine answers (RFC 3834).
func (l *Letter) compose(subject, text string) ([]byte, error) {
	var b bytes.Buffer
	for _, h := range [][2]string{
		{"From", l.post.from.String()}, {"To", (&mail.Address{Address: l.to}).String()},
		{"Subject", mime.QEncoding.Encode("utf-8", oneLine(subject))},
		{"Date", l.post.now().Format(time.RFC1123Z)}, {"Auto-Submitted", "auto-generated"}, {"MIME-Version", "1.0"},
		{"Content-Type", "text/plain; charset=utf-8"}, {"Content-Transfer-Encoding", "quoted-printable"},
	} {
		fmt.Fprintf(&b, "%s: %s\r\n", h[0], h[1])
	}
	b.WriteString("\r\n")
	w := quotedprintable.NewWriter(&b)
	if _, err := w.Write([]byte(strings.ReplaceAll(text, "\n", "\r\n"))); err != nil {
		return nil, err
	}
	err := w.Close() // it ends the text, too
	return b.Bytes(), err
}
