package population

import (
	"fmt"
	"strings"

	"twinning/internal/core/record"
)

// traps are people and accounts that look like each other and are not, n of
// each. A line of the truth names the two that must not be joined.
func (m *maker) traps(n int) {
	for range n {
		// an address that was another's, who has left the list
		gone := m.person()
		a := m.enrol(gone)
		a.mark, a.mail, a.other = gone.no, gone.mail, ""
		m.loose = append(m.loose, a)
		h := m.newcomer()
		h.mail, h.why = gone.mail, "recycled address"
		m.forbid(h, a, "recycled address")

		// a mailbox that two people give as theirs
		x, y := m.newcomer(), m.newcomer()
		x.mail, y.mail = "desk"+x.no+"@larkspur.example", "desk"+x.no+"@larkspur.example"
		desk := &login{id: "d" + x.no, name: "desk" + x.no, display: "Desk", mail: x.mail, active: true}
		m.loose = append(m.loose, desk)
		m.forbid(x, desk, "shared mailbox")
		m.forbid(y, desk, "shared mailbox")

		// a staff number that was given a second time
		before := m.person()
		old := m.enrol(before)
		old.mail, old.other = before.mail, ""
		m.loose = append(m.loose, old)
		again := m.newcomer()
		again.no = before.no
		old.mark = before.no
		m.forbid(again, old, "number given again")

		// two people of one name, one of whom has an account
		one := m.newcomer()
		m.enrol(one)
		other := m.newcomer()
		other.given, other.family, other.middle = one.given, one.family, ""
		other.mail = m.address(other.given, other.family, "larkspur.example")
		m.forbid(other, one.account, "namesake")

		// father and son at one phone; a couple at one phone with one surname
		father := m.newcomer()
		father.phone = fmt.Sprintf("+56 2 3%03d %04d", m.rng.IntN(1000), m.rng.IntN(10000))
		m.enrol(father)
		son := m.newcomer()
		son.given, son.family, son.middle, son.phone = father.given, father.family, "", father.phone
		son.mail = m.address(son.given, son.family, "larkspur.example")
		m.forbid(son, father.account, "father and son")
		wife := m.newcomer()
		wife.family, wife.phone = father.family, father.phone
		m.forbid(wife, father.account, "couple")

		// a leaver's account resembles somebody who is still here and has none
		left := m.person()
		la := m.enrol(left)
		la.mark, la.active = left.no, false
		m.loose = append(m.loose, la)
		here := m.newcomer()
		here.given, here.family = left.given, m.mistyped(left.family)
		m.forbid(here, la, "leaver who resembles")

		// a service account that carries its owner's address
		owner := m.newcomer()
		oa := m.enrol(owner)
		oa.mail, oa.other = "x"+owner.no+"@larkspur.example", ""
		svc := &login{id: "s" + owner.no, name: "svc-" + owner.no, display: "Backup service", mail: owner.mail, active: true}
		m.loose = append(m.loose, svc)
		m.forbid(owner, svc, "service account")

		// brother and sister, who share surname and phone, and one of whom has an account
		brother := m.newcomer()
		brother.given, brother.middle, brother.phone = "Mario", "", fmt.Sprintf("+56 2 4%03d %04d", m.rng.IntN(1000), m.rng.IntN(10000))
		ba := m.enrol(brother)
		ba.mark, ba.mail = "", m.address(brother.given, brother.family, "old.example")
		brother.why = "no key, with a sister"
		sister := m.newcomer()
		sister.given, sister.family, sister.middle, sister.phone = "Maria", brother.family, "", brother.phone
		sister.mail = m.address(sister.given, sister.family, "larkspur.example")
		m.forbid(sister, ba, "sister")

		// two series of numbers that look alike: the application's own number is somebody's staff number
		theirs := m.newcomer()
		counted := m.person()
		ca := m.enrol(counted)
		ca.mark, ca.mail = strings.TrimPrefix(theirs.no, "L"), counted.mail
		m.loose = append(m.loose, ca)
		m.forbid(theirs, ca, "series that looks alike")

		// an account for a role that is called like a person
		cook := m.newcomer()
		role := &login{id: "r" + cook.no, name: record.Slug(cook.family), display: cook.family + " " + cook.dept, mail: record.Slug(cook.family) + "." + record.Slug(cook.dept) + cook.no + "@larkspur.example", dept: cook.dept, active: true}
		m.loose = append(m.loose, role)
		m.forbid(cook, role, "role account")

		// hired again under a new number: the old account is theirs, and is asked about
		rehired := m.newcomer()
		ra := m.enrol(rehired)
		ra.mark, ra.mail, ra.active = "L9"+rehired.no[2:], m.address(rehired.given, rehired.family, "former.example"), false
		rehired.why = "rehire"
	}
}

// newcomer is somebody new who is listed, and has no account yet.
func (m *maker) newcomer() *human {
	h := m.person()
	m.people = append(m.people, h)
	return h
}

// forbid notes that a person and an account, if there is one, are two humans'.
func (m *maker) forbid(h *human, a *login, kind string) {
	if a != nil {
		m.truth = append(m.truth, fmt.Sprintf("%s,%s,!%s", h.no, a.id, kind))
	}
}
