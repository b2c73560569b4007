package reconcile

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/finding"
	"twinning/internal/core/pairing"
	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"

	"twinning/internal/core/parallel"
)

// run is one reconciliation on its way.
type run struct {
	Input
	out       *Output
	today     string
	bound     map[*charter.Expr]*charter.Bound
	unclear   map[int]string // person row -> why people.where can't be told
	inScope   []bool         // by person row
	served    int            // people in scope
	noCreate  string         // why nobody may be created, "" when they may
	noAbsent  string         // why nothing may be concluded from a person's absence
	noNames   string         // why no name may be called free
	keys      []pairing.Key
	bondOf    map[string]string // account -> bonded person
	bondedTo  map[string]string // person -> bonded account
	findMarks sync.Once
	marks     map[string]record.Row // which account carries which mark, normalised; see marked
	intended  map[string]planning.Intention
	desires   *desirer // see desirer
	asked     []doubt  // twins and orphans that turned out to need a human first
}

// doubt is a pair that a human must judge before what was wanted of it is done.
type doubt struct {
	p, a      int
	code, why string
}

func newRun(in Input) *run {
	r := &run{Input: in, out: &Output{}, bondOf: map[string]string{}, bondedTo: map[string]string{}, today: calendar.Day(in.Now, in.Charter.Zone), bound: map[*charter.Expr]*charter.Bound{}, unclear: map[int]string{}, intended: map[string]planning.Intention{}}
	r.out.Memory = in.Memory
	r.out.Memory.Suspended = r.stillShut()
	for _, i := range in.Memory.Intentions {
		r.intended[i.ID] = i
	}
	for _, b := range in.Memory.Bonds {
		r.bondOf[b.Account], r.bondedTo[b.Person] = b.Person, b.Account
	}
	return r
}

// stillShut tells of each account that we suspended whether it still is: one that
// somebody opened since is ours no more, should it be shut again.
func (r *run) stillShut() map[string]bool {
	if len(r.Memory.Suspended) == 0 {
		return r.Memory.Suspended
	}
	shut := make(map[string]bool, len(r.Memory.Suspended))
	for id, ours := range r.Memory.Suspended {
		a, there := r.Accounts.Find(id)
		shut[id] = ours && (!there || r.Accounts.Column("active").Cell(a) == "false")
	}
	return shut
}

// bind prepares an expression once; Bound values are safe for all goroutines.
func (r *run) bind(e *charter.Expr) *charter.Bound {
	if e == nil {
		return nil
	}
	b, ok := r.bound[e]
	if !ok {
		b = e.Bind(charter.Scope{People: r.People, Accounts: r.Accounts, Today: r.today, AccountOf: r.accountRow, Lanes: r.Lanes})
		r.bound[e] = b
	}
	return b
}

// accountRow is the account of a person, by their id; -1 when they have none.
func (r *run) accountRow(person string) int {
	row, there := r.People.Find(person)
	if !there || r.out.Pairing == nil || r.out.Pairing.PersonState[row] != pairing.Twinned {
		return -1
	}
	return int(r.out.Pairing.PersonTwin[row])
}

func (r *run) find(code string, person, account int, subject, format string, args ...any) finding.Finding {
	f := finding.New(code, r.personID(person), r.accountID(account), subject, fmt.Sprintf(format, args...))
	f.Accepted = r.Memory.accepts(f.ID, r.today)
	return f
}

func (r *run) report(code string, person, account int, subject, format string, args ...any) {
	r.out.Findings = append(r.out.Findings, r.find(code, person, account, subject, format, args...))
}

func (r *run) personID(p int) string {
	if p < 0 {
		return ""
	}
	return r.People.ID(p)
}

func (r *run) accountID(a int) string {
	if a < 0 {
		return ""
	}
	return r.Accounts.ID(a)
}

