package reconcile

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/finding"
	"twinning/internal/core/naming"
	"twinning/internal/core/pairing"
	"twinning/internal/core/parallel"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// draft is a change on its way: names are asked for, not yet granted.
type draft struct {
	planning.Change
	p, a    int
	names   []naming.Request // for rename, readdress and create
	targets []string         // per name: userName or email
	reasons []string
	dropped bool
}

// piece is what one goroutine found out about its share of the people.
type piece struct {
	drafts   []*draft
	findings []finding.Finding
	withheld []planning.Withheld
	asked    []doubt
	inactive []inactive
}

// inactive is somebody whose record is inactive and names no day since when.
type inactive struct{ person, since string }

// rule is a charter rule tied to the rosters.
type rule struct {
	charter.AttributeRule
	values []*charter.Bound
	kind   record.Kind
	source *record.Column // set when the value is a plain attribute of the person
	target *record.Column
	reason string
	reads  []string // attributes of the person
	refers bool     // the value is the id of a person, and their account is meant
}

// desirer holds everything that the per-person walk needs, read-only. What it drafts shares
// the rosters' text: both last as long as the reconciliation.
type desirer struct {
	*run
	rules   []rule
	primary []*charter.Bound
	mark    *charter.Bound
	waves   []*charter.Bound
	emailOn bool   // an e-mail address matters in this lane
	emails  string // the reason of a change of address
}

func (r *run) desirer() *desirer {
	d := &desirer{run: r, mark: r.bind(r.Charter.Mark)}
	for _, c := range r.Charter.Rules {
		bound := rule{AttributeRule: c, kind: record.KindOf(c.Attribute), target: r.Accounts.Column(c.Attribute), reason: fmt.Sprintf("%s: %s (charter line %d)", c.Attribute, c.Rule, c.Line)}
		for _, e := range c.Candidates {
			bound.values = append(bound.values, r.bind(e))
		}
		for _, e := range c.Candidates {
			person, _ := e.Reads()
			bound.reads = append(bound.reads, person...)
		}
		bound.refers = c.Attribute == "manager"
		if name := c.Candidates[0].Attribute(); name != "" && len(c.Candidates) == 1 {
			if person, _ := c.Candidates[0].Reads(); len(person) > 0 {
				bound.source = r.People.Column(name)
			}
		}
		d.rules = append(d.rules, bound)
	}
	if r.Charter.Emails != nil {
		d.emailOn = true
		d.emails = fmt.Sprintf("emails: %s, former %s (charter line %d)", r.Charter.Emails.Rule, r.Charter.Emails.Former, r.Charter.Emails.Line)
		for _, e := range r.Charter.Emails.Primary {
			d.primary = append(d.primary, r.bind(e))
		}
	}
	for _, k := range r.Charter.Keys {
		d.emailOn = d.emailOn || k.Kind == record.Email
	}
	for _, w := range r.Charter.Waves {
		d.waves = append(d.waves, r.bind(w.When))
	}
	return d
}

// chunk is how many people one goroutine takes at a time.
const chunk = 8192

// desire computes what every account should be and drafts the changes.
func (r *run) desire() {
	d := r.desirer()
	order := r.People.Order()
	pieces := make([]piece, (len(order)+chunk-1)/chunk)
	parallel.Each(r.Cores, len(pieces), func(i int) {
		w := &walker{desirer: d, piece: &pieces[i]}
		for _, row := range order[i*chunk : min((i+1)*chunk, len(order))] {
			w.person(int(row))
		}
	})
	last := &walker{desirer: d, piece: &piece{}}
	last.accounts()
	pieces = append(pieces, *last.piece)
	n := 0
	for _, p := range pieces {
		n += len(p.drafts)
	}
	drafts := make([]*draft, 0, n)
	r.out.Memory.Inactive = map[string]string{}
	for _, p := range pieces {
		for _, x := range p.inactive {
			r.out.Memory.Inactive[x.person] = x.since
		}
		drafts = append(drafts, p.drafts...)
		r.out.Findings = append(r.out.Findings, p.findings...)
		r.out.Withheld = append(r.out.Withheld, p.withheld...)
		r.asked = append(r.asked, p.asked...)
	}
	r.nameAndPlan(drafts)
}

// walker visits people one by one; each goroutine has its own.
type walker struct {
	*desirer
	*piece
	left, right []byte // scratch for normalised values
}

func (w *walker) note(code string, p, a int, subject, format string, args ...any) {
	w.findings = append(w.findings, w.find(code, p, a, subject, format, args...))
}

