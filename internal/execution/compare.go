package execution

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"twinning/internal/connector"
	"twinning/internal/connector/outbound"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// readPatiently reads the account before it is written. A system that passes for busy or away is
// waited for as when it is written to, and where an answer is about something else it is asked
// once more: reading again changes nothing.
func (s *sender) readPatiently() (rec connector.Record, err error) {
	for attempt := 1; ; attempt++ {
		rec, err = s.account(s.ctx, s.c.Account)
		kind := connector.KindOf(err)
		passes := kind == connector.Throttled || kind == connector.Unreachable || kind == connector.Unanswered || kind == connector.Broken && attempt < mostMixed
		if err == nil || s.ctx.Err() != nil || attempt >= tries || !passes {
			return rec, err
		}
		var told *connector.Error
		asked := time.Duration(0)
		if errors.As(err, &told) {
			asked = told.After
		}
		if kind == connector.Unreachable {
			s.unreached()
		}
		s.trace("%v", err)
		if why := s.slower(s.ctx, attempt, asked, s.closing()); why != "" {
			s.stop(why)
			return rec, &stop{why}
		}
	}
}

// before reads the account and says whether it is still as the plan saw it.
func (s *sender) before() (rec connector.Record, settled bool, _ error) {
	rec, err := s.readPatiently()
	var halted *stop
	if errors.As(err, &halted) {
		return rec, true, s.stopped(halted.why)
	}
	switch kind := connector.KindOf(err); {
	case err == nil:
	case s.ctx.Err() != nil:
		return rec, true, nil
	case kind == connector.NotFound && s.c.Verb == planning.Delete:
		return rec, s.confirm(), nil
	case kind == connector.NotFound:
		s.conclude("stale", "the account is gone")
		return rec, true, nil
	default:
		s.conclude("failed", "%v", err)
		return rec, true, nil
	}
	s.r.Before.V = s.values(rec)
	if s.own, err = s.since.asRead(s.ctx, s.c, rec); err != nil {
		s.conclude("failed", "it could not be compared with what it was: %v", err)
		return rec, true, nil
	}
	if why := s.rests(rec); why != "" {
		s.conclude("stale", "%s", why)
		return rec, true, nil
	}
	if s.byGroups(s.c) {
		not, err := s.enrolled(s.ctx, s.c, s.c.Account, false)
		if err == nil && not == "" {
			return rec, s.confirm(), nil
		}
		if err != nil && s.refusedGroup(err) {
			return rec, true, nil
		}
	}
	s.rebase(rec)
	asWanted, why := s.c.Verb != planning.Delete && s.c.Body.V.Delivers == nil && !s.byGroups(s.c), ""
	for _, x := range s.writes(s.c) {
		if src := s.shape.Attributes[x.Attribute]; src.Refers != "" {
			wanted, differs := s.compareReference(src, rec, x)
			asWanted = asWanted && wanted
			why = cmp.Or(why, differs)
			continue
		}
		now, bad := s.cell(rec, x.Attribute)
		kind := record.KindOf(x.Attribute)
		if bad == nil && record.Same(kind, now, x.New) {
			continue
		}
		asWanted = false
		if bad == nil && s.declared.Deferred && s.pending.asked(rec.ID, s.shape.Attributes[x.Attribute].Native) {
			continue // what it is to become by what we asked for ourselves
		}
		if bad != nil {
			why = fmt.Sprintf("%s can't be read: %v", x.Attribute, bad)
			continue
		}
		if old := x.Old; !record.Same(kind, now, old) && !(x.Attribute == "active" && old == "" && now == "true") {
			why = fmt.Sprintf("%s is %q where the plan saw %q", x.Attribute, record.PlainList(now), record.PlainList(old))
		}
	}
	switch {
	case why != "":
		s.conclude("stale", "%s", why)
	case asWanted:
		return rec, s.confirm(), nil
	}
	return rec, why != "", nil
}

