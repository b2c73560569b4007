package reconcile

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"twinning/internal/core/naming"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// Answer is what becomes of one value that an intent asks for.
type Answer struct {
	Intent    int    `json:"intent"`    // its place in the list
	Attribute string `json:"attribute"` // "" says it of the whole intent
	Outcome   string `json:"outcome"`
	Reason    string `json:"reason,omitempty"` // of a refusal
	Change    string `json:"change,omitempty"` // the id of the change that writes it
}

// Outcomes of what is asked for.
const (
	Drafted = "drafted"
	Already = "already" // it is so
	Refused = "refused"
)

// Asked drafts what humans ask for of some accounts, and nothing that the charter wants
// beside. Nobody is asked for who could not be read, is not understood, not scoped, contested
// or somebody else's; what the charter rules is changed where it comes from. The answers come
// in the order of the intents.
func Asked(in Input, intents []planning.Intent) (*Output, []Answer) {
	in.Cores = max(in.Cores, 1)
	r := newRun(in)
	r.keeps = nil // a human asks for it now
	r.pair()
	r.scope()
	r.checkRosters()
	found := &piece{}
	x := &asker{walker: r.desirer().walker(found), drafted: map[place]*draft{}, asked: map[field]bool{}, made: map[string]*draft{}}
	for n := range intents {
		x.intent(n, &intents[n])
	}
	r.out.Findings = nil // they stand in the lane's own result
	r.out.Withheld, r.asked = nil, nil
	r.nameAndPlan(found.drafts)
	x.conclude()
	r.finish()
	return r.out, x.answers
}

// asker drafts what is asked for.
type asker struct {
	*walker
	answers []Answer
	drafted map[place]*draft
	asked   map[field]bool
	made    map[string]*draft // what makes accounts, by its change
	waits   map[heldAt]string // why a change is withheld
	told    map[heldAt][]int  // which findings are of an account and a person
}

// heldAt is what a withheld change, or a finding, is about.
type heldAt struct{ verb, person, account string }

// place is an account's change of a verb.
type place struct {
	verb string
	a    int
}

// field is one attribute of an account.
type field struct {
	a         int
	attribute string
}

func (x *asker) answer(n int, attribute, outcome, reason, change string) {
	x.answers = append(x.answers, Answer{n, attribute, outcome, reason, change})
}

func (x *asker) intent(n int, i *planning.Intent) {
	values := i.Values
	if action, is := planning.Actions[i.Verb]; is && (len(values) == 0 || action.New != "") {
		values = []planning.Wanted{action}
	}
	if i.Verb == planning.Create && !(i.Updates && x.hasAccount(i.Person)) {
		x.create(n, i)
		return
	}
	p, a, why := x.whose(i)
	if why == "" {
		x.class = x.common()
		if p >= 0 && !x.classify(p) {
			why = "whose class they are of can't be told, so that nobody knows what the charter rules of them"
		}
	}
	if why != "" {
		x.answer(n, "", Refused, why, "")
		return
	}
	if planning.Delivered[i.Verb] != "" {
		x.deliver(n, i, p, a)
		return
	}
	for _, v := range values {
		x.value(n, i, p, a, v)
	}
}

// whose finds the account that an intent is about, and its person; why says why nothing may be
// done of it.
func (x *asker) whose(i *planning.Intent) (p, a int, why string) {
	res := x.out.Pairing
	p, a = -1, -1
	switch {
	case i.Account != "":
		row, there := x.Accounts.Find(i.Account)
		if !there {
			return p, a, fmt.Sprintf("no account %q is in the newest roster", i.Account)
		}
		a = row
	default:
		row, there := x.People.Find(i.Person)
		if !there {
			return p, a, fmt.Sprintf("nobody of the id %q is in the newest roster", i.Person)
		}
		if res.PersonState[row] != pairing.Twinned {
			return p, a, fmt.Sprintf("the person is %s, and has no account that is surely theirs", res.PersonState[row])
		}
		a = int(res.PersonTwin[row])
	}
	if rej, unread := x.Accounts.Unread(a); unread {
		return p, a, "the account could not be read: " + rej.Reason
	}
	if _, unknown := x.Accounts.Present(a); unknown {
		return p, a, "the account is there, and could not be read"
	}
	switch state := res.AccountState[a]; state {
	case pairing.Contested, pairing.Exempt:
		note := res.AccountNote[a]
		if note == "" {
			note = "see its verdict"
		}
		return p, a, fmt.Sprintf("the account is %s: %s", state, note)
	case pairing.Twinned:
		p = int(res.AccountTwin[a])
		if x.frozen(p, a) {
			return p, a, "the record of its person could not be read or understood"
		}
	default:
		if x.noAbsent != "" {
			return p, a, "whose the account is can't be said: " + x.noAbsent
		}
	}
	if i.Person != "" && i.Account != "" && i.Person != x.owner(p, a) {
		return p, a, fmt.Sprintf("the account is not that of person %q any more", i.Person)
	}
	if x.Charter.Intent == "add" {
		return p, a, "the charter only adds accounts (intent: add)"
	}
	return p, a, ""
}