// pairingInput is what pairing looks at.
func (r *run) pairingInput() pairing.Input {
	in := pairing.Input{
		People: r.People, Accounts: r.Accounts,
		Same: r.Memory.Same, Different: r.Memory.Different, Bonds: r.Memory.Bonds, Claims: r.Memory.Claims,
		LeftPeople: reasons(r.Memory.LeftPeople, r.today), LeftAccounts: reasons(r.Memory.LeftAccounts, r.today),
		Unclear: map[int]string{}, Parted: r.Memory.Parted, Cores: r.Cores, Tell: r.Tell,
	}
	if where := r.bind(r.Charter.Accounts); where != nil {
		in.Outside = make([]bool, r.Accounts.Len())
		for a := range in.Outside {
			if _, unknown := r.Accounts.Present(a); unknown {
				continue
			}
			v := where.Eval(-1, a)
			holds, known := v.True()
			in.Outside[a] = known && !holds
			if !known {
				in.Unclear[a] = unclearReason(v)
			}
		}
	}
	r.keys = r.evaluateKeys()
	in.Keys = r.keys
	if e := r.Charter.Evidence; e != nil {
		in.Evidence = &pairing.Evidence{Accept: e.Accept, Review: e.Review, Weights: cmp.Or(e.Weights, r.Memory.Weights), Declared: e.Declared}
		in.Weighed = r.Memory.Weighed
	} else {
		in.Evidence = &pairing.Evidence{Review: charter.DefaultReview, Weights: evidence.Priors(), Asks: true}
	}
	return in
}

func (r *run) pair() {
	r.out.Pairing = pairing.Run(r.pairingInput())
	r.rememberWeighed()
	for _, i := range r.out.Pairing.Issues {
		r.report(i.Code, i.Person, i.Account, i.Subject, "%s", i.Detail)
	}
}

// rememberWeighed keeps who is joined by evidence alone, and by which weights.
func (r *run) rememberWeighed() {
	p, next := r.out.Pairing, &r.out.Memory
	next.Weighed = nil
	if p.Weights == nil {
		return
	}
	next.Weights = p.Weights
	for _, row := range r.People.Order() {
		if p.Basis[row] == pairing.Weighed && p.PersonState[row] == pairing.Twinned {
			next.Weighed = append(next.Weighed, pairing.Pair{Person: r.personID(int(row)), Account: r.accountID(int(p.PersonTwin[row]))})
		}
	}
	if n := p.Dropped.Groups; n > 0 {
		r.out.Notes = append(r.out.Notes, fmt.Sprintf("evidence: %d groups of records that resemble each other were too large to compare each with each (the largest holds %d); their members were compared where something else brought them together: where and as what they work, a first day, a telephone", n, p.Dropped.Largest))
	}
}

func unclearReason(v charter.Value) string {
	if why := v.Fault(); why != "" {
		return why
	}
	return "it gives neither true nor false"
}

func (r *run) evaluateKeys() []pairing.Key {
	keys := make([]pairing.Key, len(r.Charter.Keys))
	var jobs []func()
	inherited := r.inherited()
	for i, k := range r.Charter.Keys {
		person, account := r.bind(k.Person), r.bind(k.Account)
		keys[i].Name, keys[i].Attributes, keys[i].Exact = k.Name, k.Attributes(), k.Kind == record.Exact
		jobs = append(jobs,
			func() { keys[i].People = keyColumn(k.Kind, person, r.People, true, nil) },
			func() { keys[i].Accounts = keyColumn(k.Kind, account, r.Accounts, false, inherited) })
	}
	parallel.Each(r.Cores, len(jobs), func(i int) { jobs[i]() })
	for _, k := range keys {
		if note := lostZeros(k, r.People.Len(), r.Accounts.Len()); note != "" {
			r.out.Notes = append(r.out.Notes, note)
		}
	}
	return keys
}

// inherited are the addresses that were handed over to accounts, normalised, by row.
func (r *run) inherited() map[int]map[string]bool {
	rows := map[int]map[string]bool{}
	for account, addresses := range r.Memory.Inherited {
		a, there := r.Accounts.Find(account)
		if !there {
			continue
		}
		rows[a] = map[string]bool{}
		for _, v := range addresses {
			rows[a][record.Normal(record.Email, v)] = true
		}
	}
	return rows
}

