package execution

import (
	"context"
	"errors"
	"fmt"
	"maps"

	"twinning/internal/core/charter"
	"twinning/internal/core/naming"
	"twinning/internal/core/parallel"
	"twinning/internal/core/planning"
	"twinning/internal/store"
)

// stop is why a run must not send anything more, or not now; it says nothing of
// the change at hand, which stays to be done.
type stop struct{ why string }

func (s *stop) Error() string { return s.why }

// fallen is a premise that no longer holds: the change is stale.
type fallen struct{ why string }

func (f *fallen) Error() string { return f.why }

// notOurs is that another task writes to the system now, or none does: no window is open.
type notOurs struct{}

func (notOurs) Error() string { return "another run writes to the system now, or nobody may" }

// Premises are what a change rests on: what was written down with it when it was
// drafted, the names that its plan has reserved, the charter, and what the charter says of
// every account of the lane.
func Premises(plan store.Plan, charterVersion int64, rules *charter.Charter, c store.Change) []planning.Premise {
	list := append([]planning.Premise{{Kind: planning.CharterUsed, Version: fmt.Sprint(charterVersion)}}, c.Body.V.Premises...)
	list = append(list, implied(rules, c)...)
	for _, e := range c.Body.V.Edits {
		for _, name := range e.NewNames() {
			list = append(list, planning.Premise{Kind: planning.NameReserved, Key: naming.Fold(name), Version: fmt.Sprint(plan.ID)},
				planning.Premise{Kind: planning.NameNowhere, Key: planning.KeyOf(name, c.Person)})
		}
	}
	return list
}

// premisesOf are what a change of the run's plan rests on.
func (x *run) premisesOf(c store.Change) []planning.Premise {
	return Premises(x.plan, x.result.CharterVersion, x.charter, c)
}

// judge looks at what stands around a change and at its premises, and last at what fits, in the
// transaction that records its intent.
func (x *run) judge(premises []planning.Premise, since map[planning.Fact]string, closing bool, fits func() error) func(planning.Facts, store.Standing) error {
	return func(facts planning.Facts, w store.Standing) error {
		now := x.Now()
		switch {
		case !w.Ours:
			return store.ErrFenced
		case w.Halt && !closing: // what hands names on comes to its end
			return &stop{"halted as asked"}
		case w.Frozen != "":
			return &stop{"all writing was frozen by " + w.Frozen}
		case !w.Writable:
			return &stop{fmt.Sprintf("system %s was closed for writing", x.system.Name)}
		case w.Observing:
			return &stop{fmt.Sprintf("lane %s only observes now", x.lane.Name)}
		case w.SystemVersion != x.system.Version:
			return &stop{fmt.Sprintf("system %s was changed since the run began; start it again", x.system.Name)}
		case !w.Turn, !closing && x.opens(now).After(now):
			return notOurs{}
		case !x.since.at(w):
			return errNewer
		}
		merge(facts, premises, since)
		if why := planning.StillHold(premises, facts); why != "" {
			return &fallen{why}
		}
		return fits()
	}
}

// merge adds what newer rosters say about keys and names to the facts.
func merge(facts planning.Facts, premises []planning.Premise, since map[planning.Fact]string) {
	for _, p := range premises {
		if p.Kind.OfRecords() {
			fact := planning.Fact{Kind: p.Kind, Key: p.Key}
			facts[fact] = since[fact]
		}
	}
}

// Fallen looks at the premises of many changes at once, and tells for each, by
// its number, what no longer holds; heard, how many it has looked at.
func (e *Engine) Fallen(ctx context.Context, lane store.Lane, p store.Plan, r store.Reconciliation, rules *charter.Charter, changes []store.Change, reserved bool, heard func(done, all int) error) (map[int]string, error) {
	since, err := CarriedSince(ctx, e, lane, r, rules)
	if err != nil {
		return nil, err
	}
	conditions, err := e.conditionsOf(ctx, lane, rules)
	if err != nil {
		return nil, err
	}
	g := store.Ground{Lane: lane.ID, Authority: lane.AuthorityID, Downstream: lane.DownstreamID, PeopleRoster: r.PeopleRoster}
	fell := map[int]string{}
	look := func(some []store.Change) (map[int]string, error) {
		var all []planning.Premise
		lists := make([][]planning.Premise, len(some))
		for i, c := range some {
			for _, x := range append(Premises(p, r.CharterVersion, rules, c), restedOn(c)...) {
				if x.Kind == planning.NameReserved && !reserved {
					continue // they are only at sealing
				}
				lists[i] = append(lists[i], x)
			}
			all = append(all, lists[i]...)
		}
		facts, err := e.Store.Facts(ctx, g, all)
		if err != nil {
			return nil, err
		}
		came, err := conditions.facts(ctx, all, &since, nil)
		if err != nil {
			return nil, err
		}
		fell := map[int]string{}
		for i, c := range some {
			of := since.facts(c, lists[i])
			for _, p := range lists[i] {
				if fact := (planning.Fact{Kind: p.Kind, Key: p.Key}); p.Kind == planning.Condition {
					of[fact] = came[fact]
				}
			}
			merge(facts, lists[i], of)
			if why := planning.StillHold(lists[i], facts); why != "" {
				fell[c.Number] = why
			}
		}
		return fell, nil
	}
	const turns = 2 // one is judged while the other is asked about
	for from := 0; from < len(changes); from += turns * atOnce {
		if err := heard(from, len(changes)); err != nil {
			return nil, err
		}
		var both parallel.Group
		var found [turns]map[int]string
		var errs [turns]error
		for turn := range turns {
			if first := from + turn*atOnce; first < len(changes) {
				both.Go(func() { found[turn], errs[turn] = look(changes[first:min(len(changes), first+atOnce)]) })
			}
		}
		both.Wait()
		if err := errors.Join(errs[:]...); err != nil {
			return nil, err
		}
		for _, some := range found {
			maps.Copy(fell, some)
		}
	}
	return fell, heard(len(changes), len(changes))
}

// restedOn are the values of its account that a change rests on, as premises: before it is sent
// they are held against the account as it is read, and before that against the newest roster.
func restedOn(c store.Change) (list []planning.Premise) {
	for _, e := range c.Body.V.RestsOn {
		list = append(list, planning.Premise{Kind: planning.AccountValue, Key: planning.ValueKey("", c.Account, e.Attribute), Version: e.Old})
	}
	return list
}

// Unheard hears nothing of how far it is.
func Unheard(int, int) error { return nil }

// atOnce is of how many changes the premises are looked at in one query.
const atOnce = 2000
