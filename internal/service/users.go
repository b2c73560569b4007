package service

import (
	"context"
	"errors"
	"strings"
	"time"
	"unicode/utf8"

	"twinning/internal/access"
	"twinning/internal/crypt"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// Sign-in is slowed after failures: this many within the window are free, and
// then the name waits.
const (
	freeFailures  = 5
	failureWindow = 15 * time.Minute
	sessionLength = 12 * time.Hour
	minPassword   = 12
)

// FirstStart makes the first administrator of an empty house; password is ""
// when there are users already.
func (s *Service) FirstStart(ctx context.Context, name string) (password string, err error) {
	n, err := s.Store.CountUsers(ctx)
	if err != nil || n > 0 {
		return "", err
	}
	password = crypt.NewPassword()
	_, err = s.Store.AddUser(ctx, name, names(access.All), crypt.HashPassword(password))
	if errors.Is(err, store.ErrTaken) { // another node was faster
		return "", nil
	}
	return password, err
}

func names(rights []access.Right) []string {
	out := make([]string, len(rights))
	for i, r := range rights {
		out[i] = string(r)
	}
	return out
}

func caller(u store.User) access.Caller {
	c := access.Caller{Name: u.Name}
	for _, r := range u.Rights {
		c.Rights = append(c.Rights, access.Right(r))
	}
	return c
}

// SignIn opens a console session.
func (s *Service) SignIn(ctx context.Context, name, password string) (secret string, who access.Caller, err error) {
	failures, err := s.Store.FailedSignIns(ctx, name, s.Now().Add(-failureWindow))
	if err != nil {
		return "", who, err
	}
	if failures >= freeFailures {
		return "", who, fault.New(fault.Slow, "too many failed sign-ins for this name", "", "wait a quarter of an hour, or ask an administrator for a new password")
	}
	u, err := s.Store.UserByName(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", who, err
	}
	if !crypt.CheckPassword(u.Password, password) {
		if err := s.Store.NoteFailedSignIn(ctx, name); err != nil {
			return "", who, err
		}
		return "", who, fault.New(fault.NotSigned, "name or password is wrong", "", "check both; an administrator can make a new password")
	}
	secret, hash := crypt.NewToken()
	if err := s.Store.AddSession(ctx, u.ID, hash, s.Now().Add(sessionLength)); err != nil {
		return "", who, err
	}
	return secret, caller(u), s.audit(ctx, caller(u), "sign-in", u.Name, nil)
}

// SignOut ends a console session.
func (s *Service) SignOut(ctx context.Context, secret string) error {
	return s.Store.EndSession(ctx, crypt.HashToken(secret))
}

// Who tells whose bearer token or session it is.
func (s *Service) Who(ctx context.Context, secret string, session bool) (access.Caller, error) {
	find := s.Store.UserByToken
	if session {
		find = s.Store.UserBySession
	}
	u, err := find(ctx, crypt.HashToken(secret))
	if errors.Is(err, store.ErrNotFound) {
		return access.Caller{}, fault.New(fault.NotSigned, "the token or session is not known, or has run out", "", "sign in again")
	}
	return caller(u), err
}

// Users lists all.
func (s *Service) Users(ctx context.Context) ([]store.User, error) { return s.Store.Users(ctx) }

// AddUser makes a user; without a password they can only hold tokens.
func (s *Service) AddUser(ctx context.Context, who access.Caller, name string, rights []string, password string) (store.User, error) {
	name = strings.TrimSpace(name)
	if name == "" || utf8.RuneCountInString(name) > 100 {
		return store.User{}, &fault.Error{Kind: fault.Invalid, Title: "a user needs a name of 1 to 100 characters", Field: "name"}
	}
	parsed, err := access.Parse(rights)
	if err != nil {
		return store.User{}, &fault.Error{Kind: fault.Invalid, Title: err.Error(), Field: "rights"}
	}
	hash := ""
	if password != "" {
		if utf8.RuneCountInString(password) < minPassword {
			return store.User{}, &fault.Error{Kind: fault.Invalid, Title: "the password is too short", Detail: "at least 12 characters", Field: "password"}
		}
		hash = crypt.HashPassword(password)
	}
	u, err := s.Store.AddUser(ctx, name, names(parsed), hash)
	if err != nil {
		return u, fault.About(err, "user", name)
	}
	return u, s.audit(ctx, who, "user.add", name, map[string]string{"rights": strings.Join(rights, " ")})
}

// RemoveUser removes a user; nobody removes themselves.
func (s *Service) RemoveUser(ctx context.Context, who access.Caller, name string) error {
	if name == who.Name {
		return fault.New(fault.Conflict, "you can't remove yourself", "", "let another administrator do it")
	}
	if err := s.Store.RemoveUser(ctx, name); err != nil {
		return fault.About(err, "user", name)
	}
	return s.audit(ctx, who, "user.remove", name, nil)
}

// AddToken makes a bearer token for a user; the secret is shown only now.
func (s *Service) AddToken(ctx context.Context, who access.Caller, user, name string, days int) (secret string, expires *time.Time, err error) {
	u, err := s.Store.UserByName(ctx, user)
	if err != nil {
		return "", nil, fault.About(err, "user", user)
	}
	if days > 0 {
		t := s.Now().AddDate(0, 0, days)
		expires = &t
	}
	secret, hash := crypt.NewToken()
	if err := s.Store.AddToken(ctx, u.ID, name, hash, expires); err != nil {
		return "", nil, err
	}
	return secret, expires, s.audit(ctx, who, "token.add", user, map[string]string{"name": name})
}
