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
	if r.Account == "" || !planning.IsAccepted(r.Outcome) {
		return e
	}
	whole := r.Outcome != "different"
	for _, p := range c.Premises {
		if p.Kind == planning.NotCancelled && !c.Inherits && whole { // whoever hands over has done what was intended
			e.Intention = p.Key
		}
	}
	if whole { // else the intention stays, and is tried again
		e.Freed = c.Frees(r.Account)
	}
	e.Keeps = slices.DeleteFunc(c.KeptBy(r.Account, fmt.Sprintf("run %d", r.RunID)), func(i planning.Intention) bool {
		_, differs := r.Differs.V[i.Attribute]
		return differs
	})
	if c.Owes && r.Outcome != "unchanged" {
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
	if r.Outcome == "unchanged" {
		return e
	}
	_, ignored := r.Differs.V["active"]
	e.Suspended, e.Opened = c.Verb == planning.Suspend && !ignored, c.Verb == planning.Reinstate && !ignored
	e.Written = map[string]string{} // what shows otherwise as well: it is not written for ever
	e.Added, e.Removed = map[string][]string{}, map[string][]string{}
	for _, x := range c.Writes() {
		if kind := record.KindOf(x.Attribute); kind.Multi() && x.Attribute != "aliases" {
			e.Added[x.Attribute], e.Removed[x.Attribute] = movedTo(r, kind, x)
		}
		if x.Attribute == "aliases" {
			added, removed := movedTo(r, record.Emails, x)
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

// movedTo lists the values that an edit added to a list, and those it took, as far as the account
// shows so.
func movedTo(r store.Receipt, kind record.Kind, e planning.Edit) (added, removed []string) {
	added, removed = planning.Moved(kind, e.Old, e.New)
	shows, differs := r.Differs.V[e.Attribute]
	if !differs {
		return added, removed
	}
	there := map[string]bool{}
	record.EachValue(shows, func(v string) { there[record.Normal(kind, v)] = true })
	gone := func(v string) bool { return !there[record.Normal(kind, v)] }
	stays := func(v string) bool { return !gone(v) }
	return slices.DeleteFunc(added, gone), slices.DeleteFunc(removed, stays)
}
