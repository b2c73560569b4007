package pairing

import (
	"cmp"
	"fmt"
	"math"
	"runtime"
	"slices"
	"strings"

	"twinning/internal/core/record"

	"twinning/internal/core/parallel"
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
	Person        string       `json:"person"`          // expression, as a charter has it
	Account       string       `json:"account"`         // the same
	PersonFilled  int          `json:"personFilled"`    // records that carry it
	AccountFilled int          `json:"accountFilled"`   //
	PersonUnique  int          `json:"personUnique"`    // records that carry a value which nobody else carries
	AccountUnique int          `json:"accountUnique"`   //
	Overlap       int          `json:"overlap"`         // values that are met on both sides
	Pairs         int          `json:"pairs"`           // of one person alone with one account alone
	Shared        int          `json:"shared"`          // values met on both sides that several records carry
	Disagree      int          `json:"disagree"`        // pairs that the best key before it makes otherwise, or that look like two humans
	OnlyHere      int          `json:"onlyHere"`        // pairs of people whom no better key pairs
	Mends         string       `json:"mends,omitempty"` // what the function in it mends
	score         float64      // ranks
	agree         int          // pairs that a better key makes as well
	twins         []record.Row // person row -> account row, -1
	attributes    [2]string    // what the expressions are made of, a person's and an account's
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
	{`rewrite(%s, '^0+', '')`, "without zeros in front", func(v string) string {
		if strings.Contains(v, "@") {
			return ""
		}
		return atLeast(3, strings.TrimLeft(v, "0"))
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
	return record.Digits(v)
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
	row  record.Row
}

// unsurveyed attributes say nothing about who somebody is.
var unsurveyed = map[string]bool{
	"active": true, "pending": true, "locked": true, "hidden": true, "startsOn": true, "endsOn": true, "created": true, "lastSignIn": true,
	"emails": true, "groups": true, "roles": true, "entitlements": true, "manager": true, "container": true,
}

// SurveyKeys holds every attribute of the people against every one of the
// accounts.
func SurveyKeys(people, accounts *record.Roster) Survey {
	s := Survey{People: people.Len(), Accounts: accounts.Len(), Keys: []SurveyKey{}}
	var left, right []*facet
	var wg parallel.Group
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
			if l.attribute == "id" && r.attribute == "id" {
				continue // each system issues its own: that two are the same means nothing
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
	plain := plainRecords(Input{People: people, Accounts: accounts, Cores: runtime.GOMAXPROCS(0)})
	s.Keys = ranked(found, func(twins []record.Row) int {
		return contradictions(twins, people, accounts, plain, runtime.GOMAXPROCS(0))
	})
	s.Suggested = suggestion(s)
	return s
}

// facets makes every form of every attribute that a side carries.
func facets(r *record.Roster) (list []*facet) {
	names := r.Names()
	made := make([][]*facet, len(names))
	var wg parallel.Group
	for i, name := range names {
		if unsurveyed[name] || strings.HasPrefix(name, "\x00") {
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
	last := make([]record.Row, len(menders))
	for i := range last {
		last[i] = -1
	}
	for i := range r.Len() {
		record.EachValue(column.Cell(i), func(v string) {
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
				f.values = append(f.values, carried{hashOf(buf), record.Row(i)})
				if last[m] != record.Row(i) {
					f.filled++
					last[m] = record.Row(i)
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
		Mends: menders[max(l.mender, r.mender)].says, attributes: [2]string{l.attribute, r.attribute}, mender: max(l.mender, r.mender), twins: make([]record.Row, people),
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