// keyColumn computes the values of a key, but for those that are left out of a row.
func keyColumn(kind record.Kind, e *charter.Bound, roster *record.Roster, person bool, without map[int]map[string]bool) *record.Column {
	var plain *record.Column
	if name := e.Expr.Attribute(); name != "" {
		plain = roster.Column(name)
	}
	return record.NewColumn(roster.Len(), func(i int, dst []byte) []byte {
		cell := plain.Cell(i)
		if e.Expr.Attribute() == "" {
			if person {
				cell = e.Eval(i, -1).Cell()
			} else {
				cell = e.Eval(-1, i).Cell()
			}
		}
		if not := without[i]; not != nil {
			cell = record.JoinList(slices.DeleteFunc(record.SplitList(cell), func(v string) bool { return not[record.Normal(record.Email, v)] }))
		}
		for more := cell != ""; more; {
			var v string
			v, cell, more = strings.Cut(cell, string(record.ListSep))
			dst = record.AppendNormal(dst, kind, v)
			if more {
				dst = append(dst, record.ListSep)
			}
		}
		return dst
	})
}

// scope applies people.where and tells inactive people from missing ones.
func (r *run) scope() {
	p := r.out.Pairing
	r.inScope = make([]bool, r.People.Len())
	where, starts := r.bind(r.Charter.People), r.People.Column("startsOn")
	for i := range r.inScope {
		if _, unknown := r.People.Present(i); unknown {
			continue
		}
		holds, known := true, true
		if where != nil {
			v := where.Eval(i, -1)
			if holds, known = v.True(); !known {
				r.unclear[i] = unclearReason(v)
				r.report("value-invalid", i, -1, "where", "people.where can't be told for this person: %s", r.unclear[i])
			}
		}
		r.inScope[i] = holds && known
		if r.inScope[i] {
			r.served++
		}
		if p.PersonState[i] != pairing.Missing {
			continue
		}
		switch reason, left := r.left(i); {
		case !known:
			p.PersonState[i], p.PersonNote[i] = pairing.Contested, "people.where can't be told: "+r.unclear[i]
		case !holds:
			p.PersonState[i], p.PersonNote[i] = pairing.Exempt, "outside people.where"
		case left:
			p.PersonState[i], p.PersonNote[i] = pairing.Exempt, reason+", and without account"
		case starts.Cell(i) > r.today:
			p.PersonState[i], p.PersonNote[i] = pairing.Exempt, "starts on "+strings.Clone(starts.Cell(i))
		}
	}
}

// count fills the balance, once nobody's state changes any more.
func (r *run) count() {
	for _, state := range r.out.Pairing.PersonState {
		r.out.Balance.People.add(state)
	}
	for _, state := range r.out.Pairing.AccountState {
		r.out.Balance.Accounts.add(state)
	}
}

// twins counts those there are at this moment.
func (r *run) twins() (n int) {
	for _, state := range r.out.Pairing.PersonState {
		if state == pairing.Twinned {
			n++
		}
	}
	return n
}

// left reports whether the person has left, by their own record: an end date
// counts from the day after.
func (r *run) left(p int) (reason string, left bool) {
	if r.People.Column("active").Cell(p) == "false" {
		return "inactive", true
	}
	if end := r.People.Column("endsOn").Cell(p); end != "" && end < r.today {
		return "past the end date " + end, true
	}
	return "", false
}

// checkRosters compares both rosters with the last ones, and says what may not
// be concluded from them.
func (r *run) checkRosters() {
	next := &r.out.Memory
	next.Counts, next.Filled = maps.Clone(r.Memory.Counts), maps.Clone(r.Memory.Filled)
	if next.Counts == nil {
		next.Counts, next.Filled = map[string]int{}, map[string]float64{}
		r.out.Notes = append(r.out.Notes, "no former roster is known: a shrunken roster or an emptied column can't be told")
	}
	for _, side := range []string{"people", "accounts"} {
		roster := map[string]*record.Roster{"people": r.People, "accounts": r.Accounts}[side]
		r.checkShrunk(side, roster)
		r.checkCoverage(side, roster)
		r.rejections(side, roster)
	}
	r.askGaps()
	r.ages()
}

