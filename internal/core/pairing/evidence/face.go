package evidence

import (
	"slices"

	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/record"
)

// Face is what one record says about who it is, prepared for comparing.
type Face struct {
	name                        name
	locals                      []local // logins and local parts
	emails                      []address
	phones                      []phone
	numbers                     []number
	day                         int32 // since 1970; noDay: not known
	department, title, location text
	active                      int8 // 1 active, 0 not, -1 not known
	logins                      []made
	account                     bool       // of the downstream
	own                         []ownValue // what is declared
}

// made is a login that the name can be made into.
type made struct {
	key   uint64
	share float64 // how common such a name is
	full  bool    // of given and family name, neither cut nor an initial
}

const noDay = -1 << 30

// local is a login, or what stands before the @ of an address.
type local struct {
	text   uint64 // hash of it without separators, folded, with its digits
	key    uint64 // without the digits at its end
	share  float64
	digits uint8 // how many stand at its end; many are not counted
	made   bool  // the record's own name gives it
}

// address is an e-mail address, with how many others carry it too.
type address struct {
	key   uint64  // hash of its normalised form
	share float64 // of the records; 0: nobody else's
	// hashes: of its local part, and of that without the digits at its end
	text, letters, domain uint64
}

func (a *address) value() uint64 { return mix(a.key ^ saltEmail) }

type phone struct {
	likeness.Line
	share, ends float64 // of the records that carry the number, and one that ends so
}

// number is a staff number in what it has in common with its other spellings.
type number struct {
	likeness.Number
	share float64
}

type text struct {
	words []uint64
	all   uint64
}

// Records is what the evidence looks at of one roster. It does not change, and any number
// of readers may share it.
type Records struct {
	names                                                   names
	declared                                                []Declared
	own                                                     []*record.Column
	roster                                                  *record.Roster
	login, phones, day, department, title, location, active *record.Column
	account                                                 bool
	addresses, numbers                                      []*record.Column
}

// Reader prepares the records of one roster. It remembers what it has seen, so
// every goroutine needs its own.
type Reader struct {
	*Records
	memo  map[string]*cellWords // of names of which the parts are not known, and of texts
	texts map[string]text
	rooms rooms
}

// Reader begins to read.
func (r *Records) Reader() *Reader {
	return &Reader{Records: r, memo: map[string]*cellWords{}, texts: map[string]text{}}
}

// attributes that the evidence looks at, on either side.
var attributes = []string{"givenName", "middleName", "familyName", "displayName", "userName", "email", "aliases", "emails", "personalEmail", "phoneNumbers", "department", "title", "location", "active"}

// Attributes lists what the evidence looks at on either side.
func Attributes() (people, accounts []string) {
	people = append(append(people, attributes...), "employeeNumber", "startsOn")
	accounts = append(append(accounts, attributes...), "employeeNumber", "externalId", "created", "startsOn", "lastSignIn")
	return people, accounts
}

// Identity lists what says who somebody is, on either side: enough to ask by.
func Identity() (people, accounts []string) {
	both := []string{"givenName", "middleName", "familyName", "displayName", "userName", "email", "aliases", "emails", "personalEmail", "phoneNumbers", "employeeNumber", "active"}
	return both, append([]string{"externalId"}, both...)
}

func newRecords(r *record.Roster, cores int) *Records {
	c := r.Column
	return &Records{
		roster: r, names: newNames(r, cores), login: c("userName"), addresses: []*record.Column{c("emails"), c("personalEmail")},
		phones: c("phoneNumbers"), department: c("department"), title: c("title"), location: c("location"), active: c("active"),
	}
}

// People are the authority's records.
func People(r *record.Roster, cores int) *Records {
	x := newRecords(r, cores)
	x.day = r.Column("startsOn")
	x.numbers = []*record.Column{r.Column("employeeNumber")}
	if x.numbers[0] == nil { // many lists know people by their number alone
		x.numbers[0] = r.Column("id")
	}
	return x
}

