package reconcile

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
)

// How somebody stands decides what their account should be: of those who are here, what
// the charter's rules say; of those who have left, what the stages say that have come.

func (w *walker) twin(p, a int) {
	if w.frozen(p, a) {
		if since, known := w.Memory.Inactive[w.personID(p)]; known { // it may be so still
			w.inactive = append(w.inactive, inactive{w.personID(p), since})
		}
		return
	}
	reason, left := w.run.left(p)
	switch {
	case w.inScope[p] && left:
		g := gone{p: p, a: a, person: w.personID(p), why: "the person is " + reason, since: w.leftOn(p)}
		g.reason = "leaver: " + reason
		g.ready = g.since
		w.leaves(g)
	case w.inScope[p]:
		w.employed(p, a)
	case w.shut(a):
	case w.Charter.OutOf == "suspend":
		w.suspend(p, a, "out of scope: suspend (charter)")
	case left:
		w.note("leaver-active", p, a, "", "the person is %s and out of scope, the account can still sign in; the charter leaves who is out of scope as they are", reason)
	}
}

// shut: nobody can sign in with the account.
func (w *walker) shut(a int) bool { return w.active.Cell(a) == "false" }

// employed holds the account of somebody who is here against all that it should be.
func (w *walker) employed(p, a int) {
	if !w.classify(p) {
		return
	}
	if w.emailOn && w.People.Column("email") != nil && w.People.Column("email").Cell(p) == "" {
		w.note("no-email", p, a, "", "the person has no e-mail address")
	}
	switch {
	case !w.class.SignsIn:
		if !w.shut(a) {
			w.suspend(p, a, fmt.Sprintf("class %s does not sign in (charter line %d)", w.class.Name, w.class.Line))
		}
	case w.shut(a) && !w.reinstated(p, a):
		return
	default:
		w.use(p, a)
	}
	w.shown(p, a)
	for i := range w.class.rules {
		w.differ(&w.class.rules[i], p, a)
	}
	w.alsoAddressed(nil, p, a)
	w.inOrder(nil, p, a)
	w.belong(p, a)
	w.owed(p, a)
}

func (w *walker) reinstated(p, a int) bool {
	if !w.Memory.Suspended[w.Accounts.ID(a)] {
		w.note("suspended-elsewhere", p, a, "", "the person is active, the account is suspended, and no receipt of ours did it")
		return false
	}
	if why := w.notBack(p); why != "" {
		w.withhold(planning.Reinstate, p, a, why)
		return false
	}
	if w.Charter.Intent != "add" {
		w.edit(planning.Reinstate, p, a, planning.Edit{Attribute: "active", Old: "false", New: "true", Reason: "the person is active again, and our own receipt suspended the account"})
	}
	return true
}

// notBack says why somebody whose account we suspended is not surely back: their record must
// say that they are active, and from which day on.
func (w *walker) notBack(p int) string {
	active, starts := w.People.Column("active"), w.People.Column("startsOn").Cell(p)
	switch {
	case active == nil:
		return fmt.Sprintf("person.active is not read, so nobody says that the person is active again; name it in the shape of %s", w.Charter.From)
	case active.Cell(p) != "true":
		return "person.active is blank: their record does not say that they are active again"
	case starts > w.today:
		return "the person starts on " + strings.Clone(starts)
	}
	return ""
}

// use tells of accounts that nobody can use, or does.
func (w *walker) use(p, a int) {
	older := func(days int) (made string, older bool) {
		made = w.made.Cell(a)
		return made, made != "" && calendar.Add(made, days) <= w.today
	}
	switch {
	case w.locked.Cell(a) == "true":
		w.note("locked", p, a, "", "the account is barred from signing in")
	case w.pending.Cell(a) == "true":
		if made, stale := older(w.Charter.Pending); stale {
			w.note("pending-stale", p, a, "", "the invitation of %s is still open", made)
		}
	case w.Charter.Unused > 0 && w.signedIn != nil && w.signedIn.Cell(a) == "":
		if made, unused := older(w.Charter.Unused); unused {
			w.note("never-signed-in", p, a, "", "made on %s, and nobody has signed in with it", made)
		}
	}
}

