package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"time"

	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/pairing"
	"twinning/internal/core/parallel"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// laneInput is everything that one reconciliation looks at.
type laneInput struct {
	reconcile.Input
	lane     store.Lane
	charter  store.Charter
	classes  []charter.Class // of everybody
	people   store.Roster
	accounts store.Roster
	digest   []byte
	parted   int64 // the newest parting that it knows
	weights  string
	notes    []string
	rulings  func(person, account string) string // ids of those that name either
	shutBy   map[string]string                   // account -> the receipt that suspended it
	// elsewhereRosters are those of other lanes, and of systems that share names
	elsewhereRosters []int64
}

// laneInput looks at what the lane's charter needs, and others that look at the same.
func (s *Service) laneInput(ctx context.Context, laneID int64, also ...*charter.Charter) (in laneInput, err error) {
	return s.laneInputWith(ctx, laneID, nil, also)
}

// laneInputWith looks at some attributes of the accounts besides.
func (s *Service) laneInputWith(ctx context.Context, laneID int64, attributes []string, also []*charter.Charter) (in laneInput, err error) {
	if in.lane, err = s.Store.LaneByID(ctx, laneID); err != nil {
		return in, err
	}
	if in.charter, err = s.Store.Charter(ctx, laneID, 0); err != nil {
		return in, fault.About(err, "charter of lane", in.lane.Name)
	}
	if in.Charter, err = s.parse(ctx, in.charter.Source); err != nil {
		return in, err
	}
	in.classes = in.Charter.Everybody()
	needPeople, needAccounts := in.Charter.Needs()
	for _, c := range also { // they look at the same rosters
		people, accounts := c.Needs()
		needPeople, needAccounts = append(needPeople, people...), append(needAccounts, accounts...)
	}
	sharers, err := s.sharers(ctx, in.lane)
	if err != nil {
		return in, err
	}
	for _, x := range sharers {
		_, accounts := x.rules.Accounts.Reads()
		needAccounts = append(needAccounts, accounts...)
	}
	needPeople = append(needPeople, "department") // of whose changes are counted by it
	needAccounts = append(append(needAccounts, "department"), attributes...)
	slices.Sort(needPeople)
	slices.Sort(needAccounts)
	needPeople, needAccounts = slices.Compact(needPeople), slices.Compact(needAccounts)
	var peopleShape, accountsShape record.Shape
	var noPeople, noAccounts error
	var both parallel.Group
	both.Go(func() {
		in.people, in.People, peopleShape, noPeople = s.newest(ctx, in.lane.AuthorityID, needPeople, in.Charter.Zone)
	})
	both.Go(func() {
		in.accounts, in.Accounts, accountsShape, noAccounts = s.newest(ctx, in.lane.DownstreamID, needAccounts, in.Charter.Zone)
	})
	both.Wait()
	if err = cmp.Or(noPeople, noAccounts); err != nil {
		return in, err
	}
	if err := s.remembered(ctx, &in); err != nil {
		return in, err
	}
	if err := s.elsewhereOwned(ctx, &in, sharers); err != nil {
		return in, err
	}
	if err := s.elsewhere(ctx, &in, also); err != nil {
		return in, err
	}
	if err := s.sharing(ctx, &in); err != nil {
		return in, err
	}
	if err := s.open(ctx, &in); err != nil {
		return in, err
	}
	if err := s.resting(ctx, &in); err != nil {
		return in, err
	}
	in.Now, in.Cores, in.Mark, in.Deferred, in.Premises, in.Tell = s.Now(), runtime.NumCPU(), accountsShape.Mark, accountsShape.Upload != nil, true, true
	if err := s.ages(ctx, &in); err != nil {
		return in, err
	}
	whole, err := s.Store.NewestWhole(ctx, in.lane.AuthorityID)
	if err != nil {
		return in, err
	}
	in.Reading = fmt.Sprint(whole.ID)
	// everything that decides the result, but for the clock and the counts
	decisive, err := json.Marshal([]any{in.charter.Source, peopleShape, accountsShape, in.people.ID, in.accounts.ID, in.Memory.Bonds, in.Memory.Same, in.Memory.Different, in.Memory.LeftPeople, in.Memory.LeftAccounts, in.Memory.Claims, in.Memory.Elsewhere, in.Memory.Twinned, in.Memory.Parted, in.Memory.Weights, in.Memory.Open, in.Memory.Freed, in.Memory.Inherited, in.elsewhereRosters})
	sum := sha256.Sum256(decisive)
	in.digest = sum[:]
	return in, err
}

