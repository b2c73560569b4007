package reconcile

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/calendar"
	"twinning/internal/core/finding"
	"twinning/internal/core/naming"
	"twinning/internal/core/pairing"
	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// nameAndPlan grants names, orders the changes and holds the guards to them.
func (r *run) nameAndPlan(drafts []*draft) {
	drafts = r.afterValues(r.withinSeats(r.keepOwners(r.keepAdministrator(r.oneMark(r.leaveKept(drafts))))))
	drafts = r.nameable(r.notOpen(slices.DeleteFunc(drafts, func(d *draft) bool { return d.Wave < 0 })))
	var ledger *naming.Ledger
	var named []*draft
	var grants []naming.Grant
	for { // whom naming makes us ask about is in no change, and frees no name
		drafts = r.withHeirs(r.withoutAsked(drafts))
		named = withNames(drafts)
		requests := requestsOf(named)
		if ledger == nil {
			ledger = naming.NewLedger(r.Accounts, requests, r.Charter.Alike, r.Cores)
			for _, x := range r.Shared {
				ledger.Share(x)
			}
			r.letRest(ledger)
			if r.Charter.Between != "" && !r.Deferred {
				ledger.MayCircle()
			}
		}
		grants = ledger.Allocate(requests)
		if !r.doubtNames(named, grants) && !r.notHanded(named, grants) {
			break
		}
	}
	if ledger.Circled() && r.Deferred {
		r.out.Notes = append(r.out.Notes, "names would move in a circle (a swap, say), and are told as taken: "+r.Charter.In+" shows what is written only in a later roster, and nobody's mail may wait for that; have one of them changed there by hand")
	} else if ledger.Circled() {
		r.out.Notes = append(r.out.Notes, "names would move in a circle (a swap, say), and are told as taken: give values in between a domain, `names: {between: DOMAIN}`")
	}
	taken := takers(named, grants, r.Charter.Alike)
	i := 0
	for _, d := range named {
		for n := range d.names {
			r.grant(d, n, grants[i], named)
			i++
		}
		if !d.dropped {
			r.aliases(d, taken)
			d.dropped = len(d.Edits) == 0 // it could do without all that it asked for
		}
	}
	ownFirst(named)
	r.asOne(drafts)
	changes := make([]*planning.Change, 0, len(drafts))
	for _, d := range drafts {
		if !d.dropped {
			if r.Input.Premises {
				d.Premises = append(r.premises(d), d.Premises...)
			}
			changes = append(changes, &d.Change)
		}
	}
	ordered, dropped := planning.Order(r.untried(planning.Unite(changes, r.between)))
	r.out.Changes = ordered
	for _, c := range dropped {
		if c.Verb == planning.Enrol || c.Verb == planning.Reissue {
			continue // of an account that is not made: that is told by itself
		}
		code := map[string]string{planning.Readdress: "email-taken", planning.Rename: "username-taken", planning.Create: "username-taken"}[c.Verb]
		if code == "" {
			r.out.Withheld = append(r.out.Withheld, planning.Withheld{Verb: c.Verb, Person: c.Person, Account: c.Account, Reason: "it is done together with another change of the account, which can't be planned"})
			continue
		}
		r.out.Findings = append(r.out.Findings, finding.New(code, c.Person, c.Account, "", "the name is to be freed by a change that can't be planned"))
	}
	totals := planning.Totals{People: r.served, Twins: r.twins()}
	recent := func(verb string, days int) int { return r.Memory.Recent(verb, r.Now.In(r.Charter.Zone), days) }
	first := r.Charter.First && len(r.Memory.Bonds) == 0
	if r.Charter.First && !first {
		r.out.Notes = append(r.out.Notes, "`first-load: true` has no effect: this lane has been loaded, and its guards hold; take the line out")
	}
	r.out.Guards = append(r.out.Guards, planning.Guards(r.Charter.Guards, r.out.Changes, totals, first, planning.Past{Recent: recent})...)
}

