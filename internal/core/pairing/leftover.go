package pairing

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/parallel"
	"twinning/internal/core/record"
)

func joinNames(names []string) string { return strings.Join(names, " and ") }

func nameWords(r *record.Roster, i int) []string {
	full := r.Column("givenName").Cell(i) + " " + r.Column("familyName").Cell(i)
	if strings.TrimSpace(full) == "" {
		full = r.Column("displayName").Cell(i)
	}
	words := strings.FieldsFunc(record.Fold(full), func(c rune) bool { return c == ' ' || c == ',' || c == '-' || c == '.' || c == '\'' })
	slices.Sort(words)
	return words
}

// leftovers compares what is still undecided with everything that shares a key
// value with it.
func (m *matcher) leftovers() {
	for _, row := range m.in.Accounts.Order() {
		if a := int(row); m.AccountState[a] == Undecided && m.takesPart(a) {
			m.leftAccount(a)
		}
	}
	for _, row := range m.in.People.Order() {
		if p := int(row); m.PersonState[p] == Undecided {
			m.leftPerson(p)
		}
	}
}

// sharers lists the people and accounts that carry one of the values.
func (m *matcher) sharers(cell func(k int) string, yield func(k int, value string, x *index, e *entry)) {
	for k, x := range m.indexes {
		record.EachValue(cell(k), func(v string) {
			if e := x.find(v); e != nil {
				yield(k, v, x, e)
			}
		})
	}
}

// mostRepeated is how many carriers of a value are looked at one by one: what more carry
// ("N/A", a desk's mailbox) is nobody's, and is told once, with their count.
const mostRepeated = 20

// common: the value is carried by too many to tell anybody from anybody.
func (e *entry) common() bool { return max(e.people, e.counts) > mostRepeated }

// commonValue tells once of a value that many carry, and says in what way they share it.
func (m *matcher) commonValue(k int, v string, e *entry) string {
	subject := fmt.Sprintf("%s %q", m.in.Keys[k].Name, v)
	if why, told := m.commons[subject]; told {
		return why
	}
	why := fmt.Sprintf("%s is carried by %s and %s: it tells nobody apart", subject, number(int(e.people), "person", "people"), number(int(e.counts), "account", "accounts"))
	m.commons[subject] = why
	m.Issues = append(m.Issues, Issue{Code: "shared-key", Person: -1, Account: -1, Subject: subject, Detail: why + "; all of them are held until something else says who is who. Correct the lists, or have the key leave the value out"})
	return why
}

