package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"twinning/internal/core/charter"
	"twinning/internal/core/naming"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// elsewhere reads the accounts of the other lanes that the charters ask for, with whose they
// are by their bonds. Another lane must serve the people of the same authority: elsewhere
// their ids mean others.
func (s *Service) elsewhere(ctx context.Context, in *laneInput, also []*charter.Charter) error {
	asked := in.Charter.Lanes()
	for _, c := range also {
		for lane, attributes := range c.Lanes() {
			asked[lane] = append(asked[lane], attributes...)
		}
	}
	in.Lanes = map[string]charter.Elsewhere{}
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		l, err := s.Store.LaneByName(ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			in.notes = append(in.notes, fmt.Sprintf("lane %s, which the charter asks for: there is no such lane; nothing is known of it", name))
			continue
		}
		if err != nil {
			return err
		}
		if l.AuthorityID != in.lane.AuthorityID {
			in.notes = append(in.notes, fmt.Sprintf("lane %s, which the charter asks for, serves the people of another system; nothing is known of it", name))
			continue
		}
		wanted := append([]string{"id"}, asked[name]...)
		slices.Sort(wanted)
		r, accounts, _, err := s.newest(ctx, l.DownstreamID, slices.Compact(wanted), in.Charter.Zone)
		var f *fault.Error
		if errors.As(err, &f) && f.Kind == fault.NotFound {
			in.notes = append(in.notes, fmt.Sprintf("lane %s, which the charter asks for: no roster of its accounts has been taken; nothing is known of it", name))
			continue
		}
		if err != nil {
			return err
		}
		bonds, err := s.Store.Bonds(ctx, l.ID)
		if err != nil {
			return err
		}
		of := make(map[string]string, len(bonds))
		for _, b := range bonds {
			of[b.Person] = b.Account
		}
		has := map[string]bool{}
		held := func(account, person string) {
			if _, there := accounts.Find(account); there {
				has[person] = true
			}
		}
		if err := s.Store.EachTwin(ctx, l.ID, held); err != nil {
			return err
		}
		for person, account := range of {
			held(account, person)
		}
		in.elsewhereRosters = append(in.elsewhereRosters, r.ID)
		in.Lanes[name] = charter.Elsewhere{Accounts: accounts, Has: func(person string) bool { return has[person] }, Of: func(person string) int {
			row, there := accounts.Find(of[person])
			if _, unread := accounts.Unread(row); !there || unread || of[person] == "" {
				return -1
			}
			return row
		}}
	}
	return nil
}

// sharing reads the accounts of the systems that share the downstream's names. The same human
// may have a name in several of them, where lanes of the same authority tell by their bonds,
// or by the twins of their newest reconciliation that a key has made, that it is them.
func (s *Service) sharing(ctx context.Context, in *laneInput) error {
	others, err := s.Store.Sharing(ctx, in.lane.DownstreamID)
	if err != nil || len(others) == 0 {
		return err
	}
	for _, x := range others {
		r, accounts, shape, err := s.newest(ctx, x.ID, []string{"id", "userName", "email", "aliases"}, in.Charter.Zone)
		var f *fault.Error
		if errors.As(err, &f) && (f.Kind == fault.NotFound || f.Kind == fault.Conflict) {
			in.Unshared = fmt.Sprintf("%s shares its names, and %s; take a roster: twinning roster take %s", x.Name, f.Title, x.Name)
			continue
		}
		if err != nil {
			return err
		}
		if _, reads := shape.Attributes["userName"]; !reads && accounts.Column("email") == nil {
			in.Unshared = fmt.Sprintf("%s shares its names, and its shape reads neither logins nor addresses", x.Name)
			continue
		}
		whose, err := s.Store.Whose(ctx, x.ID, in.lane.AuthorityID)
		if err != nil {
			return err
		}
		given := map[string]string{}
		changes, err := s.Store.GivenSince(ctx, x.ID, r.Started)
		if err != nil {
			return err
		}
		for _, c := range changes {
			c.Names(in.lane.AuthorityID, func(name, person string) {
				if before, met := given[name]; met && before != person {
					person = "" // in which order is not known here
				}
				given[name] = person
			})
		}
		in.elsewhereRosters = append(in.elsewhereRosters, r.ID)
		in.Shared = append(in.Shared, naming.Shared{System: x.Name, Accounts: accounts, Whose: func(account string) string {
			if x.ID == in.lane.AuthorityID {
				return account
			}
			return whose[account]
		}, Given: given})
	}
	return nil
}
