package service

import (
	"context"
	"errors"
	"fmt"

	"twinning/internal/core/pairing"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// OfferedBond is a bond of a former lane as it would be of another one.
type OfferedBond struct {
	store.Bond
	ToPerson  string `json:"toPerson"`
	ToAccount string `json:"toAccount"`
	Misfit    string `json:"misfit,omitempty"` // why it can't be told
}

// Offering says by what the records of a former lane are found among those of another one: an
// attribute of each side, "" for their ids.
type Offering struct{ PersonBy, AccountBy string }

// OfferBonds tells what the bonds of a lane would be in another one, whose authority, downstream
// or ids may be others. Nothing is changed: whoever wants them gives rulings.
func (s *Service) OfferBonds(ctx context.Context, lane, to string, by Offering) ([]OfferedBond, error) {
	former, err := s.lane(ctx, lane)
	if err != nil {
		return nil, err
	}
	now, err := s.lane(ctx, to)
	if err != nil {
		return nil, err
	}
	bonds, err := s.Store.Bonds(ctx, former.ID)
	if err != nil {
		return nil, err
	}
	var of struct{ people, accounts []string }
	for _, b := range bonds {
		of.people, of.accounts = append(of.people, b.Person), append(of.accounts, b.Account)
	}
	person, err := s.moved(ctx, former.AuthorityID, now.AuthorityID, of.people, "personBy", by.PersonBy)
	if err != nil {
		return nil, err
	}
	account, err := s.moved(ctx, former.DownstreamID, now.DownstreamID, of.accounts, "accountBy", by.AccountBy)
	if err != nil {
		return nil, err
	}
	list := make([]OfferedBond, len(bonds))
	people, accounts := map[string][]int{}, map[string][]int{}
	for i, b := range bonds {
		x := OfferedBond{Bond: b}
		var why string
		if x.ToPerson, why = person(b.Person); why != "" {
			x.Misfit = fmt.Sprintf("person %q: %s", b.Person, why)
		}
		if x.ToAccount, why = account(b.Account); why != "" && x.Misfit == "" {
			x.Misfit = fmt.Sprintf("account %q: %s", b.Account, why)
		}
		people[x.ToPerson], accounts[x.ToAccount] = append(people[x.ToPerson], i), append(accounts[x.ToAccount], i)
		list[i] = x
	}
	twice := func(by map[string][]int, what string) {
		for id, places := range by {
			for _, i := range places {
				if id != "" && len(places) > 1 && list[i].Misfit == "" {
					list[i].Misfit = fmt.Sprintf("%d bonds would be of %s %q", len(places), what, id)
				}
			}
		}
	}
	twice(people, "person")
	twice(accounts, "account")
	return list, nil
}

// moved finds what some records of a system are in another one, or in the same one by now.
func (s *Service) moved(ctx context.Context, former, now int64, ids []string, field, by string) (func(id string) (to, why string), error) {
	if by == "" && former != now {
		return nil, &fault.Error{Kind: fault.Invalid, Title: "the two lanes name their records by ids of different systems", Field: field, Next: "say which attribute both carry, such as employeeNumber"}
	}
	wanted := []string{"id"}
	if by != "" {
		wanted = append(wanted, by)
	}
	_, roster, shape, err := s.newest(ctx, now, wanted, nil)
	if err != nil {
		return nil, err
	}
	if by == "" {
		return pairing.Moved(nil, roster, ""), nil
	}
	x, err := s.Store.SystemByID(ctx, former)
	if err != nil {
		return nil, err
	}
	before, err := s.reach.NewestShape(ctx, x)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	for _, sh := range []record.Shape{shape, before} {
		if _, reads := sh.Attributes[by]; !reads {
			return nil, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("not both systems' shapes read %s", by), Field: field, Next: "name an attribute that identifies and both read"}
		}
	}
	load := before.NewLoader(wanted)
	if err := s.Store.LastRecords(ctx, former, ids, former == now, load.AddStored); err != nil {
		return nil, err
	}
	kept, err := load.Roster()
	if err != nil {
		return nil, err
	}
	return pairing.Moved(kept, roster, by), nil
}
