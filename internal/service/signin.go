package service

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"
	"unicode/utf8"

	"twinning/internal/access"
	"twinning/internal/core/budget"
	"twinning/internal/crypt"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// signInPace slows whoever guesses, and nobody else: a name is tried so often
// from one address, an address so often by whatever name, a name so often from
// all addresses together. A device that has signed in by the name before is
// counted by itself, so that no guesser can lock its owner out.
var signInPace = store.Pace{Window: 15 * time.Minute, Pair: 5, Source: 30, Key: 100, Device: 10}

const (
	sessionLength = 12 * time.Hour
)

// Passwords.
const (
	minPassword = 12
	maxPassword = 200
	minStrength = 3 // of 4, by the estimate of how many guesses it takes
)

// SigningIn is an attempt to open a console session.
type SigningIn struct {
	Name, Password string
	Source         string // the address that it comes from
	Device         string // what the device was given at an earlier sign-in; "" when nothing
}

// SignedIn is an open session.
type SignedIn struct {
	Secret string
	Device string // for the device to keep
	Caller access.Caller
}

// SignIn opens a console session.
func (s *Service) SignIn(ctx context.Context, a SigningIn) (in SignedIn, err error) {
	key := ""
	if len(a.Name) < 1000 { // nobody has a longer one; it costs what any other costs
		key = access.Key(a.Name)
	}
	attempt := store.Attempt{Key: key, Source: network(a.Source)}
	if s.Keeper.Vouches(deviceOf(key), a.Device) {
		attempt.Device = a.Device
	}
	id, err := s.tries(ctx, attempt)
	if err != nil {
		return in, err
	}
	u, err := s.Store.UserByKey(ctx, key)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return in, err
	}
	right, err := s.checks(ctx, u.Password, a.Password)
	if err != nil {
		return in, err
	}
	if !right {
		whose := "a name that nobody has" // what was typed may well be a password
		if u.ID != 0 {
			whose = u.Name
		}
		if err := s.Store.Audit(ctx, whose, "sign-in.failed", whose, map[string]string{"from": a.Source}); err != nil {
			return in, err
		}
		return in, fault.New(fault.NotSigned, "name or password is wrong", "", "check both; an administrator can make a new password").Because("credentials-wrong")
	}
	in.Caller = caller(u)
	in.Device = s.Keeper.Vouch(deviceOf(key))
	secret, hash := crypt.NewToken()
	in.Secret = secret
	return in, s.act(ctx, in.Caller, "sign-in", u.Name, map[string]string{"from": a.Source}, func(tx *store.Store) error {
		if err := tx.ForgetSignIns(ctx, attempt, id); err != nil {
			return err
		}
		return tx.AddSession(ctx, u.ID, hash, s.Now().Add(sessionLength))
	})
}

func deviceOf(key string) string { return "device of " + key }

// network is what counts as one source: an address, or the network that one
// subscriber of IPv6 gets.
func network(source string) string {
	addr, err := netip.ParseAddr(source)
	if err != nil {
		return source
	}
	addr = addr.Unmap().WithZone("")
	if addr.Is4() {
		return addr.String()
	}
	p, _ := addr.Prefix(64) // within 128
	return p.String()
}

func (s *Service) tries(ctx context.Context, a store.Attempt) (int64, error) {
	leave, err := s.place(ctx, s.signIns, "attempts to sign in") // they wait for one another anyway, and not all with a connection
	if err != nil {
		return 0, err
	}
	defer leave()
	id, wait, err := s.Store.TrySignIn(ctx, a, signInPace)
	if err == nil && wait > 0 {
		err = &fault.Error{Kind: fault.Slow, Title: "too many attempts to sign in", Detail: "from this address, or by this name", Next: fmt.Sprintf("wait %s; a browser that signed in by this name before need not", wait.Round(time.Second).Truncate(time.Second)), Wait: wait}
	}
	return id, err
}

