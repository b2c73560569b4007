package store

import (
	"context"
	"time"
)

// User is somebody who may sign in or hold tokens.
type User struct {
	ID       int64                     `db:"id" json:"-"`
	Name     string                    `db:"name" json:"name"`
	Key      string                    `db:"key" json:"-"` // the name in the form that is compared
	Rights   Array[string]             `db:"rights" json:"rights"`
	Lanes    JSON[map[string][]string] `db:"lanes" json:"lanes"` // rights held in some lanes only
	Password string                    `db:"password" json:"-"`
	Created  time.Time                 `db:"created" json:"created"`
}

// Administrators counts those who may administer and can sign in, and lets nobody else change that
// before the transaction is over.
func (s *Store) Administrators(ctx context.Context) (n int, err error) {
	if _, err := s.exec(ctx, `SELECT pg_advisory_xact_lock(7007)`); err != nil {
		return 0, err
	}
	return n, s.get(ctx, &n, `SELECT count(*) FROM users u WHERE 'administer' = ANY(u.rights) AND (u.password <> '' OR EXISTS (SELECT FROM tokens t WHERE t.user_id = u.id AND t.expires > now()))`)
}

// Users lists all.
func (s *Store) Users(ctx context.Context) (list []User, err error) {
	return list, s.list(ctx, &list, `SELECT * FROM users ORDER BY name`)
}

// UserByKey finds one by the compared form of the name.
func (s *Store) UserByKey(ctx context.Context, key string) (u User, err error) {
	return u, s.get(ctx, &u, `SELECT * FROM users WHERE key = $1`, key)
}

// HoldUser finds one, and lets nobody else change them before the transaction is over.
func (s *Store) HoldUser(ctx context.Context, key string) (u User, err error) {
	return u, s.get(ctx, &u, `SELECT * FROM users WHERE key = $1 FOR UPDATE`, key)
}

// SetUserKey replaces the compared form of a user's name; ErrTaken when it is in use.
func (s *Store) SetUserKey(ctx context.Context, id int64, key string) error {
	return s.must(ctx, `UPDATE users SET key = $2 WHERE id = $1`, id, key)
}

// AddUser makes one; ErrTaken when the name is in use.
func (s *Store) AddUser(ctx context.Context, u User) (out User, err error) {
	return out, s.get(ctx, &out, `INSERT INTO users (name, key, rights, lanes, password) VALUES ($1, $2, $3, $4, $5) RETURNING *`, u.Name, u.Key, u.Rights, lanesText(u.Lanes.V), u.Password)
}

// SetRights replaces what a user may do.
func (s *Store) SetRights(ctx context.Context, key string, rights []string, lanes map[string][]string) (u User, err error) {
	return u, s.get(ctx, &u, `UPDATE users SET rights = $2, lanes = $3 WHERE key = $1 RETURNING *`, key, Array[string](rights), lanesText(lanes))
}

func lanesText(lanes map[string][]string) string {
	if lanes == nil {
		return "{}"
	}
	return jsonText(lanes)
}

// RemoveUser removes one with all tokens and sessions.
func (s *Store) RemoveUser(ctx context.Context, key string) error {
	return s.must(ctx, `DELETE FROM users WHERE key = $1`, key)
}

// SetPassword replaces a user's password hash, and ends the sessions that the
// former one opened, but for one ("" for none).
func (s *Store) SetPassword(ctx context.Context, key, password string, keep []byte) error {
	if err := s.must(ctx, `UPDATE users SET password = $2 WHERE key = $1`, key, password); err != nil {
		return err
	}
	_, err := s.exec(ctx, `DELETE FROM sessions WHERE user_id = (SELECT id FROM users WHERE key = $1) AND hash IS DISTINCT FROM $2`, key, keep)
	return err
}

// Token is a bearer token as it is listed: its secret is kept as a hash only.
type Token struct {
	ID      int64     `db:"id" json:"id"`
	Name    string    `db:"name" json:"name"`
	Created time.Time `db:"created" json:"created"`
	Expires time.Time `db:"expires" json:"expires"`
}

