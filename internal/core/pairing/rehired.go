package pairing

import (
	"fmt"
	"strings"

	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/record"
)

// One human may be listed several times: under a number that has ended, and under the one that
// they were hired again by. Their account is never shut for the record that ended. It goes to
// the current one where nothing speaks against that; else all of them are contested, and the
// current record is proposed.

// Ending is what a record says of whether its person has left.
type Ending uint8

// Endings.
const (
	Here         Ending = iota // they have not
	MayHaveEnded               // it says both
	HasEnded
)

// String says it of a record.
func (e Ending) String() string {
	return [...]string{"has not ended", "may have ended", "has ended"}[e]
}

// rehired looks for current records of people whose twin is by a record that has ended.
func (m *matcher) rehired() {
	if m.in.Ended == nil {
		return
	}
	x := m.amended()
	defer x.done()
	x.settleTwice()
	m.askedOfEnded()
	left := m.leftBehind()
	for _, row := range m.in.People.Order() {
		q := int(row)
		if m.PersonState[q] != Duplicate && m.PersonState[q] != Missing || !m.mayBeHere(q) {
			continue // most people, who are neither, cost no look at their records
		}
		switch m.PersonState[q] {
		case Duplicate:
			if a := int(m.PersonTwin[q]); a >= 0 {
				x.hiredAgain(int(m.AccountTwin[a]), q, "person %q, whose record %s, is listed again as this one")
			}
		case Missing:
			if p := left.resembling(q); p >= 0 {
				x.hiredAgain(p, q, "resembles person %q, whose record %s and whose account this is: hired again?")
			}
		}
	}
}

// mayBeHere: the record can be read, and does not say that it has ended.
func (m *matcher) mayBeHere(p int) bool {
	_, unknown := m.in.People.Present(p)
	return !unknown && m.in.Ended(p) != HasEnded
}

// replaced: the record p has surely ended, and q surely not.
func (m *matcher) replaced(p, q int) bool {
	return m.in.Ended(p) == HasEnded && m.mayBeHere(q) && m.in.Ended(q) == Here
}

// hiredAgain settles whose the account is of somebody whose record p may have ended, and who may
// be here as q; why is told where a human has to say.
func (x *amended) hiredAgain(p, q int, why string) {
	if p < 0 || x.PersonState[p] != Twinned || x.in.Ended(p) == Here {
		return
	}
	a := int(x.PersonTwin[p])
	if x.different[edge{record.Row(q), record.Row(a)}] {
		return
	}
	if k := x.joiningKey(p, q, a); k >= 0 && x.Basis[p] == Keyed && x.replaced(p, q) {
		x.passTo(p, q, a, k)
		return
	}
	x.askWhether(p, q, a, fmt.Sprintf(why, x.in.People.ID(p), x.in.Ended(p)))
}

func (x *amended) askWhether(p, q, a int, why string) {
	x.PersonTwin[q], x.PersonNote[q] = -1, ""
	x.contestPerson(p, fmt.Sprintf("person %q may be the same human, whose record %s", x.in.People.ID(q), x.in.Ended(q)))
	x.contestPerson(q, why)
	x.withdrawIssues(q, secondRecord)
	x.propose("rehire", q, a, why)
	x.issue("rehire", q, a, "%s", why)
}

// secondRecord: the issue says that somebody is listed twice.
func secondRecord(i *Issue) bool { return i.Code == "duplicate-person" }

// passTo gives the account to the current record, and calls the other one a duplicate of it.
func (x *amended) passTo(p, q, a, k int) {
	x.withdrawIssues(p, secondRecord)
	x.withdrawIssues(q, secondRecord)
	delete(x.PersonNote, q)
	delete(x.Guessed, p)
	x.join(q, a, Keyed)
	x.By[q] = uint8(k) // charters have few keys
	x.PersonState[p], x.PersonTwin[p], x.Basis[p] = Duplicate, record.Row(a), NoBasis
	x.PersonNote[p] = fmt.Sprintf("listed again: person %q has the same name and %s, and their record has not ended", x.in.People.ID(q), x.in.Keys[k].Name)
	x.issue("duplicate-person", p, a, "%s", x.PersonNote[p])
}

// joiningKey is a key whose value the two people, and nobody else, carry, and the account alone
// of all accounts, where nothing that is known of the three contradicts; -1 when there is none.
func (m *matcher) joiningKey(p, q, a int) int {
	if !SameName(m.in.People, p, m.in.People, q) || m.toldApart(p, q) {
		return -1
	}
	joins := -1
	for k, x := range m.indexes {
		if m.disagree(k, q, a) || m.disagree(k, p, a) {
			return -1
		}
		both := map[string]bool{}
		record.EachValue(m.in.Keys[k].People.Cell(p), func(v string) { both[v] = true })
		record.EachValue(m.in.Keys[k].People.Cell(q), func(v string) {
			if e := x.find(v); both[v] && e != nil && e.people == 2 && e.counts == 1 && m.holds(k, a, v) && joins < 0 {
				joins = k
			}
		})
	}
	return joins
}

func (m *matcher) holds(k, a int, value string) bool {
	held := false
	record.EachValue(m.in.Keys[k].Accounts.Cell(a), func(v string) { held = held || v == value })
	return held
}