// shown lists an account again that our own receipt has hidden.
func (w *walker) shown(p, a int) {
	if w.hidden.Cell(a) == "true" && w.Memory.Written[w.Accounts.ID(a)]["hidden"].Value == "true" && w.Charter.Intent != "add" {
		w.edit(planning.Unhide, p, a, planning.Edit{Attribute: "hidden", Old: "true", New: "false", Reason: "the person is active again, and our own receipt hid the account"})
	}
}

// leftOn is the first day on which somebody who has left by their own record was
// gone: the day after their end date, or else the day on which they were first
// seen to be inactive, which the lane remembers.
func (w *walker) leftOn(p int) string {
	if end := w.People.Column("endsOn").Cell(p); end != "" && end < w.today {
		return calendar.Add(end, 1)
	}
	id := w.personID(p)
	since, known := w.Memory.Inactive[id]
	if !known {
		since = w.today
	}
	w.inactive = append(w.inactive, inactive{id, since})
	return since
}

// gone is somebody who has left, and their account.
type gone struct {
	p, a   int // p is -1 when they have vanished
	person string
	why    string // what is told of them
	reason string // of the changes
	since  string // the day from which stages count
	ready  string // the day before which none comes; "" when that can't be told yet
	absent bool   // it is concluded from their absence
}

// leaves does what the stages say of somebody who has left, and tells what is to come.
func (w *walker) leaves(g gone) {
	l := w.Charter.Leavers
	if l == nil {
		if !w.shut(g.a) {
			w.note("leaver-active", g.p, g.a, "", "%s, the account can still sign in; the charter has no leavers:", g.why)
		}
		return
	}
	told := ""
	var due []planning.Intention
	for _, stage := range l.Stages {
		for _, do := range stage.Do {
			i, open := w.stage(g, stage, do)
			if !open {
				continue
			}
			w.intended = append(w.intended, i)
			switch {
			case i.Comes(w.today):
				due = append(due, i)
			case do != planning.Suspend || i.Cancelled != "":
			case i.Waits != "":
				told = "; it waits " + i.Waits
			default:
				told = "; it is suspended on " + i.Due
			}
		}
	}
	if !w.shut(g.a) {
		w.note("leaver-active", g.p, g.a, "", "%s, the account can still sign in%s", g.why, told)
	}
	for _, i := range due {
		w.carryOut(g, i)
	}
}

// announced is how long before it a deletion has been told, whatever the calendar says: a day, less
// what nightly passes and a change of clocks take from it.
const announced = 20 * time.Hour

// stage is what a stage asks for, and when; open is false where nothing is left to do.
func (w *walker) stage(g gone, stage charter.Stage, do string) (i planning.Intention, open bool) {
	attribute, value := charter.StageWrites(do)
	column := w.Accounts.Column(attribute)
	if attribute != "" && w.several(attribute, nil, g.p, g.a) {
		return i, false
	}
	if attribute == "hidden" && column == nil || attribute != "" && column.Cell(g.a) == value || w.Charter.Intent == "add" {
		return i, false
	}
	if do == charter.HandsOver && !w.owns(g) {
		return i, false
	}
	i = planning.Intention{
		ID:   planning.IntentionID(do, g.person, w.accountID(g.a)),
		Verb: do, Person: g.person, Account: w.accountID(g.a), Due: calendar.Add(g.since, stage.After),
		Reason: fmt.Sprintf("%s (charter line %d)", g.reason, stage.Line),
	}
	i.First, i.Told = w.today, w.Now
	if before, told := w.run.intended[i.ID]; told {
		i.First, i.Told, i.Cancelled = before.First, before.Told, before.Cancelled
	}
	switch {
	case g.ready == "":
		i.Waits = "until more readings show that the person is gone"
	case g.ready > i.Due:
		i.Due = g.ready
	}
	if do == charter.HandsOver && i.Waits == "" {
		_, i.Waits = w.heirOf(g)
	}
	if do == planning.Delete { // never unannounced, of an account in use, or by a key alone
		i.Due = max(i.Due, calendar.Add(i.First, 1))
		if w.Now.Sub(i.Told) < announced { // a charter may name another zone, where it is tomorrow already
			i.Due = max(i.Due, calendar.Add(w.today, 1))
		}
		switch {
		case i.Waits != "":
		case w.held(g):
			i.Waits = "until the legal hold is over"
		case !w.shut(g.a):
			i.Waits = "until the account is suspended"
		case w.stillOwns(g):
			i.Waits = "until what it has is handed over"
		case g.p >= 0 && w.bondedTo[g.person] != i.Account && w.out.Pairing.Basis[g.p] != pairing.Ruled:
			i.Waits = "until a receipt or a ruling (same) bonds the two"
		}
	}
	return i, true
}

