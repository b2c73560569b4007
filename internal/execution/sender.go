package execution

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"twinning/internal/connector"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// sender sends one change.
type sender struct {
	*queue
	ctx      context.Context
	c        store.Change
	r        store.Receipt
	edits    []connector.Edit
	intended bool // an intent was recorded, by us or by whoever was at it before
	maybe    bool // and something of it may have been done
}

// change carries one change out and returns its receipt with an outcome, and what
// the lane remembers of it. An error says that nothing was done about it, and why
// nothing more may be done now.
func (q *queue) change(ctx context.Context, c store.Change) (store.Receipt, store.Effects, error) {
	s := &sender{queue: q, ctx: ctx, c: c, r: store.Receipt{RunID: q.params.Run, Number: c.Number, Change: c.ID, Account: c.Account}}
	prior, intended := q.prior[c.Number]
	if intended {
		s.r, s.intended, s.maybe = prior, true, true
		s.r.RunID = q.params.Run
	}
	err := s.carryOut(prior.Intended)
	return s.r, s.effects(), err
}

func (s *sender) carryOut(sent time.Time) error {
	if s.intended {
		if s.c.Verb == planning.Create { // it is found again by what it was given
			edits, err := s.nativeEdits(nil)
			if err != nil {
				s.conclude("in-doubt", "sent without an answer, and can't be looked up: %v", err)
				return nil
			}
			s.edits = edits
		}
		if !s.lookUp(sent, false) {
			return s.ctx.Err()
		}
		s.maybe = false
	}
	if why := s.unmet(s.c); why != "" {
		s.conclude("passed-over", "%s", why)
		return nil
	}
	return s.deliver()
}

func (s *sender) conclude(outcome, format string, args ...any) {
	s.r.Outcome, s.r.Detail = outcome, fmt.Sprintf(format, args...)
}

func (s *sender) trace(format string, args ...any) {
	s.r.Trace.V = append(s.r.Trace.V, time.Now().UTC().Format("15:04:05.000 ")+fmt.Sprintf(format, args...))
}

// stopped ends the attempts at a change when the run is to stop. What was tried
// and certainly not done is told; what was not tried stays as it was. Where only
// PostgreSQL went away nobody stopped anything: the intent stays open, and whoever
// goes on looks it up.
func (s *sender) stopped(why string) error {
	if !s.intended || s.interrupted() {
		return &stop{why}
	}
	s.conclude("passed-over", "not sent again: %s", why)
	return nil
}

// deliver sends the change until there is an answer that settles it.
func (s *sender) deliver() error {
	for attempt := 1; ; attempt++ {
		if why := s.patient(s.ctx, s.closing()); why != "" {
			return s.stopped(why)
		}
		if s.declared.Deferred && s.c.Verb == planning.Create && s.pending.creates[s.c.Person] > 0 {
			s.conclude("waiting", "run %d asked for it already, and no roster shows it yet", s.pending.creates[s.c.Person])
			return nil
		}
		var write connector.Write
		if s.c.Verb != planning.Create {
			s.shown(s.ctx, s.c.Account)
			rec, settled := s.before()
			if settled {
				return s.ctx.Err()
			}
			write.Record = &rec
		}
		var err error
		if s.edits, err = s.nativeEdits(write.Record); err != nil {
			s.conclude("refused", "%v", err)
			return nil
		}
		if attempt == 1 && s.taken() {
			return s.ctx.Err()
		}
		write.Edits = s.edits
		if done, err := s.intend(); done || err != nil {
			return err
		}
		began := time.Now()
		after, err := s.send(write)
		if s.ctx.Err() != nil {
			return s.ctx.Err() // this node is stopping; whoever goes on looks it up
		}
		if err == nil {
			s.answered()
			if s.declared.Deferred {
				s.pending.note(after.ID, s.r.Sent.V)
				s.conclude("waiting", "it stands in the upload file; it is done when a roster shows it")
				return nil
			}
			s.trace("answered in %d ms", time.Since(began).Milliseconds())
			s.shows(after)
			return nil
		}
		if connector.KindOf(err) == connector.Incomplete && after.ID != "" {
			s.answered()
			s.written(after)
			s.r.Detail = strings.TrimPrefix(s.r.Detail+"; "+err.Error(), "; ")
			return nil
		}
		s.trace("%v", err)
		if settled, err := s.refused(err, began, attempt); settled || err != nil {
			return err
		}
	}
}

