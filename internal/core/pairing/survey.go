package pairing

import (
	"cmp"
	"fmt"
	"math"
	"runtime"
	"slices"
	"strings"
	"sync"

	"twinning/internal/core/record"
)

// A key survey says, before there is any charter, which attributes identify:
// how many records carry them, how often a value is one record's alone, how
// many pairs they would make, and how often they contradict a better key.
//
// Every attribute of one side is held against every one of the other, as it
// stands and as a function of the charter would mend it. What can't overlap is
// left aside after a look at one value in sixty-four.

// SurveyKey is one attribute of the people held against one of the accounts.
type SurveyKey struct {
	Person        string  `json:"person"`          // expression, as a charter has it
	Account       string  `json:"account"`         // the same
	PersonFilled  int     `json:"personFilled"`    // records that carry it
	AccountFilled int     `json:"accountFilled"`   //
	PersonUnique  int     `json:"personUnique"`    // records that carry a value which nobody else carries
	AccountUnique int     `json:"accountUnique"`   //
	Overlap       int     `json:"overlap"`         // values that are met on both sides
	Pairs         int     `json:"pairs"`           // of one person alone with one account alone
	Shared        int     `json:"shared"`          // values met on both sides that several records carry
	Disagree      int     `json:"disagree"`        // pairs that the best key before it makes otherwise
	OnlyHere      int     `json:"onlyHere"`        // pairs of people whom no better key pairs
	Mends         string  `json:"mends,omitempty"` // what the function in it mends
	score         float64 // ranks
	agree         int     // pairs that a better key makes as well
	twins         []int32 // person row -> account row, -1
	mender        int
}

// Survey is what came of it, best key first.
type Survey struct {
	People    int         `json:"people"`
	Accounts  int         `json:"accounts"`
	Keys      []SurveyKey `json:"keys"`
	Suggested string      `json:"suggested"` // a pairing section to paste; "" when nothing identifies
}

// mender is a function of the charter that makes two forms of one value alike.
type mender struct {
	form  string // of the expression
	says  string
	apply func(v string) string
}

var menders = []mender{
	{"%s", "", func(v string) string { return v }},
	{"local(%s)", "the part before the @", func(v string) string {
		local, _, ok := strings.Cut(v, "@")
		if !ok {
			return ""
		}
		return local
	}},
	{"digits(%s)", "only the digits", func(v string) string { return atLeast(3, digitsOf(v)) }},
	{`rewrite(digits(%s), '^0+', '')`, "only the digits, without zeros in front", func(v string) string { return atLeast(3, strings.TrimLeft(digitsOf(v), "0")) }},
	{`rewrite(%s, '\\.0$', '')`, "without the .0 of a spreadsheet", func(v string) string { return strings.TrimSuffix(v, ".0") }},
	{"slug(%s)", "as a login is made of it", func(v string) string {
		if strings.Contains(v, "@") {
			return ""
		}
		return record.Slug(v)
	}},
}

func atLeast(n int, v string) string {
	if len(v) < n {
		return ""
	}
	return v
}

// digitsOf is empty for an address: its digits are a part of a name.
func digitsOf(v string) string {
	if strings.Contains(v, "@") {
		return ""
	}
	return strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, v)
}

// facet is one attribute of one side in one form, its values by hash.
type facet struct {
	attribute string
	mender    int
	values    []carried // sorted
	rows      int
	changed   int // values that the function makes another
	filled    int
	unique    int // records that carry a value which nobody else carries
}

type carried struct {
	hash uint64
	row  int32
}

// unsurveyed attributes say nothing about who somebody is.
var unsurveyed = map[string]bool{
	"id": true, "active": true, "pending": true, "locked": true, "hidden": true, "startsOn": true, "endsOn": true, "created": true, "lastSignIn": true,
	"emails": true, "groups": true, "roles": true, "entitlements": true, "manager": true, "container": true,
}

