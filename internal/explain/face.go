package explain

import (
	"context"
	"errors"
	"slices"
	"time"

	"twinning/internal/core/charter"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// FaceToFace is a person and an account, attribute by attribute.
type FaceToFace struct {
	Person     *Facing                `json:"person,omitempty"`
	Account    *Facing                `json:"account,omitempty"`
	Attributes []reconcile.Comparison `json:"attributes"`
	Version    string                 `json:"version"` // of both, and of what is decided about them
}

// Face compares two records of the latest reconciliation, reading these two
// alone: it is as quick at a million as at ten.
func (s *Explainer) Face(ctx context.Context, l store.Lane, r store.Reconciliation, person, account string) (v FaceToFace, err error) {
	x := &facingEachOther{Explainer: s, lane: l, of: r}
	if err := x.load(ctx, person, account); err != nil {
		return v, err
	}
	if v.Person, err = s.facing(ctx, r.ID, "people", person); err != nil {
		return v, err
	}
	if v.Account, err = s.facing(ctx, r.ID, "accounts", account); err != nil {
		return v, err
	}
	v.Attributes = reconcile.SideBySide(x.people.roster, x.accounts.roster, x.people.row, x.accounts.row)
	v.Version, err = s.Store.PairVersion(ctx, l.ID, person, account)
	return v, err
}

// facingEachOther are a person and an account of a reconciliation, each in a roster of its
// own, with the twins that they have, where those are others.
type facingEachOther struct {
	*Explainer
	lane             store.Lane
	of               store.Reconciliation
	rules            *charter.Charter // nil: they are only looked at
	people, accounts loneRecord
	twins            []sidedRecord
}

// loneRecord is a record in a roster of its own; row -1 when it is not there or could not
// be read.
type loneRecord struct {
	roster *record.Roster
	row    int
	id     string
	shape  record.Shape
}

type sidedRecord struct {
	side string
	one  loneRecord
}

func (x *facingEachOther) load(ctx context.Context, person, account string) (err error) {
	if x.people, err = x.record(ctx, x.lane.AuthorityID, x.of.PeopleRoster, person); err != nil {
		return err
	}
	if x.accounts, err = x.record(ctx, x.lane.DownstreamID, x.of.AccountsRoster, account); err != nil || x.rules == nil {
		return err
	}
	for side, id := range map[string]string{"people": person, "accounts": account} {
		if id == "" {
			continue
		}
		v, err := x.Store.VerdictOf(ctx, x.of.ID, side, id)
		if err != nil {
			return err
		}
		if v.Twin == "" || v.Twin == person || v.Twin == account {
			continue
		}
		system, roster, other := x.lane.DownstreamID, x.of.AccountsRoster, "accounts"
		if side == "accounts" {
			system, roster, other = x.lane.AuthorityID, x.of.PeopleRoster, "people"
		}
		one, err := x.record(ctx, system, roster, v.Twin)
		if err != nil {
			return err
		}
		x.twins = append(x.twins, sidedRecord{other, one})
	}
	return nil
}

// record reads one record into a roster of its own.
func (x *facingEachOther) record(ctx context.Context, system, roster int64, id string) (one loneRecord, err error) {
	one = loneRecord{row: -1, id: id}
	of, err := x.Store.SystemByID(ctx, system)
	if err != nil {
		return one, err
	}
	taken, err := x.Store.Roster(ctx, roster)
	if err != nil {
		return one, err
	}
	shape, err := x.Reach.ShapeOf(of, taken.Shape)
	if err != nil {
		return one, err
	}
	var zone *time.Location
	if x.rules != nil {
		zone = x.rules.Zone
	}
	shape = shape.In(zone)
	one.shape = shape
	// what refers to other records can't be told from one alone
	l := shape.NewLoader(slices.DeleteFunc(shape.Canonical(), func(n string) bool { return shape.Attributes[n].Refers != "" }))
	kept, err := x.Store.RecordAt(ctx, system, roster, id)
	switch {
	case id == "" || errors.Is(err, store.ErrNotFound):
	case err != nil:
		return one, err
	case kept.Unread == nil: // else nobody looked at what it held before
		if err := l.AddStored(id, kept.Values.V, nil); err != nil {
			return one, err
		}
	}
	if one.roster, err = l.Roster(); err == nil && one.roster.Len() > 0 {
		if _, unknown := one.roster.Present(0); !unknown {
			one.row = 0
		}
	}
	return one, err
}
