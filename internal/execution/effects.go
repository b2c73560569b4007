package execution

import (
	"fmt"
	"slices"

	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// effects are what the lane remembers of a settled change: the bond of the twin
// that was written or confirmed, and what we did to the account.
func (s *sender) effects() store.Effects {
	e := EffectsOf(s.lane.ID, s.c.Body.V, s.r)
	e.Label = s.c.Label
	return e
}

// former are those of the aliases that a change adds which were the primary address before it.
func former(c planning.Change, added []string) (list []string) {
	for _, e := range c.Edits {
		for _, v := range added {
			if e.Attribute == "email" && record.Same(record.Email, e.Old, v) {
				list = append(list, v)
			}
		}
	}
	return list
}

// EffectsOf are what a lane remembers of a change that has this receipt.
func EffectsOf(lane int64, c planning.Change, r store.Receipt) store.Effects {
	e := store.Effects{Lane: lane, Delivers: c.Delivers != nil}
	if c.Verb == planning.Reissue && r.Outcome == "in-doubt" { // a human settles it, and nobody is owed another one by itself
		e.Freed = c.Frees(r.Account)
	}
	if r.Account == "" || r.Outcome != "done" && r.Outcome != "unchanged" {
		return e
	}
	for _, p := range c.Premises {
		if p.Kind == planning.NotCancelled && !c.Inherits { // whoever hands over has done what was intended
			e.Intention = p.Key
		}
	}
	e.Freed = c.Frees(r.Account)
	e.Keeps = c.KeptBy(r.Account, fmt.Sprintf("run %d", r.RunID))
	if c.Owes && r.Outcome == "done" {
		e.Keeps = append(e.Keeps, planning.Owed(c.Person, r.Account, "its holder has no secret yet"))
	}
	if e.Deleted = c.Verb == planning.Delete; e.Deleted {
		return e
	}
	if c.Person != "" {
		basis := c.Basis
		if c.Verb == planning.Create {
			basis = pairing.Created
		}
		e.Bond = &store.Bond{Person: c.Person, Account: r.Account, Basis: basis, By: fmt.Sprintf("run %d", r.RunID)}
	}
	if r.Outcome != "done" {
		return e
	}
	e.Suspended, e.Opened, e.Written = c.Verb == planning.Suspend, c.Verb == planning.Reinstate, map[string]string{}
	e.Added, e.Removed = map[string][]string{}, map[string][]string{}
	for _, x := range c.Writes() {
		if kind := record.KindOf(x.Attribute); kind.Multi() && x.Attribute != "aliases" {
			e.Added[x.Attribute], e.Removed[x.Attribute] = planning.Moved(kind, x.Old, x.New)
		}
		if x.Attribute == "aliases" {
			added, removed := planning.Moved(record.Emails, x.Old, x.New)
			e.Added["aliases"] = former(c, added)
			if c.Inherits {
				e.Added["inherited"] = slices.DeleteFunc(added, func(v string) bool { return slices.Contains(e.Added["aliases"], v) })
			}
			e.Removed["aliases"], e.Removed["inherited"] = removed, removed
		}
		if x.Attribute != "active" && x.Attribute != "aliases" {
			e.Written[x.Attribute] = x.New
		}
	}
	return e
}
