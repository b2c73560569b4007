package notify_test

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/internal/notify"
	"twinning/internal/standin/mailbox"
)

// A letter is taken once, over TLS; what is wrong is told before it is sent, where that can be
// known, and else whether it may have left.
func TestLetters(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	s, err := mailbox.Start(dir)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Stop()) })
	cfg := notify.Config{URL: strings.Replace(s.URL, "://", "://"+s.User+"@", 1), From: "Larkspur accounts <accounts@larkspur.example>", Secret: mailbox.Secret, CAFile: s.CAFile}
	post := func(change func(*notify.Config)) *notify.Post {
		c := cfg
		if change != nil {
			change(&c)
		}
		p, err := notify.New(c)
		require.NoError(t, err)
		return p
	}

	l, err := post(nil).Open(ctx, "ana@home.example")
	require.NoError(t, err)
	require.Empty(t, s.Letters(), "nothing is sent by opening it")
	l.Drop()
	l, err = post(nil).Open(ctx, "ana@Bücher.example")
	require.NoError(t, err)
	long := strings.Repeat("a line that is longer than any mail server takes as it is, ", 30)
	require.NoError(t, l.Send("Ein Schlüssel\r\nBcc: everybody@larkspur.example", "Grüße\n.\nFrom here on\n"+long+"\n"))
	require.Error(t, l.Send("again", "again"), "a letter is sent once")
	require.Equal(t, []mailbox.Letter{{From: "accounts@larkspur.example", To: "ana@xn--bcher-kva.example", Subject: "Ein Schlüssel Bcc: everybody@larkspur.example", Text: "Grüße\n.\nFrom here on\n" + long + "\n", Secure: true}}, s.Letters())
	kept, err := os.ReadFile(filepath.Join(dir, "letters.txt"))
	require.NoError(t, err)
	require.Contains(t, string(kept), "To: ana@xn--bcher-kva.example")

	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, free.Close())
	for name, x := range map[string]struct {
		to     string
		change func(*notify.Config)
		wrong  mailbox.Misbehaviour
		says   string
	}{
		"no such mailbox":   {to: "nobody@home.example", wrong: mailbox.Misbehaviour{RefuseTo: "nobody@home.example"}, says: "550 no such mailbox"},
		"not now":           {to: "slow@home.example", wrong: mailbox.Misbehaviour{LaterTo: "slow@home.example"}, says: "451 try again later"},
		"a wrong secret":    {change: func(c *notify.Config) { c.Secret = "wrong" }, says: "sign in as twinning"},
		"nobody vouches":    {change: func(c *notify.Config) { c.CAFile = "" }, says: "certificate"},
		"no server":         {change: func(c *notify.Config) { c.URL = "smtp://twinning@" + free.Addr().String() }, says: "can't be reached"},
		"not over TLS":      {change: func(c *notify.Config) { c.URL = strings.Replace(c.URL, "smtp:", "smtps:", 1) }, says: "can't be reached"},
		"no address":        {to: "ana", says: "no address"},
		"a foreign script":  {to: "ána@home.example", says: "every mail server"},
		"two addresses":     {to: "a@b.example>\r\nRCPT TO:<c@d.example", says: "no address"},
		"an endless domain": {to: "a@" + strings.Repeat("x", 64) + ".example", says: "no address"},
	} {
		s.Behave(x.wrong)
		to := x.to
		if to == "" {
			to = "ana@home.example"
		}
		_, err := post(x.change).Open(ctx, to)
		require.ErrorContains(t, err, x.says, name)
		require.NotContains(t, err.Error(), mailbox.Secret, name)
		var told *notify.Error
		require.ErrorAs(t, err, &told, name)
		require.False(t, told.Maybe, name)
	}
	require.Len(t, s.Letters(), 1)

	for _, x := range []struct {
		wrong mailbox.Misbehaviour
		maybe bool
	}{{mailbox.Misbehaviour{RefuseText: true}, false}, {mailbox.Misbehaviour{DropAnswer: true}, true}} {
		s.Behave(x.wrong)
		l, err := post(nil).Open(ctx, "ana@home.example")
		require.NoError(t, err)
		var told *notify.Error
		require.ErrorAs(t, l.Send("x", "y"), &told)
		require.Equal(t, x.maybe, told.Maybe, "%+v: %v", x.wrong, told)
	}
	require.Len(t, s.Letters(), 2, "the one without an answer was taken")

	plain, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, plain.Close()) })
	heard := make(chan string, 9)
	go func() { // a server that offers no STARTTLS
		c, err := plain.Accept()
		if err != nil {
			return
		}
		defer c.Close() // best effort
		fmt.Fprint(c, "220 mail\r\n")
		for lines := bufio.NewScanner(c); lines.Scan(); {
			heard <- lines.Text()
			fmt.Fprint(c, "250 mail\r\n")
		}
		close(heard)
	}()
	_, err = post(func(c *notify.Config) { c.URL = "smtp://twinning@" + plain.Addr().String() }).Open(ctx, "ana@home.example")
	require.ErrorContains(t, err, "never sent in the clear")
	for line := range heard {
		require.NotContains(t, line, "AUTH")
		require.NotContains(t, line, "ana@home.example")
	}

	none, err := notify.New(notify.Config{})
	require.NoError(t, err)
	_, err = none.Open(ctx, "ana@home.example")
	require.ErrorContains(t, err, "--mail")
	for _, bad := range []notify.Config{{URL: "http://mail.example"}, {URL: "smtp://a:b@mail.example", From: "a@b.example"}, {URL: "smtp://mail.example", From: "nobody"}, {URL: "smtp://a@mail.example", From: "a@b.example"}, {URL: "smtp://a@mail.example", From: "a@b.example", Secret: "s", CAFile: "/not/there"}} {
		_, err := notify.New(bad)
		require.Error(t, err, bad.URL)
		require.False(t, errors.Is(err, context.Canceled))
	}
}