func (w *walker) person(p int) {
	res := w.out.Pairing
	switch res.PersonState[p] {
	case pairing.Missing:
		w.missing(p)
	case pairing.Twinned:
		w.twin(p, int(res.PersonTwin[p]))
	}
}

func (w *walker) withhold(verb string, p, a int, reason string) {
	w.withheld = append(w.withheld, planning.Withheld{Verb: verb, Person: w.personID(p), Account: w.accountID(a), Reason: reason})
}

func (w *walker) frozen(p, a int) bool {
	_, noPerson := w.People.Present(p)
	_, noAccount := w.Accounts.Present(a)
	_, unclear := w.unclear[p]
	return noPerson || noAccount || unclear
}

// guess asks about a twin that evidence alone has made, before something is done
// that would hurt another human.
func (w *walker) guess(p, a int, what string) bool {
	if !w.out.Pairing.Guessed[p] {
		return false
	}
	w.asked = append(w.asked, doubt{p, a, "contested-match", "held to be one by evidence alone; rule same before the account is " + what})
	return true
}

func (w *walker) twin(p, a int) {
	if w.frozen(p, a) {
		if since, known := w.Memory.Inactive[w.personID(p)]; known { // it may be so still
			w.inactive = append(w.inactive, inactive{w.personID(p), since})
		}
		return
	}
	suspended := w.Accounts.Column("active").Cell(a) == "false"
	reason, left := w.run.left(p)
	switch {
	case !w.inScope[p]:
		switch {
		case suspended:
		case w.Charter.OutOf == "suspend":
			w.suspend(p, a, "out of scope: suspend (charter)")
		case left:
			w.note("leaver-active", p, a, "", "the person is %s and out of scope, the account can still sign in; the charter leaves who is out of scope as they are", reason)
		}
		return
	case left:
		since := w.leftOn(p)
		if !suspended {
			due, when := w.due(since)
			w.note("leaver-active", p, a, "", "the person is %s, the account can still sign in%s", reason, when)
			if due {
				w.suspend(p, a, fmt.Sprintf("leaver: %s (charter line %d)", reason, w.Charter.Leavers.Line))
			}
		}
		return
	}
	if w.emailOn && w.People.Column("email") != nil && w.People.Column("email").Cell(p) == "" {
		w.note("no-email", p, a, "", "the person has no e-mail address")
	}
	if suspended && !w.reinstated(p, a) {
		return
	}
	w.markTwin(p, a)
	w.setTwin(p, a)
	w.readdress(p, a)
}