// held: the account is under legal hold, or may be.
func (w *walker) held(g gone) bool {
	if w.hold == nil {
		return false
	}
	holds, known := w.hold.Eval(g.p, g.a).True()
	return holds || !known
}

// carryOut drafts a stage that has come.
func (w *walker) carryOut(g gone, i planning.Intention) {
	if g.absent && w.noAbsent != "" {
		w.withhold(cmp.Or(map[string]string{charter.HandsOver: planning.Readdress}[i.Verb], i.Verb), -1, g.a, w.noAbsent)
		return
	}
	if g.p >= 0 && w.guess(g.p, g.a, planning.Participles[i.Verb]) {
		return
	}
	if i.Verb == charter.HandsOver {
		w.handsOver(g, i)
		return
	}
	e := planning.Edit{Attribute: "id", Old: i.Account, Reason: i.Reason}
	if attribute, value := charter.StageWrites(i.Verb); attribute != "" {
		e.Attribute, e.Old, e.New = attribute, w.Accounts.Column(attribute).Cell(g.a), value
	}
	d := w.draft(i.Verb, g.p, g.a, e)
	d.intention = i.ID
	if i.Verb == planning.Delete {
		d.RestsOn = append(d.RestsOn, planning.Edit{Attribute: "active", Old: "false", Reason: "an account in use is not deleted"})
		w.rest(d, g.p, g.a, w.hold)
	}
}

func (w *walker) suspend(p, a int, reason string) {
	if w.Charter.Intent == "add" || p >= 0 && w.guess(p, a, planning.Participles[planning.Suspend]) {
		return
	}
	w.edit(planning.Suspend, p, a, planning.Edit{Attribute: "active", Old: w.active.Cell(a), New: "false", Reason: reason})
}

// accounts looks at what has no person: orphans, and accounts whose bonded
// person has vanished.
func (w *walker) accounts() {
	res := w.out.Pairing
	next := map[string]Absence{}
	leave := reasons(w.Memory.LeftPeople, w.today)
	left := cmp.Or(w.leftAndGone(leave), w.noKeys)
	for _, row := range w.Accounts.Order() {
		a := int(row)
		if res.AccountState[a] != pairing.Orphan {
			continue
		}
		person, bonded := res.Vanished[a]
		_, unclear := w.unclearAt[a]
		switch {
		case bonded && unclear:
			if seen, known := w.Memory.Absent[person]; known {
				next[person] = seen
			}
			continue
		case bonded:
			w.vanished(a, person, leave, next)
			continue
		case unclear:
			continue
		}
		suspended := w.shut(a)
		detail := "nobody among the people owns it"
		if w.noAbsent != "" {
			detail = "nobody who could be read owns it: " + w.noAbsent
		}
		if suspended {
			detail += "; it is suspended already"
		}
		w.note("orphan-account", -1, a, "", "%s", detail)
		switch {
		case w.Charter.Orphans != "suspend" || suspended:
		case left != "":
			w.withhold(planning.Suspend, -1, a, left)
		default:
			w.absentSuspend(a, "orphans: suspend (charter)")
		}
	}
	w.out.Memory.Absent = next
}

func (w *walker) absentSuspend(a int, reason string) {
	if w.noAbsent != "" {
		w.withhold(planning.Suspend, -1, a, w.noAbsent)
		return
	}
	w.suspend(-1, a, reason)
}