// rebase has a change of a list begin with what an earlier change of the plan has made of it: both
// were drafted by the list as it was, and each adds and takes values of its own.
func (s *sender) rebase(rec connector.Record) {
	for i, x := range s.c.Body.V.Edits {
		kind := record.KindOf(x.Attribute)
		now, bad := s.cell(rec, x.Attribute)
		if !kind.Multi() || bad != nil || record.Same(kind, now, x.Old) || record.Same(kind, now, x.New) {
			continue
		}
		if !slices.ContainsFunc(s.earlier(s.c, x.Attribute), func(v string) bool { return record.Same(kind, now, v) }) {
			continue
		}
		added, taken := planning.Moved(kind, x.Old, x.New)
		list := slices.DeleteFunc(record.SplitList(now), func(o string) bool {
			return slices.ContainsFunc(taken, func(v string) bool { return record.Same(kind, v, o) })
		})
		for _, v := range added {
			if !slices.ContainsFunc(list, func(o string) bool { return record.Same(kind, v, o) }) {
				list = append(list, v)
			}
		}
		s.c.Body.V.Edits = slices.Clone(s.c.Body.V.Edits)
		s.c.Body.V.Edits[i].Old, s.c.Body.V.Edits[i].New = now, record.JoinList(list)
		s.mu.Lock()
		s.rebased[s.c.ID] = s.c.Body.V.Edits
		s.mu.Unlock()
	}
}

// rests says what an account no longer holds of what the change rests on, "" when it holds all;
// what earlier changes of the plan gave it is no news.
func (s *sender) rests(rec connector.Record) (why string) {
	for _, x := range s.c.Body.V.RestsOn {
		now, bad := s.cell(rec, x.Attribute)
		kind := record.KindOf(x.Attribute)
		if bad == nil && (record.Same(kind, now, x.Old) || slices.ContainsFunc(s.earlier(s.c, x.Attribute), func(v string) bool { return record.Same(kind, now, v) })) {
			continue
		}
		if bad != nil {
			return fmt.Sprintf("%s can't be read: %v", x.Attribute, bad)
		}
		return fmt.Sprintf("%s is %q where it was %q (%s)", x.Attribute, record.PlainList(now), record.PlainList(x.Old), x.Reason)
	}
	for _, name := range s.c.Body.V.After {
		if now, bad := s.cell(rec, name); bad != nil || now == "" {
			return name + " must be there before"
		}
	}
	return ""
}

// compareReference holds what a record refers to against what it should refer to
// and what the plan saw, all three as the system itself refers.
func (s *sender) compareReference(src record.Source, rec connector.Record, x planning.Edit) (wanted bool, differs string) {
	now := rec.Values[src.Native]
	is := func(id string) bool {
		native, err := s.reference(s.ctx, src, id)
		return err == nil && record.SameReferences(now, native)
	}
	switch {
	case is(x.New):
		return true, ""
	case is(x.Old):
		return false, ""
	}
	return false, fmt.Sprintf("%s refers to %q where the plan saw %s", x.Attribute, strings.Join(now, "; "), cmp.Or(x.Old, "nobody"))
}

// confirm settles a change that is as wanted already, if all it rests on holds:
// what is confirmed is bonded.
func (s *sender) confirm() bool {
	premises := s.premisesOf(s.c)
	facts, err := s.Store.Facts(s.ctx, s.ground, premises)
	if err == nil {
		err = s.since.look(s.ctx, true)
	}
	var carried map[planning.Fact]string
	if err == nil {
		carried, err = s.since.facts(s.ctx, s.c, s.own)
	}
	if err != nil {
		s.conclude("failed", "its premises could not be looked at: %v", err)
		return true
	}
	merge(facts, premises, carried)
	if why := planning.StillHold(premises, facts); why != "" {
		s.conclude("stale", "%s", why)
		return true
	}
	s.r.After.V = s.r.Before.V
	if s.r.Attempts > 0 { // it was asked for, and nobody else is known to have done it: what is ours is undone and taken away by us
		s.conclude("done", "it was sent before, and shows by now")
		return true
	}
	s.conclude("unchanged", "it is already as wanted")
	return true
}

