package execution

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"

	"twinning/internal/connector"
	"twinning/internal/core/naming"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// A unit is a handful of changes that hand names to one another. Once one of them is done
// the others follow, also when the run is asked to halt, and no other run comes in between:
// until the last is done a name may be nobody's. Where names move in a circle, or are handed
// over, and one of the changes can't be done, those that were are taken back, from the last to
// the first. Where they move in a chain, whoever gave an address up has it back as an alias, if the charter
// keeps former addresses: what else was done of it was wanted by itself.

// unitsOf lists the places of the changes of each unit, in the plan's order.
func unitsOf(order []store.Change) map[string][]int {
	units := map[string][]int{}
	for i := range order {
		if unit := order[i].Body.V.Unit; unit != "" {
			units[unit] = append(units[unit], i)
		}
	}
	return units
}

// underway: some of the unit is done, and some has no outcome yet. The caller holds the lock.
func (q *queue) underway(unit string) bool {
	done, open := false, false
	for _, i := range q.units[unit] {
		switch q.outcome[q.order[i].ID] {
		case "done", "different":
			done = true
		case "":
			open = true
		}
	}
	return done && open
}

// anyUnderway: the run is in the middle of a unit. The caller holds the lock.
func (q *queue) anyUnderway() bool {
	for unit := range q.units {
		if q.underway(unit) {
			return true
		}
	}
	return false
}

