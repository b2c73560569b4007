package population

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"twinning/internal/core/record"
)

// Noise is how carelessly the two lists were kept.
type Noise string

// The levels.
const (
	Low    Noise = "low"
	Medium Noise = "medium"
	High   Noise = "high"
)

// rates of a level, as shares of the twins (traps: of the people).
type rates struct {
	noKey, noNumber, oldDomain, typo, nickname, married, accents, cut, numberForm, noPhone, moved, retitled, onlyShown, recreated, trap float64
}

var levels = map[Noise]rates{
	Low:    {noKey: 0.03, noNumber: 0.15, oldDomain: 0.02, typo: 0.01, nickname: 0.02, married: 0.005, accents: 0.10, cut: 0.02, numberForm: 0.01, noPhone: 0.2, moved: 0.05, retitled: 0.05, onlyShown: 0.05, recreated: 0.1, trap: 0.00075},
	Medium: {noKey: 0.08, noNumber: 0.25, oldDomain: 0.05, typo: 0.03, nickname: 0.05, married: 0.01, accents: 0.20, cut: 0.04, numberForm: 0.02, noPhone: 0.4, moved: 0.12, retitled: 0.15, onlyShown: 0.1, recreated: 0.25, trap: 0.0015},
	High:   {noKey: 0.15, noNumber: 0.45, oldDomain: 0.12, typo: 0.06, nickname: 0.10, married: 0.02, accents: 0.35, cut: 0.08, numberForm: 0.05, noPhone: 0.6, moved: 0.25, retitled: 0.30, onlyShown: 0.2, recreated: 0.45, trap: 0.003},
}

// human is one person, with the account that they have, if any.
type human struct {
	no, given, middle, family, mail, phone, title, dept, site, status, kind, start, room, cost, born string
	account                                                                                          *login
	why                                                                                              string // of the truth's line
}

type login struct {
	id, mark, name, given, family, display, mail, other, phone, title, dept, created string
	active                                                                           bool
}

type maker struct {
	rng      *rand.Rand
	r        rates
	house    House
	families []string
	weights  []float64 // summed up
	people   []*human
	loose    []*login // accounts without a person
	truth    []string // of what is nobody's twin: traps to fall into
	used     map[string]int
	next     int
}

// WriteNoisy makes people.csv, accounts.csv and truth.csv (person, account,
// kind) with about n people in dir: lists as they are found, with namesakes, a
// village that shares one surname, spelling of every sort, and every trap that
// joins two humans. The same arguments give the same bytes.
func WriteNoisy(dir string, n int, seed uint64, noise Noise, house House) error {
	m := &maker{rng: rand.New(rand.NewPCG(seed, uint64(n))), r: levels[noise], house: house, used: map[string]int{}} // repeatable on purpose
	m.surnames(max(300, n/20))
	for range n {
		m.add()
	}
	m.traps(max(2, int(m.r.trap*float64(n))))
	m.neighbours(n)
	return m.write(dir)
}

// surnames by Zipf's law, as people have them.
func (m *maker) surnames(n int) {
	m.families = append([]string{}, m.house.Families...)
	for len(m.families) < n {
		m.families = append(m.families, m.house.Surname(m))
	}
	sum := 0.0
	for i := range m.families {
		sum += 1 / math.Pow(float64(i+3), 0.9)
		m.weights = append(m.weights, sum)
	}
}

func (m *maker) surname() string {
	x := m.rng.Float64() * m.weights[len(m.weights)-1]
	i, _ := slices.BinarySearch(m.weights, x)
	return m.families[i]
}

func (m *maker) one(list []string) string  { return list[m.rng.IntN(len(list))] }
func (m *maker) chance(share float64) bool { return m.rng.Float64() < share }

// address is free in the house.
func (m *maker) address(given, family, domain string) string {
	local := record.Slug(given) + "." + record.Slug(family)
	m.used[local+domain]++
	if n := m.used[local+domain]; n > 1 {
		local += fmt.Sprint(n)
	}
	return local + "@" + domain
}

func (m *maker) day() string {
	return fmt.Sprintf("%d-%02d-%02d", 2008+m.rng.IntN(18), 1+m.rng.IntN(12), 1+m.rng.IntN(28))
}

