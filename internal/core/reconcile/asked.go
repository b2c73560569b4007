package reconcile

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
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
}

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
	for _, v := range values {
		x.value(n, i, p, a, v)
	}
}

// hasAccount: the person is here, and twinned.
func (x *asker) hasAccount(person string) bool {
	row, there := x.People.Find(person)
	return there && x.out.Pairing.PersonState[row] == pairing.Twinned
}

// create drafts the account that the charter would make for a person, with some values of it
// given by hand.
func (x *asker) create(n int, i *planning.Intent) {
	row, there := x.People.Find(i.Person)
	switch {
	case !there:
		x.answer(n, "", Refused, fmt.Sprintf("nobody of the id %q is in the newest roster", i.Person), "")
		return
	case x.out.Pairing.PersonState[row] == pairing.Twinned:
		x.answer(n, "", Already, "", "")
		return
	case x.out.Pairing.PersonState[row] != pairing.Missing:
		x.answer(n, "", Refused, fmt.Sprintf("the person is %s: %s", x.out.Pairing.PersonState[row], cmp.Or(x.out.Pairing.PersonNote[row], "see their verdict")), "")
		return
	case x.twice(-1-row, "id"):
		x.answer(n, "", Refused, "an account is asked for twice for this person", "")
		return
	}
	x.class = x.common()
	drafts, withheld, found := len(x.drafts), len(x.withheld), len(x.findings)
	x.missing(row)
	at := slices.IndexFunc(x.drafts[drafts:], func(d *draft) bool { return d.Verb == planning.Create })
	if at < 0 {
		why := "the charter makes none for them"
		if len(x.withheld) > withheld {
			why = x.withheld[withheld].Reason
		} else if len(x.findings) > found {
			why = x.findings[len(x.findings)-1].Detail
		}
		x.drafts = x.drafts[:drafts]
		x.answer(n, "", Refused, why, "")
		return
	}
	d := x.drafts[drafts+at]
	for _, later := range x.drafts[drafts:] {
		if x.made[later.ID] = later; later.Wave < 0 {
			later.Wave = len(x.Charter.Waves) - 1
		}
	}
	x.answer(n, "", Drafted, "", d.ID)
	for _, v := range i.Values {
		kind := record.KindOf(v.Attribute)
		if kind.Multi() {
			v.New = listWith(kind, "", v)
		}
		why := ""
		switch {
		case unwritten[v.Attribute] != "":
			why = unwritten[v.Attribute]
		case x.Accounts.Column(v.Attribute) == nil:
			why = fmt.Sprintf("%s is not read of the accounts; name it in the shape of %s", v.Attribute, x.Charter.In)
		default:
			if why = x.ruledBy(row, -1, v, ""); why == "" {
				why = unfit(v, kind, "")
			}
		}
		if why == "" && !x.give(d, v, i.Reason) {
			why = "it is given once the account is there"
		}
		if why != "" {
			x.answer(n, v.Attribute, Refused, why, "")
		}
	}
}

