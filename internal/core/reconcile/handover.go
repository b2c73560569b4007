package reconcile

import (
	"fmt"
	"slices"

	"twinning/internal/core/charter"
	"twinning/internal/core/naming"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// Handing over: all addresses of somebody who has left become aliases of their successor, in
// one unit, so that mail is nobody's for a moment at most. What the account is left with may
// be an address of its own, or none.

// heir is who is given the addresses of a leaver.
type heir struct {
	p, a      int
	from      string // whose they are
	addresses []string
	reason    string
}

// passing is what a draft hands over, or is handed over: few of all do.
type passing struct {
	heir   *heir    // who is given the addresses that it gives up; nil: nobody in particular
	failed bool     // its addresses can't be handed over
	from   []*draft // of a successor: who hands each of its names over; nil for its own
	own    int      // of a successor whose names change anyway: how many of them are its own
	needed []string // what that needed before, and rested on
	rested []planning.Edit
	group  int // drafts of one group are granted together, 0: alone
}

// passing is the draft's, to be written into.
func (w *walker) passing(d *draft) *passing {
	x := w.begin(d)
	if x.passes == nil {
		x.passes = &passing{}
	}
	return x.passes
}

// pass is the draft's, to be read.
func (d *draft) pass() passing {
	if d.passes == nil {
		return passing{}
	}
	return *d.passes
}

// owned are the addresses of an account that are yet to be handed over, and what it is to be
// left with.
func (w *walker) owned(g gone) (addresses []string, left string, known bool) {
	h := w.handOver
	if h.address != nil {
		v := h.address.Eval(g.p, g.a)
		if left = v.Cell(); v.Fault() != "" {
			return nil, "", false
		}
	}
	add := func(v string) {
		same := func(o string) bool { return naming.Fold(o) == naming.Fold(v) }
		if !same(left) && !slices.ContainsFunc(addresses, same) && !w.keepsAlias(g.a, v) {
			addresses = append(addresses, v)
		}
	}
	if !h.addresses {
		return nil, left, true
	}
	for _, name := range []string{"email", "aliases"} {
		for _, v := range w.Accounts.All(g.a, name) {
			add(v)
		}
	}
	return addresses, left, true
}

// owns: there is something to hand over.
func (w *walker) owns(g gone) bool {
	if w.handOver == nil {
		return false
	}
	addresses, _, known := w.owned(g)
	return !known || len(addresses) > 0 || w.holdsMore(g.a)
}

// stillOwns: the charter hands the account's addresses over, and that is not done yet; a
// human may have dropped it.
func (w *walker) stillOwns(g gone) bool {
	i := w.run.intended[planning.IntentionID(charter.HandsOver, g.person, w.accountID(g.a))]
	stages := slices.ContainsFunc(w.Charter.Leavers.Stages, func(s charter.Stage) bool { return slices.Contains(s.Do, charter.HandsOver) })
	return stages && i.Cancelled == "" && w.owns(g)
}

// handOver is the charter's rule of it, tied to the rosters.
type handOver struct {
	*charter.HandOver
	to, address *charter.Bound
	addresses   bool                        // they are read
	refer       map[string]map[string][]int // attribute -> account -> rows of those that refer to it
}

func (r *run) handsOverBy(h *charter.HandOver) *handOver {
	x := &handOver{HandOver: h, to: r.bind(h.To), address: r.bind(h.Address), refer: map[string]map[string][]int{}}
	x.addresses = r.Accounts.Column("email") != nil && r.Accounts.Column("aliases") != nil
	for _, name := range h.References {
		x.refer[name] = map[string][]int{}
		for _, a := range r.Accounts.Order() {
			for _, id := range r.Accounts.All(int(a), name) {
				x.refer[name][id] = append(x.refer[name][id], int(a))
			}
		}
	}
	return x
}

// heirOf finds who takes over, or says what they must wait for.
func (w *walker) heirOf(g gone) (h heir, waits string) {
	if _, _, known := w.owned(g); !known {
		return h, "until it can be told what address the account is left with"
	}
	if others := w.Accounts.Several(g.a, "email"); w.handOver.addresses && len(others) > 0 {
		return h, fmt.Sprintf("until the account has one primary address: it has %q, and also %s", w.Accounts.Column("email").Cell(g.a), quoted(others))
	}
	for _, k := range w.keeps[w.accountID(g.a)] {
		if k.Attribute == "email" && w.handOver.addresses {
			return h, keptWords(w.Charter.Lane, k)
		}
	}
	v := w.handOver.to.Eval(g.p, g.a)
	person := v.Cell()
	switch {
	case v.Fault() != "" && person == "":
		return h, "until it can be told who takes over: " + v.Fault()
	case person == "":
		return h, "until the charter names somebody who takes over"
	case person == g.person:
		return h, "until the charter names somebody else who takes over"
	}
	row, here := w.People.Find(person)
	if !here {
		return h, fmt.Sprintf("until somebody takes over who is here: person %q is not in the list", person)
	}
	left := ""
	if reason, has := w.run.left(row); has {
		left = reason
	}
	_, unread := w.People.Present(row)
	switch {
	case unread:
		return h, fmt.Sprintf("until the record of person %q, who takes over, can be read", person)
	case !w.inScope[row]:
		return h, fmt.Sprintf("until somebody takes over whom the lane serves: person %q is outside people.where", person)
	case left != "":
		return h, fmt.Sprintf("until somebody takes over who is here: person %q is %s", person, left)
	case w.out.Pairing.PersonState[row] != pairing.Twinned:
		return h, fmt.Sprintf("until person %q, who takes over, has an account", person)
	}
	h.p, h.a = row, int(w.out.Pairing.PersonTwin[row])
	class, unknown := w.classIndex(row)
	switch {
	case unknown != "":
		return h, fmt.Sprintf("until it can be told whether person %q, who takes over, is of class %s: %s", person, w.classes[class].Name, unknown)
	case !w.classes[class].SignsIn:
		return h, fmt.Sprintf("until somebody takes over who signs in: person %q is of class %s", person, w.classes[class].Name)
	case w.frozen(h.p, h.a):
		return h, fmt.Sprintf("until account %q, which takes over, can be read", w.accountID(h.a))
	case w.shut(h.a):
		return h, fmt.Sprintf("until account %q, which takes over, can sign in", w.accountID(h.a))
	}
	return h, ""
}

// handsOver drafts that an account gives its addresses up. Who is given them is drafted once
// all that is wanted of their account is known.
func (w *walker) handsOver(g gone, i planning.Intention) {
	h, waits := w.heirOf(g)
	if waits != "" || w.guess(h.p, h.a, "given another's addresses") {
		return
	}
	if w.holdsMore(g.a) {
		w.bequests = append(w.bequests, bequest{g, h, i})
	}
	var left string
	if h.addresses, left, _ = w.owned(g); len(h.addresses) == 0 {
		return
	}
	h.from = g.person
	h.reason = fmt.Sprintf("addresses of %s, handed over (%s)", w.calledAs(g.a), i.Reason)
	d := w.draft(planning.Readdress, g.p, g.a)
	d.intention, w.passing(d).heir, d.HandsOver, d.Unit = i.ID, &h, true, w.handOverUnit(h)
	w.rest(d, g.p, g.a, w.handOver.to, w.handOver.address)
	w.restOn(d, w.personID(h.p), "active")
	reason := fmt.Sprintf("handed over to %s (%s)", w.calledAs(h.a), i.Reason)
	owner := d.owner()
	primary := w.Accounts.Column("email").Cell(g.a)
	ask := naming.Request{Owner: owner, Account: g.a, Attribute: naming.Primary, Frees: primary, Gives: slices.DeleteFunc(record.SplitList(w.Accounts.Column("aliases").Cell(g.a)), func(v string) bool { return w.keepsAlias(g.a, v) })}
	if left != "" {
		ask.Candidates = []string{left}
	}
	if naming.Fold(left) == naming.Fold(primary) { // a part of it was done
		ask = naming.Request{Owner: owner, Account: g.a, Attribute: naming.Alias, Gives: ask.Gives}
		w.ask(d, "aliases", reason, ask)
		return
	}
	w.ask(d, "email", reason, ask)
}

// handOverUnit names the unit of all that is handed over to somebody: it is done as a whole or
// not at all.
func (w *walker) handOverUnit(h heir) string {
	return planning.ChangeID(charter.HandsOver, w.personID(h.p), w.accountID(h.a))
}

// withHeirs drafts anew what the successors of those are given who hand over. Where a
// successor's own names change as well, who hands over waits for another plan, unless one of
// the names is theirs: then both are one change.
func (r *run) withHeirs(drafts []*draft) []*draft {
	if !slices.ContainsFunc(drafts, func(d *draft) bool { return d.pass().heir != nil }) {
		return drafts
	}
	x := &succession{walker: r.desirer().walker(&piece{}), to: map[int]*draft{}, busy: map[int][]*draft{}}
	for _, d := range drafts {
		d.alone()
	}
	drafts = slices.DeleteFunc(drafts, func(d *draft) bool { return d.pass().from != nil || d.pass().failed })
	for _, d := range drafts {
		if d.pass().heir == nil && len(d.names) > 0 && d.a >= 0 {
			x.busy[d.a] = append(x.busy[d.a], d)
		}
	}
	for _, d := range drafts {
		if d.pass().heir == nil {
			continue
		}
		if why := x.give(d); why != "" {
			w := planning.Withheld{Verb: d.Verb, Person: d.Person, Account: d.Account, Reason: why}
			if !slices.Contains(r.out.Withheld, w) {
				r.out.Withheld = append(r.out.Withheld, w)
			}
		}
	}
	var others []*draft
	for _, d := range drafts {
		if d.pass().heir == nil && d.pass().own == 0 {
			others = append(others, d)
		}
	}
	for _, group := range x.groups { // whoever gives comes first
		others = append(others, group...)
	}
	return others
}

// succession puts those who hand over together with whom they hand over to.
type succession struct {
	*walker
	to     map[int]*draft   // successor's account -> what it is given
	busy   map[int][]*draft // of accounts whose names change anyway
	groups [][]*draft       // are granted together; the successor's draft is the last
}

// give has a draft's addresses handed over, or says why not.
func (x *succession) give(d *draft) (why string) {
	h := d.pass().heir
	into := x.to[h.a]
	if into == nil {
		if into = x.wants(h); into == nil {
			into = x.draft(planning.Readdress, h.p, h.a)
		}
		open, sent := x.Memory.Open[into.ID]
		switch {
		case into.pass().own == 0 && len(x.busy[h.a]) > 0:
			return fmt.Sprintf("the names of account %q, which takes over, change in this plan; it is given more in the next", x.accountID(h.a))
		case sent:
			return open.Why
		case into.Wave < 0:
			return fmt.Sprintf("no wave takes account %q, which takes over", x.accountID(h.a))
		}
		if active := x.active.Cell(h.a); active != "" {
			into.RestsOn = append(into.RestsOn, planning.Edit{Attribute: "active", Old: active, Reason: "who takes over can sign in"})
		}
		into.Inherits, into.Unit = true, x.handOverUnit(*h)
		x.to[h.a], x.groups = into, append(x.groups, []*draft{into})
		x.passing(into).group = len(x.groups)
	}
	for _, address := range h.addresses {
		if into.asksFor(address) {
			continue
		}
		x.ask(into, "aliases", h.reason, naming.Request{Owner: into.owner(), Account: into.a, Candidates: []string{address}, Attribute: naming.Alias, From: h.from})
		x.passing(into).from = append(x.passing(into).from, d)
	}
	into.need(d.ID)
	if x.Input.Premises {
		into.premise(planning.NotCancelled, d.intention, "")
	}
	x.passing(d).group = into.pass().group
	group := &x.groups[d.pass().group-1]
	*group = slices.Insert(*group, len(*group)-1, d)
	return ""
}

// wants is the successor's own draft where it wants an address that is handed over to them.
func (x *succession) wants(h *heir) *draft {
	for _, d := range x.busy[h.a] {
		if d.Verb == planning.Readdress && slices.ContainsFunc(h.addresses, d.asksFor) {
			h := x.passing(d)
			h.own, h.needed, h.rested = len(d.names), d.Needs, d.RestsOn
			h.from = make([]*draft, h.own)
			return d
		}
	}
	return nil
}

// alone takes from a successor's own draft what was handed over to it.
func (d *draft) alone() {
	if h := d.pass(); h.own > 0 {
		d.names, d.targets, d.reasons, d.Needs, d.RestsOn = d.names[:h.own], d.targets[:h.own], d.reasons[:h.own], h.needed, h.rested
		d.passes, d.Inherits, d.Unit = nil, false, ""
	}
}

// asksFor: the address is the first that the draft would have for its own.
func (d *draft) asksFor(address string) bool {
	return slices.ContainsFunc(d.names, func(ask naming.Request) bool {
		return ask.Attribute == naming.Primary && len(ask.Candidates) > 0 && naming.Fold(ask.Candidates[0]) == naming.Fold(address)
	})
}

// notHanded tells whose addresses can't be handed over, and reports whether there was
// anybody: the others of their successor are granted without them.
func (r *run) notHanded(drafts []*draft, grants []naming.Grant) (some bool) {
	i := 0
	for _, d := range drafts {
		for n, ask := range d.names {
			g := grants[i]
			i++
			giver := d
			if from := d.pass().from; from != nil && from[n] != nil {
				giver = from[n]
			}
			if g.Granted || giver.pass().heir == nil || giver.pass().failed || g.Holder < 0 && g.Rival < 0 && g.Rest == nil {
				continue
			}
			giver.passes.failed, some = true, true
			r.refuse(giver, d.targets[n], ask, g)
		}
	}
	return some
}
