package pairing

import (
	"fmt"
	"slices"
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

// rehired looks for current records of people whose twin is by a record that has ended.
func (m *matcher) rehired() {
	if m.in.Ended == nil {
		return
	}
	m.settleTwice()
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
				m.hiredAgain(int(m.AccountTwin[a]), q, "person %q, whose record has ended, is listed again as this one")
			}
		case Missing:
			if p := left.resembling(q); p >= 0 {
				m.hiredAgain(p, q, "resembles person %q, whose record has ended and whose account this is: hired again?")
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
func (m *matcher) hiredAgain(p, q int, why string) {
	if p < 0 || m.PersonState[p] != Twinned || m.in.Ended(p) == Here {
		return
	}
	a := int(m.PersonTwin[p])
	if m.different[edge{record.Row(q), record.Row(a)}] {
		return
	}
	if k := m.joiningKey(p, q, a); k >= 0 && m.Basis[p] == Keyed && m.replaced(p, q) {
		m.passTo(p, q, a, k)
		return
	}
	m.askWhether(p, q, a, fmt.Sprintf(why, m.in.People.ID(p)))
}

func (m *matcher) askWhether(p, q, a int, why string) {
	m.PersonTwin[q], m.PersonNote[q] = -1, ""
	m.contestPerson(p, fmt.Sprintf("person %q may be the same human, whose record has not ended", m.in.People.ID(q)))
	m.contestPerson(q, why)
	m.Issues = slices.DeleteFunc(m.Issues, func(i Issue) bool { return i.Code == "duplicate-person" && i.Person == q })
	m.propose("rehire", q, a, why)
	m.issue("rehire", q, a, "%s", why)
}

// passTo gives the account to the current record, and calls the other one a duplicate of it.
func (m *matcher) passTo(p, q, a, k int) {
	m.Issues = slices.DeleteFunc(m.Issues, func(i Issue) bool { return i.Code == "duplicate-person" && (i.Person == q || i.Person == p) })
	delete(m.PersonNote, q)
	delete(m.Guessed, p)
	m.join(q, a, Keyed)
	m.By[q] = uint8(k) // charters have few keys
	m.PersonState[p], m.PersonTwin[p], m.Basis[p] = Duplicate, record.Row(a), NoBasis
	m.PersonNote[p] = fmt.Sprintf("listed again: person %q has the same name and %s, and their record has not ended", m.in.People.ID(q), m.in.Keys[k].Name)
	m.issue("duplicate-person", p, a, "%s", m.PersonNote[p])
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
func (m *matcher) settleTwice() {
	for k, x := range m.indexes {
		for i := range x.entries {
			e := &x.entries[i]
			if e.people != 2 || e.counts != 1 {
				continue
			}
			var rows []int
			x.eachPerson(e, func(p int) { rows = append(rows, p) })
			a := -1
			x.eachAccount(e, func(row int) { a = row })
			if len(rows) != 2 || a < 0 || m.AccountState[a] != Contested || !m.unsureA[a] {
				continue
			}
			p, q := rows[0], rows[1]
			if m.replaced(q, p) {
				p, q = q, p
			}
			if !m.replaced(p, q) || m.joiningKey(p, q, a) != k || !m.unsureP[p] && m.PersonState[p] != Contested || m.PersonState[q] != Contested || m.concerned(a, p, q) {
				continue
			}
			about := func(person, account int) bool {
				return account == a && (person == p || person == q) || account < 0 && (person == p || person == q)
			}
			m.Issues = slices.DeleteFunc(m.Issues, func(i Issue) bool { return about(i.Person, i.Account) })
			m.Proposals = slices.DeleteFunc(m.Proposals, func(x Proposal) bool { return about(x.Person, x.Account) })
			for _, row := range rows {
				delete(m.PersonNote, row)
			}
			delete(m.AccountNote, a)
			m.passTo(p, q, a, k)
		}
	}
}

// concerned: the account, or one of two people, is in doubt with somebody else as well, or bonded.
func (m *matcher) concerned(a, p, q int) bool {
	if _, bonded := m.Vanished[a]; bonded {
		return true
	}
	for _, b := range m.in.Bonds {
		if id := m.in.People.ID(p); b.Account == m.in.Accounts.ID(a) || b.Person == id || b.Person == m.in.People.ID(q) {
			return true
		}
	}
	return slices.ContainsFunc(m.Proposals, func(x Proposal) bool {
		return (x.Account == a) != (x.Person == p || x.Person == q)
	})
}

// askedOfEnded holds the accounts of people whose records have ended, where somebody who is
// here is asked about for the same account.
func (m *matcher) askedOfEnded() {
	for _, x := range m.Proposals {
		p := int(m.AccountTwin[x.Account])
		if p < 0 || p == x.Person || m.AccountState[x.Account] != Twinned || m.PersonState[p] != Twinned || m.in.Ended(p) == Here || !m.mayBeHere(x.Person) {
			continue
		}
		m.contestPerson(p, fmt.Sprintf("person %q, whose record has not ended, is asked about for the same account", m.in.People.ID(x.Person)))
	}
}

// leftBehind are the people whose records have ended and who have an account, to be found by
// what they are called, or reached by.
type leftBehind struct {
	*matcher
	by map[string][]int
}

// leftBehind indexes them. Evidence does not look for whom a key has paired already.
func (m *matcher) leftBehind() *leftBehind {
	l := &leftBehind{m, map[string][]int{}}
	for _, row := range m.in.People.Order() {
		if p := int(row); m.PersonState[p] == Twinned && m.in.Ended(p) != Here {
			for _, key := range l.keys(p) {
				l.by[key] = append(l.by[key], p)
			}
		}
	}
	return l
}

// keys are what somebody is called, and what they are reached by at home.
func (l *leftBehind) keys(p int) (keys []string) {
	if words := nameWords(l.in.People, p); len(words) > 0 {
		keys = append(keys, "name "+strings.Join(words, " "))
	}
	for _, v := range slices.Concat(l.in.People.All(p, "personalEmail"), l.in.People.All(p, "emails")) {
		keys = append(keys, "mail "+record.Normal(record.Email, v))
	}
	for _, v := range l.in.People.All(p, "phoneNumbers") {
		if line := likeness.LineOf(v); line.Digits != "" {
			keys = append(keys, "phone "+line.End())
		}
	}
	return keys
}

// resembling is one of them whom somebody without an account resembles, -1 when there is none:
// they are called the same, or by the same given name and share an address or a telephone, and
// nothing tells them apart. What many carry tells nobody.
func (l *leftBehind) resembling(q int) int {
	if len(l.by) == 0 {
		return -1
	}
	for _, key := range l.keys(q) {
		list := l.by[key]
		if len(list) > mostRepeated {
			continue
		}
		for _, p := range list {
			if p == q || l.different[edge{record.Row(q), l.PersonTwin[p]}] || l.toldApart(p, q) {
				continue
			}
			same := SameName(l.in.People, p, l.in.People, q)
			if !same && !strings.HasPrefix(key, "name ") {
				v := evidence.GivenNames(NameOf(l.in.People, p), NameOf(l.in.People, q))
				same = v > likeness.Faint
			}
			if same {
				return p
			}
		}
	}
	return -1
}