// leftAndGone names somebody who is left alone, is not in the list any more, and
// whose account is not known: it may be any that nobody owns.
func (r *run) leftAndGone(leave map[string]string) string {
	for _, id := range slices.Sorted(maps.Keys(leave)) {
		if _, here := r.People.Find(id); !here && r.bondedTo[id] == "" {
			return fmt.Sprintf("person %q is left alone and not in the list any more: the account may be theirs", id)
		}
	}
	return ""
}

func (w *walker) vanished(a int, person string, leave map[string]string, next map[string]Absence) {
	seen, known := w.Memory.Absent[person]
	if !known {
		seen.Since = w.today
	}
	shrunk := slices.ContainsFunc(w.out.Guards, func(g planning.Reading) bool { return g.Verb == "roster-drop" && g.Of == "people" })
	if w.noAbsent == "" && !shrunk && (!known || seen.Last != w.Reading) {
		seen.Readings++
		seen.Last = w.Reading
	}
	next[person] = seen
	if why, left := leave[person]; left {
		if w.shut(a) {
			return
		}
		w.note("orphan-account", -1, a, "", "its person %q vanished on %s, and is left alone: %s", person, seen.Since, why)
		w.withhold(planning.Suspend, -1, a, fmt.Sprintf("person %q is left alone: %s", person, why))
		return
	}
	days, _ := calendar.Between(seen.Since, w.today)
	g := gone{p: -1, a: a, person: person, since: seen.Since, absent: true, reason: "leaver: vanished since " + seen.Since}
	g.why = fmt.Sprintf("its person %q vanished on %s", person, seen.Since)
	if l := w.Charter.Leavers; l != nil {
		g.why += fmt.Sprintf(" (%d of %d readings, %d of %d days)", seen.Readings, l.Readings, days, l.Days)
		if seen.Readings >= l.Readings {
			g.ready = calendar.Add(seen.Since, l.Days)
		}
	}
	w.leaves(g)
}

// intentions remembers what is to come, in the order in which it does.
func (r *run) intentions(list []planning.Intention) {
	found := map[string]bool{}
	for _, i := range list {
		found[i.ID] = true
	}
	for _, i := range r.Memory.Intentions {
		// what receipts have made stands until it is over, and what a human has cancelled until its
		// reason is known to be gone
		if i.OfReceipts() && (i.Verb != planning.Keep || i.Due >= r.today) || !i.OfReceipts() && i.Cancelled != "" && !found[i.ID] && !r.hasEnded(i) {
			list = append(list, i)
		}
	}
	slices.SortFunc(list, func(a, b planning.Intention) int {
		return cmp.Or(strings.Compare(a.Due, b.Due), strings.Compare(a.Verb, b.Verb), strings.Compare(a.Account, b.Account))
	})
	r.out.Memory.Intentions = list
}

// hasEnded reports whether what an intention was meant for is known to be over: its account is
// gone or another's, or its person is here again. Where a record can't be read, is in doubt or
// left alone, nothing is known.
func (r *run) hasEnded(i planning.Intention) bool {
	p, here := r.People.Find(i.Person)
	if i.Verb == planning.Create {
		return here && r.out.Pairing.PersonState[p] == pairing.Twinned || !here && r.noAbsent == ""
	}
	a, there := r.Accounts.Find(i.Account)
	if !there {
		return r.Accounts.Doubt("accounts", func(int) bool { return true }) == ""
	}
	switch _, unclear := r.unclear[p]; {
	case r.out.Pairing.AccountState[a] == pairing.Orphan:
		return r.out.Pairing.Vanished[a] != i.Person
	case r.out.Pairing.AccountState[a] != pairing.Twinned:
		return false
	case r.personID(int(r.out.Pairing.AccountTwin[a])) != i.Person:
		return true
	case unclear:
		return false
	}
	_, unread := r.People.Present(p)
	_, unreadAccount := r.Accounts.Present(a)
	_, left := r.left(p)
	return !unread && !unreadAccount && (!left || r.inScope[p] && r.unclearAt[a] == "")
}