// checks compares a password with its hash; only so many are compared at a time,
// since each takes 64 MiB.
func (s *Service) checks(ctx context.Context, hash, password string) (bool, error) {
	leave, err := s.hashing(ctx)
	if err != nil {
		return false, err
	}
	defer leave()
	if len(password) > 4*maxPassword {
		password = "" // longer than any
	}
	return crypt.CheckPassword(hash, password), nil
}

func (s *Service) hashing(ctx context.Context) (leave func(), err error) {
	return s.place(ctx, s.hashes, "passwords that are checked")
}

// hashed hashes a new password that is good enough for its holder.
func (s *Service) hashed(ctx context.Context, name, password string) (string, error) {
	weak := func(why, next string) error {
		return &fault.Error{Cause: "password-weak", Kind: fault.Invalid, Title: "the password is too easy to guess", Detail: why, Field: "password", Next: next}
	}
	n := utf8.RuneCountInString(password)
	switch {
	case n < minPassword || n > maxPassword || !utf8.ValidString(password):
		return "", &fault.Error{Cause: "password-weak", Kind: fault.Invalid, Title: fmt.Sprintf("a password has %d to %d characters", minPassword, maxPassword), Field: "password"}
	case len(strings.ReplaceAll(access.Key(password), access.Key(name), "")) < minPassword/2,
		guessable(password, name):
		return "", weak("it is among those that are tried first, repeats itself, or is made of the user's name", "take several words that have nothing to do with one another")
	}
	leave, err := s.hashing(ctx)
	if err != nil {
		return "", err
	}
	defer leave()
	return crypt.HashPassword(password), nil
}

// SignOut ends a console session.
func (s *Service) SignOut(ctx context.Context, who access.Caller, secret string) error {
	return s.act(ctx, who, "sign-out", who.Name, nil, func(tx *store.Store) error {
		return tx.EndSession(ctx, crypt.HashToken(secret))
	})
}

// ChangePassword replaces the caller's own; their other sessions end.
func (s *Service) ChangePassword(ctx context.Context, who access.Caller, session, old, password string) error {
	u, err := s.userNamed(ctx, who.Name)
	if err != nil {
		return err
	}
	attempt := store.Attempt{Key: u.Key, Source: "a session of " + u.Key}
	id, err := s.tries(ctx, attempt)
	if err != nil {
		return err
	}
	right, err := s.checks(ctx, u.Password, old)
	if err != nil {
		return err
	}
	if !right {
		return &fault.Error{Kind: fault.Invalid, Title: "the present password is wrong", Field: "old"}
	}
	if old == password {
		return &fault.Error{Kind: fault.Invalid, Title: "the new password is the present one", Field: "password"}
	}
	hash, err := s.hashed(ctx, u.Name, password)
	if err != nil {
		return err
	}
	var keep []byte
	if session != "" {
		keep = crypt.HashToken(session)
	}
	return s.act(ctx, who, "password.change", u.Name, nil, func(tx *store.Store) error {
		if err := tx.ForgetSignIns(ctx, attempt, id); err != nil {
			return err
		}
		return tx.SetPassword(ctx, u.Key, hash, keep)
	})
}

// ResetPassword gives a user a new password, which is shown only now; all their
// sessions end.
func (s *Service) ResetPassword(ctx context.Context, who access.Caller, name string) (password string, err error) {
	u, err := s.userNamed(ctx, name)
	if err != nil {
		return "", err
	}
	leave, err := s.hashing(ctx)
	if err != nil {
		return "", err
	}
	defer leave()
	password = crypt.NewPassword()
	hash := crypt.HashPassword(password)
	return password, s.act(ctx, who, "password.reset", u.Name, nil, func(tx *store.Store) error {
		return tx.SetPassword(ctx, u.Key, hash, nil)
	})
}

// newHashes is the place for passwords that are checked at a time.
func newHashes() chan struct{} { return make(chan struct{}, budget.Hashes.Int()) }