// person is somebody new, not yet listed.
func (m *maker) person() *human {
	m.next++
	house := &m.house
	h := &human{
		no: fmt.Sprintf("L%06d", 100000+m.next*7), given: m.one(house.Given), family: m.surname(), title: m.one(house.Titles),
		dept: m.one(house.Departments), site: fmt.Sprintf("site-%d", m.rng.IntN(house.Sites)), status: "A", kind: "staff", start: m.day(), why: "plain",
	}
	if m.chance(0.02) { // the village
		h.family = house.Village
	}
	if m.chance(house.Cohorts) {
		h.start = fmt.Sprintf("%d-09-01", 2016+m.rng.IntN(10))
	}
	if m.chance(house.Middle) {
		h.middle = m.one(house.Given)
	}
	if m.chance(house.Double) {
		h.family += "-" + m.surname()
	}
	switch {
	case m.chance(m.r.noPhone):
	case m.chance(house.Ward):
		h.phone = fmt.Sprintf("+56 2 6%03d %04d", len(h.dept)*7%1000, int(h.dept[len(h.dept)-1])*31+int(h.site[len(h.site)-1]))
	case m.chance(house.Switchboard):
		h.phone = fmt.Sprintf("+56 2 2000 %04d", m.rng.IntN(4))
	default:
		h.phone = fmt.Sprintf("+56 2 2%03d %04d", m.rng.IntN(1000), m.rng.IntN(10000))
	}
	h.mail = m.address(h.given, h.family, "larkspur.example")
	h.room, h.cost, h.born = fmt.Sprintf("%c%03d", 'A'+len(h.dept)%4, m.next%400), fmt.Sprintf("CC-%d", 1000+m.next%37), fmt.Sprintf("%d-%02d-%02d", 1958+m.next%45, 1+m.next%12, 1+m.next%28)
	return h
}

// add lists one human, mostly with an account.
func (m *maker) add() {
	h := m.newcomer()
	if m.chance(max(withoutAccount, m.house.Without)) {
		return
	}
	m.enrol(h)
	if m.chance(left) {
		h.status = "L"
	}
}

// enrol makes the account as somebody else typed it.
func (m *maker) enrol(h *human) *login {
	house := &m.house
	a := &login{
		id: fmt.Sprintf("u%07d", m.rng.IntN(10000000)), mark: h.no, given: h.given, family: h.family, mail: h.mail, phone: h.phone, title: h.title, dept: h.dept, created: h.start, active: true,
	}
	if m.chance(m.r.noNumber) {
		a.mark = ""
	} else if m.chance(m.r.numberForm) {
		a.mark = m.one([]string{strings.TrimPrefix(h.no, "L"), "000" + h.no[1:], h.no[1:] + ".0"})
		h.why = "number written otherwise"
	}
	if m.chance(m.r.noKey) {
		a.mark, h.why = "", "no key"
		if m.chance(house.OtherSeries) { // the application counts for itself
			a.mark = fmt.Sprintf("%s%06d", m.one([]string{"", "L", "E"}), 100000+m.rng.IntN(7*m.next+7))
		}
		a.mail = m.address(h.given, h.family, "old.example")
		if m.chance(0.4) { // nothing but the name
			a.mail = m.address(firstLetter(h.given), h.family, "other.example")
		}
		if m.chance(house.Handles) {
			a.mail = m.handle() + "@post.example"
		}
		m.withoutKey(h, a)
	} else if m.chance(m.r.oldDomain) {
		a.other, a.mail = h.mail, strings.Replace(h.mail, "larkspur", "candlewick", 1)
		h.why = "former domain"
	}
	if m.chance(house.NoPhones) {
		a.phone = ""
	}
	m.reached(a)
	if m.chance(house.NoDays) {
		a.created = ""
	} else if m.chance(m.r.recreated) {
		a.created = m.day()
	}
	if m.chance(m.r.moved) {
		a.dept = m.one(house.Departments)
	}
	if m.chance(m.r.retitled) {
		a.title = m.one(house.Titles)
	}
	switch {
	case m.chance(m.r.nickname):
		if short := shortForm[h.given]; short != "" {
			a.given = short
		}
	case m.chance(m.r.married):
		a.family, h.why = m.surname(), h.why+", married"
	case m.chance(m.r.typo):
		if m.chance(0.3) {
			a.given = m.mistyped(a.given)
		} else {
			a.family = m.mistyped(a.family)
		}
	}
	m.typedElsewhere(h, a)
	if house.Latin != nil {
		a.given, a.family = house.Latin(m, a.given), house.Latin(m, a.family)
	}
	if m.chance(m.r.accents) {
		a.given, a.family = plain(a.given), plain(a.family)
	}
	if m.chance(m.r.cut) {
		if first, _, _ := strings.Cut(a.family, "-"); len(first) > 3 { // "al-" is no name
			a.family = first
		}
	}
	a.display = a.given + " " + a.family
	if m.chance(house.Middle) && h.middle != "" {
		a.display = a.given + " " + firstLetter(h.middle) + ". " + a.family
	}
	if m.chance(house.FamilyFirst) {
		a.display = a.family + ", " + a.given
	}
	switch x := m.rng.IntN(3); {
	case m.chance(house.Handles):
		a.name = m.handle()
	case x == 0:
		a.name = record.Slug(firstLetter(a.given)) + record.Slug(a.family)
	case x == 1:
		a.name = record.Slug(a.given) + "." + record.Slug(a.family)
	default:
		a.name = record.Slug(a.given) + firstLetter(record.Slug(a.family))
	}
	m.used["login "+a.name]++
	if n := m.used["login "+a.name]; n > 1 {
		a.name += fmt.Sprint(n)
	}
	if m.chance(m.r.onlyShown) || m.chance(house.OnlyShown) {
		a.given, a.family = "", "" // only what is shown
	}
	h.account = a
	return a
}