// closing: the change is of a unit that is under way, and is not held up by a halt.
func (s *sender) closing() bool {
	unit := s.c.Body.V.Unit
	if unit == "" {
		return false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.underway(unit)
}

// premises are what the change rests on; the first of a unit rests on what all of them do.
func (s *sender) premises() (list []planning.Premise, about []store.Change) {
	about = []store.Change{s.c}
	if unit := s.c.Body.V.Unit; unit != "" && !s.closing() {
		for _, i := range s.units[unit] {
			if s.order[i].ID != s.c.ID {
				about = append(about, s.order[i])
			}
		}
	}
	for _, c := range about {
		for _, p := range s.premisesOf(c) {
			if !slices.Contains(list, p) {
				list = append(list, p)
			}
		}
	}
	return list, about
}

// settleUnits mends what a node before this one did not come to, once it is our turn to write.
func (q *queue) settleUnits(ctx context.Context) {
	q.mu.Lock()
	for len(q.units) > 0 && !q.turn.mine && q.stopped == "" && ctx.Err() == nil {
		q.free.Wait()
	}
	stopped := q.stopped
	q.mu.Unlock()
	if stopped != "" {
		return // whoever goes on with the run comes here again
	}
	for _, unit := range slices.Sorted(maps.Keys(q.units)) {
		if err := q.settleUnit(ctx, unit); err != nil {
			q.fail(err)
			return
		}
	}
}

// settleUnit mends what was done of a unit that has come to its end, where not all of it
// could be done.
func (q *queue) settleUnit(ctx context.Context, unit string) error {
	if q.declared.Deferred {
		return nil // what came of it shows in a later roster, and the next plan goes on from there
	}
	q.mu.Lock()
	var done []int
	whole, back, unclear := true, false, ""
	for _, i := range q.units[unit] {
		c := &q.order[i]
		back = back || c.Body.V.Between || c.Body.V.HandsOver
		switch o := q.outcome[c.ID]; o {
		case "done", "different": // some of it may show
			done, whole = append(done, i), whole && q.cameAbout(c.ID)
		case "unchanged":
		case "": // it goes on
			q.mu.Unlock()
			return nil
		case "waiting", "in-doubt":
			unclear = fmt.Sprintf("%s of %s is %s", c.Verb, c.Label, o)
		default:
			whole = false
		}
	}
	q.mu.Unlock()
	switch {
	case whole || len(done) == 0:
		return nil
	case unclear != "":
		return q.w.Log(ctx, "error", q.order[done[0]].Label, "a unit was done in part, and is not taken back: "+unclear+"; reconcile once that is settled")
	}
	if !back {
		return q.keepFormer(ctx, unit, done)
	}
	kept := map[string]bool{} // what somebody else's change stands on
	for _, i := range slices.Backward(done) {
		c := q.order[i]
		if c.Verb == planning.Create || kept[c.ID] {
			for _, need := range c.Body.V.Needs {
				kept[need] = true
			}
			continue
		}
		why, err := q.takeBack(ctx, c)
		if err != nil {
			return err
		}
		if why != "" { // what it was done after stays too: its names are in use
			for _, need := range c.Body.V.Needs {
				kept[need] = true
			}
			if err := q.w.Log(ctx, "error", c.Label, c.Verb+" could not be taken back: "+why+"; reconcile to see what is left to do"); err != nil {
				return err
			}
		}
	}
	return nil
}

// keepFormer gives accounts the addresses back, as aliases, that they gave up for others who
// did not take them.
func (q *queue) keepFormer(ctx context.Context, unit string, done []int) error {
	if _, read := q.shape.Attributes["aliases"]; !read {
		return nil
	}
	for _, i := range done {
		c := q.order[i]
		former := given(c)
		if former == "" || !c.Body.V.Yields || !q.untaken(unit, former) {
			continue
		}
		why, err := q.addAlias(ctx, c, former)
		switch {
		case err != nil:
			return err
		case why == "":
			err = q.Store.Resettle(ctx, q.w.Task, q.plan.ID, q.lane.ID, c, store.Resettled{Outcome: q.outcomeOf(c.ID), Detail: former + " stays as an alias: who was to have it has not got it"})
		default:
			err = q.w.Log(ctx, "error", c.Label, former+" is nobody's now, and could not be kept as an alias: "+why)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (q *queue) outcomeOf(id string) string {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.outcome[id]
}

// given is the address that a change gives up.
func given(c store.Change) string {
	for _, e := range c.Body.V.Edits {
		if e.Attribute == "email" && c.Verb == planning.Readdress {
			return e.Old
		}
	}
	return ""
}

// untaken: the unit has a change that was to take the address, and did not.
func (q *queue) untaken(unit, address string) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return slices.ContainsFunc(q.units[unit], func(i int) bool {
		c := &q.order[i]
		takes := slices.ContainsFunc(c.Body.V.Edits, func(e planning.Edit) bool {
			return e.Attribute == "email" && naming.Fold(e.New) == naming.Fold(address)
		})
		return takes && !q.cameAbout(c.ID)
	})
}

// addAlias adds one to an account, if nobody else has it by now.
func (q *queue) addAlias(ctx context.Context, c store.Change, address string) (why string, err error) {
	if asked, ok := q.conn.(connector.NameHolder); ok {
		holders, err := asked.Holders(ctx, address)
		if err != nil {
			return err.Error(), nil
		}
		if len(slices.DeleteFunc(holders, func(h string) bool { return h == c.Account })) > 0 {
			return "", nil // it is somebody's, after all
		}
	}
	return q.mend(ctx, c, func(rec connector.Record) ([]planning.Edit, bool, string) {
		now, bad := q.cell(rec, "aliases")
		if bad != nil {
			return nil, false, bad.Error()
		}
		list := record.SplitList(now)
		if slices.ContainsFunc(list, func(v string) bool { return naming.Fold(v) == naming.Fold(address) }) {
			return nil, true, ""
		}
		return []planning.Edit{{Attribute: "aliases", Old: now, New: record.JoinList(append(list, address))}}, false, ""
	})
}

// takeBack writes what an account held before a change, where it still holds what the change
// wrote. why says what stood in the way.
func (q *queue) takeBack(ctx context.Context, c store.Change) (why string, err error) {
	back := c
	back.Body.V.Edits = nil
	if q.byGroups(c) {
		return q.leaveGroups(ctx, c)
	}
	for _, e := range c.Body.V.Writes() {
		back.Body.V.Edits = append(back.Body.V.Edits, planning.Edit{Attribute: e.Attribute, Old: e.New, New: e.Old, Reason: e.Reason})
	}
	isBack := false
	why, err = q.mend(ctx, c, func(rec connector.Record) (_ []planning.Edit, _ bool, why string) {
		isBack, why = q.heldAgain(rec, back)
		return back.Body.V.Edits, isBack, why
	})
	if err != nil || why != "" || isBack && q.outcomeOf(c.ID) == "different" { // the system never took it
		return why, err
	}
	return "", q.tookBack(ctx, c)
}

// leaveGroups takes a change of memberships back: what it gave is taken, and what it took given.
func (q *queue) leaveGroups(ctx context.Context, c store.Change) (why string, err error) {
	back := c
	back.Body.V.Edits = nil
	for _, e := range c.Body.V.Edits {
		back.Body.V.Edits = append(back.Body.V.Edits, planning.Edit{Attribute: e.Attribute, Old: e.New, New: e.Old, Reason: e.Reason})
	}
	s := &sender{queue: q, ctx: ctx, c: back}
	if _, err := s.enrol(); err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		return err.Error(), nil
	}
	if s.groupsShow(); s.r.Outcome != "done" {
		return s.r.Detail, nil
	}
	return "", q.tookBack(ctx, c)
}

// mostIgnored is how often it is tried to take back what a system accepts, and shows otherwise.
const mostIgnored = 3

// mend writes into an account what edits says, once it has been read; edits says as well
// whether it is so already, or what stands in the way.
func (q *queue) mend(ctx context.Context, c store.Change, edits func(rec connector.Record) (list []planning.Edit, isSo bool, why string)) (why string, err error) {
	for attempt := 1; ; attempt++ {
		now, err := q.Store.Standing(ctx, q.ground, q.w.Task)
		switch {
		case err != nil:
			return "", err
		case !now.Ours:
			return "", store.ErrFenced
		case now.Frozen != "":
			return "all writing was frozen by " + now.Frozen, nil
		case !now.Writable || !now.Turn:
			return fmt.Sprintf("system %s may not be written to now", q.system.Name), nil
		}
		q.shown(ctx, c.Account)
		rec, err := q.account(ctx, c.Account)
		if err == nil {
			list, isSo, why := edits(rec)
			if isSo || why != "" {
				return why, nil
			}
			to := c
			to.Body.V.Edits = list
			var native []connector.Edit
			if native, err = q.nativeEditsOf(ctx, to, &rec); err != nil {
				return err.Error(), nil
			}
			var after connector.Record
			if after, err = q.conn.Write(ctx, connector.Write{Record: &rec, Edits: native}); err == nil {
				_, isSo, why := edits(after)
				if isSo || q.declared.Lag > 0 {
					return "", nil
				}
				if why = cmp.Or(why, "it was accepted, and shows otherwise"); attempt >= mostIgnored {
					return why, nil
				}
				err = &connector.Error{Kind: connector.Stale, Doing: "write " + c.Account, Target: q.system.Name, Reason: why}
			}
		}
		switch kind := connector.KindOf(err); {
		case ctx.Err() != nil:
			return "", ctx.Err()
		case attempt >= tries || kind != connector.Throttled && kind != connector.Unreachable && kind != connector.Unanswered && kind != connector.Stale:
			return err.Error(), nil
		}
		if why := q.slower(ctx, attempt, 0, true); why != "" {
			return why, nil
		}
	}
}

// heldAgain reports whether the account holds again what it did; why says what else it holds.
func (q *queue) heldAgain(rec connector.Record, back store.Change) (isBack bool, why string) {
	isBack = true
	for _, e := range back.Body.V.Edits {
		now, bad := q.cell(rec, e.Attribute)
		kind := record.KindOf(e.Attribute)
		switch {
		case bad == nil && record.Same(kind, now, e.New):
		case bad == nil && record.Same(kind, now, e.Old):
			isBack = false
		default:
			return false, fmt.Sprintf("%s is %q by now", e.Attribute, record.PlainList(now))
		}
	}
	return isBack, ""
}

func (q *queue) tookBack(ctx context.Context, c store.Change) error {
	var attributes []string
	for _, e := range c.Body.V.Writes() {
		attributes = append(attributes, e.Attribute)
	}
	detail := "it was done, and taken back: another change of its unit could not be done"
	if err := q.Store.Resettle(ctx, q.w.Task, q.plan.ID, q.lane.ID, c, store.Resettled{Outcome: "taken-back", Detail: detail, Forget: attributes}); err != nil {
		return err
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	q.outcome[c.ID] = "taken-back"
	q.good--
	q.bad++
	return q.w.Log(ctx, "warning", cmp.Or(c.Label, c.Account), c.Verb+" taken-back: "+detail)
}
