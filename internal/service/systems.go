package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"twinning/internal/access"
	"twinning/internal/connector"
	"twinning/internal/core/calendar"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/reach"
	"twinning/internal/store"
)

// SystemView is a system with its newest roster.
type SystemView struct {
	store.System
	HasSecret bool          `json:"hasSecret"`
	Records   *int          `json:"records,omitempty"`
	Latest    *store.Roster `json:"latest,omitempty"`
	Notes     []string      `json:"notes"`
}

func validName(name string) bool {
	if name == "" || len(name) > 60 {
		return false
	}
	for _, r := range name {
		if r != '-' && (r < 'a' || r > 'z') && (r < '0' || r > '9') {
			return false
		}
	}
	return name[0] != '-'
}

// Systems lists all.
func (s *Service) Systems(ctx context.Context) ([]SystemView, error) {
	list, err := s.Store.Systems(ctx)
	views := make([]SystemView, 0, len(list))
	for _, x := range list {
		v, err := s.systemView(ctx, x)
		if err != nil {
			return nil, err
		}
		views = append(views, v)
	}
	return views, err
}

// system finds one, or says which may be meant.
func (s *Service) system(ctx context.Context, name string) (store.System, error) {
	x, err := s.Store.SystemByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		systems, broken := s.Store.Systems(ctx)
		if broken != nil {
			return x, broken
		}
		known := make([]string, len(systems))
		for i, o := range systems {
			known[i] = o.Name
		}
		return x, missing("system", name, known)
	}
	return x, fault.About(err, "system", name)
}

// System finds one.
func (s *Service) System(ctx context.Context, name string) (SystemView, error) {
	x, err := s.system(ctx, name)
	if err != nil {
		return SystemView{}, fault.About(err, "system", name)
	}
	return s.systemView(ctx, x)
}

func (s *Service) systemView(ctx context.Context, x store.System) (SystemView, error) {
	v := SystemView{System: x, HasSecret: len(x.Secret) > 0, Notes: []string{}}
	r, err := s.Store.NewestRoster(ctx, x.ID)
	switch {
	case err == nil:
		v.Latest, v.Records = &r, &r.Records
	case errors.Is(err, store.ErrNotFound):
		v.Notes = append(v.Notes, "no roster has been taken yet")
	default:
		return v, err
	}
	if shape, err := s.reach.ShapeOf(x, ""); err == nil && !shape.Stable {
		v.Notes = append(v.Notes, "its id is declared not stable: bonds do not survive a change of it")
	}
	return v, nil
}

// SystemKind is what can be connected, with the settings that it has.
type SystemKind struct {
	Kind     string              `json:"kind"`
	Settings []connector.Setting `json:"settings"`
}

// SystemKinds lists what can be connected.
func (s *Service) SystemKinds() (list []SystemKind) {
	for _, kind := range slices.Sorted(maps.Keys(s.Settings)) {
		list = append(list, SystemKind{kind, s.Settings[kind].List})
	}
	return list
}

// Putting says how a system is put.
type Putting struct {
	Secret      *string // one that is not given stays
	Version     int64   // that the system must still have; 0: whatever it is; or MustBeNew
	SameRecords bool    // a human says that the new ids are those that the old ones were
}

// MustBeNew is the version of a system that does not exist yet.
const MustBeNew = -1

// PutSystem makes a system or changes one.
func (s *Service) PutSystem(ctx context.Context, who access.Caller, x store.System, p Putting) (SystemView, error) {
	if !validName(x.Name) {
		return SystemView{}, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("%q can't be a system's name", x.Name), Detail: "use small letters, digits and hyphens, at most 60", Field: "name"}
	}
	factory, ok := s.Connectors[x.Kind]
	if !ok {
		return SystemView{}, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("kind %q is not known", x.Kind), Detail: "known are " + strings.Join(slices.Sorted(maps.Keys(s.Connectors)), ", "), Field: "kind"}
	}
	if x.Settings.V == nil {
		x.Settings.V = map[string]string{}
	}
	shape := record.Shape{}
	if x.Shape != "" {
		var err error
		if shape, err = record.ParseShape([]byte(x.Shape)); err != nil {
			return SystemView{}, fault.Document("the shape is not in order", "shape", err)
		}
	}
	c, err := factory(connector.Config{Name: x.Name, Settings: x.Settings.V, Shape: shape, Outbound: s.Outbound, Folders: s.reach.Folders()})
	if err != nil {
		return SystemView{}, &fault.Error{Cause: "settings-invalid", Kind: fault.Invalid, Title: "the settings are not in order", Detail: err.Error(), Field: "settings"}
	}
	reach.Closed(c)
	if x.Namespace != "" && !validName(x.Namespace) {
		return SystemView{}, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("%q can't be a namespace", x.Namespace), Detail: "use small letters, digits and hyphens, at most 60; systems that name the same one share their logins and addresses", Field: "namespace"}
	}
	if _, err := calendar.Begin(cmp.Or(x.SecretUntil, "2026-01-01"), nil); err != nil {
		return SystemView{}, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("%q is no day", x.SecretUntil), Detail: "expected the last day on which the secret is good, such as 2027-01-31", Field: "secretUntil"}
	}
	if x.AtOnce < 0 || x.PerSecond < 0 || x.KeepDays < 0 {
		return SystemView{}, &fault.Error{Kind: fault.Invalid, Title: "limits can't be negative", Detail: "0 is no limit"}
	}
	if p.Secret != nil {
		x.Secret = s.Keeper.Encrypt("system "+x.Name, *p.Secret)
	}
	var out store.System
	var notes []string
	err = s.Store.InTx(ctx, func(tx *store.Store) error {
		detail := map[string]string{"kind": x.Kind, "secret": fmt.Sprint(p.Secret != nil), "sameRecords": fmt.Sprint(p.SameRecords)}
		before, err := tx.SystemByName(ctx, x.Name)
		switch {
		case errors.Is(err, store.ErrNotFound):
			tellSettings(detail, store.System{}, x)
			out, err = tx.AddSystem(ctx, x)
		case err == nil:
			tellSettings(detail, before, x)
			switch p.Version {
			case 0:
				p.Version = before.Version
			case MustBeNew:
				return fault.About(store.ErrChanged, "system", x.Name)
			}
			if !p.SameRecords {
				if err := s.keepsIdentity(ctx, before, x); err != nil {
					return err
				}
			}
			if moved := movedBy(c.Declare(), before, x); len(moved) > 0 && before.Kind != "file" {
				detail["moved by"] = strings.Join(moved, " ")
				if p.Secret == nil && len(before.Secret) > 0 {
					x.Secret, detail["secret"] = []byte{}, "cleared"
					notes = append(notes, "its secret was cleared: it was meant for where the system was ("+strings.Join(moved, ", ")+" changed); set it anew")
				}
				if before.Writable {
					if err := tx.SetWritable(ctx, x.Name, false, 0); err != nil {
						return err
					}
					p.Version, detail["writing"] = p.Version+1, "closed"
					notes = append(notes, "it was closed for writing: look at what it is now, then open it")
				}
			}
			out, err = tx.ChangeSystem(ctx, x, p.Version)
		}
		if err != nil {
			return fault.About(err, "system", x.Name)
		}
		return tx.Audit(ctx, who.Name, "system.put", x.Name, detail)
	})
	if err != nil {
		return SystemView{}, err
	}
	v, err := s.systemView(ctx, out)
	v.Notes = append(v.Notes, notes...)
	return v, err
}