// SurveyKeys holds every attribute of the people against every one of the
// accounts.
func SurveyKeys(people, accounts *record.Roster) Survey {
	s := Survey{People: people.Len(), Accounts: accounts.Len(), Keys: []SurveyKey{}}
	var left, right []*facet
	var wg sync.WaitGroup
	wg.Go(func() { left = facets(people) })
	wg.Go(func() { right = facets(accounts) })
	wg.Wait()
	type couple struct{ l, r *facet }
	var couples []couple
	for _, l := range left {
		for _, r := range right {
			if l.mender > 0 && r.mender > 0 && l.mender != r.mender {
				continue // one function on one side, or the same on both
			}
			if promising(l, r) {
				couples = append(couples, couple{l, r})
			}
		}
	}
	found := make([]SurveyKey, len(couples))
	slots := make(chan struct{}, runtime.GOMAXPROCS(0))
	for i, c := range couples {
		slots <- struct{}{}
		wg.Go(func() {
			found[i] = hold(c.l, c.r, people.Len())
			<-slots
		})
	}
	wg.Wait()
	s.Keys = ranked(found)
	s.Suggested = suggestion(s)
	return s
}

// facets makes every form of every attribute that a side carries.
func facets(r *record.Roster) (list []*facet) {
	names := r.Names()
	made := make([][]*facet, len(names))
	var wg sync.WaitGroup
	for i, name := range names {
		if unsurveyed[name] && name != "id" || strings.HasPrefix(name, "\x00") {
			continue
		}
		wg.Go(func() { made[i] = forms(r, name) })
	}
	wg.Wait()
	for _, m := range made {
		list = append(list, m...)
	}
	return list
}

func forms(r *record.Roster, name string) (list []*facet) {
	kind, column := record.KindOf(name), r.Column(name)
	all := make([]*facet, len(menders))
	if name == "id" { // numbers that systems give by themselves look alike and mean nothing
		all = all[:1]
	}
	for m := range all {
		all[m] = &facet{attribute: name, mender: m, rows: r.Len()}
	}
	var buf []byte
	last := make([]int32, len(menders))
	for i := range last {
		last[i] = -1
	}
	for i := range r.Len() {
		values(column.Cell(i), func(v string) {
			for m, f := range all {
				w := menders[m].apply(v)
				if w == "" {
					continue
				}
				if buf = normalised(buf[:0], kind, w); len(buf) < 2 {
					continue // one letter or digit tells nobody apart
				}
				if w != v {
					f.changed++
				}
				f.values = append(f.values, carried{hashOf(buf), int32(i)}) // rows are bounded by the column size
				if last[m] != int32(i) {
					f.filled++
					last[m] = int32(i)
				}
			}
		})
	}
	for m, f := range all {
		// a function that changes few values mends nothing
		if len(f.values) == 0 || m > 0 && f.changed*50 < len(all[0].values) {
			continue
		}
		f.sort()
		list = append(list, f)
	}
	return list
}

// normalised is one form for one value, whatever attribute carries it.
func normalised(dst []byte, kind record.Kind, v string) []byte {
	switch {
	case strings.Contains(v, "@"):
		return record.AppendNormal(dst, record.Email, v)
	case kind == record.Phone || kind == record.Phones:
		return record.AppendNormal(dst, record.Phone, v)
	}
	return record.AppendNormal(dst, record.Text, v)
}

// hashOf is FNV-1a with a final mix: the same everywhere, and even in its high
// bits, which are what is sampled.
func hashOf(b []byte) uint64 {
	h := uint64(14695981039346656037)
	for _, c := range b {
		h = (h ^ uint64(c)) * 1099511628211
	}
	h ^= h >> 32
	h *= 0xd6e8feb86659fd93
	return h ^ h>>32
}

func (f *facet) sort() {
	slices.SortFunc(f.values, func(a, b carried) int { return cmp.Or(cmp.Compare(a.hash, b.hash), cmp.Compare(a.row, b.row)) })
	f.values = slices.Compact(f.values)
	alone := make([]bool, f.rows)
	for i := 0; i < len(f.values); {
		j := i + 1
		for j < len(f.values) && f.values[j].hash == f.values[i].hash {
			j++
		}
		if row := f.values[i].row; j == i+1 && !alone[row] {
			alone[row] = true
			f.unique++
		}
		i = j
	}
}

