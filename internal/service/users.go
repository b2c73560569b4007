package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"twinning/internal/access"
	"twinning/internal/crypt"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// Tokens end: after so many days when nobody says, and after so many at the most.
const (
	tokenDays    = 90
	maxTokenDays = 366
)

// FirstStart makes the first administrator of an empty house; password is ""
// when there are users already.
func (s *Service) FirstStart(ctx context.Context, name string) (password string, err error) {
	users, err := s.Store.Users(ctx)
	if err != nil {
		return "", err
	}
	for _, u := range users { // a release before compared names otherwise
		if key := access.Key(u.Name); key != u.Key {
			if err := s.Store.SetUserKey(ctx, u.ID, key); err != nil {
				return "", err
			}
		}
	}
	if len(users) > 0 {
		return "", nil
	}
	if err := access.CheckName(name); err != nil {
		return "", err
	}
	password = crypt.NewPassword()
	_, err = s.Store.AddUser(ctx, store.User{Name: name, Key: access.Key(name), Rights: names(access.All), Password: crypt.HashPassword(password)})
	if errors.Is(err, store.ErrTaken) { // another node was faster
		return "", nil
	}
	return password, err
}

func names(rights []access.Right) store.Array[string] {
	out := make(store.Array[string], len(rights))
	for i, r := range rights {
		out[i] = string(r)
	}
	return out
}

func caller(u store.User) access.Caller {
	c := access.Caller{ID: u.ID, Name: u.Name, Lanes: map[string][]access.Right{}}
	for _, r := range u.Rights {
		c.Rights = append(c.Rights, access.Right(r))
	}
	for lane, rights := range u.Lanes.V {
		for _, r := range rights {
			c.Lanes[lane] = append(c.Lanes[lane], access.Right(r))
		}
	}
	return c
}

// Who tells whose bearer token or session it is.
func (s *Service) Who(ctx context.Context, secret string, session bool) (access.Caller, error) {
	find := s.Store.UserByToken
	if session {
		find = s.Store.UserBySession
	}
	u, err := find(ctx, crypt.HashToken(secret))
	if errors.Is(err, store.ErrNotFound) {
		return access.Caller{}, fault.New(fault.NotSigned, "the token or session is not known, or has run out", "", "sign in again").Because("credentials-wrong")
	}
	return caller(u), err
}

// LaneOf names the lane that the parameters of a request are about, "" when they
// are about none.
func (s *Service) LaneOf(ctx context.Context, parameters map[string]string) (string, error) {
	if lane := parameters["lane"]; lane != "" {
		return lane, nil
	}
	for _, kind := range []string{"plan", "run", "task"} {
		if id := parameters[kind]; id != "" {
			lane, err := s.Store.LaneOf(ctx, kind, id)
			if errors.Is(err, store.ErrNotFound) {
				return "", nil // the operation itself says so
			}
			return lane, err
		}
	}
	return "", nil
}

// Users lists all.
func (s *Service) Users(ctx context.Context) ([]store.User, error) { return s.Store.Users(ctx) }

// User finds one by their name.
func (s *Service) User(ctx context.Context, name string) (store.User, error) {
	return s.userNamed(ctx, name)
}

func (s *Service) userNamed(ctx context.Context, name string) (store.User, error) {
	u, err := s.Store.UserByKey(ctx, access.Key(name))
	if err != nil {
		return u, fault.About(err, "user", name)
	}
	return u, nil
}

// Granted is what a user may do.
type Granted struct {
	Rights []string            // everywhere
	Lanes  map[string][]string // in some lanes only
	// Seen tells whether the user is still what the change was made from; nil where that
	// does not matter.
	Seen func(store.User) bool
}

func (s *Service) granted(ctx context.Context, g Granted) (store.Array[string], map[string][]string, error) {
	rights, err := access.Parse(g.Rights)
	if err != nil {
		return nil, nil, &fault.Error{Kind: fault.Invalid, Title: err.Error(), Field: "rights"}
	}
	lanes := map[string][]string{}
	for lane, list := range g.Lanes {
		in, err := access.Parse(list)
		if err != nil {
			return nil, nil, &fault.Error{Kind: fault.Invalid, Title: err.Error(), Field: "lanes"}
		}
		for _, r := range in {
			if !slices.Contains(access.InLanes, r) {
				return nil, nil, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("the right %q can't be limited to a lane", r), Detail: "systems and rosters are shared by lanes; work, seal and overrule can be", Field: "lanes"}
			}
		}
		if _, err := s.lane(ctx, lane); err != nil {
			return nil, nil, err
		}
		if len(in) > 0 {
			lanes[lane] = names(in)
		}
	}
	return names(rights), lanes, nil
}

func grants(g Granted) map[string]string {
	detail := map[string]string{"rights": strings.Join(g.Rights, " ")}
	for lane, rights := range g.Lanes {
		detail["in "+lane] = strings.Join(rights, " ")
	}
	return detail
}