func (w *walker) reinstated(p, a int) bool {
	if !w.Memory.Suspended[w.Accounts.ID(a)] {
		w.note("suspended-elsewhere", p, a, "", "the person is active, the account is suspended, and no receipt of ours did it")
		return false
	}
	if w.Charter.Intent != "add" {
		w.draft(planning.Reinstate, p, a, planning.Edit{Attribute: "active", Old: "false", New: "true", Reason: "the person is active again, and our own receipt suspended the account"})
	}
	return true
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

// due reports whether the stage that suspends has come for somebody who is gone
// since a day, and when it will.
func (w *walker) due(since string) (due bool, when string) {
	l := w.Charter.Leavers
	if l == nil || l.Suspend < 0 {
		return false, ""
	}
	if on := calendar.Add(since, l.Suspend); on > w.today {
		return false, "; it is suspended on " + on
	}
	return true, ""
}

func (w *walker) suspend(p, a int, reason string) {
	if w.Charter.Intent == "add" || p >= 0 && w.guess(p, a, "suspended") {
		return
	}
	w.draft(planning.Suspend, p, a, planning.Edit{Attribute: "active", Old: w.Accounts.Column("active").Cell(a), New: "false", Reason: reason})
}

func (w *walker) draft(verb string, p, a int, edits ...planning.Edit) *draft {
	d := &draft{p: p, a: a}
	d.Verb, d.Person, d.Account, d.Edits = verb, w.personID(p), w.accountID(a), edits
	d.ID = planning.ChangeID(verb, d.Person, d.Account)
	d.Wave = w.wave(p, a)
	if p >= 0 && a >= 0 {
		d.Basis = w.out.Pairing.Basis[p].String()
		if w.out.Pairing.Guessed[p] {
			d.Basis = pairing.Weighed.String()
		}
	}
	if p >= 0 && a >= 0 && w.out.Pairing.Basis[p] == pairing.Keyed {
		key := w.Charter.Keys[w.out.Pairing.By[p]]
		_, reads := key.Account.Reads()
		for _, name := range reads {
			if name != "emails" { // addresses are what readdress itself compares
				d.RestsOn = append(d.RestsOn, planning.Edit{Attribute: name, Old: w.Accounts.Column(name).Cell(a), Reason: "paired by " + key.Name})
			}
		}
	}
	w.drafts = append(w.drafts, d)
	return d
}

// wave is the first whose condition holds; -1 when none does, and then nothing
// is planned.
func (w *walker) wave(p, a int) int {
	for i, when := range w.waves {
		if when == nil {
			return i
		}
		if holds, known := when.Eval(p, a).True(); holds && known {
			return i
		}
	}
	return -1
}

func (w *walker) markValue(p int) string {
	if w.mark == nil {
		return w.personID(p)
	}
	return w.mark.Eval(p, -1).Cell()
}

func (w *walker) markTwin(p, a int) {
	if w.Input.Mark == "" || w.Charter.Intent == "add" {
		return
	}
	value, now := w.markValue(p), w.Accounts.Column(w.Input.Mark).Cell(a)
	switch {
	case value == "" || w.same(record.Text, value, now):
	case now != "":
		w.note("mark-foreign", p, a, "", "%s holds %q, ours would be %q; it is never overwritten", w.Input.Mark, now, value)
	case !w.markHeld(planning.Mark, p, a):
		w.draft(planning.Mark, p, a, planning.Edit{Attribute: w.Input.Mark, New: value, Reason: "mark: so that this twin is found again"})
	}
}

// marked finds the account that carries a mark, -1 when none does. Two accounts of
// one mark could not be told apart when an answer is lost.
func (r *run) marked(value string) int {
	if value == "" || r.Input.Mark == "" {
		return -1
	}
	r.findMarks.Do(func() {
		column := r.Accounts.Column(r.Input.Mark)
		r.marks = make(map[string]record.Row, r.Accounts.Len())
		for a := range r.Accounts.Len() {
			if cell := column.Cell(a); cell != "" {
				mark := record.Normal(record.Text, cell)
				if other, held := r.marks[mark]; !held || r.accountID(a) < r.accountID(int(other)) { // of two, always the same
					r.marks[mark] = record.Row(a)
				}
			}
		}
	})
	if a, ok := r.marks[record.Normal(record.Text, value)]; ok {
		return int(a)
	}
	return -1
}

// markHeld withholds what would give the person's mark to a second account: to
// their twin, or to a new one (-1), beside which the one that carries it is told.
func (w *walker) markHeld(verb string, p, twin int) bool {
	value := w.markValue(p)
	holder := w.marked(value)
	if holder < 0 {
		return false
	}
	if twin < 0 {
		twin = holder
	}
	why := fmt.Sprintf("account %q carries the mark %q already; take it off there if the account is another human's", w.accountID(holder), value)
	w.withhold(verb, p, twin, why)
	w.note("mark-foreign", p, holder, "", "%s", why)
	return true
}

// same compares two cells of a kind in normalised form.
func (w *walker) same(kind record.Kind, x, y string) bool {
	if x == y {
		return true
	}
	if kind.Multi() {
		return record.Same(kind, x, y)
	}
	w.left, w.right = record.AppendNormal(w.left[:0], kind, x), record.AppendNormal(w.right[:0], kind, y)
	return string(w.left) == string(w.right)
}

// value computes a rule's value for the pair and what kept it from being so.
func (w *walker) value(r *rule, p, a int) (cell, fault string) {
	if r.source != nil {
		cell = r.source.Cell(p)
	} else {
		v := r.values[0].Eval(p, a)
		cell, fault = strings.TrimSpace(v.Cell()), v.Fault()
	}
	if r.refers && cell != "" {
		return w.accountOf(r, p, a, cell)
	}
	return cell, fault
}

// accountOf turns the id of a person into that of their account: ids of one system
// mean nothing in another.
func (w *walker) accountOf(r *rule, p, a int, person string) (id, fault string) {
	row, there := w.People.Find(person)
	if there && w.out.Pairing.PersonState[row] == pairing.Twinned {
		return w.Accounts.ID(int(w.out.Pairing.PersonTwin[row])), ""
	}
	why := fmt.Sprintf("%s is person %q, who has no account here yet", r.Attribute, person)
	if !there {
		why = fmt.Sprintf("%s is %q, who is nobody among the people", r.Attribute, person)
	}
	if r.Rule != charter.Watch {
		w.note("reference-open", p, a, r.Attribute, "%s; it stays as it is", why)
	}
	return "", why
}

// several tells of values beside those that a rule would look at; what they are
// is not written.
func (w *walker) several(attribute string, reads []string, p, a int) bool {
	for _, name := range reads {
		if others := w.People.Several(p, name); len(others) > 0 {
			w.note("several-values", p, -1, name, "%s is %q, and also %s", name, w.People.Column(name).Cell(p), quoted(others))
			return true
		}
	}
	if a < 0 {
		return false
	}
	if others := w.Accounts.Several(a, attribute); len(others) > 0 {
		w.note("several-values", -1, a, attribute, "%s is %q, and also %s", attribute, w.Accounts.Column(attribute).Cell(a), quoted(others))
		return true
	}
	return false
}

func quoted(list []string) string {
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = fmt.Sprintf("%q", v)
	}
	return strings.Join(out, " and ")
}

