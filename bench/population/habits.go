package population

import (
	"fmt"
	"strings"

	"twinning/internal/core/record"
)

// Habits are what a place does to its lists beyond what every place does. Rates are
// shares of the accounts, those in the second part of the people.
type Habits struct {
	Shorts      map[string][]string // what people of a name are called
	Forms       map[string]string   // a name, or a surname, in another language
	Called      float64             // by a short form
	Translated  float64             // by the name in another language
	Lost        float64             // letters beyond ASCII became question marks
	Swapped     float64             // given and family name in each other's columns
	OneSurname  float64             // one of two surnames
	LastIsGiven float64             // the family name comes first, and Western columns cut it so
	Extensions  float64             // a telephone by its extension, or without its country
	SameLocal   float64             // of those without key: the local part in another domain
	Without     float64             // of the people: have no account, where more are than everywhere
	Bare        float64             // of those without key: nothing but the name, a mailbox elsewhere and a department
	NewSurname  float64             // married, and all else is as it was

	Relatives float64  // brothers, sisters, couples: the surname, and the telephone at home
	Ward      float64  // share a department's telephone
	Near      float64  // called nearly like somebody else, with another telephone
	Copies    float64  // have a second account for tests or training that copies them
	CopyWords []string // by which those say what they are: in the name, as department, in the login
	Departed  float64  // as many accounts are of people who have left the list
	GivenAnew float64  // as many numbers were given a second time, in one ward
}

// typedElsewhere is how another office wrote the name.
func (m *maker) typedElsewhere(h *human, a *login) {
	x := &m.house.Habits
	if f := x.Forms[h.given]; f != "" && m.chance(x.Translated) {
		a.given = f
		if g := x.Forms[h.family]; g != "" {
			a.family = g
		}
	}
	if list := x.Shorts[h.given]; len(list) > 0 && a.given == h.given && m.chance(x.Called) {
		a.given = m.one(list)
	}
	if first, second, two := strings.Cut(a.family, " "); two && m.chance(x.OneSurname) {
		if a.family = first; m.chance(0.2) {
			a.family = second
		}
	}
	if m.chance(x.NewSurname) && a.family == h.family {
		a.family, h.why = m.surname(), h.why+", new surname"
	}
	if m.chance(x.LastIsGiven) {
		a.given, a.family = a.family+" "+h.middle, a.given
		a.given = strings.TrimSpace(a.given)
	}
	if m.chance(x.Swapped) {
		a.given, a.family = a.family, a.given
	}
	if m.chance(x.Lost) {
		a.given, a.family = lost(a.given), lost(a.family)
	}
}

func lost(s string) string {
	return strings.Map(func(r rune) rune {
		if r > 127 {
			return '?'
		}
		return r
	}, s)
}

// reached is how the account's telephone is written.
func (m *maker) reached(a *login) {
	if a.phone == "" || !m.chance(m.house.Extensions) {
		return
	}
	digits := strings.ReplaceAll(a.phone, " ", "")
	switch m.rng.IntN(4) {
	case 0:
		a.phone = digits[len(digits)-4:]
	case 1:
		a.phone = "ext. " + digits[len(digits)-4:]
	case 2:
		a.phone = "0" + digits[3:]
	default:
		a.phone = digits[len(digits)-8:]
	}
}

// withoutKey is what an account says that carries neither number nor address.
func (m *maker) withoutKey(h *human, a *login) {
	x := &m.house.Habits
	switch {
	case m.chance(x.SameLocal):
		local, _, _ := strings.Cut(h.mail, "@")
		a.mail = local + "@" + m.one([]string{"old.example", "candlewick.example"})
	case m.chance(x.Bare):
		a.mail, a.phone, a.created = m.handle()+"@post.example", "", ""
	}
}

// neighbours lists people and accounts that live beside others, as every list has them.
func (m *maker) neighbours(n int) {
	x := &m.house.Habits
	often := func(rate float64, act func()) {
		for range int(rate * float64(n)) {
			act()
		}
	}
	often(x.Relatives/2, func() {
		one := m.newcomer()
		if one.phone == "" {
			one.phone = fmt.Sprintf("+56 2 5%03d %04d", m.rng.IntN(1000), m.rng.IntN(10000))
		}
		other := m.newcomer()
		other.family, other.phone = one.family, one.phone
		if list := m.house.Pairs; len(list) > 0 && m.chance(0.3) {
			pair := list[m.rng.IntN(len(list))]
			one.given, other.given = pair[0], pair[1]
			one.mail = m.address(one.given, one.family, "larkspur.example")
		}
		other.mail = m.address(other.given, other.family, "larkspur.example")
		if m.chance(0.3) {
			other.site, other.dept = one.site, one.dept
		}
		if m.chance(0.8) {
			m.enrol(one)
		}
		if m.chance(0.6) {
			m.enrol(other)
		}
		m.forbid(one, other.account, "relative")
		m.forbid(other, one.account, "relative")
	})
	often(x.Near, func() {
		one, other := m.newcomer(), m.newcomer()
		other.given, other.family = one.given, m.mistyped(one.family)
		other.mail = m.address(other.given, other.family, "larkspur.example")
		m.enrol(one)
		if m.chance(0.5) {
			m.enrol(other)
		}
		m.forbid(other, one.account, "near name")
		m.forbid(one, other.account, "near name")
	})
	often(x.Copies, func() {
		h := m.newcomer()
		if m.chance(0.7) {
			m.enrol(h)
		}
		own := h.account
		c := *m.enrol(h)
		h.account = own
		word := m.one(x.CopyWords)
		c.other = ""
		c.id, c.mark = fmt.Sprintf("t%07d", m.rng.IntN(10000000)), m.one([]string{"", "9999", "00000", ""})
		switch m.rng.IntN(4) {
		case 0:
			c.display += " (" + strings.ToUpper(word) + ")"
		case 1:
			c.dept = strings.ToUpper(firstLetter(word)) + word[len(firstLetter(word)):]
		case 2:
			c.name = record.Slug(word) + "." + c.name
		default:
			c.mail = record.Slug(word) + "." + record.Slug(h.given) + "." + record.Slug(h.family) + "@larkspur.example"
			c.display += " " + word
		}
		if m.chance(0.5) {
			c.phone = h.phone
		}
		if c.mail == h.mail {
			c.mail = ""
		}
		m.loose = append(m.loose, &c)
		m.forbid(h, &c, "copy for tests")
	})
	often(x.Departed, func() {
		gone := m.person()
		a := m.enrol(gone)
		a.active = m.chance(0.4)
		m.loose = append(m.loose, a)
	})
	often(x.GivenAnew, func() {
		gone := m.person()
		old := m.enrol(gone)
		old.mark = gone.no
		m.loose = append(m.loose, old)
		h := m.newcomer()
		h.no, h.phone, h.dept, h.site = gone.no, gone.phone, gone.dept, gone.site
		if m.chance(0.5) {
			h.family = gone.family
			h.mail = m.address(h.given, h.family, "larkspur.example")
		}
		m.forbid(h, old, "number given anew")
	})
}