// toldApart: what two people's records say of who they are contradicts: a middle name, a
// private address and a telephone, or an attribute of the house's own, such as a day of birth.
func (m *matcher) toldApart(p, q int) bool {
	people := m.in.People
	for _, name := range people.Names() {
		if _, canonical := record.Canonical(name); canonical || strings.HasPrefix(name, "\x00") {
			continue
		}
		x, y := people.Column(name).Cell(p), people.Column(name).Cell(q)
		if x != "" && y != "" && !record.Same(record.KindOf(name), x, y) {
			return true
		}
	}
	if x, y := people.Column("middleName").Cell(p), people.Column("middleName").Cell(q); x != "" && y != "" {
		w, v := likeness.NewWord(x), likeness.NewWord(y)
		if w.Compare(&v) == likeness.Differ {
			return true
		}
	}
	private := likeness.Emails(people.All(p, "personalEmail"), people.All(q, "personalEmail")).Level
	phone := likeness.Phones(people.All(p, "phoneNumbers"), people.All(q, "phoneNumbers")).Level
	return private > likeness.Missing && private < likeness.Part && phone == likeness.Differ
}

// settleTwice finds who is contested for nothing but that one human's account is led to by two
// records of theirs, of which one has ended.
func (x *amended) settleTwice() {
	for k, index := range x.indexes {
		for i := range index.entries {
			e := &index.entries[i]
			if e.people != 2 || e.counts != 1 {
				continue
			}
			var rows []int
			index.eachPerson(e, func(p int) { rows = append(rows, p) })
			a := -1
			index.eachAccount(e, func(row int) { a = row })
			if len(rows) != 2 || a < 0 || x.AccountState[a] != Contested || !x.unsureA[a] {
				continue
			}
			p, q := rows[0], rows[1]
			if x.replaced(q, p) {
				p, q = q, p
			}
			if !x.replaced(p, q) || x.joiningKey(p, q, a) != k || !x.unsureP[p] && x.PersonState[p] != Contested || x.PersonState[q] != Contested || x.concerned(a, p, q) {
				continue
			}
			for _, row := range rows {
				x.withdrawPair(row, a)
				delete(x.PersonNote, row)
			}
			delete(x.AccountNote, a)
			x.passTo(p, q, a, k)
		}
	}
}

// askedOfEnded holds the accounts of people whose records have ended, where somebody who is
// here is asked about for the same account.
func (m *matcher) askedOfEnded() {
	for _, x := range m.Proposals {
		p := int(m.AccountTwin[x.Account])
		if p < 0 || p == x.Person || m.AccountState[x.Account] != Twinned || m.PersonState[p] != Twinned || m.in.Ended(p) == Here || !m.mayBeHere(x.Person) {
			continue
		}
		m.contestPerson(p, fmt.Sprintf("person %q, whose record %s, is asked about for the same account", m.in.People.ID(x.Person), m.in.Ended(x.Person)))
	}
}

// leftBehind are the people whose records have ended and who have an account, to be found by
// what they are called, and by what they are reached by at home.
type leftBehind struct {
	*matcher
	named, reached map[string][]int
	people         *evidence.Reader
}

// leftBehind indexes them. Evidence does not look for whom a key has paired already.
func (m *matcher) leftBehind() *leftBehind {
	l := &leftBehind{m, map[string][]int{}, map[string][]int{}, m.plain[0].Reader()}
	for _, row := range m.in.People.Order() {
		p := int(row)
		if m.PersonState[p] != Twinned || m.in.Ended(p) == Here {
			continue
		}
		if words := nameWords(m.in.People, p); len(words) > 0 {
			name := strings.Join(words, " ")
			l.named[name] = append(l.named[name], p)
		}
		l.eachReach(p, func(reach string) bool {
			l.reached[reach] = append(l.reached[reach], p)
			return true
		})
	}
	return l
}

// eachReach visits the addresses of a person and the ends of their telephone numbers.
func (l *leftBehind) eachReach(p int, yield func(reach string) bool) {
	for _, attribute := range [...]string{"personalEmail", "emails"} {
		for _, v := range l.in.People.All(p, attribute) {
			if !yield(record.Normal(record.Email, v)) {
				return
			}
		}
	}
	for _, v := range l.in.People.All(p, "phoneNumbers") {
		if line := likeness.LineOf(v); line.Digits != "" && !yield(line.End()) {
			return
		}
	}
}

// resembling is one of them whom somebody without an account resembles, -1 when there is none:
// they are called the same, or by the same given name and share an address or a telephone, and
// nothing tells them apart. What many carry tells nobody.
func (l *leftBehind) resembling(q int) int {
	if len(l.named)+len(l.reached) == 0 {
		return -1
	}
	if words := nameWords(l.in.People, q); len(words) > 0 {
		called := func(p int) bool { return SameName(l.in.People, p, l.in.People, q) }
		if p := l.oneOf(l.named[strings.Join(words, " ")], q, called); p >= 0 {
			return p
		}
	}
	found := -1
	l.eachReach(q, func(reach string) bool {
		found = l.oneOf(l.reached[reach], q, func(p int) bool {
			if SameName(l.in.People, p, l.in.People, q) {
				return true
			}
			named := evidence.Named(l.people, p, l.people, q)
			return named.GivenAgree()
		})
		return found < 0
	})
	return found
}

// oneOf is the first of some people whom nothing tells from q, and who are called alike.
func (l *leftBehind) oneOf(people []int, q int, alike func(p int) bool) int {
	if len(people) > mostRepeated {
		return -1
	}
	for _, p := range people {
		if p != q && !l.different[edge{record.Row(q), l.PersonTwin[p]}] && !l.toldApart(p, q) && alike(p) {
			return p
		}
	}
	return -1
}