// letRest has names rest that were another's until lately, where the charter wants that.
func (r *run) letRest(ledger *naming.Ledger) {
	days := r.Rest
	if r.Charter.Emails != nil {
		days = max(days, r.Charter.Emails.Rest)
	}
	if days == 0 {
		return
	}
	if r.Memory.Freed == nil {
		r.out.Notes = append(r.out.Notes, "`rest:` holds for names that this very plan gives up: files alone do not know who held which name before; the service does")
	}
	names := map[string]naming.Rest{}
	for _, f := range r.Memory.Freed {
		until := calendar.Add(f.On, days)
		name := r.Charter.Alike.Fold(f.Name)
		if until <= r.today || names[name].Until > until { // whoever had it last
			continue
		}
		rest := naming.Rest{Owner: f.Person, Row: -1, Until: until}
		if f.System == "" {
			rest.Owner = r.bondOf[f.Account]
			if row, there := r.Accounts.Find(f.Account); there {
				rest.Row = record.Row(row)
			}
		}
		names[name] = rest
	}
	ledger.LetRest(names, calendar.Add(r.today, days))
}

// untried leaves out units that were taken back again and again: their accounts would change
// their names each night, and back.
func (r *run) untried(changes []*planning.Change) []*planning.Change {
	given := map[string]int{}
	for _, c := range changes {
		if n := r.Memory.TakenBack[c.TriedKey()]; c.Unit != "" && n >= MaxRounds {
			given[c.Unit] = max(given[c.Unit], n)
		}
	}
	if len(given) == 0 {
		return changes
	}
	return slices.DeleteFunc(changes, func(c *planning.Change) bool {
		n, tried := given[c.Unit]
		if tried && !c.Between {
			r.out.Withheld = append(r.out.Withheld, planning.Withheld{Verb: c.Verb, Person: c.Person, Account: c.Account, Reason: fmt.Sprintf("it was done and taken back %d times, since another change of its unit could not be done: see its receipts, and give one of them another name", n)})
		}
		return tried
	})
}

// takers are who is granted which name; only those who give an address up need to know.
func takers(drafts []*draft, grants []naming.Grant, alike naming.Alike) map[string]string {
	taken := map[string]string{}
	if !slices.ContainsFunc(drafts, func(d *draft) bool { return d.Verb == planning.Readdress }) {
		return taken
	}
	i := 0
	for _, d := range drafts {
		for range d.names {
			if grants[i].Name != "" {
				taken[alike.Fold(grants[i].Name)] = d.owner()
			}
			i++
		}
	}
	return taken
}

// notOpen withholds what was sent before, and is not known to have come about.
func (r *run) notOpen(drafts []*draft) []*draft {
	return slices.DeleteFunc(drafts, func(d *draft) bool {
		open, sent := r.Memory.Open[d.ID]
		if !sent || open.Waits && d.Verb != planning.Create && !d.asks(open.Values) {
			return false
		}
		r.out.Withheld = append(r.out.Withheld, planning.Withheld{Verb: d.Verb, Person: d.Person, Account: d.Account, Reason: open.Why})
		return true
	})
}

// asks reports whether a change wants just these values. Names are still to be
// granted: the first choice stands for them.
func (d *draft) asks(values map[string]string) bool {
	for _, e := range d.Edits {
		if was, there := values[e.Attribute]; !there || !record.Same(record.KindOf(e.Attribute), was, e.New) {
			return false
		}
	}
	for n, target := range d.targets {
		ask, was := d.names[n], values[target]
		first := ""
		if len(ask.Candidates) > 0 {
			first = ask.Candidates[0]
		}
		switch holds := func(list, v string) bool {
			return slices.ContainsFunc(record.SplitList(list), func(o string) bool { return record.Same(record.Text, o, v) })
		}; {
		case target != "aliases" && !record.Same(record.Text, was, first),
			target == "aliases" && first != "" && !holds(was, first),
			slices.ContainsFunc(ask.Gives, func(v string) bool { return holds(values["aliases"], v) }):
			return false
		}
	}
	return true
}

// nameable withholds what needs a new name while none may be called free.
func (r *run) nameable(drafts []*draft) []*draft {
	if r.noNames == "" {
		return drafts
	}
	return slices.DeleteFunc(drafts, func(d *draft) bool {
		if len(d.names) == 0 {
			return false
		}
		r.out.Withheld = append(r.out.Withheld, planning.Withheld{Verb: d.Verb, Person: d.Person, Account: d.Account, Reason: "no name may be called free: " + r.noNames})
		return true
	})
}

