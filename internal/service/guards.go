package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"twinning/internal/core/charter"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/store"
)

// guards holds the charter's guards against changes, with what other plans did to
// the system, may be doing, and have sealed; what is wrong with a roster stands
// whatever is chosen. p is the plan that the changes are of, if they are of one.
func (s *Service) guards(ctx context.Context, l store.Lane, r store.Reconciliation, rules *charter.Charter, p store.Plan, changes []store.Change) ([]planning.Reading, error) {
	var all []planning.Reading
	if err := json.Unmarshal(r.Guards, &all); err != nil {
		return nil, err
	}
	var totals planning.Totals
	kept := []planning.Reading{}
	for _, g := range all {
		switch {
		case g.Message != "":
			kept = append(kept, g)
		case g.Of == "twins":
			totals.Twins = g.Denominator
		default:
			totals.People = g.Denominator
		}
	}
	bonded, err := s.Store.BondedBefore(ctx, l.ID, p.ID)
	if err != nil {
		return nil, err
	}
	var m reconcile.Memory
	if m.Done, err = s.done(ctx, l, rules); err != nil {
		return nil, err
	}
	pending, err := s.Store.Pending(ctx, l.DownstreamID, p.ID)
	if err != nil {
		return nil, err
	}
	list := make([]planning.Change, 0, len(changes))
	for _, c := range changes {
		if !planning.IsAccepted(c.Outcome) {
			list = append(list, c.Body.V)
		}
	}
	past := planning.Past{
		Recent:  func(verb string, days int) int { return m.Recent(verb, s.Now().In(rules.Zone), days) },
		Pending: func(verb string) int { return pending[verb] },
	}
	return append(kept, planning.Guards(rules.Guards, list, totals, rules.First && !bonded, past)...), nil
}

// lowered names the guards that allow more than those by which the lane's last plan was sealed,
// or those of a charter since; before the first seal, more than any charter of the lane did, or
// the defaults do.
func (s *Service) lowered(ctx context.Context, l store.Lane, r store.Reconciliation, rules *charter.Charter) ([]string, error) {
	since := int64(1)
	last, err := s.Store.LastSealed(ctx, l.ID)
	sealed := err == nil
	switch {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return nil, err
	default:
		by, err := s.Store.Reconciliation(ctx, last.Reconciliation)
		if err != nil {
			return nil, err
		}
		since = by.CharterVersion
	}
	versions, err := s.Store.ChartersBetween(ctx, l.ID, since, r.CharterVersion-1)
	if err != nil {
		return nil, err
	}
	list, told := []string{}, map[string]bool{} // each guard once, against the newest that allows less
	add := func(looser []string, where string) {
		for _, g := range looser {
			if what, _, _ := strings.Cut(g, ", was "); !told[what] {
				told[what] = true
				list = append(list, g+where)
			}
		}
	}
	for _, v := range versions {
		if before, err := s.parse(ctx, v.Source); err == nil { // else what it allowed can't be told any more, and it seals nothing
			add(rules.LooserThan(before), fmt.Sprintf(" in version %d", v.Version))
		}
	}
	if !sealed {
		add(rules.LooserThan(charter.Defaults()), " by default")
	}
	return list, nil
}