// send carries out what the change says.
func (s *sender) send(write connector.Write) (connector.Record, error) {
	switch {
	case s.byGroups(s.c):
		return s.enrol()
	case s.c.Verb != planning.Delete:
		return s.conn.Write(s.ctx, write)
	}
	deleter, ok := s.conn.(connector.Deleter)
	if !ok {
		return connector.Record{}, &connector.Error{Kind: connector.Unsupported, Doing: "delete " + s.c.Account, Target: s.system.Name, Reason: "this kind of system deletes nothing", Next: "take delete out of the charter's leavers"}
	}
	return connector.Record{ID: s.c.Account}, deleter.Delete(s.ctx, *write.Record)
}

// shows concludes from the record as it is after the change.
func (s *sender) shows(after connector.Record) {
	if s.c.Verb == planning.Delete || s.byGroups(s.c) {
		s.conclude("done", "")
		return
	}
	s.written(after)
}

// sendWithin is how soon after its intent a change is on its way: whoever looks an
// intent up takes it for sent by then, and this node sends nothing later.
const sendWithin = 5 * time.Second

// intend looks at everything the change rests on, and records that it is sent.
// done says that it is settled instead.
func (s *sender) intend() (done bool, err error) {
	premises, about := s.premises()
	for {
		if err := s.since.look(s.ctx); err != nil {
			return false, err
		}
		carried := map[planning.Fact]string{}
		for _, c := range about {
			maps.Copy(carried, s.since.facts(c))
		}
		before := s.sent()
		asked := time.Now()
		err := s.Store.Intend(s.ctx, s.ground, s.w.Task, before, premises, s.judge(premises, carried, s.closing()))
		var fell *fallen
		var halt *stop
		switch {
		case err == nil && time.Since(asked) > sendWithin: // this process stood still: who looks it up must not be overtaken
			s.intended = true
			continue
		case err == nil:
			s.r.Attempts++
			s.intended, s.maybe = true, true
			return false, nil
		case errors.Is(err, errNewer):
			continue
		case errors.As(err, &fell):
			s.conclude("stale", "%s", fell.why)
			return true, nil
		case errors.As(err, &halt):
			if err := s.stopped(halt.why); err != nil {
				return false, err
			}
			s.stop(halt.why)
			return true, nil
		}
		return false, err
	}
}

// refused decides what an error of the system means. settled says that nothing is
// tried any more.
func (s *sender) refused(err error, began time.Time, attempt int) (settled bool, _ error) {
	var told *connector.Error
	errors.As(err, &told)
	if told == nil {
		told = &connector.Error{}
	}
	kind := connector.KindOf(err)
	s.maybe = kind == connector.Unanswered || kind == connector.Broken
	switch kind {
	case connector.Throttled, connector.Unreachable:
		if kind == connector.Unreachable && attempt >= tries {
			s.conclude("failed", "%v", err)
			return true, nil
		}
		if why := s.slower(s.ctx, attempt, told.After, s.closing()); why != "" {
			s.stop(why)
			return true, s.stopped(why)
		}
		return false, nil
	case connector.Unanswered:
		if !s.lookUp(began, told.Answered) {
			return true, s.ctx.Err()
		}
		s.maybe = false // certainly not done: it is as if the system had put it off
		if attempt >= tries {
			s.conclude("failed", "sent %d times, and certainly not done: %v", attempt, err)
			return true, nil
		}
		if why := s.slower(s.ctx, attempt, told.After, s.closing()); why != "" {
			s.stop(why)
			return true, s.stopped(why)
		}
		return false, nil
	case connector.Denied:
		s.stop(err.Error())
		s.conclude("refused", "%v", err)
	case connector.Forbidden:
		s.forbid()
		s.conclude("refused", "%v", err)
	case connector.Stale, connector.NotFound:
		s.conclude("stale", "%v", err)
	case connector.Conflict:
		s.conflict(err)
	case connector.Refused, connector.Unsupported:
		s.conclude("refused", "%v", err)
	default:
		if s.lookUp(began, true) {
			s.conclude("failed", "%v", err)
		}
		return true, s.ctx.Err()
	}
	return true, nil
}

// tries bounds how often one change is sent or put off where nobody says how
// long to wait.
const tries = 12

// forbid counts refusals for want of rights: one is about its record, many are
// about us.
func (q *queue) forbid() {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.forbidden++
}