// promising looks at the lowest sixty-fourth of both sides' hashes.
func promising(l, r *facet) bool {
	const share = math.MaxUint64 / 64
	limit := uint64(math.MaxUint64)
	if len(l.values) > 20000 && len(r.values) > 20000 {
		limit = share
	}
	both, i, j := 0, 0, 0
	for i < len(l.values) && j < len(r.values) && l.values[i].hash <= limit && r.values[j].hash <= limit {
		switch c := cmp.Compare(l.values[i].hash, r.values[j].hash); {
		case c < 0:
			i++
		case c > 0:
			j++
		default:
			if both++; both >= 3 || limit == math.MaxUint64 {
				return true
			}
			i++
		}
	}
	return false
}

// hold joins two facets.
func hold(l, r *facet, people int) SurveyKey {
	k := SurveyKey{
		Person: expression(l, "person"), Account: expression(r, "account"), PersonFilled: l.filled, AccountFilled: r.filled, PersonUnique: l.unique, AccountUnique: r.unique,
		Mends: menders[max(l.mender, r.mender)].says, mender: max(l.mender, r.mender), twins: make([]int32, people),
	}
	for i := range k.twins {
		k.twins[i] = -1
	}
	run := func(list []carried, at int) int {
		end := at + 1
		for end < len(list) && list[end].hash == list[at].hash {
			end++
		}
		return end
	}
	for i, j := 0, 0; i < len(l.values) && j < len(r.values); {
		switch c := cmp.Compare(l.values[i].hash, r.values[j].hash); {
		case c < 0:
			i++
		case c > 0:
			j++
		default:
			iEnd, jEnd := run(l.values, i), run(r.values, j)
			k.Overlap++
			if iEnd == i+1 && jEnd == j+1 {
				if p := l.values[i].row; k.twins[p] < 0 {
					k.twins[p] = r.values[j].row
					k.Pairs++
				}
			} else {
				k.Shared++
			}
			i, j = iEnd, jEnd
		}
	}
	return k
}

func expression(f *facet, side string) string {
	return fmt.Sprintf(menders[f.mender].form, side+"."+f.attribute)
}

// identifiers are better keys than what people call each other, in this order.
var identifiers = []string{"employeeNumber", "externalId", "id", "email", "userName", "aliases", "phoneNumbers", "personalEmail"}

// stands ranks how well an attribute identifies by its nature.
func stands(expression string) int {
	for i, name := range identifiers {
		if strings.Contains(expression, "."+name) {
			return i
		}
	}
	return len(identifiers)
}

// keysShown bounds the list: what pairs next to nobody is left out.
const keysShown = 40

