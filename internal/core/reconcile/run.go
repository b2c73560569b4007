package reconcile

import (
	"cmp"
	"fmt"
	"maps"
	"strings"
	"sync"
	"time"

	"twinning/internal/core/charter"
	"twinning/internal/core/finding"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// run is one reconciliation on its way.
type run struct {
	Input
	out      *Output
	today    string
	bound    map[*charter.Expr]*charter.Bound
	unclear  map[int]string // person row -> why people.where can't be told
	inScope  []bool         // by person row
	served   int            // people in scope
	noCreate string         // why nobody may be created, "" when they may
	noAbsent string         // why nothing may rest on a person's absence
}

func newRun(in Input) *run {
	r := &run{Input: in, out: &Output{Withheld: map[string]int{}}, today: in.Now.In(in.Charter.Zone).Format(time.DateOnly), bound: map[*charter.Expr]*charter.Bound{}, unclear: map[int]string{}}
	r.out.Memory = in.Memory
	return r
}

// bind prepares an expression once; Bound values are safe for all goroutines.
func (r *run) bind(e *charter.Expr) *charter.Bound {
	if e == nil {
		return nil
	}
	b, ok := r.bound[e]
	if !ok {
		b = e.Bind(charter.Scope{People: r.People, Accounts: r.Accounts, Today: r.today})
		r.bound[e] = b
	}
	return b
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
	return strings.Clone(r.People.ID(p))
}

func (r *run) accountID(a int) string {
	if a < 0 {
		return ""
	}
	return strings.Clone(r.Accounts.ID(a))
}

// pairingInput is what pairing looks at.
func (r *run) pairingInput() pairing.Input {
	in := pairing.Input{
		People: r.People, Accounts: r.Accounts,
		Same: r.Memory.Same, Different: r.Memory.Different, Bonds: r.Memory.Bonds, Claims: r.Memory.Claims,
		LeftPeople: reasons(r.Memory.LeftPeople, r.today), LeftAccounts: reasons(r.Memory.LeftAccounts, r.today),
		Unclear: map[int]string{}, Parted: r.Memory.Parted, Cores: r.Cores,
	}
	if where := r.bind(r.Charter.Accounts); where != nil {
		in.Outside = make([]bool, r.Accounts.Len())
		for a := range in.Outside {
			if _, unread := r.Accounts.Unread(a); unread {
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
	in.Keys = r.evaluateKeys()
	if e := r.Charter.Evidence; e != nil {
		in.Evidence = &pairing.Evidence{Accept: e.Accept, Review: e.Review, Weights: cmp.Or(e.Weights, r.Memory.Weights)}
		in.Weighed = r.Memory.Weighed
	}
	return in
}

func (r *run) pair() {
	r.out.Pairing = pairing.Run(r.pairingInput())
	r.rememberWeighed()
	for _, i := range r.out.Pairing.Issues {
		r.report(i.Code, i.Person, i.Account, "", "%s", i.Detail)
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
		r.out.Notes = append(r.out.Notes, fmt.Sprintf("evidence: %d groups of records that resemble each other were too large to compare each with each (the largest holds %d); their members were compared where anything else brought them together", n, p.Dropped.Largest))
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
	for i, k := range r.Charter.Keys {
		person, account := r.bind(k.Person), r.bind(k.Account)
		keys[i].Name, keys[i].Attributes = k.Name, k.Attributes()
		jobs = append(jobs,
			func() { keys[i].People = keyColumn(k.Kind, person, r.People, true) },
			func() { keys[i].Accounts = keyColumn(k.Kind, account, r.Accounts, false) })
	}
	inParallel(r.Cores, len(jobs), func(i int) { jobs[i]() })
	return keys
}

func keyColumn(kind record.Kind, e *charter.Bound, roster *record.Roster, person bool) *record.Column {
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

// inParallel runs n jobs on so many goroutines.
func inParallel(cores, n int, job func(i int)) {
	next := make(chan int)
	var wg sync.WaitGroup
	for range min(cores, n) {
		wg.Go(func() {
			for i := range next {
				job(i)
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	wg.Wait()
}

// scope applies people.where and tells inactive people from missing ones.
func (r *run) scope() {
	p := r.out.Pairing
	r.inScope = make([]bool, r.People.Len())
	where := r.bind(r.Charter.People)
	for i := range r.inScope {
		if _, unread := r.People.Unread(i); unread {
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
		}
	}
	for i := range p.PersonState {
		r.out.Balance.People.add(p.PersonState[i])
	}
	for i := range p.AccountState {
		r.out.Balance.Accounts.add(p.AccountState[i])
	}
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
	r.out.Guards = append(r.out.Guards, planning.Reading{Verb: "roster-drop", Count: before - now, Allowed: allowed, Denominator: before, Of: side, Tripped: true, Message: f.Detail})
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
		if roster.Len() < fewRecords || before == 0 || (before-now)/before <= r.Charter.Coverage {
			r.out.Memory.Filled[key] = now
			continue
		}
		f := r.find("coverage-drop", -1, -1, key, "%s is filled on %.0f %% of %s, where it was %.0f %%", name, 100*now, side, 100*before)
		r.out.Findings = append(r.out.Findings, f)
		if f.Accepted {
			r.out.Memory.Filled[key] = now
			continue
		}
		r.out.Guards = append(r.out.Guards, planning.Reading{Verb: "coverage-drop", Count: int(100 * (before - now)), Allowed: int(100 * before * r.Charter.Coverage), Denominator: int(100 * before), Of: "percent of " + key, Tripped: true, Message: f.Detail})
	}
}

// rejections reports every unreadable record and what must wait for it.
func (r *run) rejections(side string, roster *record.Roster) {
	states := r.out.Pairing.PersonState
	if side == "accounts" {
		states = r.out.Pairing.AccountState
	}
	loose := 0 // unreadable records that no bond or key ties to anybody
	for i := range roster.Len() {
		if _, unread := roster.Unread(i); !unread {
			continue
		}
		if states[i] == pairing.Contested {
			loose++
		}
	}
	faceless := roster.Faceless()
	if faceless > 0 || loose > 0 && side == "accounts" {
		r.noCreate = fmt.Sprintf("%d %s could not be read", faceless+loose, side)
	}
	if faceless > 0 || loose > 0 && side == "people" {
		r.noAbsent = fmt.Sprintf("%d %s could not be read", faceless+loose, side)
	}
	for _, rej := range roster.Rejected {
		where := ""
		if rej.Line > 0 {
			where = fmt.Sprintf("line %d", rej.Line)
		}
		if rej.Column != "" {
			where += ", column " + rej.Column
		}
		detail := strings.TrimPrefix(where+": "+rej.Reason, ": ")
		if rej.ID == "" {
			detail += " (no id either, so nobody is created and nothing rests on an absence)"
		}
		person, account := rej.ID, ""
		if side == "accounts" {
			person, account = "", rej.ID
		}
		f := finding.New("row-rejected", person, account, fmt.Sprintf("%s line %d", side, rej.Line), side+" "+detail)
		f.Accepted = r.Memory.accepts(f.ID, r.today)
		r.out.Findings = append(r.out.Findings, f)
	}
}