// give has a new account begin with a value; false where the account must be there before.
func (x *asker) give(d *draft, v planning.Wanted, reason string) bool {
	for n, target := range d.targets {
		if target == v.Attribute && v.New != "" {
			d.names[n].Candidates, d.names[n].Folded, d.reasons[n] = []string{v.New}, x.Charter.Alike.FoldAll([]string{v.New}), reason
			return true
		}
	}
	if v.Attribute == "groups" || v.Attribute == "aliases" {
		return false
	}
	d.Edits = slices.DeleteFunc(d.Edits, func(e planning.Edit) bool { return e.Attribute == v.Attribute })
	if v.New != "" {
		d.Edits = append(d.Edits, planning.Edit{Attribute: v.Attribute, New: v.New, Reason: reason})
	}
	return true
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

// unwritten are attributes that nobody writes by hand, and why.
var unwritten = map[string]string{
	"id": "the id is the downstream's own, and never changes", "emails": "emails are the primary address and the aliases: change email or aliases",
	"pending": "whether an invitation is open is the downstream's to say", "locked": "a lock is lifted where it was put",
	"lastSignIn": "when somebody signed in last is a fact", "created": "when an account was made is a fact",
	"nestedGroups": "memberships by way of other groups follow from those", "personalEmail": "a private address is never written",
}

// Editable are those of some attributes that a human may give new values: neither facts of the
// downstream nor what the charter always rules. The mark is the charter's too.
func Editable(c *charter.Charter, attributes []string, mark string) (list []string) {
	for _, a := range attributes {
		if unwritten[a] == "" && a != mark && Fixed(c, a) == "" {
			list = append(list, a)
		}
	}
	return list
}

// Fixed says why an attribute is the charter's alone to write, "" where it is not.
func Fixed(c *charter.Charter, attribute string) string {
	if c.Emails != nil && attribute == "email" && c.Emails.Rule == charter.Own {
		return fmt.Sprintf("email is ruled by the charter (line %d: %s)", c.Emails.Line, c.Emails.Rule)
	}
	for _, r := range c.Rules {
		if r.Attribute == attribute && (r.Rule == charter.Own || r.Rule == charter.Upstream) {
			return fmt.Sprintf("%s is ruled by the charter (line %d: %s)", attribute, r.Line, r.Rule)
		}
	}
	return unwritten[attribute]
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

// ruledBy says which line of the charter rules a value, "" when a human may give it.
func (x *asker) ruledBy(p, a int, v planning.Wanted, now string) string {
	if v.Attribute == x.Input.Mark {
		return fmt.Sprintf("%s carries the mark by which the account is found again; the charter gives it (mark)", v.Attribute)
	}
	if p < 0 && a >= 0 && x.out.Pairing.Vanished[a] == "" {
		return "" // nobody's account is ruled by nothing
	}
	for i := range x.class.rules {
		r := &x.class.rules[i]
		if r.Attribute != v.Attribute || r.fixed != "" {
			continue
		}
		called := fmt.Sprintf("%s is ruled by the charter (line %d: %s)", r.Attribute, r.Line, r.Rule)
		switch {
		case r.Rule == charter.Own:
			return called + "; change it where it comes from, " + x.Charter.From
		case r.Rule == charter.Upstream:
			return called + ": it is mastered upstream, and the downstream refuses it"
		case r.Longest > 0 && slices.ContainsFunc(record.SplitList(v.New), func(s string) bool { return utf8.RuneCountInString(s) > r.Longest }):
			return fmt.Sprintf("%s takes %d letters (charter line %d)", r.Attribute, r.Longest, r.Line)
		case r.Required && v.New == "":
			return fmt.Sprintf("%s is required (charter line %d)", r.Attribute, r.Line)
		}
	}
	switch e := x.class.Emails; {
	case v.Attribute == "groups":
		return x.ruledGroups(now, v.New)
	case v.Attribute == "email" && e != nil && !e.MayBePrimary(v.New):
		return fmt.Sprintf("%q is in a domain that takes no primary addresses here (charter line %d)", v.New, e.Line)
	case v.Attribute == "aliases" && e != nil:
		return x.ruledAliases(p, a, e, now, v.New)
	}
	return ""
}

// ruledGroups: who is in the groups that the charter names is its to say.
func (x *asker) ruledGroups(now, want string) string {
	added, taken := planning.Moved(record.List, now, want)
	for _, v := range slices.Concat(added, taken) {
		n := record.Normal(record.Text, v)
		for _, g := range x.class.groups {
			if slices.Contains(g.names, n) {
				return fmt.Sprintf("who is in %q is ruled by the charter (line %d)", v, g.Line)
			}
		}
	}
	return ""
}

// ruledAliases: what the rules give stays, and what they would take away does not come.
func (x *asker) ruledAliases(p, a int, e *charter.EmailRule, now, want string) string {
	added, taken := planning.Moved(record.Emails, now, want)
	for _, v := range added {
		switch {
		case !e.MayBeAlias(v):
			return fmt.Sprintf("%q is in a domain that takes no addresses here (charter line %d)", v, e.Line)
		case e.Takes(v):
			return fmt.Sprintf("%q is an alias of the kind that the charter takes away (line %d)", v, e.Line)
		case x.Charter.Reserved(v):
			return fmt.Sprintf("%q is kept for a role (names.reserved, RFC 2142)", v)
		}
	}
	if len(taken) > 0 && p >= 0 && e.Rule == charter.Own {
		wanted, _ := x.wantedAliases(p, a)
		for _, v := range taken {
			if slices.ContainsFunc(wanted, func(w string) bool { return naming.Fold(w) == naming.Fold(v) }) {
				return fmt.Sprintf("the charter gives the alias %q (line %d)", v, e.Line)
			}
		}
	}
	if n := len(record.SplitList(want)); e.Most > 0 && n > e.Most && len(added) > 0 {
		return fmt.Sprintf("the account would have %d aliases, %d are allowed (charter line %d)", n, e.Most, e.Line)
	}
	return ""
}

// unfit says why a value is none of its kind, or is the present one with something lost.
func unfit(v planning.Wanted, kind record.Kind, now string) string {
	if v.New == "" {
		if v.Attribute == "userName" || v.Attribute == "email" {
			return v.Attribute + " is not cleared: an account without it is nobody's"
		}
		return ""
	}
	for _, s := range record.SplitList(v.New) {
		switch {
		case strings.ContainsRune(s, utf8.RuneError):
			return fmt.Sprintf("%q: letters are lost", s)
		case (kind == record.Email || kind == record.Emails) && !record.ValidEmail(s):
			return fmt.Sprintf("%q is no e-mail address", s)
		case kind == record.Date && !calendar.IsDay(s):
			return fmt.Sprintf("%q is no day (YYYY-MM-DD)", s)
		case kind == record.Bool && s != "true" && s != "false":
			return fmt.Sprintf("%q is neither true nor false", s)
		}
	}
	if how := record.Damaged(v.New, now); how != "" && !kind.Multi() && kind != record.Email {
		return fmt.Sprintf("%q looks like %q with something lost: %s", v.New, now, how)
	}
	return ""
}

// mayNot says why a verb is not for this account.
func (x *asker) mayNot(verb string, i *planning.Intent, p, a int, v planning.Wanted) string {
	guessed := p >= 0 && x.out.Pairing.Guessed[p]
	switch verb {
	case planning.Suspend, planning.Rename, planning.Delete:
		if guessed {
			return "held to be theirs by evidence alone; rule same before the account is " + planning.Participles[verb]
		}
	}
	switch verb {
	case planning.Reinstate:
		if !x.Memory.Suspended[x.accountID(a)] {
			return "the account was suspended elsewhere, by no receipt of ours: whoever did it opens it"
		}
	case planning.Delete:
		if !x.shut(a) {
			return "an account in use is not deleted: suspend it first"
		}
		if x.hold != nil && x.held(gone{p: p, a: a}) {
			return "it is under legal hold, or may be"
		}
		if _, bonded := x.bondOf[x.accountID(a)]; p >= 0 && !bonded && x.out.Pairing.Basis[p] != pairing.Ruled {
			return "no receipt and no ruling (same) bonds the two"
		}
	case planning.Set:
		if v.Attribute == "manager" && v.New != "" {
			if _, there := x.Accounts.Find(v.New); !there {
				return fmt.Sprintf("manager %q is no account of %s", v.New, x.Charter.In)
			}
		}
	}
	return ""
}

// returns are the verbs after which the charter would want it otherwise the next night.
var returns = map[string]bool{planning.Suspend: true, planning.Reinstate: true, planning.Hide: true, planning.Unhide: true}

// draftFor adds a value to the account's change of a verb.
func (x *asker) draftFor(verb string, i *planning.Intent, p, a int, v planning.Wanted, now string) *draft {
	d := x.drafted[place{verb, a}]
	if d == nil {
		d = x.draft(verb, p, a)
		x.drafted[place{verb, a}] = d
		if d.Wave < 0 || i.Verb != planning.Set || i.Undoes { // whoever asks for it does not wait for a wave of theirs
			d.Wave = len(x.Charter.Waves) - 1
		}
		if p < 0 { // it is who it was, as far as can be seen
			for _, name := range []string{"userName", "email", "displayName"} {
				if column := x.Accounts.Column(name); column != nil && name != v.Attribute {
					d.RestsOn = append(d.RestsOn, planning.Edit{Attribute: name, Old: column.Cell(a), Reason: "the account that was asked about"})
				}
			}
		}
		if i.Undoes || i.Until != "" && x.owner(p, a) != "" && returns[verb] { // of nobody's accounts the charter wants nothing else
			d.Kept = &planning.Kept{Until: i.Until}
		}
		if verb == planning.Delete {
			d.RestsOn = append(d.RestsOn, planning.Edit{Attribute: "active", Old: "false", Reason: "an account in use is not deleted"})
		}
	}
	switch {
	case verb == planning.Delete:
		d.Edits = append(d.Edits, planning.Edit{Attribute: "id", Old: d.Account, Reason: i.Reason})
	case v.Attribute == "aliases":
		added, taken := planning.Moved(record.Emails, now, v.New)
		for _, s := range added {
			x.ask(d, "aliases", i.Reason, naming.Request{Owner: d.Person, Account: a, Candidates: []string{s}, Attribute: naming.Alias, Optional: true})
		}
		if len(taken) > 0 {
			x.ask(d, "aliases", i.Reason, naming.Request{Owner: d.Person, Account: a, Attribute: naming.Alias, Gives: taken})
		}
	case v.Attribute == "userName", v.Attribute == "email":
		as := map[string]naming.Attribute{"userName": naming.Login, "email": naming.Primary}[v.Attribute]
		x.ask(d, v.Attribute, i.Reason, naming.Request{Owner: d.Person, Account: a, Candidates: []string{v.New}, Attribute: as, Frees: now})
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
	for _, w := range x.out.Withheld {
		if w.Verb == d.Verb && w.Person == d.Person && w.Account == d.Account {
			return w.Reason
		}
	}
	for _, f := range x.out.Findings {
		if f.Account == d.Account && f.Person == d.Person && (f.Code == takenCodes[cmp.Or(attribute, "userName")] || attribute == "" && f.Code == "email-taken" || f.Code == "resting" && f.Subject == attribute) {
			return f.Detail
		}
	}
	return "it is done together with another change, which can't be planned"
}
