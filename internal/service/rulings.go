package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"twinning/internal/access"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// Accept marks a finding as known until a day, Unaccept takes that back.
func (s *Service) Accept(ctx context.Context, who access.Caller, lane, id string, until *string, reason string) error {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return err
	}
	return s.act(ctx, who, "finding.accept", lane+" "+id, map[string]string{"reason": reason}, func(tx *store.Store) error {
		err := tx.Accept(ctx, l.ID, id, until, reason, who.Name)
		if errors.Is(err, store.ErrNotFound) {
			return fault.New(fault.NotFound, fmt.Sprintf("the newest reconciliation of %s has no finding %q", lane, id), "", "their ids stand in the list: twinning finding list "+lane)
		}
		return err
	})
}

// Unaccept takes an acceptance back.
func (s *Service) Unaccept(ctx context.Context, who access.Caller, lane, id string) error {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return err
	}
	return s.act(ctx, who, "finding.unaccept", lane+" "+id, nil, func(tx *store.Store) error {
		return fault.About(tx.Unaccept(ctx, l.ID, id), "acceptance of", id)
	})
}

// RulingView is a ruling with what it leaves behind.
type RulingView struct {
	store.Ruling
	Leaves string `json:"leaves,omitempty"`
}

// Rule keeps a human decision. A `same` ruling bonds the two; a `different` one
// on a bond says what it leaves behind, and holds both until the next plan is
// sealed. The same ruling given twice is one ruling; one that contradicts
// another is refused, and the other is shown.
// What was ruled on is named by seen, the version of the pair as it was shown: when
// it has moved on since, nothing is kept. It may be blank where nothing was shown.
func (s *Service) Rule(ctx context.Context, who access.Caller, lane string, r store.Ruling, seen string) (RulingView, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return RulingView{}, err
	}
	standing, err := s.Store.Rulings(ctx, l.ID)
	if err != nil {
		return RulingView{}, err
	}
	return s.rule(ctx, who, l, standing, r, seen)
}

func (s *Service) rule(ctx context.Context, who access.Caller, l store.Lane, standing []store.Ruling, r store.Ruling, seen string) (v RulingView, err error) {
	kinds := []string{"same", "different", "leave-alone"}
	switch pair := r.Person != "" && r.Account != ""; {
	case !slices.Contains(kinds, r.Kind):
		return v, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("%q is no ruling", r.Kind), Detail: "expected one of " + strings.Join(kinds, ", "), Field: "kind"}
	case r.Kind != "leave-alone" && !pair:
		return v, &fault.Error{Kind: fault.Invalid, Title: r.Kind + " rules on a person and an account", Detail: "name both", Field: "person"}
	case r.Kind == "leave-alone" && (pair || r.Person == "" && r.Account == ""):
		return v, &fault.Error{Kind: fault.Invalid, Title: "leave-alone rules on one person or one account", Field: "person"}
	case strings.TrimSpace(r.Reason) == "":
		return v, &fault.Error{Kind: fault.Invalid, Title: "a ruling needs a reason", Detail: "somebody will ask for it in a year", Field: "reason"}
	}
	for side, id := range map[int64]string{l.AuthorityID: r.Person, l.DownstreamID: r.Account} {
		if err := s.recordExists(ctx, side, id); err != nil {
			return v, err
		}
	}
	for _, o := range standing {
		if o.Person == r.Person && o.Account == r.Account && o.Kind == r.Kind {
			return RulingView{Ruling: o}, nil // said already
		}
		if contradicts(o, r) {
			return v, contradiction(o)
		}
	}
	r.LaneID, r.By = l.ID, who.Name
	err = s.Store.InTx(ctx, func(tx *store.Store) (err error) {
		if err := holds(ctx, tx, l); err != nil {
			return err
		}
		if now, err := tx.PairVersion(ctx, l.ID, r.Person, r.Account); err != nil {
			return err
		} else if seen != "" && now != seen {
			return movedOn(r)
		}
		if v.Ruling, err = tx.AddRuling(ctx, r); err != nil {
			return err
		}
		switch r.Kind {
		case "same":
			err = tx.AddBond(ctx, l.ID, store.Bond{Person: r.Person, Account: r.Account, Basis: "ruled", By: fmt.Sprintf("ruling %d", v.ID)})
		case "different":
			v.Leaves, err = partBonded(ctx, tx, l, r)
		}
		return errors.Join(err, tx.Audit(ctx, who.Name, "ruling.add", l.Name, map[string]string{"kind": r.Kind, "person": r.Person, "account": r.Account, "reason": r.Reason}))
	})
	if errors.Is(err, store.ErrTaken) { // somebody else was faster
		if standing, err = s.Store.Rulings(ctx, l.ID); err != nil {
			return v, err
		}
		for _, o := range standing {
			if o.Person == r.Person && o.Account == r.Account {
				if o.Kind == r.Kind {
					return RulingView{Ruling: o}, nil
				}
				return v, contradiction(o)
			}
		}
		return v, fault.New(fault.Conflict, "somebody ruled on this pair at the same moment", "", "look again").Because("moved-on")
	}
	return v, err
}

// movedOn is told to whoever rules on what is no longer as it was shown.
func movedOn(r store.Ruling) error {
	return fault.New(fault.Conflict, "the pair has moved on since you looked", fmt.Sprintf("a record of %s and %s, a ruling or a bond has changed; nothing was ruled", r.Person, r.Account), "look at it again, and decide anew").Because("moved-on")
}

// contradicts: two rulings on one pair, or two that give one record to two.
func contradicts(o, r store.Ruling) bool {
	return r.Kind == "same" && o.Kind == "same" && (o.Person == r.Person) != (o.Account == r.Account) ||
		r.Kind != o.Kind && r.Kind != "leave-alone" && o.Kind != "leave-alone" && o.Person == r.Person && o.Account == r.Account
}

