package pairing

import (
	"fmt"
	"slices"

	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/record"

	"twinning/internal/core/parallel"
)

// matcher is one run of the algorithm.
type matcher struct {
	*Result
	in        Input
	indexes   []*index
	different map[edge]bool
	odd       map[int][]int // person -> further accounts by keys, beyond one a key
	oddA      map[int][]int
	ruledP    map[int]bool
	unsureP   map[int]bool // contested for what keys say alone: evidence may settle it
	unsureA   map[int]bool
	// pairs that one key makes and all else speaks against, with the key
	recycledBy map[edge]int
	suspects   []bool               // by person: the one account that keys lead to is called otherwise
	faced      []bool               // by person: the one account that keys lead to is called by another given name, see strangers
	commons    map[string]string    // values that many carry, with what is told of them
	mutual     []record.Row         // by person: the account that keys lead to, and back, with nothing against it; -1
	compared   []Compared           // what is told of the pairs that evidence compared
	plain      [2]*evidence.Records // people, accounts, before anything is known of their names
}

func plainRecords(in Input) (r [2]*evidence.Records) {
	var wg parallel.Group
	wg.Go(func() { r[0] = evidence.People(in.People, in.Cores) })
	wg.Go(func() { r[1] = evidence.Accounts(in.Accounts, in.Cores) })
	wg.Wait()
	return r
}

func newMatcher(in Input) *matcher {
	m := &matcher{Result: newResult(in.People.Len(), in.Accounts.Len()), in: in, different: map[edge]bool{}, odd: map[int][]int{}, oddA: map[int][]int{}, ruledP: map[int]bool{}, unsureP: map[int]bool{}, unsureA: map[int]bool{}, recycledBy: map[edge]int{}, commons: map[string]string{}}
	for _, d := range in.Different {
		p, ok1 := in.People.Find(d.Person)
		a, ok2 := in.Accounts.Find(d.Account)
		if ok1 && ok2 {
			m.different[edge{record.Row(p), record.Row(a)}] = true
		}
	}
	barred := func(p, a int) bool {
		return len(m.different) > 0 && m.different[edge{record.Row(p), record.Row(a)}]
	}
	m.indexes = make([]*index, len(in.Keys))
	var wg parallel.Group
	wg.Go(func() { m.plain = plainRecords(in) })
	for k, key := range in.Keys {
		wg.Go(func() {
			x := newIndex(key, in.People.Len(), in.Accounts.Len(), m.takesPart)
			x.edges(in.People.Len(), in.Accounts.Len(), barred)
			m.indexes[k] = x
		})
	}
	wg.Wait()
	for _, x := range m.indexes {
		for _, e := range x.extra {
			m.odd[int(e.p)] = append(m.odd[int(e.p)], int(e.a))
			m.oddA[int(e.a)] = append(m.oddA[int(e.a)], int(e.p))
		}
	}
	return m
}

// takesPart: accounts that the charter or another lane's claim puts outside
// this lane neither pair nor make a value shared.
func (m *matcher) takesPart(a int) bool {
	if m.in.Outside != nil && m.in.Outside[a] {
		return false
	}
	return len(m.in.Claims) == 0 || len(m.in.Claims[m.in.Accounts.ID(a)]) == 0
}

func (m *matcher) issue(code string, p, a int, format string, args ...any) {
	m.Issues = append(m.Issues, Issue{Code: code, Person: p, Account: a, Detail: fmt.Sprintf(format, args...)})
}

func (m *matcher) rulings() {
	for _, s := range m.in.Same {
		p, ok1 := m.in.People.Find(s.Person)
		a, ok2 := m.in.Accounts.Find(s.Account)
		switch {
		case !ok1 || !ok2:
			continue // one of them is gone; nothing to join
		case m.PersonState[p] == Twinned || m.AccountState[a] == Twinned:
			m.contestPerson(p, "two rulings join it with different records")
			m.contestAccount(a, "two rulings join it with different records")
			m.propose("contested-match", p, a, "two rulings contradict each other")
			m.issue("contested-match", p, a, "two rulings name different twins; clear one of them")
		case len(m.in.Claims[s.Account]) > 0:
			m.claimedTwice(p, a, "ruled to be one here")
		default:
			m.join(p, a, Ruled)
			m.ruledP[p] = true
		}
	}
}

