package reconcile

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

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
	out         *Output
	today       string
	bound       map[*charter.Expr]*charter.Bound
	unclear     map[int]string    // person row -> why it can't be told whether they are served, or here
	unclearAt   map[int]string    // account row -> why it can't be told whether it is in use
	openKeys    [2]map[int]string // person and account rows -> why a key of theirs can't be told
	inScope     []bool            // by person row
	served      int               // people in scope
	noCreate    string            // why nobody may be created, "" when they may
	noKeys      string            // why nobody can be called unrecognised by the keys
	noAbsent    string            // why nothing may be concluded from a person's absence
	noLetters   string            // why nobody can say of an address that nobody else among the people has it
	noNames     string            // why no name may be called free
	keys        []pairing.Key
	bondOf      map[string]string // account -> bonded person
	bondedTo    map[string]string // person -> bonded account
	findMarks   sync.Once
	marks       map[string]record.Row // which account carries which mark, normalised; see marked
	intended    map[string]planning.Intention
	holders     map[string]*holders // address -> whose it is; see whoseAddress
	findHolders sync.Once
	keeps       map[string][]planning.Intention // account -> what is left as it is
	desires     *desirer                        // see desirer
	asked       []doubt                         // twins and orphans that turned out to need a human first
}

// doubt is a pair that a human must judge before what was wanted of it is done.
type doubt struct {
	p, a      int
	code, why string
}

func newRun(in Input) *run {
	r := &run{Input: in, out: &Output{}, bondOf: map[string]string{}, bondedTo: map[string]string{}, today: calendar.Day(in.Now, in.Charter.Zone), bound: map[*charter.Expr]*charter.Bound{}, unclear: map[int]string{}, unclearAt: map[int]string{}, intended: map[string]planning.Intention{}}
	r.out.Memory = in.Memory
	r.out.Memory.Suspended = r.stillShut()
	for _, i := range in.Memory.Intentions {
		r.intended[i.ID] = i
	}
	r.keeps = keepsOf(in.Memory.Intentions, r.today)
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
		Ended: r.ended,
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
	r.elsewhere()
	r.rememberWeighed()
	for _, i := range r.out.Pairing.Issues {
		r.report(i.Code, i.Person, i.Account, i.Subject, "%s", i.Detail)
	}
}

// elsewhere leaves accounts that nobody owns here to other lanes of the downstream, where they
// may be those of their people.
func (r *run) elsewhere() {
	p := r.out.Pairing
	if len(r.Memory.Elsewhere)+len(r.Memory.Twinned) == 0 {
		return
	}
	for _, row := range r.Accounts.Order() {
		a := int(row)
		id := r.accountID(a)
		lanes, others := lanesOf(r.Memory.Twinned[id], r.twinOf(a))
		why := r.Memory.Elsewhere[id]
		if lanes != "" {
			why = "twinned in lane " + lanes
		}
		if why == "" || p.Vanished[a] != "" {
			continue
		}
		switch q := int(p.AccountTwin[a]); {
		case p.AccountState[a] == pairing.Orphan, p.AccountState[a] == pairing.Duplicate && lanes != "":
			p.AccountState[a], p.AccountNote[a], p.AccountTwin[a] = pairing.Exempt, why, -1
		case p.AccountState[a] == pairing.Twinned && others && p.Basis[q] != pairing.Ruled && p.Basis[q] != pairing.Bonded:
			why = fmt.Sprintf("it would be theirs here, and is %s: rule different in the lane that it is not of", why)
			p.Contest("claimed-twice", q, a, why)
			r.report("claimed-twice", q, a, "", "%s", why)
		case p.AccountState[a] == pairing.Twinned && p.Basis[q] != pairing.Ruled && p.Basis[q] != pairing.Bonded:
			// it stays their twin: two lanes that contest what the other contests would never end
			if lane := contestedBy(r.Memory.Twinned[id]); lane != "" {
				r.unclearAt[a] = "contested in lane " + lane
				r.report("claimed-twice", q, a, "", "the account is theirs here, and is contested in lane %s: nothing is changed before that is ruled there, or same is ruled here", lane)
			}
		}
	}
}

// contestedBy names a lane that contests an account, "" where none does.
func contestedBy(owners []Owner) string {
	for _, o := range owners {
		if o.Contested {
			return o.Lane
		}
	}
	return ""
}

// twinOf is the id of an account's twin, "" without one.
func (r *run) twinOf(a int) string {
	if p := r.out.Pairing.AccountTwin[a]; p >= 0 && r.out.Pairing.AccountState[a] == pairing.Twinned {
		return r.personID(int(p))
	}
	return ""
}