func number(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func (m *matcher) leftAccount(a int) {
	var twins, open []int
	var shared []string
	common := ""
	m.sharers(func(k int) string { return m.in.Keys[k].Accounts.Cell(a) }, func(k int, v string, x *index, e *entry) {
		if e.common() {
			if e.people > 0 {
				common = m.commonValue(k, v, e)
			}
			return
		}
		x.eachPerson(e, func(p int) {
			if m.different[edge{record.Row(p), record.Row(a)}] {
				return
			}
			into := &open
			if m.PersonState[p] == Twinned {
				into = &twins
			}
			if !slices.Contains(*into, p) {
				*into = append(*into, p)
			}
			if e.people > 1 || e.counts > 1 {
				shared = appendNew(shared, fmt.Sprintf("%s %q", m.in.Keys[k].Name, v))
			}
		})
	})
	m.byID(m.in.People, twins)
	m.byID(m.in.People, open)
	_, ownerGone := m.Vanished[a]
	switch {
	case len(open) > 0:
		why := "shares a key value with somebody it can't be told from"
		if len(shared) > 0 {
			why = "several records carry " + joinNames(shared)
		}
		m.contestAccount(a, why)
		m.unsureA[a] = true
		for _, p := range open {
			m.propose("shared-key", p, a, m.agreement(p, a)+", but "+why)
			m.issue("shared-key", p, a, "%s", why)
			if m.PersonState[p] == Undecided {
				m.contestPerson(p, why)
				m.unsureP[p] = true
			}
		}
	case len(twins) == 1 && m.PersonState[twins[0]] == Twinned && !ownerGone && m.surelySecond(twins[0], a):
		p := twins[0]
		m.AccountState[a], m.AccountTwin[a] = Duplicate, record.Row(p)
		m.AccountNote[a] = fmt.Sprintf("%s with person %q, who has account %q", m.agreement(p, a), m.in.People.ID(p), m.in.Accounts.ID(int(m.PersonTwin[p])))
		m.issue("duplicate-account", p, a, "%s", m.AccountNote[a])
	case len(twins) > 0:
		why := "shares a key value with people who have accounts already"
		m.contestAccount(a, why)
		m.unsureA[a] = true
		for _, p := range twins {
			m.propose("shared-key", p, a, m.agreement(p, a)+", but the person has another account")
			m.issue("shared-key", p, a, "%s, but the person has another account and the names differ or several people share it", m.agreement(p, a))
		}
	case common != "":
		m.contestAccount(a, common)
		m.unsureA[a] = true
	}
}

// surelySecond: an account is called somebody's second one, to be closed, only
// when it says so itself: by the same name, or, where it carries none, by a login
// that is made of theirs.
func (m *matcher) surelySecond(p, a int) bool {
	if len(nameWords(m.in.Accounts, a)) > 0 {
		return SameName(m.in.People, p, m.in.Accounts, a)
	}
	return likeness.Login(NameOf(m.in.People, p), m.in.Accounts.Column("userName").Cell(a)).Level > likeness.Differ
}

// doubtSeconds asks about second accounts that may be another human's after all:
// somebody of the same name is left without one, or in doubt.
func (m *matcher) doubtSeconds() {
	var seconds []int
	for _, row := range m.in.Accounts.Order() {
		if m.AccountState[row] == Duplicate {
			seconds = append(seconds, int(row))
		}
	}
	if len(seconds) == 0 {
		return
	}
	open := map[string][]int{}
	for _, a := range seconds {
		if words := strings.Join(nameWords(m.in.Accounts, a), " "); words != "" {
			open[words] = nil
		}
	}
	alike := make([]bool, m.in.People.Len())
	parallel.InChunks(m.in.Cores, len(alike), func() func(from, to int) {
		return func(from, to int) {
			for p := from; p < to; p++ {
				if s := m.PersonState[p]; s == Missing || s == Contested {
					_, alike[p] = open[strings.Join(nameWords(m.in.People, p), " ")]
				}
			}
		}
	})
	for _, row := range m.in.People.Order() {
		if alike[row] {
			words := strings.Join(nameWords(m.in.People, int(row)), " ")
			open[words] = append(open[words], int(row))
		}
	}
	doubted := map[int]bool{}
	for _, a := range seconds {
		words := strings.Join(nameWords(m.in.Accounts, a), " ")
		if words == "" {
			continue
		}
		if n := len(open[words]); n > mostRepeated { // who of so many cannot be asked of each
			doubted[a], m.AccountTwin[a], m.AccountNote[a] = true, -1, ""
			why := fmt.Sprintf("a second account, or that of one of %d people of that name who have none", n)
			m.contestAccount(a, why)
			m.issue("contested-match", -1, a, "%s", why)
			continue
		}
		why := fmt.Sprintf("a second account of person %q, or this person's, who has the same name", m.in.People.ID(int(m.AccountTwin[a])))
		for _, p := range open[words] { // several may have it
			if m.different[edge{record.Row(p), record.Row(a)}] {
				continue
			}
			doubted[a] = true
			m.AccountTwin[a], m.AccountNote[a] = -1, ""
			m.contestAccount(a, why)
			m.contestPerson(p, why)
			m.propose("contested-match", p, a, why)
			m.issue("contested-match", p, a, "%s", why)
		}
	}
	m.Issues = slices.DeleteFunc(m.Issues, func(i Issue) bool { return i.Code == "duplicate-account" && doubted[i.Account] })
}

// cased asks about ids that are one but for upper and lower case: they are two
// values, and a human who typed one of them may have meant the other.
func (m *matcher) cased() {
	for k, key := range m.in.Keys {
		if !key.Exact {
			continue
		}
		folded := map[string][]int{}
		for _, row := range m.in.Accounts.Order() {
			if a := int(row); m.AccountState[a] == Undecided && m.takesPart(a) {
				record.EachValue(key.Accounts.Cell(a), func(v string) {
					f := record.Normal(record.Text, v)
					folded[f] = append(folded[f], a)
				})
			}
		}
		if len(folded) == 0 {
			continue
		}
		for _, row := range m.in.People.Order() {
			p := int(row)
			if m.PersonState[p] != Undecided {
				continue
			}
			record.EachValue(key.People.Cell(p), func(v string) {
				alike := folded[record.Normal(record.Text, v)]
				if len(alike) > mostRepeated {
					return // no id, whatever its case
				}
				for _, a := range alike {
					if !m.different[edge{record.Row(p), record.Row(a)}] && !m.agree(k, p, a) {
						m.ask("contested-match", p, a, fmt.Sprintf("key %q agrees but for upper and lower case, which ids tell apart", key.Name))
					}
				}
			})
		}
	}
}

func (m *matcher) leftPerson(p int) {
	var owners, others []int // people twinned with an account that shares a value; people who share one
	lone := -1               // an account, in doubt itself, that shares a value
	common := ""
	m.sharers(func(k int) string { return m.in.Keys[k].People.Cell(p) }, func(k int, v string, x *index, e *entry) {
		if e.common() {
			common = m.commonValue(k, v, e)
			return
		}
		x.eachAccount(e, func(a int) {
			switch {
			case m.different[edge{record.Row(p), record.Row(a)}]:
			case m.AccountState[a] == Twinned:
				owners = appendNew(owners, int(m.AccountTwin[a]))
			case lone < 0 || m.in.Accounts.ID(a) < m.in.Accounts.ID(lone): // of several, always the same
				lone = a
			}
		})
		x.eachPerson(e, func(q int) {
			if q != p {
				others = appendNew(others, q)
			}
		})
	})
	m.byID(m.in.People, owners)
	m.byID(m.in.People, others)
	namesakes := slices.DeleteFunc(slices.Clone(others), func(q int) bool { return !SameName(m.in.People, p, m.in.People, q) })
	for _, q := range owners {
		if SameName(m.in.People, p, m.in.People, q) {
			namesakes = appendNew(namesakes, q)
		}
	}
	twinned := slices.IndexFunc(namesakes, func(q int) bool { return m.PersonState[q] == Twinned })
	switch {
	case lone >= 0:
		why := "shares a key value with an account that is in doubt"
		m.contestPerson(p, why)
		m.unsureP[p] = true
		m.propose("shared-key", p, lone, m.agreement(p, lone)+", but the account is in doubt")
		m.issue("shared-key", p, lone, "%s, but the account is in doubt", m.agreement(p, lone))
	case twinned >= 0:
		q := namesakes[twinned]
		m.PersonState[p], m.PersonTwin[p] = Duplicate, m.PersonTwin[q]
		m.PersonNote[p] = fmt.Sprintf("listed again: person %q has the same name and shares a key", m.in.People.ID(q))
		m.issue("duplicate-person", p, int(m.PersonTwin[q]), "%s", m.PersonNote[p])
	case len(owners) > 0:
		a := int(m.PersonTwin[owners[0]])
		m.contestPerson(p, "shares a key value with another person's account")
		m.unsureP[p] = true
		m.propose("shared-key", p, a, fmt.Sprintf("%s, but the account is the twin of person %q", m.agreement(p, a), m.in.People.ID(owners[0])))
		m.issue("shared-key", p, a, "%s, but the account is the twin of person %q", m.agreement(p, a), m.in.People.ID(owners[0]))
	case len(namesakes) > 0:
		why := fmt.Sprintf("person %q has the same name and shares a key; it is undecided which record to keep", m.in.People.ID(namesakes[0]))
		m.contestPerson(p, why)
		m.issue("duplicate-person", p, -1, "%s", why)
	case slices.ContainsFunc(others, func(q int) bool { return m.PersonState[q] != Twinned }):
		why := fmt.Sprintf("person %q carries the same key value", m.in.People.ID(others[0]))
		m.contestPerson(p, why)
		m.issue("shared-key", p, -1, "%s", why)
	case common != "":
		m.contestPerson(p, common)
		m.unsureP[p] = true
	}
}

// remaining: whoever neither key nor evidence gives a twin has none.
func (m *matcher) remaining() {
	for a, state := range m.AccountState {
		if state == Undecided && m.takesPart(a) {
			m.AccountState[a] = Orphan
		}
	}
	for p, state := range m.PersonState {
		if state == Undecided {
			m.PersonState[p] = Missing
		}
	}
}

// repeated tells of records of one side that share a key value and a name, and
// that nothing has told of yet: two people who each have an account, and two
// accounts that nobody owns. Their states stay: it is for a human to merge them.
func (m *matcher) repeated() {
	each := func(r *record.Roster, rows []int, holds func(row int) bool, tell func(first, other int)) {
		m.byID(r, rows)
		for i, other := range rows {
			for _, first := range rows[:i] {
				if holds(first) && holds(other) && SameName(r, first, r, other) {
					tell(first, other)
					break
				}
			}
		}
	}
	for k, x := range m.indexes {
		name := m.in.Keys[k].Name
		for i := range x.entries {
			e := &x.entries[i]
			if e.people > 1 && e.people <= mostRepeated {
				var rows []int
				x.eachPerson(e, func(p int) { rows = append(rows, p) })
				each(m.in.People, rows, func(p int) bool { return m.PersonState[p] == Twinned }, func(first, other int) {
					m.issue("duplicate-person", other, int(m.PersonTwin[other]), "person %q has the same name and the same %s, and each has an account (%q and %q)", m.in.People.ID(first), name,
						m.in.Accounts.ID(int(m.PersonTwin[first])), m.in.Accounts.ID(int(m.PersonTwin[other])))
				})
			}
			if e.counts > 1 && e.counts <= mostRepeated && e.people == 0 {
				var rows []int
				x.eachAccount(e, func(a int) { rows = append(rows, a) })
				each(m.in.Accounts, rows, m.ownerless, func(first, other int) {
					keep, why := m.later(first, other)
					m.issue("duplicate-account", -1, other, "account %q has the same name and the same %s, and nobody owns either; keep %q: %s", m.in.Accounts.ID(first), name, m.in.Accounts.ID(keep), why)
				})
			}
		}
	}
}

// ownerless: nobody owns the account, nor did anybody who has vanished.
func (m *matcher) ownerless(a int) bool {
	_, ownerGone := m.Vanished[a]
	return m.AccountState[a] == Orphan && !ownerGone
}

func (m *matcher) byID(r *record.Roster, rows []int) {
	slices.SortFunc(rows, func(a, b int) int { return strings.Compare(r.ID(a), r.ID(b)) })
}

func appendNew[T comparable](list []T, v T) []T {
	if slices.Contains(list, v) {
		return list
	}
	return append(list, v)
}

// exempt applies what holds whatever the pairing said: records left alone,
// outside, left out or claimed are exempt, and so is the twin of such a record;
// records that could not be read are never concluded about.
func (m *matcher) exempt() {
	for a := range m.AccountState {
		id := m.in.Accounts.ID(a)
		switch {
		case len(m.in.Claims[id]) > 0 && m.AccountState[a] == Undecided:
			m.exemptAccount(a, "claimed by lane "+joinNames(m.in.Claims[id]))
			if len(m.in.Claims[id]) > 1 {
				m.issue("claimed-twice", -1, a, "claimed by lanes %s", joinNames(m.in.Claims[id]))
			}
		case !m.takesPart(a) && m.AccountState[a] != Contested:
			m.exemptAccount(a, "outside accounts.where")
		}
		if why, ok := m.in.LeftAccounts[id]; ok {
			m.exemptAccount(a, "left alone: "+why)
		}
		if why, ok := m.in.Unclear[a]; ok {
			m.contestAccount(a, why)
			m.issue("value-invalid", -1, a, "accounts.where can't be told for this account: %s", why)
		}
		if m.AccountState[a] == Twinned || m.AccountState[a] == Exempt {
			continue
		}
		if g, left := m.in.Accounts.Left(a); left {
			m.exemptAccount(a, "left out: "+g.Reason)
		} else if _, unread := m.in.Accounts.Unread(a); unread {
			m.contestAccount(a, "present, but its row could not be read")
		}
	}
	for p := range m.PersonState {
		if why, ok := m.in.LeftPeople[m.in.People.ID(p)]; ok {
			m.exemptPerson(p, "left alone: "+why)
		}
		if m.PersonState[p] == Twinned || m.PersonState[p] == Exempt {
			continue
		}
		if g, left := m.in.People.Left(p); left {
			m.exemptPerson(p, "left out: "+g.Reason)
		} else if _, unread := m.in.People.Unread(p); unread {
			m.contestPerson(p, "present, but its row could not be read")
		}
	}
}

func (m *matcher) exemptAccount(a int, why string) {
	p := int(m.AccountTwin[a])
	was := m.AccountState[a]
	m.AccountState[a], m.AccountNote[a], m.AccountTwin[a] = Exempt, why, -1
	if was == Twinned {
		m.PersonState[p], m.PersonNote[p], m.PersonTwin[p] = Exempt, "its account is "+why, -1
	}
}

func (m *matcher) exemptPerson(p int, why string) {
	a := int(m.PersonTwin[p])
	was := m.PersonState[p]
	m.PersonState[p], m.PersonNote[p], m.PersonTwin[p] = Exempt, why, -1
	if was == Twinned {
		m.AccountState[a], m.AccountNote[a], m.AccountTwin[a] = Exempt, "its person is "+why, -1
	}
}
