package store

import (
	"context"
	"time"
)

// User is somebody who may sign in or hold tokens.
type User struct {
	ID       int64         `db:"id" json:"-"`
	Name     string        `db:"name" json:"name"`
	Rights   Array[string] `db:"rights" json:"rights"`
	Password string        `db:"password" json:"-"`
	Created  time.Time     `db:"created" json:"created"`
}

// CountUsers tells an empty house from a lived-in one.
func (s *Store) CountUsers(ctx context.Context) (n int, err error) {
	return n, s.get(ctx, &n, `SELECT count(*) FROM users`)
}

// Users lists all.
func (s *Store) Users(ctx context.Context) (list []User, err error) {
	return list, s.list(ctx, &list, `SELECT * FROM users ORDER BY name`)
}

// UserByName finds one.
func (s *Store) UserByName(ctx context.Context, name string) (u User, err error) {
	return u, s.get(ctx, &u, `SELECT * FROM users WHERE name = $1`, name)
}

// AddUser makes one; ErrTaken when the name is in use.
func (s *Store) AddUser(ctx context.Context, name string, rights []string, password string) (u User, err error) {
	return u, s.get(ctx, &u, `INSERT INTO users (name, rights, password) VALUES ($1, $2, $3) RETURNING *`, name, rights, password)
}

// RemoveUser removes one with all tokens and sessions.
func (s *Store) RemoveUser(ctx context.Context, name string) error {
	return s.must(ctx, `DELETE FROM users WHERE name = $1`, name)
}

// SetPassword replaces a user's password hash.
func (s *Store) SetPassword(ctx context.Context, name, password string) error {
	return s.must(ctx, `UPDATE users SET password = $2 WHERE name = $1`, name, password)
}

// AddToken keeps a token's hash.
func (s *Store) AddToken(ctx context.Context, user int64, name string, hash []byte, expires *time.Time) error {
	_, err := s.exec(ctx, `INSERT INTO tokens (hash, user_id, name, expires) VALUES ($1, $2, $3, $4)`, hash, user, name, expires)
	return err
}

// UserByToken finds the holder of a token that has not expired.
func (s *Store) UserByToken(ctx context.Context, hash []byte) (u User, err error) {
	return u, s.get(ctx, &u, `SELECT u.* FROM users u JOIN tokens t ON t.user_id = u.id WHERE t.hash = $1 AND (t.expires IS NULL OR t.expires > now())`, hash)
}

// AddSession keeps a console session's hash.
func (s *Store) AddSession(ctx context.Context, user int64, hash []byte, expires time.Time) error {
	_, err := s.exec(ctx, `INSERT INTO sessions (hash, user_id, expires) VALUES ($1, $2, $3)`, hash, user, expires)
	return err
}

// UserBySession finds whose session it is.
func (s *Store) UserBySession(ctx context.Context, hash []byte) (u User, err error) {
	return u, s.get(ctx, &u, `SELECT u.* FROM users u JOIN sessions t ON t.user_id = u.id WHERE t.hash = $1 AND t.expires > now()`, hash)
}

// EndSession forgets a session and all that have run out.
func (s *Store) EndSession(ctx context.Context, hash []byte) error {
	_, err := s.exec(ctx, `DELETE FROM sessions WHERE hash = $1 OR expires < now()`, hash)
	return err
}

// FailedSignIns counts a name's failures since an instant.
func (s *Store) FailedSignIns(ctx context.Context, name string, since time.Time) (n int, err error) {
	return n, s.get(ctx, &n, `SELECT count(*) FROM sign_in_failures WHERE name = $1 AND at > $2`, name, since)
}

// NoteFailedSignIn remembers a failure and forgets those of long ago.
func (s *Store) NoteFailedSignIn(ctx context.Context, name string) error {
	_, err := s.exec(ctx, `WITH old AS (DELETE FROM sign_in_failures WHERE at < now() - interval '1 day') INSERT INTO sign_in_failures (name) VALUES ($1)`, name)
	return err
}