func (m *matcher) bonds() {
	people, accounts := m.plain[0].Reader(), m.plain[1].Reader()
	for _, b := range m.in.Bonds {
		p, hasPerson := m.in.People.Find(b.Person)
		a, hasAccount := m.in.Accounts.Find(b.Account)
		switch {
		case !hasPerson && !hasAccount:
			continue
		case !hasPerson:
			m.Vanished[a] = b.Person
		case !hasAccount:
			if m.PersonState[p] == Undecided {
				m.contestPerson(p, "its bonded account is gone")
				m.issue("bond-broken", p, -1, "account %q, bonded with this person, is no longer in the downstream; it is not created again unasked", b.Account)
			}
		case m.different[edge{record.Row(p), record.Row(a)}] || m.ruledP[p] || m.AccountState[a] != Undecided || m.PersonState[p] != Undecided:
			continue // a ruling, or an earlier bond, stands
		case len(m.in.Claims[b.Account]) > 0:
			m.claimedTwice(p, a, "bonded here")
		case m.doubted(p, a):
			why := "keys contradict its bond"
			m.contestPerson(p, why)
			m.contestAccount(a, why)
			m.propose("bond-doubted", p, a, "bonded, but no key agrees any more and keys point elsewhere")
			m.issue("bond-doubted", p, a, "bonded with each other, but no key agrees any more and keys point elsewhere")
		case m.estranged(people, accounts, p, a, b):
			why := "bonded, but names, login and addresses are another's"
			m.contestPerson(p, why)
			m.contestAccount(a, why)
			m.propose("bond-doubted", p, a, why+": was the id given a second time?")
			m.issue("bond-doubted", p, a, "%s: was the id given a second time?", why)
		default:
			m.join(p, a, Bonded)
			m.Guessed[p], m.Ours[p] = b.Basis == Weighed.String(), b.Basis == Created
		}
	}
}

func (m *matcher) claimedTwice(p, a int, here string) {
	m.contestPerson(p, "another lane holds its account as well")
	m.contestAccount(a, "another lane holds it as well")
	m.issue("claimed-twice", p, a, "%s, and held by lane %s", here, joinNames(m.in.Claims[m.in.Accounts.ID(a)]))
}

// doubted: no key of the two agrees, and a key takes one of them elsewhere.
func (m *matcher) doubted(p, a int) bool {
	elsewhere := len(m.odd[p])+len(m.oddA[a]) > 0 // which of two edges of one record is odd, the order of the rows says
	for k, x := range m.indexes {
		if m.agree(k, p, a) {
			return false
		}
		elsewhere = elsewhere || x.edgeP[p] >= 0 || x.edgeA[a] >= 0
	}
	return elsewhere
}

func (m *matcher) agree(k, p, a int) bool {
	found := false
	record.EachValue(m.in.Keys[k].People.Cell(p), func(v string) {
		record.EachValue(m.in.Keys[k].Accounts.Cell(a), func(w string) { found = found || v == w })
	})
	return found
}

// disagree: both carry the key and share no value.
func (m *matcher) disagree(k, p, a int) bool {
	return m.in.Keys[k].People.Cell(p) != "" && m.in.Keys[k].Accounts.Cell(a) != "" && !m.agree(k, p, a)
}

// pointedAt lists the accounts that the person's keys lead to, without repeats.
func (m *matcher) pointedAt(p int, into []int) []int {
	into = into[:0]
	for _, x := range m.indexes {
		if a := x.edgeP[p]; a >= 0 && !slices.Contains(into, int(a)) {
			into = append(into, int(a))
		}
	}
	if len(m.odd) > 0 {
		for _, a := range m.odd[p] {
			if !slices.Contains(into, a) {
				into = append(into, a)
			}
		}
	}
	return into
}

func (m *matcher) pointing(a int, into []int) []int {
	into = into[:0]
	for _, x := range m.indexes {
		if p := x.edgeA[a]; p >= 0 && !slices.Contains(into, int(p)) {
			into = append(into, int(p))
		}
	}
	if len(m.oddA) > 0 {
		for _, p := range m.oddA[a] {
			if !slices.Contains(into, p) {
				into = append(into, p)
			}
		}
	}
	return into
}

// suspect finds the people whom one key alone gives an account, when all else that the two
// say of themselves speaks against it, as when a number or an address was given a second
// time. Where too little is known to speak, nobody is. Of nearly everybody it is known by
// the names alone; the others are compared on all cores at once. On the way it finds those
// of whom there is no more to be said than that their keys lead to each other.
func (m *matcher) suspect() {
	m.suspects, m.faced, m.mutual = make([]bool, m.in.People.Len()), make([]bool, m.in.People.Len()), filled(m.in.People.Len())
	parallel.InChunks(m.in.Cores, len(m.suspects), func() func(from, to int) {
		var there, back []int
		people, accounts, spelling := m.plain[0].Reader(), m.plain[1].Reader(), spellings(m.in.People, m.in.Accounts)
		return func(from, to int) {
			for p := from; p < to; p++ {
				if there = m.pointedAt(p, there); len(there) != 1 {
					continue
				}
				a := there[0]
				if !spelling.same(p, a) {
					m.suspects[p], m.faced[p] = m.namedOtherwise(people, p, accounts, a)
				}
				if m.suspects[p] || m.faced[p] {
					continue
				}
				if back = m.pointing(a, back); len(back) != 1 {
					continue
				}
				if first := m.firstAgreement(p, a); !m.disagreeBefore(first, p, a) {
					m.mutual[p], m.By[p] = record.Row(a), uint8(first) // charters have few keys
				}
			}
		}
	})
}