// soon is for how many days before it runs out a secret is told.
const soon = 30

// ages tells of what is old, and of what will not work for long.
func (r *run) ages() {
	for _, side := range []string{"people", "accounts"} {
		at, known := r.Taken[side]
		if !known {
			continue
		}
		day := calendar.Day(at, r.Charter.Zone)
		if days, ok := calendar.Between(day, r.today); ok && days > r.Charter.Age {
			r.report("roster-old", -1, -1, side, "the roster of the %s is of %s, %d days ago; %d are allowed", side, day, days, r.Charter.Age)
		}
	}
	for _, system := range slices.Sorted(maps.Keys(r.Secrets)) {
		switch until := r.Secrets[system]; {
		case until < r.today:
			r.report("secret-expiring", -1, -1, system, "the secret of %s ran out on %s", system, until)
		case until <= calendar.Add(r.today, soon):
			r.report("secret-expiring", -1, -1, system, "the secret of %s runs out on %s", system, until)
		}
	}
}

// askGaps asks what the rosters do not know, once, for all that is concluded from
// an absence.
func (r *run) askGaps() {
	twinnedPerson := func(row int) bool { return r.out.Pairing.PersonState[row] == pairing.Twinned }
	twinnedAccount := func(row int) bool { return r.out.Pairing.AccountState[row] == pairing.Twinned }
	named := func(row int) bool {
		rej, unread := r.Accounts.Unread(row)
		return unread && rej.Named
	}
	always := func(int) bool { return true }
	// what may be anybody on one side may be what decides about the other: the
	// twin of an orphan, or who tells a newcomer from somebody listed twice
	r.noAbsent = cmp.Or(r.People.Doubt("people", twinnedPerson), r.Accounts.Doubt("accounts", always))
	r.noCreate = cmp.Or(r.Accounts.Doubt("accounts", twinnedAccount), r.People.Doubt("people", always), r.unseenDeletions())
	r.noNames = cmp.Or(r.unreadNames(), r.Accounts.Doubt("accounts", named), r.sharedDoubt())
}

// sharedDoubt says why names of the systems that share theirs are not all known.
func (r *run) sharedDoubt() string {
	for _, x := range r.Shared {
		named := func(row int) bool {
			rej, unread := x.Accounts.Unread(row)
			return unread && rej.Named
		}
		if why := x.Accounts.Doubt("accounts", named); why != "" {
			return fmt.Sprintf("%s shares its names, and %s there", x.System, why)
		}
	}
	return r.Unshared
}

// presumed is how long somebody is taken to be still there whose deletion the
// system would not show.
const presumed = 24 * time.Hour

func (r *run) unseenDeletions() string {
	since, err := time.Parse(time.RFC3339, r.People.DeletionsUnseen())
	if err != nil || r.Now.Sub(since) <= presumed {
		return ""
	}
	return fmt.Sprintf("people who were deleted since %s can't be seen in a reading of changes; take a whole roster", since.In(r.Charter.Zone).Format(time.DateTime))
}

func (r *run) checkShrunk(side string, roster *record.Roster) {
	before, now := r.Memory.Counts[side], roster.Len()
	allowed := int(r.Charter.Drop * float64(before))
	if before-now <= allowed {
		r.out.Memory.Counts[side] = now
		return
	}
	f := r.find("roster-shrunk", -1, -1, side, "%d %s where there were %d: %d fewer, %d allowed", now, side, before, before-now, allowed)
	r.out.Findings = append(r.out.Findings, f)
	if f.Accepted {
		r.out.Memory.Counts[side] = now
		return
	}
	r.out.Guards = append(r.out.Guards, planning.Reading{Verb: "roster-drop", Count: before - now, Allowed: allowed, Denominator: before, Of: side, Tripped: true, Message: f.Detail + "; " + r.wholeOrAccept(f)})
}

// wholeOrAccept is what can be done about a list that looks cut short.
func (r *run) wholeOrAccept(f finding.Finding) string {
	return fmt.Sprintf("take the list again when it is whole, or, if it is: twinning finding accept %s %s", r.Charter.Lane, f.ID)
}

