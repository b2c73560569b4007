package store

import (
	"bytes"
	"context"
	"errors"
	"time"
)

// Request is one that names itself (Idempotency-Key): whatever it asks for is
// done once, however often it is sent.
type Request struct {
	Caller string // the id of the user, which nobody else ever has
	Key    string
	Nonce  string                 // of this sending of it
	Digest func() ([]byte, error) // of what is asked; of a file, once all of it was read
}

// Answered is a request that was carried out.
type Answered struct {
	Digest []byte `db:"digest"`
	Status *int   `db:"status"` // of its answer; nil when none is kept
	Answer []byte `db:"answer"`
}

// Errors of a request that was sent before.
var (
	ErrDone  = errors.New("this request was carried out before")
	ErrOther = errors.New("another request was sent under this key")
)

// keepRequests is how long a request is known again.
const keepRequests = 48 * time.Hour

type requestKey struct{}

// WithRequest lets what is done under the context be done under the request's name.
func WithRequest(ctx context.Context, r Request) context.Context {
	return context.WithValue(ctx, requestKey{}, r)
}

// claimRequest notes, with the act itself, that a request is carried out;
// ErrDone when it was before.
func (s *Store) claimRequest(ctx context.Context) error {
	r, named := ctx.Value(requestKey{}).(Request)
	if !named {
		return nil
	}
	digest, err := r.Digest()
	if err != nil {
		return err
	}
	n, err := s.exec(ctx, `INSERT INTO requests (caller, key, digest, nonce) VALUES ($1, $2, $3, $4) ON CONFLICT (caller, key) DO UPDATE SET nonce = requests.nonce WHERE requests.nonce = $4`, r.Caller, r.Key, digest, r.Nonce)
	if err == nil && n == 0 {
		err = ErrDone
	}
	return err
}

// FindRequest tells of a request that was carried out: with its answer, when one
// is kept. ErrNotFound when it was not, ErrOther when its key was another's.
func (s *Store) FindRequest(ctx context.Context, r Request) (done Answered, err error) {
	if _, err := s.exec(ctx, `DELETE FROM requests WHERE at < now() - $1 * interval '1 second'`, int64(keepRequests.Seconds())); err != nil {
		return done, err
	}
	if err := s.get(ctx, &done, `SELECT digest, status, answer FROM requests WHERE caller = $1 AND key = $2`, r.Caller, r.Key); err != nil {
		return done, err
	}
	digest, err := r.Digest()
	if err == nil && !bytes.Equal(done.Digest, digest) {
		err = ErrOther
	}
	return done, err
}

// KeepAnswer keeps what a request was answered.
func (s *Store) KeepAnswer(ctx context.Context, r Request, status int, answer []byte) error {
	_, err := s.exec(ctx, `UPDATE requests SET status = $4, answer = $5 WHERE caller = $1 AND key = $2 AND nonce = $3`, r.Caller, r.Key, r.Nonce, status, answer)
	return err
}