// handle is a login that has nothing to do with the name.
func (m *maker) handle() string {
	return m.one([]string{"star", "moon", "red", "blue", "old", "fast", "night", "iron"}) + m.one([]string{"fox", "gazer", "owl", "rider", "stone", "wolf", "bird"}) + fmt.Sprint(m.rng.IntN(1000))
}

var shortForm = map[string]string{"Nicolás": "Nico", "Joaquín": "Quino", "José": "Pepe", "Tomás": "Tom", "Sofía": "Sofi", "Nadezhda": "Nadya", "Elena": "Lena", "Krzysztof": "Krzysiek", "Zoë": "Zo"}

func firstLetter(s string) string {
	for _, r := range s {
		return string(r)
	}
	return ""
}

func plain(s string) string {
	f := record.Fold(s)
	if f == "" {
		return s
	}
	return strings.ToUpper(f[:1]) + f[1:]
}

// mistyped swaps, drops or doubles a letter in the middle.
func (m *maker) mistyped(s string) string {
	r := []rune(s)
	if len(r) < 5 {
		return s
	}
	i := 1 + m.rng.IntN(len(r)-3)
	switch m.rng.IntN(3) {
	case 0:
		r[i], r[i+1] = r[i+1], r[i]
	case 1:
		r = slices.Delete(r, i, i+1)
	default:
		r = slices.Insert(r, i, r[i])
	}
	return string(r)
}

func (m *maker) write(dir string) error {
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return err
	}
	m.rng.Shuffle(len(m.people), func(i, j int) { m.people[i], m.people[j] = m.people[j], m.people[i] })
	accounts := slices.Clone(m.loose)
	for _, h := range m.people {
		if h.account != nil {
			accounts = append(accounts, h.account)
		}
	}
	m.rng.Shuffle(len(accounts), func(i, j int) { accounts[i], accounts[j] = accounts[j], accounts[i] })
	ids := map[string]bool{}
	listed := map[string]bool{}
	people := [][]string{{"staff_no", "given_name", "middle", "family_name", "mail", "phone", "job_title", "department", "site", "status", "employment", "start_date", "room", "cost_centre", "born"}}
	truth := [][]string{{"person_id", "account_id", "kind"}}
	for _, h := range m.people {
		if listed[h.no] {
			continue
		}
		listed[h.no] = true
		people = append(people, []string{h.no, h.given, h.middle, h.family, h.mail, h.phone, h.title, h.dept, h.site, h.status, h.kind, h.start, h.room, h.cost, h.born})
	}
	logins := [][]string{{"account_id", "external_id", "login", "given", "family", "display", "mail", "other_mail", "phone", "title", "dept", "active", "created"}}
	renamed := map[string]string{}
	for _, a := range accounts {
		old := a.id
		for ids[a.id] {
			a.id += "x"
		}
		ids[a.id] = true
		if a.id != old {
			renamed[old] = a.id
		}
		logins = append(logins, []string{a.id, a.mark, a.name, a.given, a.family, a.display, a.mail, a.other, a.phone, a.title, a.dept, fmt.Sprint(a.active), a.created})
	}
	for _, h := range m.people {
		if h.account != nil {
			truth = append(truth, []string{h.no, h.account.id, h.why})
		}
	}
	for _, l := range m.truth {
		truth = append(truth, strings.SplitN(l, ",", 3))
	}
	for name, rows := range map[string][][]string{"people.csv": people, "accounts.csv": logins, "truth.csv": truth} {
		f, err := os.Create(filepath.Join(dir, name))
		if err != nil {
			return err
		}
		b := bufio.NewWriterSize(f, 1<<20)
		if err := csv.NewWriter(b).WriteAll(rows); err != nil {
			return err
		}
		if err := b.Flush(); err != nil {
			return err
		}
		if err := f.Close(); err != nil {
			return err
		}
	}
	return nil
}