// Accounts are the downstream's records.
func Accounts(r *record.Roster, cores int) *Records {
	x := newRecords(r, cores)
	x.account = true
	if x.day = r.Column("startsOn"); x.day == nil {
		x.day = r.Column("created")
	}
	x.numbers = []*record.Column{r.Column("employeeNumber"), r.Column("externalId")}
	return x
}

// Knowing are the records read with names taken for those that they stand for in these lists.
func (r *Records) Knowing(forms Forms) *Records {
	if len(forms) == 0 {
		return r
	}
	known := *r
	known.names = r.names.knowing(forms)
	return &known
}

// Face prepares row i.
func (r *Reader) Face(i int) *Face {
	f := &Face{
		account: r.account, name: r.name(i), day: day(r.day.Cell(i)), active: -1,
		department: r.text(r.department.Cell(i)), title: r.text(r.title.Cell(i)), location: r.text(r.location.Cell(i)),
	}
	if len(r.declared) > 0 {
		f.own = r.ownValues(i)
	}
	f.name.given, f.name.family, f.name.other = r.rooms.words.keep(f.name.given), r.rooms.words.keep(f.name.family), r.rooms.words.keep(f.name.other) // their shares are the face's own
	switch r.active.Cell(i) {
	case "true":
		f.active = 1
	case "false":
		f.active = 0
	}
	x := &r.rooms
	x.begin()
	f.patterns(func(key uint64, _ float64, full bool) { x.nextMade = append(x.nextMade, made{key: key, full: full}) })
	f.logins = x.mades.keep(x.nextMade)
	r.eachLocal(i, func(l local) {
		if !slices.ContainsFunc(x.nextLocals, func(o local) bool { return o.text == l.text }) {
			l.made = f.gives(l.key)
			x.nextLocals = append(x.nextLocals, l)
		}
	})
	f.locals = x.locals.keep(x.nextLocals)
	for _, column := range r.addresses {
		record.EachValue(column.Cell(i), func(v string) { x.nextEmails = append(x.nextEmails, newAddress(v)) })
	}
	f.emails = x.emails.keep(x.nextEmails)
	r.eachPhone(i, func(l likeness.Line) { f.phones = append(f.phones, phone{Line: l}) })
	r.eachNumber(i, func(n likeness.Number) { f.numbers = append(f.numbers, number{Number: n}) })
	return f
}

// Hide takes out of a face what a comparator looks at.
func (f *Face) Hide(c Comparator) {
	switch c {
	case Family, Given, Middle:
		f.name, f.logins = name{}, nil
	case Login:
		f.locals = nil
	case Email:
		f.emails = nil
	case Phone:
		f.phones = nil
	case Number:
		f.numbers = nil
	case Day:
		f.day = noDay
	case Department:
		f.department = text{}
	case Title:
		f.title = text{}
	case Location:
		f.location = text{}
	case Status:
		f.active = -1
	default:
		if i := int(c - declared); i < len(f.own) {
			f.own[i] = ownValue{as: f.own[i].as}
		}
	}
}

// shortLocal: what is shorter says nothing.
const shortLocal = 3

// eachLocal visits the login and the local parts, but for short ones.
func (r *Reader) eachLocal(i int, yield func(l local)) {
	visit := func(cell string) {
		if l, n := newLocal(cell); n >= shortLocal {
			yield(l)
		}
	}
	if cell := r.login.Cell(i); cell != "" {
		visit(cell)
	}
	for _, column := range r.addresses {
		record.EachValue(column.Cell(i), visit)
	}
}

func (r *Reader) eachPhone(i int, yield func(l likeness.Line)) {
	record.EachValue(r.phones.Cell(i), func(v string) {
		if l := likeness.LineOf(v); l.Known() {
			yield(l)
		}
	})
}