// ages tells how old the rosters are, and until when the systems' secrets are good.
func (s *Service) ages(ctx context.Context, in *laneInput) error {
	in.Taken = map[string]time.Time{"people": in.people.Started, "accounts": in.accounts.Started}
	in.Secrets = map[string]string{}
	for _, id := range []int64{in.lane.AuthorityID, in.lane.DownstreamID} {
		x, err := s.Store.SystemByID(ctx, id)
		if err != nil {
			return err
		}
		if x.SecretUntil != "" {
			in.Secrets[x.Name] = x.SecretUntil
		}
	}
	return nil
}

// resting remembers the names that accounts gave up, where the charter lets them rest.
func (s *Service) resting(ctx context.Context, in *laneInput) error {
	x, err := s.Store.SystemByID(ctx, in.lane.DownstreamID)
	if err != nil {
		return err
	}
	others, err := s.Store.Sharing(ctx, x.ID)
	if err != nil {
		return err
	}
	systems := append([]store.System{x}, others...)
	ids := make([]int64, len(systems))
	for i, y := range systems {
		ids[i] = y.ID
	}
	days, err := s.restOf(ctx, in.Charter, ids)
	if err != nil || days == 0 {
		return err
	}
	in.Rest, in.Memory.Freed = days, []reconcile.Freed{}
	for _, y := range systems {
		if y.KeepDays > 0 && y.KeepDays < days {
			in.notes = append(in.notes, fmt.Sprintf("names rest for %d days, and rosters of %s are kept for %d: of what was given up before, nobody knows; keep its rosters for longer: twinning system put %s --keep-days %d", days, y.Name, y.KeepDays, y.Name, days))
		}
		freed, err := s.freedIn(ctx, in, y, days)
		if err != nil {
			return err
		}
		in.Memory.Freed = append(in.Memory.Freed, freed...)
	}
	return nil
}

// freedIn are the names that accounts of a system of the namespace gave up in the last days.
func (s *Service) freedIn(ctx context.Context, in *laneInput, x store.System, days int) ([]reconcile.Freed, error) {
	newest := in.accounts
	own := x.ID == in.lane.DownstreamID
	if !own {
		var err error
		if newest, err = s.Store.NewestRoster(ctx, x.ID); errors.Is(err, store.ErrNotFound) {
			return nil, nil // nothing was ever known of it
		} else if err != nil {
			return nil, err
		}
	}
	list, err := s.intake.Former(ctx, x, newest, s.Now().AddDate(0, 0, -days-1), in.Charter.Zone)
	if err != nil || own {
		return list, err
	}
	whose, err := s.Store.Whose(ctx, x.ID, in.lane.AuthorityID)
	for i := range list {
		f := &list[i]
		f.System = x.Name
		if f.Person = whose[f.Account]; x.ID == in.lane.AuthorityID {
			f.Person = f.Account
		}
	}
	return list, err
}

