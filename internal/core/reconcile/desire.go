package reconcile

import (
	"cmp"
	"fmt"

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
	p, a int
	*asking
	dropped bool
	// intention is the id of the one that it carries out, "" for most
	intention string
}

// owner is whose the names are that it gives out: its person's, or those of an account that is
// nobody's. It is never blank: two that are nobody's are not one.
func (d *draft) owner() string {
	return cmp.Or(d.Person, "account "+d.Account)
}

// asking is what a draft asks for.
type asking struct {
	names   []naming.Request   // for rename, readdress and create
	targets []string           // per name: userName, email or aliases
	reasons []string           // per name
	emails  *charter.EmailRule // what holds of its account's addresses; nil: nothing
	gained  []string           // aliases that it was granted
	passes  *passing           // what it hands over, or is handed over; nil for most, see pass
}

// asksNothing is what most drafts ask for. It is read alone.
var asksNothing = &asking{}

// begin has a draft ask for something, by the rules of whoever is looked at.
func (w *walker) begin(d *draft) *asking {
	if d.asking == asksNothing {
		d.asking = &asking{emails: w.class.Emails}
	}
	return d.asking
}

// piece is what one goroutine found out about its share of the people.
type piece struct {
	drafts   []*draft
	findings []finding.Finding
	withheld []planning.Withheld
	asked    []doubt
	inactive []inactive
	intended []planning.Intention // what stages ask for, now or later
	bequests []bequest
}

// inactive is somebody whose record is inactive and names no day since when.
type inactive struct{ person, since string }

// desirer holds everything that the per-person walk needs, read-only. What it drafts shares
// the rosters' text: both last as long as the reconciliation.
type desirer struct {
	*run
	classes  []class         // the last is of whoever is in no other
	unlike   map[string]bool // attributes that they rule differently
	mark     *charter.Bound
	waves    []*charter.Bound
	hold     *charter.Bound // who is under legal hold
	handOver *handOver      // nil: nobody hands addresses over
	// columns of the accounts that are looked at of everybody; nil where they are not read
	active, hidden, made, locked, pending, signedIn *record.Column
	emailOn                                         bool // an e-mail address matters in this lane
}

// desirer is the one of this reconciliation.
func (r *run) desirer() *desirer {
	if r.desires == nil {
		r.desires = r.newDesirer()
	}
	return r.desires
}

func (r *run) newDesirer() *desirer {
	d := &desirer{run: r, mark: r.bind(r.Charter.Mark), emailOn: r.Charter.GivesNames()}
	for i, c := range r.Charter.Everybody() {
		d.classes = append(d.classes, r.classOf(c))
		d.classes[i].number = int16(i)
	}
	d.unlike = unlike(d.classes)
	for name, column := range map[string]**record.Column{"active": &d.active, "hidden": &d.hidden, "created": &d.made, "locked": &d.locked, "pending": &d.pending, "lastSignIn": &d.signedIn} {
		*column = r.Accounts.Column(name)
	}
	if r.Charter.Leavers != nil {
		d.hold = r.bind(r.Charter.Leavers.Hold)
		if h := r.Charter.Leavers.HandOver; h != nil {
			d.handOver = r.handsOverBy(h)
		}
	}
	for _, k := range r.Charter.Keys {
		d.emailOn = d.emailOn || k.Kind == record.Email
	}
	for _, e := range r.Charter.Letters() { // goroutines only look them up
		r.bind(e)
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
		w := d.walker(&pieces[i])
		for _, row := range order[i*chunk : min((i+1)*chunk, len(order))] {
			w.person(int(row))
		}
	})
	last := d.walker(&piece{})
	last.accounts()
	last.tellBetween()
	pieces = append(pieces, *last.piece)
	n := 0
	for _, p := range pieces {
		n += len(p.drafts)
	}
	drafts := make([]*draft, 0, n)
	var intended []planning.Intention
	var bequests []bequest
	r.out.Memory.Inactive = map[string]string{}
	for _, p := range pieces {
		for _, x := range p.inactive {
			r.out.Memory.Inactive[x.person] = x.since
		}
		drafts = append(drafts, p.drafts...)
		r.out.Findings = append(r.out.Findings, p.findings...)
		r.out.Withheld = append(r.out.Withheld, p.withheld...)
		r.asked = append(r.asked, p.asked...)
		intended = append(intended, p.intended...)
		bequests = append(bequests, p.bequests...)
	}
	r.intentions(intended)
	drafts = append(drafts, r.passOn(bequests)...)
	r.nameAndPlan(drafts)
}

// walker visits people one by one; each goroutine has its own.
type walker struct {
	*desirer
	*piece
	class       *class // of whoever is looked at
	left, right []byte // scratch for normalised values
}

func (w *walker) note(code string, p, a int, subject, format string, args ...any) {
	w.findings = append(w.findings, w.find(code, p, a, subject, format, args...))
}

func (w *walker) person(p int) {
	res := w.out.Pairing
	w.class = w.common()
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
	_, unclearAt := w.unclearAt[a]
	return noPerson || noAccount || unclear || unclearAt
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

func (w *walker) draft(verb string, p, a int, edits ...planning.Edit) *draft {
	d := &draft{p: p, a: a, asking: asksNothing}
	d.Verb, d.Person, d.Account, d.Edits = verb, w.personID(p), w.accountID(a), edits
	d.ID = planning.ChangeID(verb, d.Person, d.Account)
	d.Wave, d.Class = w.wave(verb, p, a), w.class.number
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

// wave is the first whose condition holds; -1 when none does, or it can't be told which, and
// then nothing is planned.
func (w *walker) wave(verb string, p, a int) int {
	for i, when := range w.waves {
		wave := &w.Charter.Waves[i]
		if wave.Takes() || p >= 0 && wave.People[w.People.ID(p)] {
			return i
		}
		if when == nil {
			continue
		}
		v := when.Eval(p, a)
		if v.Undecided() != "" {
			w.withhold(verb, p, a, fmt.Sprintf("whether they are of wave %s can't be told: %s", wave.Name, v.Fault()))
			return -1
		}
		if holds, known := v.True(); holds && known {
			return i
		}
	}
	return -1
}

func (w *walker) ask(d *draft, target, reason string, request naming.Request) {
	request.Folded = w.Charter.Alike.FoldAll(request.Candidates) // here all cores are at work
	x := w.begin(d)
	x.names, x.targets, x.reasons = append(x.names, request), append(x.targets, target), append(x.reasons, reason)
}