// lanesOf names the lanes that twin an account, and says whether one of them does so with
// another human, or one who can't be told to be the same.
func lanesOf(owners []Owner, twin string) (lanes string, others bool) {
	var names []string
	for _, o := range owners {
		if o.Contested {
			continue
		}
		names = append(names, o.Lane)
		others = others || o.Person == "" || o.Person != twin
	}
	return strings.Join(names, " and "), others
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
	r.undecidedKeys()
	for _, k := range keys {
		if note := lostZeros(k, r.People.Len(), r.Accounts.Len()); note != "" {
			r.out.Notes = append(r.out.Notes, note)
		}
	}
	return keys
}

// undecidedKeys notes what can't be known by the keys: of whom a computed one reads several
// values where it wants one, and of everybody where an attribute is not read.
func (r *run) undecidedKeys() {
	var unread []string
	for side, roster := range []*record.Roster{r.People, r.Accounts} {
		computed := map[string]string{} // attribute -> a key that computes something of it
		for _, k := range r.Charter.Keys {
			e := []*charter.Expr{k.Person, k.Account}[side]
			person, account := e.Reads()
			for _, name := range slices.Concat(person, account) {
				if roster.Column(name) == nil {
					unread = append(unread, fmt.Sprintf("key %s can't be told, since %s is not read of the %s", k.Name, name, []string{"people", "accounts"}[side]))
				} else if e.Attribute() == "" {
					computed[name] = k.Name
				}
			}
		}
		r.openKeys[side] = map[int]string{}
		roster.EachSeveral(func(row int, attribute string, _ []string) {
			if key := computed[attribute]; key != "" {
				r.openKeys[side][row] = fmt.Sprintf("key %s can't be told: %s has several values", key, attribute)
			}
		})
	}
	r.noKeys = strings.Join(unread, "; ")
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
	plain, column := e.Expr.Attribute(), roster.Column(e.Expr.Attribute())
	return record.NewColumn(roster.Len(), func(i int, dst []byte) []byte {
		cell := column.Cell(i)
		switch {
		case plain != "" && len(roster.Several(i, plain)) > 0: // each of them may be who it is
			cell = record.JoinList(roster.All(i, plain))
		case plain == "":
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
	r.unsureWhetherHere()
	for i := range r.inScope {
		if _, unknown := r.People.Present(i); unknown {
			continue
		}
		holds, known := true, true
		if where != nil {
			v := where.Eval(i, -1)
			if holds, known = v.True(); !known {
				r.unclear[i] = "people.where can't be told: " + unclearReason(v)
				if !r.isUnread(v, r.People) {
					r.report("value-invalid", i, -1, "where", "people.where can't be told for this person: %s", unclearReason(v))
				}
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
		case r.unclear[i] != "":
			p.PersonState[i], p.PersonNote[i] = pairing.Contested, r.unclear[i]
		case holds && r.openKeys[0][i] != "":
			p.PersonState[i], p.PersonNote[i] = pairing.Contested, r.openKeys[0][i]
		case !holds:
			p.PersonState[i], p.PersonNote[i] = pairing.Exempt, "outside people.where"
		case left:
			p.PersonState[i], p.PersonNote[i] = pairing.Exempt, reason+", and without account"
		case starts.Cell(i) > r.today:
			p.PersonState[i], p.PersonNote[i] = pairing.Exempt, "starts on "+strings.Clone(starts.Cell(i))
		}
	}
}

// unsureWhetherHere notes whose records say in several ways whether they are here, and which
// accounts say so whether they can be used.
func (r *run) unsureWhetherHere() {
	r.People.EachSeveral(func(row int, attribute string, others []string) {
		if slices.Contains(whetherHere, attribute) {
			r.unclear[row] = attribute + " has several values"
			r.report("several-values", row, -1, attribute, "%s is %q, and also %s: whether the person is here can't be told", attribute, r.People.Column(attribute).Cell(row), quoted(others))
		}
	})
	r.Accounts.EachSeveral(func(row int, attribute string, others []string) {
		if attribute == "active" {
			r.unclearAt[row] = "active has several values"
			r.report("several-values", -1, row, attribute, "active is %q, and also %s: whether the account can be used can't be told", r.Accounts.Column(attribute).Cell(row), quoted(others))
		}
	})
	p := r.out.Pairing
	for row, why := range r.openKeys[1] {
		if p.AccountState[row] == pairing.Orphan {
			p.AccountState[row], p.AccountNote[row] = pairing.Contested, why
		}
	}
}

// isUnread reports whether a value is undecided since no record of the roster carries the
// attribute: that is told once, and not record by record.
func (r *run) isUnread(v charter.Value, of *record.Roster) bool {
	_, name, _ := strings.Cut(v.Undecided(), ".")
	return name != "" && of.Column(name) == nil
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

// whetherHere are the attributes that say whether a person is here.
var whetherHere = []string{"active", "startsOn", "endsOn"}

// ended is what the person's own record says of whether they have left.
func (r *run) ended(p int) pairing.Ending {
	for _, attribute := range whetherHere {
		if len(r.People.Several(p, attribute)) > 0 {
			return pairing.MayHaveEnded
		}
	}
	if _, left := r.left(p); left {
		return pairing.HasEnded
	}
	return pairing.Here
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