// values keeps of a record what the change writes or rests on, and what
// identifies it.
func (s *sender) values(rec connector.Record) map[string][]string {
	kept := map[string][]string{}
	names := []string{"userName", "email", "active"}
	for _, x := range s.writes(s.c) {
		names = append(names, x.Attribute)
	}
	for _, x := range s.c.Body.V.RestsOn {
		names = append(names, x.Attribute)
	}
	for _, n := range names {
		if src, ok := s.shape.Attributes[n]; ok && rec.Values[src.Native] != nil {
			kept[src.Native] = rec.Values[src.Native]
		}
	}
	if place := s.declared.Place; place != "" && rec.Values[place] != nil {
		kept[place] = rec.Values[place]
	}
	return outbound.NewClearer().Values(kept) // the system may say back what it was given
}

func (s *sender) written(after connector.Record) {
	if why := s.unfit(after); why != "" { // it makes no bond, and nothing is said of either account
		s.conclude("in-doubt", "it was sent, and %s: look at both, and say whether it is done", why)
		return
	}
	list := s.differences(after)
	if len(list) > 0 && s.looksAgain(list) {
		if again, err := s.account(s.ctx, after.ID); err == nil && s.unfit(again) == "" {
			after, list = again, s.differences(again)
		}
	}
	s.r.Account, s.r.After.V = after.ID, s.values(after)
	var said []string
	s.r.Differs.V = map[string]string{}
	for _, d := range list {
		said = append(said, d.String())
		if !d.late {
			s.r.Differs.V[d.attribute] = d.shows
		}
	}
	if len(s.r.Differs.V) == 0 {
		s.conclude("done", "%s", strings.Join(said, "; "))
		return
	}
	s.conclude("different", "%s accepted it, and %s", s.system.Name, strings.Join(said, "; "))
}

// settling is how long a system is given to show what it has accepted, where nobody has declared
// that it shows changes late.
const settling = time.Second

// mostSettling is how often in a run that is waited for where nothing else hangs on it: a system
// that alters all it is given would hold the run up.
const mostSettling = 3

// looksAgain waits before what shows otherwise is believed; false where it need not be.
func (s *sender) looksAgain(list []difference) bool {
	hinders := slices.ContainsFunc(list, func(d difference) bool { return slices.Contains(planning.AwaitedAttributes, d.attribute) })
	s.mu.Lock()
	s.settled++
	often := s.settled > mostSettling
	s.mu.Unlock()
	if s.declared.Lag > 0 || !s.declared.ReadsOne || often && !hinders {
		return false
	}
	return s.sleep(s.ctx, settling)
}

// difference is an attribute that an account shows otherwise than a change writes it.
type difference struct {
	attribute string
	shows     string // its value, or its list
	late      bool   // it shows as before, in a system that shows changes late
}

func (d difference) String() string {
	return fmt.Sprintf("%s shows as %q", d.attribute, record.PlainList(d.shows))
}

// differences lists what a record shows otherwise than the change writes it.
func (s *sender) differences(after connector.Record) (list []difference) {
	for _, x := range s.writes(s.c) {
		if src := s.shape.Attributes[x.Attribute]; src.Refers != "" {
			if now := after.Values[src.Native]; !record.SameReferences(now, s.r.Sent.V[src.Native]) {
				list = append(list, difference{x.Attribute, record.JoinList(now), s.declared.Lag > 0 && record.SameReferences(now, s.r.Before.V[src.Native])})
			}
			continue
		}
		kind := record.KindOf(x.Attribute)
		if now, err := s.cell(after, x.Attribute); err != nil || !record.Same(kind, now, x.New) {
			list = append(list, difference{x.Attribute, now, err == nil && s.declared.Lag > 0 && record.Same(kind, now, x.Old)})
		}
	}
	return list
}