func (w *walker) setTwin(p, a int) {
	var edits []planning.Edit
	for i := range w.rules {
		r := &w.rules[i]
		if r.target == nil {
			continue // what is not read is not known to differ; see unreadAttributes
		}
		if r.Attribute == "userName" {
			w.rename(r, p, a)
			continue
		}
		want, fault := w.value(r, p, a)
		now := r.target.Cell(a)
		if r.refers && fault != "" {
			continue
		}
		if r.kind.Multi() {
			want = w.list(r, a, want, now)
		}
		if want == now || w.same(r.kind, want, now) || !r.kind.Multi() && w.several(r.Attribute, r.reads, p, a) {
			continue
		}
		if want == "" && (!r.Clear || r.Rule != charter.Own) {
			if r.Required {
				w.note("required-missing", p, a, r.Attribute, "%s can't be computed for this person", r.Attribute)
			}
			continue
		}
		how := record.Damaged(want, now)
		switch {
		case r.Rule == charter.Watch:
			w.note("drift", p, a, r.Attribute, "%s is %q, should be %q (watched, never written)", r.Attribute, record.PlainList(now), record.PlainList(want))
		case r.Rule == charter.Once || r.Rule == charter.Fill && now != "":
		case w.Charter.Intent == "add":
		case how != "" && !r.kind.Multi():
			w.note("value-damaged", p, a, r.Attribute, "%s is %q, and %q looks like the same with something lost (%s); it is not written", r.Attribute, record.PlainList(now), record.PlainList(want), how)
		case w.kept(r.kind, p, a, r.Attribute, want, now):
			edits = append(edits, planning.Edit{Attribute: r.Attribute, Old: now, New: want, Reason: r.reason})
		}
	}
	if len(edits) > 0 {
		w.draft(planning.Set, p, a, edits...)
	}
}

// list is what an attribute with several values should hold: what it holds, and
// what the rule wants, without what the rule no longer wants and is ours.
func (w *walker) list(r *rule, a int, want, now string) string {
	if r.All || want == "" && !r.Clear {
		return want
	}
	wanted := map[string]bool{}
	record.EachValue(want, func(v string) { wanted[record.Normal(r.kind, v)] = true })
	var kept []string
	record.EachValue(now, func(v string) {
		n := record.Normal(r.kind, v)
		if wanted[n] || !w.added(r, a, v) {
			kept = append(kept, v)
		}
		delete(wanted, n)
	})
	record.EachValue(want, func(v string) {
		if n := record.Normal(r.kind, v); wanted[n] {
			kept = append(kept, v)
			delete(wanted, n)
		}
	})
	return record.JoinList(kept)
}

// added reports whether a value of a list is ours.
func (w *walker) added(r *rule, a int, value string) bool {
	if r.Ours != nil && r.Ours.MatchString(value) {
		return true
	}
	n := record.Normal(r.kind, value)
	return slices.ContainsFunc(w.Memory.Added[w.Accounts.ID(a)][r.Attribute], func(v string) bool { return record.Normal(r.kind, v) == n })
}

// MaxRounds is how often a value is written that the downstream alters.
const MaxRounds = 2

// kept reports whether writing the value again makes sense: after two rounds
// in which the downstream altered it we stop.
func (w *walker) kept(kind record.Kind, p, a int, attribute, want, now string) bool {
	sent, ok := w.Memory.Written[w.Accounts.ID(a)][attribute]
	if !ok || !w.same(kind, sent.Value, want) {
		return true
	}
	if sent.Rounds >= MaxRounds {
		w.note("not-kept", p, a, attribute, "%s was written %d times as %q, the downstream shows %q", attribute, sent.Rounds, record.PlainList(want), record.PlainList(now))
		return false
	}
	w.note("drift", p, a, attribute, "%s was written as %q and is now %q", attribute, record.PlainList(want), record.PlainList(now))
	return true
}