// namedOtherwise tells of two who are not called the same to the letter whether the account is
// another's by all that is known, and whether it looks like another human's by name and address.
func (m *matcher) namedOtherwise(people *evidence.Reader, p int, accounts *evidence.Reader, a int) (suspect, faced bool) {
	one := m.agreements(p, a) <= 1
	if !one && reachedAlike(m.in.People, p, m.in.Accounts, a) {
		return false, false // the names, which take longer to compare, would not matter
	}
	named := evidence.Named(people, p, accounts, a)
	// all that relatives have in common is a surname; whom a bond joins may have taken
	// another given name, of others a number given again is likelier
	suspect = one && !named.NamesAgree() && (named.NamesDiffer() || named.Relatives()) && m.reachedOtherwise(p, a)
	return suspect, strangers(&named, m.in.People, p, m.in.Accounts, a)
}

// firstAgreement is the first key that two records agree on; there is one.
func (m *matcher) firstAgreement(p, a int) int {
	for k, x := range m.indexes {
		if x.edgeP[p] == record.Row(a) || m.agree(k, p, a) {
			return k
		}
	}
	return -1
}

func (m *matcher) disagreeBefore(first, p, a int) bool {
	for k := range first {
		if m.disagree(k, p, a) {
			return true
		}
	}
	return false
}

// agreements counts the keys that two records agree on.
func (m *matcher) agreements(p, a int) (n int) {
	for k, x := range m.indexes {
		if x.edgeP[p] == record.Row(a) || m.agree(k, p, a) {
			n++
		}
	}
	return n
}

func (m *matcher) keys() {
	m.suspect()
	var there, back []int
	for _, row := range m.in.People.Order() {
		p := int(row)
		if m.PersonState[p] != Undecided {
			continue
		}
		if a := int(m.mutual[p]); a >= 0 && m.AccountState[a] == Undecided {
			if _, bonded := m.Vanished[a]; !bonded {
				m.join(p, a, Keyed)
				continue
			}
		}
		there = m.pointedAt(p, there)
		if len(there) == 1 && m.AccountState[there[0]] == Undecided {
			if back = m.pointing(there[0], back); len(back) == 1 {
				m.byKey(p, there[0])
				continue
			}
		}
		if len(there) > 0 {
			m.tangled(p, there)
		}
	}
}

// byKey joins two records whose keys lead to each other and nowhere else,
// unless something speaks against it that a careful person would stop at.
func (m *matcher) byKey(p, a int) {
	first := m.firstAgreement(p, a)
	if bonded, ok := m.Vanished[a]; ok {
		why := "bonded with a person who is gone"
		m.contestPerson(p, "a key leads to an account that is "+why)
		m.contestAccount(a, why)
		m.propose("bond-broken", p, a, fmt.Sprintf("key %q agrees, but the account is bonded with %q, who is gone", m.in.Keys[first].Name, bonded))
		m.issue("bond-broken", p, a, "the account is bonded with person %q, who is gone, and key %q now gives it to another", bonded, m.in.Keys[first].Name)
		return
	}
	for k := range first {
		if m.disagree(k, p, a) && m.suspended(p, a) {
			m.ask("rehire", p, a, fmt.Sprintf("key %q agrees and %q before it differs, and the account is suspended: hired again?", m.in.Keys[first].Name, m.in.Keys[k].Name))
			return
		}
		if m.disagree(k, p, a) && !SameName(m.in.People, p, m.in.Accounts, a) {
			why := fmt.Sprintf("key %q agrees, but %q before it and the names differ", m.in.Keys[first].Name, m.in.Keys[k].Name)
			m.ask("contested-match", p, a, why)
			return
		}
	}
	if m.suspects[p] {
		m.ask("recycled-key", p, a, fmt.Sprintf("key %q agrees, but names and login are another's", m.in.Keys[first].Name))
		m.recycledBy[edge{record.Row(p), record.Row(a)}] = first
		return
	}
	if m.faced[p] {
		m.ask("contested-match", p, a, fmt.Sprintf("key %q agrees, but the given names do not, and neither does an address or a telephone: two humans?", m.in.Keys[first].Name))
		return
	}
	m.join(p, a, Keyed)
	m.By[p] = uint8(first) // charters have few keys
}

