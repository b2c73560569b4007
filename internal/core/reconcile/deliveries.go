package reconcile

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"twinning/internal/core/charter"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// A secret, and an invitation, reach nobody but whom the account is for: who cannot be told
// from somebody else, has left, or shares the address with another record, is sent nothing.

// delivery is what the holder of an account is sent by a verb, or why they are sent nothing.
// The account is -1 while it is not made yet.
func (w *walker) delivery(verb string, p, a int) (x planning.Delivery, called, why string) {
	c := w.Charter
	letter, ways := charter.Letter{}, []string{charter.ByMail}
	switch {
	case verb == planning.Reissue && c.Secrets != nil:
		letter, ways, called = c.Secrets.Letter, c.Secrets.By, c.Secrets.Called("secrets")
	case verb == planning.Invite && c.Invitations != nil:
		letter, called = c.Invitations.Letter, c.Invitations.Called("invitations")
	default:
		return x, "", fmt.Sprintf("the charter does not say how people are %s (%s)", map[string]string{planning.Reissue: "given secrets", planning.Invite: "invited"}[verb], map[string]string{planning.Reissue: "secrets:", planning.Invite: "invitations:"}[verb])
	}
	if why = w.receives(verb, p, a); why != "" {
		return x, called, why
	}
	if letter.Sponsor != nil {
		if x.Sponsor, why = w.sponsor(letter, p); why != "" && verb == planning.Invite {
			return x, called, why
		}
		why = "" // a secret goes without
	}
	for _, way := range ways {
		if x.By, x.NoLetter, why = way, why, ""; way == charter.ByMail {
			x.To, why = w.reachedAt(letter, p, a)
		}
		if why == "" {
			return x, called, ""
		}
	}
	return planning.Delivery{}, called, why
}

// receives says why the holder of an account is sent nothing, wherever it would go.
func (w *walker) receives(verb string, p, a int) string {
	if p < 0 {
		return "the account is nobody's: there is no one to send it to"
	}
	if reason, left := w.run.left(p); left {
		return "the person is " + reason
	}
	switch {
	case !w.inScope[p]:
		return "the person is out of scope"
	case w.out.Pairing.Guessed[p]:
		return "held to be theirs by evidence alone; rule same before anything is sent to them"
	case !w.class.SignsIn:
		return fmt.Sprintf("class %s does not sign in (charter line %d)", w.class.Name, w.class.Line)
	case a < 0:
		return ""
	case w.shut(a):
		return "nobody can sign in with the account: reinstate it first"
	case verb == planning.Invite && w.pending != nil && w.pending.Cell(a) == "false":
		return "the invitation is accepted: the account is in use"
	case verb == planning.Invite && w.signedIn.Cell(a) != "":
		return "its holder has signed in on " + w.signedIn.Cell(a)
	}
	return ""
}

// sponsor is the name of whoever vouches for somebody.
func (w *walker) sponsor(l charter.Letter, p int) (name, why string) {
	v := w.bind(l.Sponsor).Eval(p, -1)
	id := v.Cell()
	row, there := w.People.Find(id)
	switch {
	case id == "":
		return "", l.Called("nobody vouches for them: sponsor is blank")
	case !there || row == p:
		return "", l.Called(fmt.Sprintf("nobody vouches for them: %q is nobody else who is here", id))
	}
	if reason, left := w.run.left(row); left {
		return "", fmt.Sprintf("whoever vouches for them, %q, is %s", id, reason)
	}
	if name = w.People.Column("displayName").Cell(row); name == "" {
		name = strings.TrimSpace(w.People.Column("givenName").Cell(row) + " " + w.People.Column("familyName").Cell(row))
	}
	if name == "" {
		name = id
	}
	return strings.Clone(name), ""
}

// reachedAt is the address at which a person, and nobody else, reads what is sent there.
func (w *walker) reachedAt(l charter.Letter, p, a int) (to, why string) {
	v := w.bind(l.To).Eval(p, -1)
	list := record.SplitList(v.Cell())
	if len(list) == 0 {
		if v.Undecided() != "" {
			return "", l.Called("the address to send it to can't be told: " + v.Fault())
		}
		return "", l.Called("there is no address to send it to")
	}
	to = strings.Clone(list[0])
	switch {
	case len(list) > 1:
		return "", l.Called(fmt.Sprintf("%d addresses to send it to, and nobody says which", len(list)))
	case strings.ContainsRune(to, utf8.RuneError) || strings.ContainsRune(to, '?'):
		return "", fmt.Sprintf("%q: letters are lost", to)
	case !record.ValidEmail(to):
		return "", fmt.Sprintf("%q is no e-mail address", to)
	case w.noLetters != "" || w.noNames != "":
		return "", "whether the address is somebody else's too can't be said: " + cmp.Or(w.noLetters, w.noNames)
	}
	if a >= 0 && w.Charter.Gives(to) && slices.ContainsFunc(w.addressesOf(a), func(own string) bool { return record.Same(record.Email, own, to) }) || a < 0 && w.Charter.Gives(to) {
		return "", fmt.Sprintf("%q is of the account itself, which nobody can read without it", to)
	}
	x := w.whoseAddress(to)
	if other := x.people.beside(p); other >= 0 {
		return "", fmt.Sprintf("%q is also of person %q", to, w.personID(other))
	}
	if other := x.accounts.beside(a); other >= 0 {
		return "", fmt.Sprintf("%q is of account %q", to, w.accountID(other))
	}
	return to, ""
}

// addressesOf are an account's.
func (w *walker) addressesOf(a int) []string {
	return append(record.SplitList(w.Accounts.Column("aliases").Cell(a)), w.Accounts.Column("email").Cell(a))
}