// open collects what was sent for a lane and is not known to have come about.
func (s *Service) open(ctx context.Context, in *laneInput) error {
	list, err := s.Store.Opened(ctx, in.lane.ID)
	in.Memory.Open = map[string]reconcile.Open{}
	for _, o := range list {
		x := reconcile.Open{Waits: o.Outcome == "waiting", Values: map[string]string{}}
		day := calendar.Day(o.Intended, in.Charter.Zone)
		if x.Waits {
			x.Why = fmt.Sprintf("run %d asked for it on %s, and no roster shows it yet; if it was lost: twinning run settle %d %d not-done", o.RunID, day, o.RunID, o.Number)
		} else {
			x.Why = fmt.Sprintf("run %d sent it on %s without an answer; look whether it is done, and say so: twinning run settle %d %d done|not-done", o.RunID, day, o.RunID, o.Number)
		}
		for _, e := range o.Body.V.Edits {
			x.Values[e.Attribute] = e.New
		}
		in.Memory.Open[o.Change] = x
	}
	return err
}

func (s *Service) newest(ctx context.Context, system int64, wanted []string, zone *time.Location) (r store.Roster, roster *record.Roster, shape record.Shape, err error) {
	x, err := s.Store.SystemByID(ctx, system)
	if err != nil {
		return r, nil, shape, err
	}
	if r, err = s.Store.NewestRoster(ctx, system); err != nil {
		return r, nil, shape, fault.About(err, "whole roster of system", x.Name)
	}
	if origin, err := s.reach.Origin(x); err != nil {
		return r, nil, shape, err
	} else if r.Origin != "" && r.Origin != origin {
		return r, nil, shape, fault.New(fault.Conflict, fmt.Sprintf("system %q has moved since its newest roster was read", x.Name), fmt.Sprintf("from %s to %s: what is known of it waits for a whole reading there", r.Origin, origin), "take a roster: twinning roster take "+x.Name+" --new-scope").Because("system-moved")
	}
	roster, shape, err = s.intake.Load(ctx, x, r, wanted, zone)
	return r, roster, shape, err
}

// remembered puts a lane's memory together from the rows in which it stands.
func (s *Service) remembered(ctx context.Context, in *laneInput) (err error) {
	l := in.lane
	if in.Memory, in.parted, err = s.Store.Remembered(ctx, l.ID); err != nil {
		return err
	}
	m := &in.Memory
	m.LeftPeople, m.LeftAccounts, m.Accepted = map[string]reconcile.Leave{}, map[string]reconcile.Leave{}, map[string]string{}
	bonds, err := s.Store.Bonds(ctx, l.ID)
	if err != nil {
		return err
	}
	for _, b := range bonds {
		m.Bonds = append(m.Bonds, pairing.Bond{Person: b.Person, Account: b.Account, Basis: b.Basis})
	}
	rulings, err := s.Store.Rulings(ctx, l.ID)
	if err != nil {
		return err
	}
	in.rulings = store.RulingsBy(rulings)
	for _, r := range rulings {
		pair := pairing.Pair{Person: r.Person, Account: r.Account}
		leave := reconcile.Leave{Reason: r.Reason}
		if r.Until != nil {
			leave.Until = *r.Until
		}
		switch {
		case r.Kind == "same":
			m.Same = append(m.Same, pair)
		case r.Kind == "different":
			m.Different = append(m.Different, pair)
		case r.Person != "":
			m.LeftPeople[r.Person] = leave
		default:
			m.LeftAccounts[r.Account] = leave
		}
	}
	accepted, err := s.Store.Acceptances(ctx, l.ID)
	if err != nil {
		return err
	}
	for _, a := range accepted {
		m.Accepted[a.Finding] = ""
		if a.Until != nil {
			m.Accepted[a.Finding] = *a.Until
		}
	}
	if m.Intentions, err = s.Store.Intended(ctx, l.ID); err != nil {
		return err
	}
	if m.TakenBack, err = s.Store.TakenBack(ctx, l.ID); err != nil {
		return err
	}
	if m.Claims, err = s.Store.Claims(ctx, l.ID, l.DownstreamID); err != nil {
		return err
	}
	if in.shutBy, err = s.Store.SuspendedBy(ctx, l.ID); err != nil {
		return err
	}
	if m.Done, err = s.done(ctx, l, in.Charter); err != nil {
		return err
	}
	return s.rememberEvidence(ctx, in)
}