// ranked sorts the keys, keeps of each pair of attributes the best form, and
// counts where a key contradicts those before it, and what it adds.
func ranked(found []SurveyKey) []SurveyKey {
	for i := range found {
		k := &found[i]
		// pairs count, a shared value costs, and a function has to earn its place
		k.score = float64(k.Pairs)/(1+0.02*float64(k.mender)) - float64(k.Shared)
	}
	slices.SortStableFunc(found, func(a, b SurveyKey) int {
		return cmp.Or(cmp.Compare(b.score, a.score), cmp.Compare(stands(a.Person)+stands(a.Account), stands(b.Person)+stands(b.Account)),
			cmp.Compare(a.mender, b.mender), strings.Compare(a.Person, b.Person), strings.Compare(a.Account, b.Account))
	})
	bare := func(e string) string {
		for _, side := range []string{"person.", "account."} {
			if i := strings.Index(e, side); i >= 0 {
				return strings.TrimRight(strings.FieldsFunc(e[i:], func(r rune) bool { return r == ',' || r == ')' })[0], " ")
			}
		}
		return e
	}
	// an id that is a copy of a number with a name of its own is that number
	numbers := map[string]SurveyKey{}
	for _, k := range found {
		if k.mender == 0 && k.Person == "person.employeeNumber" {
			numbers[bare(k.Account)] = k
		}
	}
	met := map[[2]string]bool{}
	var kept []SurveyKey
	for _, k := range found {
		couple := [2]string{bare(k.Person), bare(k.Account)}
		number, copied := numbers[couple[1]]
		copied = copied && couple[0] == "person.id" && k.Pairs-number.Pairs <= k.Pairs/50
		faint := len(kept) > 0 && k.Pairs*20 < kept[0].Pairs && stands(k.Person) == len(identifiers) // names that happen to be rare
		if k.Pairs == 0 || faint || copied || met[couple] || len(kept) == keysShown {
			continue
		}
		met[couple] = true
		kept = append(kept, k)
	}
	// the best by nature among those that pair well comes first
	if len(kept) > 0 {
		best := kept[0].Pairs
		slices.SortStableFunc(kept, func(a, b SurveyKey) int {
			x, y := a.Pairs*10 >= best*5 && a.Shared*20 <= a.Pairs, b.Pairs*10 >= best*5 && b.Shared*20 <= b.Pairs
			switch {
			case x && y:
				return cmp.Compare(stands(a.Person)+stands(a.Account), stands(b.Person)+stands(b.Account))
			case x:
				return -1
			case y:
				return 1
			}
			return 0
		})
	}
	consensus := []int32(nil)
	for i := range kept {
		k := &kept[i]
		if consensus == nil {
			consensus = slices.Clone(k.twins)
			k.OnlyHere = k.Pairs
			continue
		}
		for p, a := range k.twins {
			switch {
			case a < 0:
			case consensus[p] < 0:
				k.OnlyHere++
				consensus[p] = a
			case consensus[p] != a:
				k.Disagree++
			default:
				k.agree++
			}
		}
	}
	for i := range kept {
		kept[i].twins = nil
	}
	return kept
}

// A key is suggested when its values are mostly one record's alone, it pairs a
// tenth of the smaller side, it contradicts better keys in at most one pair of a
// hundred, and it pairs somebody whom they don't. What is made of a name (a part
// of an address, a login) has to be borne out by a better key as well: namesakes
// in two houses have the same.
func suggestion(s Survey) string {
	var b strings.Builder
	people := map[string]bool{}
	for _, k := range s.Keys {
		identifies := k.PersonUnique*100 >= k.PersonFilled*95 && k.AccountUnique*100 >= k.AccountFilled*95
		enough := k.Pairs*10 >= min(s.People, s.Accounts) && k.Disagree*100 <= k.Pairs
		adds := k.OnlyHere*200 >= k.Pairs
		fromName := strings.Contains(k.Person+k.Account, "local(") || strings.Contains(k.Person+k.Account, "slug(")
		if !identifies || !enough || !adds || people[k.Person] || stands(k.Person) == len(identifiers) || fromName && k.agree < max(10, k.Pairs/2) {
			continue
		}
		people[k.Person] = true
		if b.Len() == 0 {
			b.WriteString("pairing:\n  keys:\n")
		}
		fmt.Fprintf(&b, "    - {name: %s, person: %s, account: %s}\n", keyName(k), quoted(k.Person), quoted(k.Account))
	}
	return b.String()
}

var keyNames = map[string]string{"employeeNumber": "staff number", "externalId": "mark", "email": "e-mail", "userName": "login", "aliases": "alias", "phoneNumbers": "phone", "personalEmail": "private e-mail", "id": "id"}

// keyName is what people call the key: by the more telling of its two sides.
func keyName(k SurveyKey) string {
	worst, name := -1, "key"
	for _, e := range []string{k.Person, k.Account} {
		if at := stands(e); at > worst && at < len(identifiers) {
			worst, name = at, keyNames[identifiers[at]]
		}
	}
	if strings.Contains(k.Person+k.Account, ".employeeNumber") {
		return "staff number"
	}
	return name
}

// quoted is an expression as a YAML document takes it.
func quoted(e string) string {
	if strings.ContainsAny(e, `,'"{}#`) {
		return `"` + strings.ReplaceAll(strings.ReplaceAll(e, `\`, `\\`), `"`, `\"`) + `"`
	}
	return e
}