// holds makes runs wait that are about to send what the rulings of a lane decide.
func holds(ctx context.Context, tx *store.Store, l store.Lane) error {
	return errors.Join(tx.HoldLane(ctx, l.ID), tx.HoldSystem(ctx, l.DownstreamID))
}

func contradiction(o store.Ruling) error {
	return fault.New(fault.Conflict, "another ruling says otherwise", fmt.Sprintf("ruling %d of %s: %s and %s are %s (%s)", o.ID, o.By, o.Person, o.Account, o.Kind, o.Reason), "clear it first if it is wrong").Because("ruling-contradicted")
}

// partBonded gives up the bond of two records that are different, if there is one.
func partBonded(ctx context.Context, tx *store.Store, l store.Lane, r store.Ruling) (leaves string, err error) {
	basis, had, err := tx.RemoveBond(ctx, l.ID, r.Person, r.Account)
	if err != nil || !had {
		return "", err
	}
	err = tx.Part(ctx, l.ID, store.Bond{Person: r.Person, Account: r.Account, Basis: basis})
	return fmt.Sprintf("their bond is given up: person %s is left without account, and account %s without person; neither is created anew or suspended before a plan of lane %s is sealed that shows it", r.Person, r.Account, l.Name), err
}

// Refused is a ruling of many that was not kept.
type Refused struct {
	Index  int    `json:"index"`
	Title  string `json:"title"`
	Detail string `json:"detail,omitempty"`
}

// Ruled is what came of many rulings at once.
type Ruled struct {
	Kept    []RulingView `json:"kept"`
	Refused []Refused    `json:"refused"`
}

// Many are rulings given at once. Seen names for each the version of the pair as
// it was shown; Snapshot, when there is one, that of all open questions that the
// filter held.
type Many struct {
	Rulings  []store.Ruling
	Seen     []string
	Snapshot string
	Filter   store.QuestionFilter
	Text     string
}

// RuleAll keeps many rulings, each by itself: one that is refused stops none of
// the others, and is told with its place in the list. Where the list itself has
// changed since it was looked at, nothing is ruled.
func (s *Service) RuleAll(ctx context.Context, who access.Caller, lane string, many Many) (Ruled, error) {
	out, list := Ruled{Kept: []RulingView{}, Refused: []Refused{}}, many.Rulings
	l, err := s.lane(ctx, lane)
	if err != nil {
		return out, err
	}
	if many.Snapshot != "" {
		_, r, err := s.latest(ctx, lane)
		if err != nil {
			return out, err
		}
		if now, err := s.Store.Snapshot(ctx, l.ID, r.ID, many.Filter, many.Text); err != nil {
			return out, err
		} else if now != many.Snapshot {
			return out, fault.New(fault.Conflict, "the list has changed since you looked", "some of its pairs were settled, came or changed; nothing was ruled", "look at the list again, and decide anew").Because("moved-on")
		}
	}
	standing, err := s.Store.Rulings(ctx, l.ID)
	if err != nil {
		return out, err
	}
	for i, r := range list {
		v, err := s.rule(ctx, who, l, standing, r, many.Seen[i])
		var told *fault.Error
		switch {
		case errors.As(err, &told):
			out.Refused = append(out.Refused, Refused{i, told.Title, told.Detail})
		case err != nil:
			return out, err
		default:
			standing = append(standing, v.Ruling)
			out.Kept = append(out.Kept, v)
		}
	}
	return out, nil
}

func (s *Service) recordExists(ctx context.Context, system int64, id string) error {
	if id == "" {
		return nil
	}
	r, err := s.Store.NewestRoster(ctx, system)
	if err == nil {
		_, err = s.Store.RecordAt(ctx, system, r.ID, id)
	}
	if errors.Is(err, store.ErrNotFound) {
		x, err := s.Store.SystemByID(ctx, system)
		if err != nil {
			return err
		}
		return fault.New(fault.NotFound, fmt.Sprintf("there is no record %q in the newest roster of %s", id, x.Name), "", "twinning twin list shows the ids")
	}
	return err
}

// ClearRuling takes a ruling back, with the bond that it made unless a run has
// rested on it since. A bond that a `different` had given up stands again, as
// long as no plan has been sealed that shows it gone.
func (s *Service) ClearRuling(ctx context.Context, who access.Caller, lane string, id int64) error {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *store.Store) error {
		if err := holds(ctx, tx, l); err != nil {
			return err
		}
		r, err := tx.Ruling(ctx, l.ID, id)
		if err == nil {
			err = tx.ClearRuling(ctx, l.ID, id)
		}
		if err != nil {
			return fault.About(err, "ruling", fmt.Sprint(id))
		}
		if r.Kind == "different" {
			basis, parted, err := tx.Unpart(ctx, l.ID, r.Person, r.Account)
			if err != nil {
				return err
			}
			if parted {
				if err := tx.AddBond(ctx, l.ID, store.Bond{Person: r.Person, Account: r.Account, Basis: basis, By: fmt.Sprintf("ruling %d, cleared", id)}); err != nil {
					return err
				}
			}
		}
		return errors.Join(tx.RemoveBondBy(ctx, l.ID, fmt.Sprintf("ruling %d", id)),
			tx.Audit(ctx, who.Name, "ruling.clear", lane, map[string]string{"ruling": fmt.Sprint(id)}))
	})
}

// Rulings lists those in force.
func (s *Service) Rulings(ctx context.Context, lane string) ([]store.Ruling, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return nil, err
	}
	return s.Store.Rulings(ctx, l.ID)
}