// AddToken keeps a token's hash.
func (s *Store) AddToken(ctx context.Context, user int64, name string, hash []byte, expires time.Time) (t Token, err error) {
	return t, s.get(ctx, &t, `INSERT INTO tokens (hash, user_id, name, expires) VALUES ($1, $2, $3, $4) RETURNING id, name, created, expires`, hash, user, name, expires)
}

// Tokens lists a user's, newest first.
func (s *Store) Tokens(ctx context.Context, user int64) (list []Token, err error) {
	return list, s.list(ctx, &list, `SELECT id, name, created, expires FROM tokens WHERE user_id = $1 ORDER BY id DESC`, user)
}

// RemoveToken revokes one.
func (s *Store) RemoveToken(ctx context.Context, user, id int64) (t Token, err error) {
	return t, s.get(ctx, &t, `DELETE FROM tokens WHERE user_id = $1 AND id = $2 RETURNING id, name, created, expires`, user, id)
}

// UserByToken finds the holder of a token that has not expired.
func (s *Store) UserByToken(ctx context.Context, hash []byte) (u User, err error) {
	return u, s.get(ctx, &u, `SELECT u.* FROM users u JOIN tokens t ON t.user_id = u.id WHERE t.hash = $1 AND t.expires > now()`, hash)
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

// Attempt is one try to sign in.
type Attempt struct {
	Key, Source, Device string
}

// Pace says how many tries are free within a window before one has to wait.
type Pace struct {
	Window                    time.Duration
	Pair, Source, Key, Device int
}

// TrySignIn counts an attempt before anything of it is looked at: those who try
// at the same moment are counted one after the other. When too many were made,
// wait is how long until the next one may be, and this one is not counted.
func (s *Store) TrySignIn(ctx context.Context, a Attempt, p Pace) (id int64, wait time.Duration, err error) {
	err = s.InTx(ctx, func(tx *Store) error {
		if _, err := tx.exec(ctx, `SELECT pg_advisory_xact_lock(7006)`); err != nil {
			return err
		}
		if _, err := tx.exec(ctx, `DELETE FROM sign_ins WHERE at < now() - interval '1 day'`); err != nil {
			return err
		}
		// how long until so many attempts of a kind are no longer in the window
		until := func(most int, where string, args ...any) error {
			var seconds float64
			err := tx.get(ctx, &seconds, `SELECT coalesce((SELECT extract(epoch FROM at + $1 * interval '1 millisecond' - now()) FROM sign_ins WHERE at > now() - $1 * interval '1 millisecond' AND `+where+` ORDER BY at DESC OFFSET $2 LIMIT 1), 0)`,
				append([]any{p.Window.Milliseconds(), most - 1}, args...)...)
			wait = max(wait, time.Duration(seconds*float64(time.Second)))
			return err
		}
		if a.Device != "" {
			err = until(p.Device, `device = $3`, a.Device)
		} else if err = until(p.Pair, `device = '' AND key = $3 AND source = $4`, a.Key, a.Source); err == nil {
			if err = until(p.Source, `device = '' AND source = $3`, a.Source); err == nil {
				err = until(p.Key, `device = '' AND key = $3`, a.Key)
			}
		}
		if err != nil || wait > 0 {
			return err
		}
		return tx.get(ctx, &id, `INSERT INTO sign_ins (key, source, device) VALUES ($1, $2, $3) RETURNING id`, a.Key, a.Source, a.Device)
	})
	return id, wait, err
}

// ForgetSignIns takes the attempts away that led to a sign-in.
func (s *Store) ForgetSignIns(ctx context.Context, a Attempt, id int64) error {
	_, err := s.exec(ctx, `DELETE FROM sign_ins WHERE id = $1 OR key = $2 AND source = $3 AND device = $4`, id, a.Key, a.Source, a.Device)
	return err
}
