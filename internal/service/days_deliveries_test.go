package service

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
	"twinning/internal/crypt"
	"twinning/internal/execution"
	"twinning/internal/store"
)

// post is where letters of a scenario go, and what is wrong with it.
type post struct {
	wrong string   // refuses: the address; text: what is in it; unheard: it is taken without an answer; dies: the process does; "": nothing
	sent  []string // since they were last looked at
}

// letter is one that the post is ready for.
type letter struct {
	d    *days
	to   string
	done bool
}

func (d *days) openLetter(_ context.Context, to string) (execution.Letter, error) {
	d.books[d.lettersOf].happens("letter")
	if d.post.wrong == "refuses" {
		return nil, errors.New("no such mailbox")
	}
	return &letter{d: d, to: to}, nil
}

type unsent struct{ maybe bool }

func (u unsent) Error() string   { return "the post says no" }
func (u unsent) MayBeSent() bool { return u.maybe }

func (l *letter) Send(subject, text string) error {
	require.False(l.d.t, l.done, "a letter is sent once")
	l.done = true
	switch l.d.post.wrong {
	case "dies":
		panic("the process ends while a letter is sent")
	case "text":
		return unsent{false}
	}
	l.d.post.sent = append(l.d.post.sent, l.d.readLetter(l.to, subject, text))
	if l.d.post.wrong == "unheard" {
		return unsent{true}
	}
	return nil
}

func (l *letter) Drop() {}

var tellsInLetter = regexp.MustCompile(`(?m)^  (login|secret|sign in)\s+(.+)$`)

// readLetter tells what a letter says, with whose secret it is in its place.
func (d *days) readLetter(to, subject, text string) string {
	said := "to " + to
	for _, m := range tellsInLetter.FindAllStringSubmatch(text, -1) {
		said += fmt.Sprintf("; %s %s", m[1], d.whoseSecret(m[2]))
	}
	if i := strings.Index(text, " vouches for you"); i > 0 {
		said += "; from " + text[strings.LastIndex(text[:i], "\n")+1:i]
	}
	require.Contains(d.t, subject, "account")
	return said
}

// whoseSecret says which account has a secret now.
func (d *days) whoseSecret(secret string) string {
	for _, b := range d.books {
		for id, s := range b.secrets {
			if s == secret {
				return "that " + id + " has"
			}
		}
	}
	return secret
}

// Reissue sets a secret.
func (b *book) Reissue(_ context.Context, r connector.Record, secret string) error {
	before, after := b.answer()
	if before != nil {
		return before
	}
	require.NotContains(b.d.t, b.given, secret, "a secret is given once")
	b.secrets[r.ID], b.given = secret, append(b.given, secret)
	return after
}

// deliveries carries out commands about what is sent to people.
func (d *days) deliveries(words []string) (told []string, known bool, err error) {
	ctx := context.Background()
	switch words[0] {
	case "post": // what is wrong with it
		d.post.wrong = words[1]
	case "unsent": // it was noted that letters have not left, and the process ended there
		_, err = d.clock.Exec(ctx, `UPDATE deliveries SET state = 'not-sent' WHERE state = 'sending'`)
	case "letters":
		told, d.post.sent = d.post.sent, nil
	case "deliveries": // LANE
		list, _, total, broken := d.service.Deliveries(ctx, d.own(words[1]), DeliveryFilter{}, store.Page{Limit: 50, Count: true})
		require.NoError(d.t, broken)
		require.Len(d.t, list, total)
		for _, x := range list {
			kept := ""
			if x.Secret != nil {
				kept = " with its secret"
			}
			told = append(told, strings.Join(strings.Fields(fmt.Sprintf("%s %s %s %s %s %d%s", x.State, x.Verb, x.Person, x.Account, x.To, x.Times, kept)), " "))
		}
	case "collect": // LANE PASSPHRASE, of its newest run; nobody reads it with another
		e, broken := d.service.CollectSecrets(ctx, tester, *d.newest(words[1]).Run, strings.ReplaceAll(words[2], "_", " "), 0)
		if err = broken; err == nil {
			var b bytes.Buffer
			require.NoError(d.t, e.Write(&b))
			_, broken = crypt.DecryptFile("another one than that", bytes.NewReader(b.Bytes()))
			require.Error(d.t, broken)
			text, broken := crypt.DecryptFile(strings.ReplaceAll(words[2], "_", " "), &b)
			require.NoError(d.t, broken)
			rows, broken := csv.NewReader(strings.NewReader(strings.TrimPrefix(string(text), "\ufeff"))).ReadAll()
			require.NoError(d.t, broken)
			for _, row := range rows[1:] {
				row[4] = d.whoseSecret(row[4])
				told = append(told, strings.Join(row, ","))
			}
		}
	default:
		return nil, false, nil
	}
	return told, true, err
}