// withoutAsked contests whom a human must judge first, and drops what was wanted
// of them.
func (r *run) withoutAsked(drafts []*draft) []*draft {
	if len(r.asked) == 0 {
		return drafts
	}
	people, accounts := make([]bool, r.People.Len()), make([]bool, r.Accounts.Len())
	told := map[[2]string]bool{} // what is asked about instead of being found
	for _, q := range r.asked {
		if q.p >= 0 {
			people[q.p] = true
		}
		if q.a >= 0 {
			accounts[q.a] = true
		}
		told[[2]string{"missing-account", r.personID(q.p)}], told[[2]string{"orphan-account", r.accountID(q.a)}] = true, true
		r.out.Pairing.Contest(q.code, q.p, q.a, q.why)
		r.report(q.code, q.p, q.a, "", "%s", q.why)
	}
	r.asked = nil
	r.out.Findings = slices.DeleteFunc(r.out.Findings, func(f finding.Finding) bool {
		return f.Code == "missing-account" && told[[2]string{f.Code, f.Person}] || f.Code == "orphan-account" && told[[2]string{f.Code, f.Account}]
	})
	return slices.DeleteFunc(drafts, func(d *draft) bool { return d.p >= 0 && people[d.p] || d.a >= 0 && accounts[d.a] })
}

// doubtNames asks about newcomers whose first login is held by an account that
// nobody owns, which may be theirs, and about twins by evidence alone that would
// hand a name over to another. It reports whether there were any.
func (r *run) doubtNames(drafts []*draft, grants []naming.Grant) bool {
	i := 0
	for _, d := range drafts {
		for n := range d.names {
			g := grants[i]
			i++
			if h := g.First; d.Verb == planning.Create && d.targets[n] == "userName" && h >= 0 && r.ownerless(h) && !r.toldApart(d.p, h) && !r.another(d.p, h) {
				r.asked = append(r.asked, doubt{d.p, h, "contested-match", fmt.Sprintf("the person's first login %q is held by this account, which nobody owns: is it theirs?", d.names[n].Candidates[0])})
			}
			for _, unit := range g.After {
				for _, giver := range together(drafts, unit) {
					if giver.p >= 0 && giver.p != d.p && r.out.Pairing.Guessed[giver.p] {
						r.asked = append(r.asked, doubt{giver.p, giver.a, "contested-match", "held to be one by evidence alone; rule same before a name of the account is given to another"})
					}
				}
			}
		}
	}
	return len(r.asked) > 0
}

func (r *run) ownerless(a int) bool {
	_, bonded := r.out.Pairing.Vanished[a]
	state := r.out.Pairing.AccountState[a]
	return !bonded && (state == pairing.Orphan || state == pairing.Contested)
}

// another: the account says a given name that is another's, in lists of which it is known
// what people are called elsewhere, and evidence speaks for nothing else.
func (r *run) another(p, a int) bool {
	w := r.out.Pairing.Weights
	if w == nil {
		return false
	}
	if _, is := r.out.Pairing.Candidate(p, a); is {
		return false
	}
	return evidence.Another(pairing.NameOf(r.People, p), pairing.NameOf(r.Accounts, a), w.Forms())
}

// toldApart: a human has ruled that the two are different.
func (r *run) toldApart(p, a int) bool {
	return slices.Contains(r.Memory.Different, pairing.Pair{Person: r.People.ID(p), Account: r.Accounts.ID(a)})
}

// withNames are the drafts that ask for names: few of all.
func withNames(drafts []*draft) (named []*draft) {
	for _, d := range drafts {
		if len(d.names) > 0 {
			named = append(named, d)
		}
	}
	return named
}

func requestsOf(drafts []*draft) []naming.Request {
	n := 0
	for _, d := range drafts {
		n += len(d.names)
	}
	requests := make([]naming.Request, 0, n)
	unit := 0
	for i, d := range drafts {
		if i == 0 || d.pass().group == 0 || drafts[i-1].pass().group != d.pass().group {
			unit = i
		}
		for _, n := range d.names {
			n.Unit = unit
			requests = append(requests, n)
		}
	}
	return requests
}

// grant writes one granted name into its change, or says why there is none.
func (r *run) grant(d *draft, n int, g naming.Grant, drafts []*draft) {
	target, ask := d.targets[n], d.names[n]
	if g.Name == "" && (!g.Granted || ask.Optional) {
		d.dropped = d.dropped || !g.Granted
		r.refuse(d, target, ask, g)
		return
	}
	for _, unit := range g.After {
		for _, giver := range together(drafts, unit) {
			d.need(giver.ID)
		}
	}
	switch {
	case target != "aliases":
		d.Edits = append(d.Edits, planning.Edit{Attribute: target, Old: ask.Frees, New: g.Name, Reason: d.reasons[n]})
	case g.Name != "":
		d.gained = append(d.gained, g.Name)
	}
}

