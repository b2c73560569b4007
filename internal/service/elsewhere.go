package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"twinning/internal/core/charter"
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
			in.notes = append(in.notes, fmt.Sprintf("accountIn('%s'): there is no such lane; what is asked of it is blank", name))
			continue
		}
		if err != nil {
			return err
		}
		if l.AuthorityID != in.lane.AuthorityID {
			in.notes = append(in.notes, fmt.Sprintf("accountIn('%s'): that lane serves the people of another system; what is asked of it is blank", name))
			continue
		}
		wanted := append([]string{"id"}, asked[name]...)
		slices.Sort(wanted)
		_, accounts, _, err := s.newest(ctx, l.DownstreamID, slices.Compact(wanted), in.Charter.Zone)
		var f *fault.Error
		if errors.As(err, &f) && f.Kind == fault.NotFound {
			in.notes = append(in.notes, fmt.Sprintf("accountIn('%s'): no roster of its accounts has been taken; what is asked of it is blank", name))
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
		in.Lanes[name] = charter.Elsewhere{Accounts: accounts, Of: func(person string) int {
			row, there := accounts.Find(of[person])
			if _, unread := accounts.Unread(row); !there || unread || of[person] == "" {
				return -1
			}
			return row
		}}
	}
	return nil
}