func (r *Reader) eachNumber(i int, yield func(n likeness.Number)) {
	for _, column := range r.numbers {
		record.EachValue(column.Cell(i), func(v string) {
			if n := likeness.NumberOf(v); n.Text != "" {
				yield(n)
			}
		})
	}
}

// gives reports whether the name can be made into this login.
func (f *Face) gives(key uint64) bool {
	return slices.ContainsFunc(f.logins, func(m made) bool { return m.key == key })
}

// patterns visits the logins that the name can be made into, with how common
// each is, as far as the words' shares are known.
func (f *Face) patterns(yield func(key uint64, share float64, full bool)) {
	given, family, n := f.name.given, f.name.family, &f.name
	if len(n.other) > 0 {
		if len(n.other) == 1 {
			yield(n.other[0].key, n.other[0].share, false)
			return
		}
		g := guessed(n)
		given, family = g.given, g.family
		patterns(family, given, likeness.InOne{Given: g.joinedFamily, Family: g.joinedGiven}, yield)
		n = g
	}
	patterns(given, family, likeness.InOne{Given: n.joinedGiven, Family: n.joinedFamily}, yield)
}

func patterns(given, family []word, one likeness.InOne, yield func(key uint64, share float64, full bool)) {
	var room [2][mostTogether]string
	likeness.EachMade(textsOf(given, room[0][:0]), textsOf(family, room[1][:0]), one, func(m *likeness.Made) {
		share := family[m.Family].share
		if m.FamilyInitial {
			share = initialShare
		}
		switch {
		case m.GivenInitial:
			share *= initialShare
		case m.Given >= 0:
			share *= given[m.Given].share
		}
		yield(hashOf(m.Head, m.Tail), share, m.Level == likeness.Same && !m.Cut && len(given[m.Given].Text) > 1)
	})
}

// textsOf appends those of some words.
func textsOf(list []word, to []string) []string {
	for i := range list {
		to = append(to, list[i].Text)
	}
	return to
}

// text takes a cell of several words apart, or remembers how it did: departments repeat.
func (r *Reader) text(cell string) (t text) {
	if cell == "" {
		return t
	}
	if t, known := r.texts[cell]; known {
		return t
	}
	for _, w := range r.words(cell).plain {
		t.all += w.key
		if len(w.Text) > 3 {
			t.words = append(t.words, w.key)
		}
	}
	if len(r.texts) >= mostRemembered {
		clear(r.texts)
	}
	r.texts[cell] = t
	return t
}

// day reads "YYYY-MM-DD" into days; noDay when it is none.
func day(s string) int32 {
	if len(s) != len("YYYY-MM-DD") || s[4] != '-' || s[7] != '-' {
		return noDay
	}
	n := func(a, b int) (v int32) {
		for _, c := range s[a:b] {
			if c < '0' || c > '9' {
				return -1 << 20
			}
			v = 10*v + int32(c-'0')
		}
		return v
	}
	y, m, d := n(0, 4), n(5, 7), n(8, 10)
	if y < 0 || m < 1 || m > 12 || d < 1 || d > 31 {
		return noDay
	}
	// days of the civil calendar (Howard Hinnant's algorithm), March first
	if m <= 2 {
		y--
		m += 12
	}
	return 365*y + y/4 - y/100 + y/400 + (153*(m-3)+2)/5 + d - 719469
}

// hash is FNV-1a with a last mixing: the same on every machine and in every
// run, which a result that doesn't change needs.
func hash(s string) uint64 { return mix(roll(hashStart, s)) }

// hashOf is the hash of two texts in one.
func hashOf(a, b string) uint64 { return mix(roll(roll(hashStart, a), b)) }

func roll(h uint64, s string) uint64 {
	for i := range len(s) {
		h = (h ^ uint64(s[i])) * hashPrime
	}
	return h
}

const (
	hashStart = 14695981039346656037
	hashPrime = 1099511628211
)

func mix(h uint64) uint64 {
	h ^= h >> 32
	h *= 0xd6e8feb86659fd93
	return h ^ h>>32
}