// fewRecords is the size below which a share of blank cells says nothing.
const fewRecords = 10

func (r *run) checkCoverage(side string, roster *record.Roster) {
	people, accounts := r.Charter.Needs()
	wanted := map[string][]string{"people": people, "accounts": accounts}[side]
	for _, name := range wanted {
		column := roster.Column(name)
		key := side + "." + name
		before, known := r.Memory.Filled[key]
		if column == nil && !known || name == "emails" {
			continue
		}
		filled := 0
		for i := range roster.Len() {
			if column.Cell(i) != "" {
				filled++
			}
		}
		now := float64(filled) / float64(max(roster.Len(), 1))
		// those who carried it before and are still here: who came since empties no
		// cell, and who left is another guard's to count
		formerly, gone := r.Memory.Counts[side], max(0, r.Memory.Counts[side]-roster.Len())
		carried := math.Round(before * float64(formerly))
		emptied := (carried - float64(filled) - float64(gone)) / max(carried, 1)
		if roster.Len() < fewRecords || before == 0 || emptied <= r.Charter.Coverage {
			r.out.Memory.Filled[key] = now
			continue
		}
		f := r.find("coverage-drop", -1, -1, key, "%s is filled on %.0f %% of %s, where it was %.0f %%", name, 100*now, side, 100*before)
		r.out.Findings = append(r.out.Findings, f)
		if f.Accepted {
			r.out.Memory.Filled[key] = now
			continue
		}
		r.out.Guards = append(r.out.Guards, planning.Reading{Verb: "coverage-drop", Count: int(100 * emptied), Allowed: int(100 * r.Charter.Coverage), Denominator: 100, Of: "percent of " + key, Tripped: true, Message: f.Detail + "; " + r.wholeOrAccept(f)})
	}
}

// rejections reports every unreadable record, and what was left out and may hide
// somebody.
func (r *run) rejections(side string, roster *record.Roster) {
	for _, rej := range roster.Rejected {
		where := ""
		if rej.Line > 0 {
			where = fmt.Sprintf("line %d", rej.Line)
		}
		if rej.Column != "" {
			where += ", column " + rej.Column
		}
		detail := strings.TrimPrefix(where+": "+rej.Reason, ": ")
		switch {
		case rej.Swallows:
			detail += " (so nobody is created, no name is given out and nothing is concluded from an absence)"
		case rej.ID == "":
			detail += " (no id either, so nobody is created, no name is given out and nothing is concluded from an absence)"
		}
		person, account := rej.ID, ""
		if side == "accounts" {
			person, account = "", rej.ID
		}
		f := finding.New("row-rejected", person, account, fmt.Sprintf("%s line %d", side, rej.Line), side+" "+detail)
		f.Accepted = r.Memory.accepts(f.ID, r.today)
		r.out.Findings = append(r.out.Findings, f)
	}
	for _, b := range roster.Broken() {
		person, detail := "", fmt.Sprintf("%s: %s refers by %s, which no record carries", side, b.Attribute, b.Value)
		if b.Row >= 0 {
			person, detail = roster.ID(int(b.Row)), fmt.Sprintf("%s refers to %q, which is no record of the %s", b.Attribute, b.Value, side)
		}
		account := ""
		if side == "accounts" {
			person, account = "", person
		}
		f := finding.New("reference-broken", person, account, side+" "+b.Attribute, detail)
		f.Accepted = r.Memory.accepts(f.ID, r.today)
		r.out.Findings = append(r.out.Findings, f)
	}
	met := map[string]bool{}
	for _, g := range roster.Gaps() {
		if !g.Hides() || g.ID != "" || met[g.Reason] {
			continue
		}
		met[g.Reason] = true
		f := finding.New("not-shown", "", "", side+" "+g.Reason, side+": "+strings.TrimSpace(g.What+" "+g.Reason)+" (so nobody is created, no name is given out and nothing is concluded from an absence)")
		f.Accepted = r.Memory.accepts(f.ID, r.today)
		r.out.Findings = append(r.out.Findings, f)
	}
}