// taken asks the system once whether a new account's mark, or a new name, is in
// use there meanwhile. It settles the change when it is.
func (s *sender) taken() bool {
	if s.declared.Deferred || s.intended {
		return false // who was at it before asked
	}
	if mark := s.mark(); s.c.Verb == planning.Create && mark != "" {
		list, err := s.conn.Find(s.ctx, s.declared.Finds, mark)
		if err == nil && len(list) > 0 {
			s.conclude("stale", "account %q carries the mark %q already; take a roster and reconcile", list[0].ID, mark)
			return true
		}
	}
	asked, ok := s.conn.(connector.NameHolder)
	if !ok {
		return false
	}
	for _, e := range s.c.Body.V.Edits {
		if e.Attribute != "userName" && e.Attribute != "email" || e.New == "" {
			continue
		}
		holders, err := asked.Holders(s.ctx, e.New)
		if err != nil {
			continue // not every system can be asked so; it refuses what is in use
		}
		for _, h := range holders {
			if h == s.c.Account {
				continue
			}
			if s.gaveUp(h) {
				s.shown(s.ctx, h)
				continue
			}
			s.conclude("stale", "%s %q is held by account %q now; take a roster and reconcile", e.Attribute, e.New, h)
			return true
		}
	}
	return false
}

// gaveUp: the account's own change, which this one needed, has just freed a name,
// and systems that show changes late show it still.
func (s *sender) gaveUp(account string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.declared.Lag > 0 && slices.ContainsFunc(s.c.Body.V.Needs, func(need string) bool {
		other := s.byID[need]
		return other != nil && other.Account == account && (s.outcome[need] == "done" || s.outcome[need] == "unchanged")
	})
}

// sent is the receipt with what is about to go out; values of attributes that
// hold secrets never stand there, since plans never carry any.
func (s *sender) sent() store.Receipt {
	s.r.Sent.V = map[string][]string{}
	for _, x := range s.edits {
		s.r.Sent.V[x.Native] = append([]string{}, x.New...)
	}
	if s.r.Before.V == nil {
		s.r.Before.V = map[string][]string{}
	}
	if s.r.Trace.V == nil {
		s.r.Trace.V = []string{}
	}
	return s.r
}

// before reads the account and says whether it is still as the plan saw it.
func (s *sender) before() (rec connector.Record, settled bool) {
	rec, err := s.account(s.ctx, s.c.Account)
	switch kind := connector.KindOf(err); {
	case err == nil:
	case s.ctx.Err() != nil:
		return rec, true
	case kind == connector.NotFound && s.c.Verb == planning.Delete:
		return rec, s.confirm()
	case kind == connector.NotFound:
		s.conclude("stale", "the account is gone")
		return rec, true
	default:
		s.conclude("failed", "%v", err)
		return rec, true
	}
	s.r.Before.V = s.values(rec)
	if s.byGroups(s.c) {
		not, err := s.enrolled(s.ctx, s.c, s.c.Account)
		if err == nil && not == "" {
			return rec, s.confirm()
		}
		if err != nil && s.refusedGroup(err) {
			return rec, true
		}
	}
	asWanted, why := s.c.Verb != planning.Delete && !s.byGroups(s.c), ""
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
	for _, x := range s.c.Body.V.RestsOn {
		if now, bad := s.cell(rec, x.Attribute); why == "" && (bad != nil || !record.Same(record.KindOf(x.Attribute), now, x.Old)) {
			why = fmt.Sprintf("%s is %q where it was %q (%s)", x.Attribute, record.PlainList(now), record.PlainList(x.Old), x.Reason)
		}
	}
	switch {
	case why != "":
		s.conclude("stale", "%s", why)
	case asWanted:
		return rec, s.confirm()
	}
	return rec, why != ""
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
	premises := Premises(s.plan, s.result.CharterVersion, s.c)
	facts, err := s.Store.Facts(s.ctx, s.ground, premises)
	if err == nil {
		err = s.since.look(s.ctx)
	}
	if err != nil {
		s.conclude("failed", "its premises could not be looked at: %v", err)
		return true
	}
	merge(facts, premises, s.since.facts(s.c))
	if why := planning.StillHold(premises, facts); why != "" {
		s.conclude("stale", "%s", why)
		return true
	}
	s.r.After.V = s.r.Before.V
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
	return kept
}

