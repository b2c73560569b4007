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
	text  string // without separators, folded, with its digits
	bare  string // without the digits at its end
	made  bool   // the record's own name gives it
	share float64
	key   uint64
}

// address is an e-mail address, with how many others carry it too.
type address struct {
	text  string
	share float64 // of the records; 0: nobody else's
}

func (a *address) value() uint64 { return mix(hash(a.text) ^ saltEmail) }

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

// Reader prepares the records of one roster. It remembers what it has seen, so
// every goroutine needs its own.
type Reader struct {
	forms                                                                                Forms
	declared                                                                             []Declared
	own                                                                                  []*record.Column
	memo                                                                                 map[string]*cellWords
	given, middle, family, full, login, phones, day, department, title, location, active *record.Column
	account                                                                              bool
	addresses, numbers                                                                   []*record.Column
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
	both := []string{"givenName", "middleName", "familyName", "displayName", "userName", "email", "aliases", "emails", "employeeNumber", "active"}
	return both, append([]string{"externalId"}, both...)
}

func newReader(r *record.Roster) *Reader {
	c := r.Column
	return &Reader{
		memo:  map[string]*cellWords{},
		given: c("givenName"), middle: c("middleName"), family: c("familyName"), full: c("displayName"), login: c("userName"), addresses: []*record.Column{c("emails"), c("personalEmail")},
		phones: c("phoneNumbers"), department: c("department"), title: c("title"), location: c("location"), active: c("active"),
	}
}

// People reads the authority's records.
func People(r *record.Roster) *Reader {
	x := newReader(r)
	x.day = r.Column("startsOn")
	x.numbers = []*record.Column{r.Column("employeeNumber")}
	if x.numbers[0] == nil { // many lists know people by their number alone
		x.numbers[0] = r.Column("id")
	}
	return x
}

// Accounts reads the downstream's records.
func Accounts(r *record.Roster) *Reader {
	x := newReader(r)
	x.account = true
	if x.day = r.Column("startsOn"); x.day == nil {
		x.day = r.Column("created")
	}
	x.numbers = []*record.Column{r.Column("employeeNumber"), r.Column("externalId")}
	return x
}

// Knowing has the reader take names for those that they stand for in these lists.
func (r *Reader) Knowing(forms Forms) *Reader {
	r.forms = forms
	return r
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
	f.name.given, f.name.family, f.name.other = slices.Clone(f.name.given), slices.Clone(f.name.family), slices.Clone(f.name.other) // their shares are the face's own
	switch r.active.Cell(i) {
	case "true":
		f.active = 1
	case "false":
		f.active = 0
	}
	f.patterns(func(s string, _ float64, full bool) { f.logins = append(f.logins, made{key: hash(s), full: full}) })
	r.eachLocal(i, f.addLocal)
	for _, column := range r.addresses {
		record.EachValue(column.Cell(i), func(v string) { f.emails = append(f.emails, address{text: record.Normal(record.Email, v)}) })
	}
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

// eachLocal visits the login and the local parts.
func (r *Reader) eachLocal(i int, yield func(text, bare string)) {
	if cell := r.login.Cell(i); cell != "" {
		yield(likeness.Local(cell))
	}
	for _, column := range r.addresses {
		record.EachValue(column.Cell(i), func(v string) { yield(likeness.Local(v)) })
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

// shortLocal: what is shorter says nothing.
const shortLocal = 3

func (f *Face) addLocal(text, bare string) {
	if len(bare) < shortLocal {
		return
	}
	for i := range f.locals {
		if f.locals[i].text == text {
			return
		}
	}
	key := hash(bare)
	f.locals = append(f.locals, local{text: text, bare: bare, made: f.gives(key), key: key})
}

// gives reports whether the name can be made into this login.
func (f *Face) gives(key uint64) bool {
	return slices.ContainsFunc(f.logins, func(m made) bool { return m.key == key })
}

// patterns visits the logins that the name can be made into, with how common
// each is, as far as the words' shares are known.
func (f *Face) patterns(yield func(s string, share float64, full bool)) {
	given, family, n := f.name.given, f.name.family, &f.name
	if len(n.other) > 0 {
		if len(n.other) == 1 {
			yield(n.other[0].Text, n.other[0].share, false)
			return
		}
		g := guessed(n)
		given, family = g.given, g.family
		patterns(family, given, g.joinedFamily, yield)
	}
	patterns(given, family, n.joinedFamily, yield)
}

// shortLogin: many systems cut logins at eight letters.
const shortLogin = 8

func patterns(given, family []word, joined string, yield func(s string, share float64, full bool)) {
	cut := func(s string, share float64, full bool) {
		yield(s, share, full)
		if len(s) > shortLogin {
			yield(s[:shortLogin], share, false)
		}
	}
	pair := func(g *word, f string, share float64) {
		whole := len(g.Text) > 1
		cut(g.Text+f, g.share*share, whole)
		cut(f+g.Text, g.share*share, whole)
		cut(g.Text[:1]+f, initialShare*share, false)
		cut(f+g.Text[:1], initialShare*share, false)
		cut(g.Text+f[:1], g.share*initialShare, false)
		yield(f[:1]+g.Text, g.share*initialShare, false)
	}
	for i := range given {
		for j := range family {
			pair(&given[i], family[j].Text, family[j].share)
		}
		if len(family) > 1 {
			pair(&given[i], joined, family[0].share)
			pair(&given[i], family[0].Text+family[1].Text[:1], family[0].share)
		}
	}
	for j := range family {
		yield(family[j].Text, family[j].share, false)
	}
}

func (r *Reader) text(cell string) (t text) {
	for _, w := range r.words(cell).plain {
		t.all += w.key
		if len(w.Text) > 3 {
			t.words = append(t.words, w.key)
		}
	}
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
func hash(s string) uint64 {
	h := uint64(hashStart)
	for i := range len(s) {
		h = (h ^ uint64(s[i])) * hashPrime
	}
	return mix(h)
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