// A server that never comes to an end is left, whatever it sends meanwhile, and so is one that
// nobody waits for any more.
func TestEndlessServers(t *testing.T) {
	for name, talk := range map[string]func(net.Conn){
		"says nothing":         func(net.Conn) {},
		"never ends its line":  func(c net.Conn) { drip(c, "2") },
		"never ends its lines": func(c net.Conn) { drip(c, "220-wait\r\n") },
		"never answers":        func(c net.Conn) { _, _ = c.Write([]byte("220 mail.example\r\n")) },
		"greets for ever":      func(c net.Conn) { _, _ = c.Write([]byte("220 mail.example\r\n")); drip(c, "250-MORE\r\n") },
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { _ = l.Close() })
		go func() {
			for c, err := l.Accept(); err == nil; c, err = l.Accept() {
				go talk(c)
			}
		}()
		for _, scheme := range []string{"smtp://", "smtps://"} {
			post, err := notify.New(notify.Config{URL: scheme + l.Addr().String(), From: "accounts@larkspur.example", Patience: 300 * time.Millisecond})
			require.NoError(t, err)
			ended := make(chan error, 2)
			go func() { _, err := post.Open(context.Background(), "ana@home.example"); ended <- err }()
			patient, err := notify.New(notify.Config{URL: scheme + l.Addr().String(), From: "accounts@larkspur.example", Patience: time.Hour})
			require.NoError(t, err)
			ctx, leave := context.WithTimeout(context.Background(), 300*time.Millisecond)
			go func() { _, err := patient.Open(ctx, "ana@home.example"); ended <- err }()
			for range 2 {
				select {
				case err := <-ended:
					require.Error(t, err, name)
				case <-time.After(20 * time.Second):
					require.Fail(t, "it is still waited for", "%s over %s", name, scheme)
				}
			}
			leave()
		}
	}
}

func drip(c net.Conn, text string) {
	for _, err := c.Write([]byte(text)); err == nil; _, err = c.Write([]byte(text)) {
		time.Sleep(20 * time.Millisecond)
	}
}