func (s *sender) written(after connector.Record) {
	s.r.Account, s.r.After.V = after.ID, s.values(after)
	var altered []string
	for _, x := range s.c.Body.V.Edits {
		if src := s.shape.Attributes[x.Attribute]; src.Refers != "" {
			if now := after.Values[src.Native]; !record.SameReferences(now, s.r.Sent.V[src.Native]) {
				altered = append(altered, fmt.Sprintf("%s shows as %q", x.Attribute, strings.Join(now, "; ")))
			}
			continue
		}
		if now, err := s.cell(after, x.Attribute); err != nil || !record.Same(record.KindOf(x.Attribute), now, x.New) {
			altered = append(altered, fmt.Sprintf("%s shows as %q", x.Attribute, record.PlainList(now)))
		}
	}
	s.conclude("done", "%s", strings.Join(altered, "; "))
}

var errNoNative = errors.New("the shape names no native attribute")

// nativeEdits turns canonical edits into native ones, given the record as it is
// now (nil for a new one). Attributes that share a native one are edited together,
// and what the shape does not speak of stays.
func (x *run) nativeEditsOf(ctx context.Context, c store.Change, rec *connector.Record) (_ []connector.Edit, err error) {
	out := make([]connector.Edit, 0, len(c.Body.V.Edits))
	for _, e := range x.writes(c) {
		src, ok := x.shape.Attributes[e.Attribute]
		switch {
		case !ok || src.Native == "":
			return nil, fmt.Errorf("%w for %s", errNoNative, e.Attribute)
		}
		i := slices.IndexFunc(out, func(o connector.Edit) bool { return o.Native == src.Native })
		if i < 0 {
			edit := connector.Edit{Native: src.Native}
			if rec != nil {
				edit.Old = rec.Values[src.Native]
			}
			edit.New = edit.Old
			i, out = len(out), append(out, edit)
		}
		if src.Refers != "" {
			if out[i].New, err = x.reference(ctx, src, e.New); err != nil {
				return nil, err
			}
			continue
		}
		encoded, err := src.Encode(record.KindOf(e.Attribute), record.SplitList(e.New), out[i].New, x.charter.Zone)
		if err != nil {
			return nil, err
		}
		out[i].New = encoded
	}
	return out, nil
}

// reference is how the system itself refers to the record of an id: by another
// attribute of it, as it is now.
func (x *run) reference(ctx context.Context, src record.Source, id string) ([]string, error) {
	if id == "" {
		return nil, nil
	}
	meant, err := x.account(ctx, id)
	if err != nil {
		return nil, fmt.Errorf("%s refers to account %q, which can't be read: %w", src.Native, id, err)
	}
	if len(meant.Values[src.Refers]) == 0 {
		return nil, fmt.Errorf("%s refers by %s, which account %q does not carry", src.Native, src.Refers, id)
	}
	return meant.Values[src.Refers][:1], nil
}

func (s *sender) nativeEdits(rec *connector.Record) ([]connector.Edit, error) {
	return s.nativeEditsOf(s.ctx, s.c, rec)
}

// effects are what the lane remembers of a settled change: the bond of the twin
// that was written or confirmed, and what we did to the account.
func (s *sender) effects() store.Effects { return EffectsOf(s.lane.ID, s.c.Body.V, s.r) }

// beyond lists the values of one list that another lacks.
func beyond(kind record.Kind, list, other string) (values []string) {
	has := map[string]bool{}
	record.EachValue(other, func(v string) { has[record.Normal(kind, v)] = true })
	record.EachValue(list, func(v string) {
		if !has[record.Normal(kind, v)] {
			values = append(values, v)
		}
	})
	return values
}

// EffectsOf are what a lane remembers of a change that has this receipt.
func EffectsOf(lane int64, c planning.Change, r store.Receipt) store.Effects {
	e := store.Effects{Lane: lane}
	if r.Account == "" || r.Outcome != "done" && r.Outcome != "unchanged" {
		return e
	}
	for _, p := range c.Premises {
		if p.Kind == planning.NotCancelled {
			e.Intention = p.Key
		}
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
	for _, x := range c.Edits {
		if kind := record.KindOf(x.Attribute); kind.Multi() && x.Attribute != "aliases" {
			e.Added[x.Attribute], e.Removed[x.Attribute] = beyond(kind, x.New, x.Old), beyond(kind, x.Old, x.New)
		}
		if x.Attribute != "active" && x.Attribute != "aliases" {
			e.Written[x.Attribute] = x.New
		}
	}
	return e
}