// holders are whose an address is.
type holders struct{ people, accounts firstTwo }

// firstTwo are the first two rows of those that share something, each one more than it is; 0
// for none.
type firstTwo [2]int

func (f *firstTwo) add(row int) {
	if i := slices.Index(f[:], 0); i >= 0 && !slices.Contains(f[:], row+1) {
		f[i] = row + 1
	}
}

// beside is one of them that is another row, -1 when there is none.
func (f firstTwo) beside(row int) int {
	for _, one := range f {
		if one > 0 && one-1 != row {
			return one - 1
		}
	}
	return -1
}

func (r *run) whoseAddress(address string) holders {
	r.findHolders.Do(r.readHolders)
	if h := r.holders[record.Normal(record.Email, address)]; h != nil {
		return *h
	}
	return holders{}
}

// readHolders notes whose every address is, that of whoever is out of scope, has left or is
// exempt included: a letter would reach them.
func (r *run) readHolders() {
	r.holders = map[string]*holders{}
	note := func(cell string, person, account int) {
		record.EachValue(cell, func(v string) {
			key := record.Normal(record.Email, v)
			h := r.holders[key]
			if h == nil {
				h = &holders{}
				r.holders[strings.Clone(key)] = h
			}
			if person >= 0 {
				h.people.add(person)
			} else {
				h.accounts.add(account)
			}
		})
	}
	var to []*charter.Bound
	for _, e := range r.Charter.Mailed() {
		to = append(to, r.bind(e))
	}
	for _, row := range r.People.Order() {
		p := int(row)
		for _, name := range charter.Reached {
			note(r.People.Column(name).Cell(p), p, -1)
		}
		for _, e := range to {
			if _, unread := r.People.Present(p); !unread {
				note(e.Eval(p, -1).Cell(), p, -1)
			}
		}
	}
	r.People.EachUnread(func(row int, rej record.Rejection) { note(record.JoinList(rej.Names), row, -1) })
	r.Accounts.EachUnread(func(row int, rej record.Rejection) { note(record.JoinList(rej.Names), -1, row) })
	for _, row := range r.Accounts.Order() {
		a := int(row)
		for _, name := range []string{"userName", "email", "aliases"} {
			note(r.Accounts.Column(name).Cell(a), -1, a)
		}
	}
}

// deliver drafts what the holder of an account is sent, once what it needs is done.
func (w *walker) deliver(verb string, p, a int, x planning.Delivery, reason string) *draft {
	d := w.draft(verb, p, a, x.Edit(verb, reason))
	d.Delivers = &x
	if a >= 0 && w.active != nil {
		d.RestsOn = append(d.RestsOn, planning.Edit{Attribute: "active", Old: w.active.Cell(a), Reason: "somebody can sign in with the account"})
	}
	if s := w.Charter.Secrets; verb == planning.Reissue && s.MustChange != "" {
		e := planning.Edit{Attribute: s.MustChange, New: "true", Reason: s.Called("must-change")}
		if a >= 0 {
			e.Old = w.Accounts.Column(s.MustChange).Cell(a)
		}
		d.Edits = append(d.Edits, e)
	}
	return d
}

// firstSecret gives the holder of a new account its first one.
func (w *walker) firstSecret(create *draft, p int) {
	if s := w.Charter.Secrets; s == nil || !s.AtCreate || !w.class.SignsIn {
		return
	}
	x, reason, why := w.delivery(planning.Reissue, p, -1)
	if why != "" {
		w.withhold(planning.Reissue, p, -1, why)
	} else {
		w.deliver(planning.Reissue, p, -1, x, reason).need(create.ID)
	}
	create.Owes = true
}

// owed gives it to whoever has not got it with their account.
func (w *walker) owed(p, a int) {
	i, owed := planning.Owes(w.run.intended, w.personID(p), w.accountID(a))
	if !owed || w.Charter.Secrets == nil || !w.Charter.Secrets.AtCreate {
		return
	}
	x, reason, why := w.delivery(planning.Reissue, p, a)
	if why != "" {
		w.withhold(planning.Reissue, p, a, why)
		return
	}
	w.deliver(planning.Reissue, p, a, x, reason+": its first secret").intention = i.ID
}

// Accepted are those of some accounts whose holders, as a roster shows, have signed in since
// they were invited.
func Accepted(accounts *record.Roster, invited []string) (list []string) {
	pending, signedIn := accounts.Column("pending"), accounts.Column("lastSignIn")
	for _, id := range invited {
		if a, there := accounts.Find(id); there && (pending.Cell(a) == "false" || signedIn.Cell(a) != "") {
			list = append(list, id)
		}
	}
	return list
}

// deliver drafts what a human asks for of what is sent, or says why not.
func (x *asker) deliver(n int, i *planning.Intent, p, a int) {
	what := planning.Delivered[i.Verb]
	refuse := func(why string) { x.answer(n, what, Refused, why, "") }
	if x.twice(a, what) {
		refuse(fmt.Sprintf("%s is asked for twice of this account", i.Verb))
		return
	}
	delivery, _, why := x.delivery(i.Verb, p, a)
	if why == "" && x.out.Pairing.Basis[p] == pairing.Weighed {
		why = "held to be theirs by evidence alone; rule same before anything is sent to them"
	}
	if why != "" {
		refuse(why)
		return
	}
	d := x.walker.deliver(i.Verb, p, a, delivery, i.Reason)
	d.Wave = len(x.Charter.Waves) - 1
	x.drafted[place{i.Verb, a}] = d
	x.answer(n, what, Drafted, "", d.ID)
}