// owner is the id of an account's person, here or vanished.
func (x *asker) owner(p, a int) string {
	if p >= 0 {
		return x.personID(p)
	}
	return x.out.Pairing.Vanished[a]
}

// value drafts one value, or says why not.
func (x *asker) value(n int, i *planning.Intent, p, a int, v planning.Wanted) {
	column := x.Accounts.Column(v.Attribute)
	kind := record.KindOf(v.Attribute)
	refuse := func(format string, args ...any) {
		x.answer(n, v.Attribute, Refused, fmt.Sprintf(format, args...), "")
	}
	switch {
	case i.Verb == planning.Delete:
	case column == nil:
		refuse("%s is not read of the accounts; name it in the shape of %s", v.Attribute, x.Charter.In)
		return
	case unwritten[v.Attribute] != "":
		refuse("%s", unwritten[v.Attribute])
		return
	case x.twice(a, v.Attribute):
		refuse("%s of this account is asked for twice", v.Attribute)
		return
	}
	now := column.Cell(a)
	if others := x.Accounts.Several(a, v.Attribute); len(others) > 0 {
		refuse("%s is %q, and also %s: which of them is meant can't be told", v.Attribute, now, quoted(others))
		return
	}
	if kind.Multi() {
		v.New = listWith(kind, now, v)
	}
	switch {
	case v.Old != nil && !x.same(kind, *v.Old, now) && !(v.New == now):
		refuse("%s is %q now, and was %q when that was asked for", v.Attribute, record.PlainList(now), record.PlainList(*v.Old))
		return
	case i.Verb != planning.Delete && (v.New == now || kind.Multi() && x.same(kind, v.New, now)):
		x.answer(n, v.Attribute, Already, "", "")
		return
	}
	if i.Verb != planning.Delete && !i.Undoes {
		if why := x.ruledBy(p, a, v, now); why != "" {
			refuse("%s", why)
			return
		}
		if why := unfit(v, kind, now); why != "" {
			refuse("%s", why)
			return
		}
	}
	verb := planning.VerbOf(v.Attribute, v.New)
	switch {
	case i.Verb == planning.Delete:
		verb = planning.Delete
	case v.Attribute == x.Input.Mark && i.Undoes:
		verb = planning.Mark
	case v.Attribute == "groups":
		verb = x.passage(kind, now, v.New)
	}
	if why := x.mayNot(verb, i, p, a, v); why != "" {
		refuse("%s", why)
		return
	}
	x.answer(n, v.Attribute, Drafted, "", x.draftFor(verb, i, p, a, v, now).ID)
}

// twice notes that an attribute of an account is asked for; true when it was before.
func (x *asker) twice(a int, attribute string) bool {
	at := field{a, attribute}
	before := x.asked[at]
	x.asked[at] = true
	return before
}

// listWith is a list with what is added and without what is taken.
func listWith(kind record.Kind, now string, v planning.Wanted) string {
	list := record.SplitList(now)
	is := func(o string) func(string) bool {
		n := record.Normal(kind, o)
		return func(s string) bool { return record.Normal(kind, s) == n }
	}
	for _, o := range v.Takes {
		list = slices.DeleteFunc(list, is(o))
	}
	for _, o := range v.Adds {
		if !slices.ContainsFunc(list, is(o)) {
			list = append(list, o)
		}
	}
	return record.JoinList(list)
}

// passage is the verb of a change of memberships; what goes in and out at once is an enrol
// that also takes out: it is one write.
func (x *asker) passage(kind record.Kind, now, want string) string {
	if added, _ := planning.Moved(kind, now, want); len(added) == 0 {
		return planning.Withdraw
	}
	return planning.Enrol
}