// together are the drafts that ask as one unit, by the place of the first.
func together(drafts []*draft, unit int) []*draft {
	to := unit + 1
	for group := drafts[unit].pass().group; group != 0 && to < len(drafts) && drafts[to].pass().group == group; {
		to++
	}
	return drafts[unit:to]
}

// refuse tells who has the name that is wanted; where another name of the same change can't be
// had, it is told there.
func (r *run) refuse(d *draft, target string, ask naming.Request, g naming.Grant) {
	wanted := strings.Join(ask.Candidates, ", ")
	switch {
	case g.Rest != nil:
		r.report("resting", d.p, d.a, target, "%s: was another's and rests until %s", wanted, g.Rest.Until)
	case g.Holder >= 0:
		r.report(takenCodes[target], d.p, d.a, subjectOf(ask), "%s: taken by account %q (%s)", wanted, r.accountID(g.Holder), r.Accounts.Column("userName").Cell(g.Holder))
	case g.Elsewhere != nil:
		who := fmt.Sprintf("account %q", g.Elsewhere.Account)
		if g.Elsewhere.Account == "" {
			who = fmt.Sprintf("the account of person %q", g.Elsewhere.Person)
		}
		r.report(takenCodes[target], d.p, d.a, subjectOf(ask), "%s: taken by %s of %s, which shares its names", wanted, who, g.Elsewhere.System)
	case g.Rival >= 0:
		who := fmt.Sprintf("person %q", g.RivalOwner)
		if account, ownerless := strings.CutPrefix(g.RivalOwner, "account "); ownerless {
			who = fmt.Sprintf("account %q", account)
		}
		r.report(takenCodes[target], d.p, d.a, subjectOf(ask), "%s: taken by %s in this plan", wanted, who)
	}
}

// ownFirst orders the drafts of an account that moves a name of its own from one attribute to
// another: it is given the name there before it gives it up here.
func ownFirst(named []*draft) {
	met := map[int][]*draft{}
	for _, d := range named {
		if d.a < 0 || d.dropped {
			continue
		}
		for _, before := range met[d.a] {
			if before.frees(d) {
				before.need(d.ID)
			} else if d.frees(before) {
				d.need(before.ID)
			}
		}
		met[d.a] = append(met[d.a], d)
	}
}

// frees: it gives a name up that another draft of the account takes.
func (d *draft) frees(takes *draft) bool {
	return slices.ContainsFunc(takes.Edits, func(e planning.Edit) bool {
		return slices.ContainsFunc(e.NewNames(), func(name string) bool {
			return slices.ContainsFunc(d.names, func(ask naming.Request) bool { return ask.Frees != "" && naming.Fold(ask.Frees) == naming.Fold(name) })
		})
	})
}

// subjectOf a name that can't be had: an account may want several aliases.
func subjectOf(ask naming.Request) string {
	if ask.Attribute == naming.Alias {
		return naming.Fold(ask.Candidates[0])
	}
	return ""
}

func (d *draft) need(id string) {
	if !slices.Contains(d.Needs, id) {
		d.Needs = append(d.Needs, id)
	}
}

// finish sorts what is told and says which rules could not be checked.
func (r *run) finish() {
	r.out.Findings = finding.Sort(r.out.Findings)
	p := r.out.Pairing
	slices.SortFunc(p.Proposals, func(a, b pairing.Proposal) int {
		if d := strings.Compare(r.People.ID(a.Person), r.People.ID(b.Person)); d != 0 {
			return d
		}
		if d := strings.Compare(r.Accounts.ID(a.Account), r.Accounts.ID(b.Account)); d != 0 {
			return d
		}
		return strings.Compare(a.Reason, b.Reason)
	})
	p.Proposals = slices.CompactFunc(p.Proposals, func(a, b pairing.Proposal) bool { return a.Person == b.Person && a.Account == b.Account })
	if len(r.Memory.Bonds) == 0 {
		r.out.Notes = append(r.out.Notes, "no bonds are known: people who vanished can't be told from people who never were here")
	}
}