// movedBy names what says where a system is, or whom it is taken for, and is not
// what it was.
func movedBy(d connector.Declaration, before, after store.System) (moved []string) {
	if before.Kind != after.Kind {
		moved = append(moved, "kind")
	}
	for _, name := range d.Reaches {
		if before.Settings.V[name] != after.Settings.V[name] {
			moved = append(moved, name)
		}
	}
	return moved
}

// tellSettings says in the trail what of a system changed, from what to what. No
// setting is a secret.
func tellSettings(detail map[string]string, before, after store.System) {
	told := func(x store.System) map[string]string {
		all := map[string]string{"atOnce": fmt.Sprint(x.AtOnce), "perSecond": fmt.Sprint(x.PerSecond), "keepDays": fmt.Sprint(x.KeepDays), "namespace": x.Namespace, "title": x.Title, "secretUntil": x.SecretUntil, "kind": x.Kind}
		for name, v := range x.Settings.V {
			all["setting "+name] = v
		}
		if x.Shape != "" {
			all["shape"] = fmt.Sprintf("sha256 %x", sha256.Sum256([]byte(x.Shape)))
		}
		return all
	}
	was, is := told(before), told(after)
	for name := range is {
		if _, had := was[name]; !had {
			was[name] = ""
		}
	}
	for name, v := range was {
		if v != is[name] {
			detail[name] = fmt.Sprintf("%q, was %q", is[name], v)
		}
	}
}

// keepsIdentity refuses a change after which the ids of a system's records would
// mean other records, while bonds or rulings name them.
func (s *Service) keepsIdentity(ctx context.Context, before, after store.System) error {
	was, err := s.reach.Identity(before)
	if err != nil {
		return nil // it could not be used as it was
	}
	after.ID, after.Secret = before.ID, before.Secret
	is, err := s.reach.Identity(after)
	if err != nil || is == was {
		return err
	}
	lanes, err := s.Store.Bound(ctx, before.ID)
	if err != nil || len(lanes) == 0 {
		return err
	}
	return &fault.Error{Cause: "identity-changed", Kind: fault.Conflict, Title: fmt.Sprintf("what identifies the records of %s can't be changed", before.Name), Field: "shape",
		Detail: fmt.Sprintf("bonds and rulings of lane %s name its records by their ids (%s; it would be %s)", strings.Join(lanes, " and "), was, is),
		Next:   "if the new ids are the same ones, say so (--same-records); if not, make a system of its own, and a lane of its own"}
}

// RemoveSystem removes one that no lane uses.
func (s *Service) RemoveSystem(ctx context.Context, who access.Caller, name string) error {
	return s.act(ctx, who, "system.remove", name, nil, func(tx *store.Store) error {
		return fault.About(tx.RemoveSystem(ctx, name), "system", name)
	})
}

// SetWriting opens a system for writing, or closes it, where it still has the version; 0: any.
func (s *Service) SetWriting(ctx context.Context, who access.Caller, name string, on bool, version int64) (SystemView, error) {
	x, err := s.system(ctx, name)
	if err != nil {
		return SystemView{}, fault.About(err, "system", name)
	}
	c, err := s.reach.Connect(x, reach.For{})
	if err != nil {
		return SystemView{}, err
	}
	defer reach.Closed(c)
	if on && !c.Declare().Writes {
		next := ""
		if x.Kind == "file" {
			next = "give its shape an `upload:` and set out to the folder that upload files go to"
		}
		return SystemView{}, fault.New(fault.Invalid, fmt.Sprintf("system %s can't be written as it is set up", x.Name), "", next)
	}
	err = s.act(ctx, who, map[bool]string{true: "system.open", false: "system.close"}[on], name, nil, func(tx *store.Store) error {
		return fault.About(tx.SetWritable(ctx, name, on, version), "system", name)
	})
	if err != nil {
		return SystemView{}, err
	}
	return s.System(ctx, name)
}