// draftFor adds a value to the account's change of a verb.
func (x *asker) draftFor(verb string, i *planning.Intent, p, a int, v planning.Wanted, now string) *draft {
	d := x.drafted[place{verb, a}]
	if d == nil {
		d = x.draft(verb, p, a)
		x.drafted[place{verb, a}] = d
		if d.Wave < 0 || i.Verb != planning.Set || i.Undoes { // whoever asks for it does not wait for a wave of theirs
			d.Wave = len(x.Charter.Waves) - 1
		}
		for _, name := range []string{"userName", "email", "displayName"} { // it is who it was, as far as can be seen
			if column := x.Accounts.Column(name); column != nil && name != v.Attribute {
				d.RestsOn = append(d.RestsOn, planning.Edit{Attribute: name, Old: column.Cell(a), Reason: "the account that was asked about"})
			}
		}
		if i.Undoes || i.Until != "" && x.owner(p, a) != "" && planning.Returns[verb] { // of nobody's accounts the charter wants nothing else
			d.Kept = &planning.Kept{Until: i.Until}
		}
		if verb == planning.Delete {
			d.RestsOn = append(d.RestsOn, planning.Edit{Attribute: "active", Old: "false", Reason: "an account in use is not deleted"})
			x.rest(d, p, a, x.hold)
		}
	}
	switch {
	case verb == planning.Delete:
		d.Edits = append(d.Edits, planning.Edit{Attribute: "id", Old: d.Account, Reason: i.Reason})
	case v.Attribute == "aliases":
		added, taken := planning.Moved(record.Emails, now, v.New)
		for _, s := range added {
			x.ask(d, "aliases", i.Reason, naming.Request{Owner: d.owner(), Account: a, Candidates: []string{s}, Attribute: naming.Alias, Optional: true})
		}
		if len(taken) > 0 {
			x.ask(d, "aliases", i.Reason, naming.Request{Owner: d.owner(), Account: a, Attribute: naming.Alias, Gives: taken})
		}
	case v.Attribute == "userName", v.Attribute == "email":
		as := map[string]naming.Attribute{"userName": naming.Login, "email": naming.Primary}[v.Attribute]
		x.ask(d, v.Attribute, i.Reason, naming.Request{Owner: d.owner(), Account: a, Candidates: []string{v.New}, Attribute: as, Frees: now})
	default:
		d.Edits = append(d.Edits, planning.Edit{Attribute: v.Attribute, Old: now, New: v.New, Reason: i.Reason})
	}
	if i.Undoes && d.asking != asksNothing { // nothing is kept that was not there before
		d.emails = nil
	}
	return d
}

// conclude says of what was drafted and is in no change after all why that is.
func (x *asker) conclude() {
	changes := map[string]*planning.Change{}
	for i := range x.out.Changes {
		changes[x.out.Changes[i].ID] = &x.out.Changes[i]
	}
	drafts := map[string]*draft{}
	for _, d := range x.drafted {
		drafts[d.ID] = d
	}
	maps.Copy(drafts, x.made)
	for i := range x.answers {
		w := &x.answers[i]
		if w.Outcome != Drafted {
			continue
		}
		c := changes[w.Change]
		if c != nil && (w.Attribute == "" || slices.ContainsFunc(c.Edits, func(e planning.Edit) bool { return e.Attribute == w.Attribute })) {
			continue
		}
		w.Outcome, w.Reason, w.Change = Refused, x.against(drafts[w.Change], w.Attribute), ""
	}
}

// against says why a value of a draft came to nothing.
func (x *asker) against(d *draft, attribute string) string {
	if x.waits == nil { // of many drafts, so that each is looked up
		x.waits, x.told = map[heldAt]string{}, map[heldAt][]int{}
		for _, w := range x.out.Withheld {
			at := heldAt{w.Verb, w.Person, w.Account}
			if _, is := x.waits[at]; !is {
				x.waits[at] = w.Reason
			}
		}
		for i, f := range x.out.Findings {
			at := heldAt{"", f.Person, f.Account}
			x.told[at] = append(x.told[at], i)
		}
	}
	if why, is := x.waits[heldAt{d.Verb, d.Person, d.Account}]; is {
		return why
	}
	for _, i := range x.told[heldAt{"", d.Person, d.Account}] {
		f := x.out.Findings[i]
		if f.Code == takenCodes[cmp.Or(attribute, "userName")] || attribute == "" && f.Code == "email-taken" || f.Code == "resting" && f.Subject == attribute {
			return f.Detail
		}
	}
	return "it is done together with another change, which can't be planned"
}