// suspended: the person is here, and the account is shut.
func (m *matcher) suspended(p, a int) bool {
	return m.in.Accounts.Column("active").Cell(a) == "false" && m.in.People.Column("active").Cell(p) != "false"
}

// ask contests a pair for what its keys say, which evidence may still settle.
func (m *matcher) ask(code string, p, a int, why string) {
	m.contestPerson(p, why)
	m.contestAccount(a, why)
	m.propose(code, p, a, why)
	m.issue(code, p, a, "%s", why)
	m.unsureP[p], m.unsureA[a] = true, true
}

// spelling compares the names of people and accounts to the letter.
type spelling struct{ family, given, accountFamily, accountGiven *record.Column }

func spellings(people, accounts *record.Roster) *spelling {
	return &spelling{people.Column("familyName"), people.Column("givenName"), accounts.Column("familyName"), accounts.Column("givenName")}
}

// same reports whether two records are called the same.
func (s *spelling) same(p, a int) bool {
	family := s.family.Cell(p)
	return family != "" && family == s.accountFamily.Cell(a) && s.given.Cell(p) == s.accountGiven.Cell(a)
}

// reachedOtherwise: the login is not made of the name, and no address is alike.
func (m *matcher) reachedOtherwise(p, a int) bool {
	people, accounts := m.in.People, m.in.Accounts
	return likeness.Login(NameOf(people, p), accounts.Column("userName").Cell(a)).Level <= likeness.Differ &&
		likeness.Emails(people.Column("emails").Values(p), accounts.Column("emails").Values(a)).Level != likeness.Part
}

// estranged: of two who are bonded, one key at most agrees, which may well be the
// mark that we wrote ourselves, and all else is another's: the person's id was
// given a second time. A bond that a human made is not looked at.
func (m *matcher) estranged(people, accounts *evidence.Reader, p, a int, b Bond) bool {
	if b.Basis == Ruled.String() || spellings(m.in.People, m.in.Accounts).same(p, a) {
		return false
	}
	named := evidence.Named(people, p, accounts, a)
	return m.agreements(p, a) <= 1 && named.NamesDiffer() && m.reachedOtherwise(p, a)
}

// NameOf is what a record says of somebody's name.
func NameOf(r *record.Roster, i int) likeness.Name {
	return likeness.Name{Given: r.Column("givenName").Cell(i), Middle: r.Column("middleName").Cell(i), Family: r.Column("familyName").Cell(i), Full: r.Column("displayName").Cell(i)}
}

// tangled handles a person whose keys lead to several accounts, or to one that
// others lead to as well. Whatever a ruling or a bond has decided stands.
func (m *matcher) tangled(p int, there []int) {
	open := false
	for _, a := range there {
		switch m.AccountState[a] {
		case Twinned:
			if int(m.AccountTwin[a]) == p {
				return
			}
			if basis := m.Basis[m.AccountTwin[a]]; basis == Ruled || basis == Bonded {
				continue // leftovers() will call p a duplicate or contested
			}
			open = true
		default:
			open = true
		}
	}
	if !open {
		return
	}
	why := "keys lead to different records"
	m.contestPerson(p, why)
	m.unsureP[p] = true
	var back []int
	for _, a := range there {
		if m.AccountState[a] == Twinned {
			continue
		}
		m.contestAccount(a, why)
		m.unsureA[a] = true
		m.propose("contradictory-keys", p, a, m.agreement(p, a))
		m.issue("contradictory-keys", p, a, "%s; other keys lead elsewhere", m.agreement(p, a))
		back = m.pointing(a, back)
		for _, q := range back {
			if q != p && m.PersonState[q] == Undecided {
				m.contestPerson(q, why)
				m.unsureP[q] = true
				m.propose("contradictory-keys", q, a, m.agreement(q, a))
				m.issue("contradictory-keys", q, a, "%s; other keys lead elsewhere", m.agreement(q, a))
			}
		}
	}
}

func (m *matcher) agreement(p, a int) string {
	var agree []string
	for k := range m.in.Keys {
		if m.agree(k, p, a) {
			agree = append(agree, m.in.Keys[k].Name)
		}
	}
	if len(agree) == 0 {
		return "no key agrees"
	}
	return fmt.Sprintf("agree on %s", joinNames(agree))
}

// SameName reports whether two records carry one human's name: the same words
// of display name or given and family name, folded, in any order. A record
// without a name has none in common with anybody.
func SameName(r *record.Roster, i int, s *record.Roster, j int) bool {
	x, y := nameWords(r, i), nameWords(s, j)
	return len(x) > 0 && slices.Equal(x, y)
}