// AddUser makes a user; without a password they can only hold tokens.
func (s *Service) AddUser(ctx context.Context, who access.Caller, name string, g Granted, password string) (u store.User, err error) {
	if err := access.CheckName(name); err != nil {
		return u, &fault.Error{Kind: fault.Invalid, Title: err.Error(), Field: "name"}
	}
	rights, lanes, err := s.granted(ctx, g)
	if err != nil {
		return u, err
	}
	hash := ""
	if password != "" {
		if hash, err = s.hashed(ctx, name, password); err != nil {
			return u, err
		}
	}
	err = s.act(ctx, who, "user.add", name, grants(g), func(tx *store.Store) error {
		row := store.User{Name: name, Key: access.Key(name), Rights: rights, Password: hash}
		row.Lanes.V = lanes
		u, err = tx.AddUser(ctx, row)
		return fault.About(err, "user", name)
	})
	return u, err
}

// SetRights changes what a user may do; somebody who may administer is always left.
func (s *Service) SetRights(ctx context.Context, who access.Caller, name string, g Granted) (u store.User, err error) {
	before, err := s.userNamed(ctx, name)
	if err != nil {
		return u, err
	}
	rights, lanes, err := s.granted(ctx, g)
	if err != nil {
		return u, err
	}
	detail := grants(g)
	for k, v := range grants(Granted{Rights: before.Rights, Lanes: before.Lanes.V}) {
		detail["before: "+k] = v
	}
	err = s.act(ctx, who, "user.rights", before.Name, detail, func(tx *store.Store) error {
		now, err := tx.HoldUser(ctx, before.Key)
		if err == nil && g.Seen != nil && !g.Seen(now) {
			err = store.ErrChanged
		}
		if err != nil {
			return fault.About(err, "user", name)
		}
		if u, err = tx.SetRights(ctx, before.Key, rights, lanes); err != nil {
			return fault.About(err, "user", name)
		}
		return leavesAnAdministrator(ctx, tx)
	})
	return u, err
}

func leavesAnAdministrator(ctx context.Context, tx *store.Store) error {
	n, err := tx.Administrators(ctx)
	if err == nil && n == 0 {
		err = fault.New(fault.Conflict, "nobody would be left who may administer", "somebody without a password and without a token that is good can't sign in, and does not count", "give somebody else the right and a password first")
	}
	return err
}

// RemoveUser removes a user; nobody removes themselves.
func (s *Service) RemoveUser(ctx context.Context, who access.Caller, name string) error {
	key := access.Key(name)
	if key == access.Key(who.Name) {
		return fault.New(fault.Conflict, "you can't remove yourself", "", "let another administrator do it")
	}
	return s.act(ctx, who, "user.remove", name, nil, func(tx *store.Store) error {
		if err := tx.RemoveUser(ctx, key); err != nil {
			return fault.About(err, "user", name)
		}
		return leavesAnAdministrator(ctx, tx)
	})
}

// AddToken makes a bearer token for a user; the secret is shown only now.
func (s *Service) AddToken(ctx context.Context, who access.Caller, user, name string, days int) (secret string, t store.Token, err error) {
	u, err := s.userNamed(ctx, user)
	if err != nil {
		return "", t, err
	}
	if name = strings.TrimSpace(name); name == "" || utf8.RuneCountInString(name) > 100 {
		return "", t, &fault.Error{Kind: fault.Invalid, Title: "a token needs a name of 1 to 100 characters", Detail: "say what it is for", Field: "name"}
	}
	if days == 0 {
		days = tokenDays
	}
	if days < 1 || days > maxTokenDays {
		return "", t, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("a token is good for 1 to %d days", maxTokenDays), Field: "days", Next: "make a new one before it ends"}
	}
	secret, hash := crypt.NewToken()
	expires := s.Now().AddDate(0, 0, days)
	err = s.act(ctx, who, "token.add", u.Name, map[string]string{"name": name, "expires": expires.UTC().Format(time.RFC3339)}, func(tx *store.Store) error {
		t, err = tx.AddToken(ctx, u.ID, name, hash, expires)
		return err
	})
	return secret, t, err
}

// Tokens lists a user's tokens, without their secrets.
func (s *Service) Tokens(ctx context.Context, user string) ([]store.Token, error) {
	u, err := s.userNamed(ctx, user)
	if err != nil {
		return nil, err
	}
	return s.Store.Tokens(ctx, u.ID)
}

// RemoveToken revokes a token at once.
func (s *Service) RemoveToken(ctx context.Context, who access.Caller, user string, id int64) error {
	u, err := s.userNamed(ctx, user)
	if err != nil {
		return err
	}
	return s.act(ctx, who, "token.remove", u.Name, map[string]string{"token": fmt.Sprint(id)}, func(tx *store.Store) error {
		if _, err := tx.RemoveToken(ctx, u.ID, id); err != nil {
			return fault.About(err, "token", fmt.Sprint(id))
		}
		if !slices.Contains(u.Rights, string(access.Administer)) {
			return nil
		}
		return leavesAnAdministrator(ctx, tx)
	})
}