// candidates are the names that expressions give, without those that are kept for roles
// and not the account's already; what the authority gives as it stands is not looked at.
func (w *walker) candidates(bounds []*charter.Bound, p, a int, now string) (out []string, reserved string) {
	for _, b := range bounds {
		v := b.Eval(p, a)
		if v.Blank() {
			continue
		}
		name := strings.TrimSpace(v.Cell())
		if b.Expr.Attribute() == "" && w.Charter.Reserved(name) && naming.Fold(name) != naming.Fold(now) {
			reserved = name
			continue
		}
		out = append(out, name)
	}
	return out, reserved
}

func (w *walker) rename(r *rule, p, a int) {
	if r.Rule == charter.Once {
		return
	}
	now := r.target.Cell(a)
	want, _ := w.candidates(r.values, p, a, now)
	if len(want) == 0 || r.Rule == charter.Fill && now != "" || slices.ContainsFunc(want, func(c string) bool { return w.same(record.Text, c, now) }) {
		return
	}
	switch {
	case w.several("userName", r.reads, p, a):
	case r.Rule == charter.Watch:
		w.note("drift", p, a, "userName", "userName is %q, should be %q (watched, never written)", now, want[0])
	case w.Charter.Intent != "add" && record.Damaged(want[0], now) != "":
		w.note("value-damaged", p, a, "userName", "userName is %q, and %q looks like the same with something lost (%s); it is not written", now, want[0], record.Damaged(want[0], now))
	case w.Charter.Intent != "add" && w.kept(record.Text, p, a, "userName", want[0], now):
		if w.guess(p, a, "renamed") {
			return
		}
		d := w.draft(planning.Rename, p, a)
		d.ask("userName", r.reason, naming.Request{Owner: d.Person, Account: a, Candidates: want, Attribute: naming.Login, Frees: now})
	}
}

func (d *draft) ask(target, reason string, request naming.Request) {
	request.Folded = naming.FoldAll(request.Candidates) // here all cores are at work
	d.names, d.targets, d.reasons = append(d.names, request), append(d.targets, target), append(d.reasons, reason)
}

// addresses are those of the candidates for the primary address that are valid.
func (w *walker) addresses(p, a int, list []string, reserved string) (valid []string) {
	if len(list) == 0 && reserved != "" {
		w.note("email-taken", p, a, "", "%s: kept for a role (names.reserved, RFC 2142)", reserved)
	}
	for _, c := range list {
		switch {
		case !record.ValidEmail(c):
			w.note("value-invalid", p, a, "email", "%q is no e-mail address", c)
		case !w.Charter.Emails.MayBePrimary(c):
			w.note("domain-foreign", p, a, "email", "%q is in a domain that takes no primary addresses here; it is not written", c)
		default:
			valid = append(valid, c)
		}
	}
	return valid
}

func (w *walker) readdress(p, a int) {
	e := w.Charter.Emails
	if e == nil || e.Rule == charter.Once || w.Accounts.Column("email") == nil {
		return
	}
	now := w.Accounts.Column("email").Cell(a)
	list, reserved := w.candidates(w.primary, p, a, now)
	isSo := slices.ContainsFunc(list, func(c string) bool { return w.same(record.Email, c, now) })
	if now != "" && (isSo || e.Rule == charter.Fill) && !e.MayBePrimary(now) {
		w.note("domain-foreign", p, a, "email", "the primary address %q is in a domain that takes none here", now)
	}
	if isSo || e.Rule == charter.Fill && now != "" {
		return
	}
	want := w.addresses(p, a, list, reserved)
	if len(want) == 0 {
		return
	}
	var reads []string
	for _, c := range e.Primary {
		person, _ := c.Reads()
		reads = append(reads, person...)
	}
	switch {
	case w.several("email", reads, p, a):
	case e.Rule == charter.Watch:
		w.note("drift", p, a, "email", "the primary address is %q, should be %q (watched, never written)", now, want[0])
	case w.Charter.Intent != "add" && w.kept(record.Email, p, a, "email", want[0], now):
		d := w.draft(planning.Readdress, p, a)
		d.ask("email", w.emails, naming.Request{Owner: d.Person, Account: a, Candidates: want, Attribute: naming.Primary, Frees: now})
	}
}
