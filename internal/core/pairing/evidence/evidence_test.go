package evidence

import (
	"encoding/json"
	"flag"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/record"
)

// properties are tried on the same values every time; soak takes others
func init() { _ = flag.Set("rapid.seed", "20261125") }

var columns = strings.Fields("id givenName middleName familyName displayName userName emails phoneNumbers employeeNumber startsOn department title location active")

// roster reads rows of "name=value" words; _ is a space, ; parts a list.
func roster(t require.TestingT, rows ...string) *record.Roster {
	b := record.NewBuilder(columns[1:])
	for i, row := range rows {
		cells := make([]string, len(b.Names()))
		cells[0] = fmt.Sprintf("r%05d", i)
		for _, word := range strings.Fields(row) {
			name, value, _ := strings.Cut(word, "=")
			for k, n := range b.Names() {
				if n == name {
					cells[k] = strings.NewReplacer("_", " ", ";", string(record.ListSep)).Replace(value)
				}
			}
		}
		require.NoError(t, b.Append(cells))
	}
	r, err := b.Roster()
	require.NoError(t, err)
	return r
}

func faces(r *record.Roster) []*Face {
	reader, list := People(r), []*Face{}
	for i := range r.Len() {
		list = append(list, reader.Face(i))
	}
	counts := NewCounts(r.Len(), list)
	for i := range r.Len() {
		counts.Add(reader, i, 1, nil)
	}
	for _, f := range list {
		counts.Fill(f)
	}
	return list
}

// What two records say of each other, comparator by comparator. Levels that are
// missing are not written.
func TestCompare(t *testing.T) {
	for _, c := range []struct{ a, b, want string }{
		{"givenName=Ana familyName=Soto", "givenName=ANA familyName=soto", "familyName same, givenName same"},
		{"givenName=Ana familyName=Soto", "displayName=Soto,_Ana", "familyName same, givenName same"},
		{"givenName=Ana familyName=Soto", "displayName=Ana_Soto", "familyName same, givenName same"},
		{"displayName=Ana_Soto", "displayName=Soto_Ana", "familyName same, givenName same"},
		{"givenName=Ana familyName=Soto", "givenName=Soto familyName=Ana", "familyName variant, givenName variant"},
		{"givenName=Robert familyName=Soto-Vega", "displayName=Bob_Vega", "familyName part, givenName short form"},
		{"givenName=Ana familyName=Soto_Vega", "givenName=Ana familyName=Soto_Lund", "familyName faint, givenName same"},
		{"givenName=Ana middleName=María familyName=Soto", "givenName=Ana_Lucía familyName=Soto", "familyName same, givenName same, middleName differ"},
		{"givenName=Ana middleName=María familyName=Soto", "displayName=Ana_M._Soto", "familyName same, givenName same, middleName part"},
		{"givenName=Mario familyName=Soto", "givenName=Maria familyName=Soto", "familyName same, givenName differ"},
		{"givenName=Юлия familyName=Котова", "givenName=Julia familyName=Kotova", "familyName same, givenName variant"},
		{"givenName=美玲 familyName=陳", "givenName=Meiling familyName=Chen", ""},
		{"givenName=Ana familyName=Soto userName=asoto204", "givenName=Ana familyName=Soto emails=asoto204@x.example", "familyName same, givenName same, login with its digits"},
		{"givenName=Ana familyName=Soto userName=asoto", "givenName=Ana familyName=Soto userName=asoto7", "familyName same, givenName same, login other digits"},
		{"givenName=Ana familyName=Soto userName=stargazer", "givenName=Ana familyName=Soto userName=stargazer", "familyName same, givenName same, login a name of its own"},
		{"emails=ana@x.example;a@y.example", "emails=b@x.example;A@Y.example userName=other", "email same"},
		{"phoneNumbers=+56_2_2123_4567", "phoneNumbers=2123-4567", "phone variant"},
		{"phoneNumbers=+56_2_2123_4567", "phoneNumbers=+56_2_2123_4568", "phone differ"},
		{"employeeNumber=L004242", "employeeNumber=4242.0", "number variant"},
		{"employeeNumber=L4242", "employeeNumber=E4242", "number faint"},
		{"employeeNumber=12345", "employeeNumber=123457", "number part"},
		{"startsOn=2024-02-28", "startsOn=2024-03-01", "day part"},
		{"startsOn=2024-02-30x", "startsOn=2024-03-01", ""},
		{"department=Night_Survey title=Cook", "department=survey,_night title=Driver", "department same, title differ"},
		{"active=true", "active=false", "status suspended account"},
	} {
		list := faces(roster(t, c.a, c.b))
		p := Compare(list[0], list[1])
		var got []string
		for k := range comparators {
			if p.Levels[k] != missing && !(k == Email && p.Levels[k] == differ) && !(k == Login && !p.NamesAgree()) {
				got = append(got, k.String()+" "+levelNames[k][p.Levels[k]])
			}
		}
		require.Equal(t, c.want, strings.Join(got, ", "), "%s and %s", c.a, c.b)
	}
}

var anyFace = rapid.Custom(func(t *rapid.T) string {
	var words []string
	for _, column := range []string{
		"givenName Ana Anna Bob Robert José_María J. - Юлия 陳", "middleName - - María M.", "familyName Soto Sotto Soto-Vega de_la_Vega Müller - 美玲", "displayName - Ana_Soto Soto,_Ana Ana_María_Soto", "userName - asoto asoto2 soto.ana x77",
		"emails - a@x.example asoto@y.example;a@x.example", "phoneNumbers - +5622123456 22123456 123", "employeeNumber - 12345 L12345 123457 E12345", "startsOn - 2020-01-01 2020-01-20 x", "department - Optics Optics_Lab", "title - Cook", "active - true false",
	} {
		name, values, _ := strings.Cut(column, " ")
		if v := rapid.SampledFrom(strings.Fields(values)).Draw(t, name); v != "-" {
			words = append(words, name+"="+v)
		}
	}
	return strings.Join(words, " ")
})

// Neither record leads; more agreement is never worth less; weights survive
// being written down; what is said adds up.
func TestProperties(t *testing.T) {
	w := Priors()
	rapid.Check(t, func(t *rapid.T) {
		list := faces(roster(t, anyFace.Draw(t, "a"), anyFace.Draw(t, "b")))
		p, q := Compare(list[0], list[1]), Compare(list[1], list[0])
		p.Levels[Status], q.Levels[Status] = missing, missing
		require.Equal(t, p, q)
		sum := 0.0
		for _, s := range w.Say(&p) {
			sum += s.Bits
		}
		require.InDelta(t, w.Bits(&p), sum, 1e-6)
		c := Comparator(rapid.IntRange(0, int(comparators)-1).Draw(t, "comparator"))
		if c == Status || p.Levels[c] == missing {
			return
		}
		better := p
		better.Levels[c] = rapid.SampledFrom([]Level{p.Levels[c], min(p.Levels[c]+1, same)}).Draw(t, "level")
		if levelNames[c][better.Levels[c]] == "" {
			return
		}
		require.GreaterOrEqual(t, w.Bits(&better)+1e-9, w.Bits(&p), "%s %d to %d", c, p.Levels[c], better.Levels[c])
	})
	src, err := json.Marshal(w)
	require.NoError(t, err)
	var back Weights
	require.NoError(t, json.Unmarshal(src, &back))
	require.Equal(t, w.Version(), back.Version())
	for bad, words := range map[string]string{`{"shoe":{}}`: "no comparator", `{"phone":{"big":{}}}`: "no level", `{"phone":{"same":{"same":2,"other":1}}}`: "shares above 0"} {
		require.ErrorContains(t, json.Unmarshal([]byte(bad), &back), words)
	}
}

// The counting hashes what a face holds, without making it.
func FuzzKeys(f *testing.F) {
	for _, s := range []string{"A.Soto12+x@l.example", "L-00420.0", "ñandú7", " 7 ", "", "0", "a.0", "\xff"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		_, bare := likeness.Local(s)
		key, n := localKey(s)
		require.Equal(t, len(bare), n, "%q", s)
		require.Equal(t, hash(bare), key, "%q", s)
		text := record.Normal(record.Text, s)
		core, _ := likeness.NumberCore(text)
		if key, n = coreKey(s); text != "" {
			require.Equal(t, len(core), n, "%q", s)
			require.Equal(t, hash(core), key, "%q", s)
		}
	})
}

// A village with one surname and few given names: blocking still compares each
// with few, and says what it left out.
func TestNeverAllPairs(t *testing.T) {
	const n = 5000
	rows := make([]string, n)
	for i := range rows {
		rows[i] = fmt.Sprintf("givenName=%s familyName=Villar startsOn=20%02d-%02d-%02d department=D%d title=T%d", []string{"Ana", "Bo", "Carla", "Dan"}[i%4], i%25, 1+i%12, 1+i%28, i%10, i%3)
	}
	list := faces(roster(t, rows...))
	pairs, dropped := Candidates(list, list, Joining, 2)
	all, with := 0, 0
	for i, of := range pairs {
		all += len(of)
		for _, p := range of {
			if int(p.Account) == i {
				with++
			}
		}
	}
	require.LessOrEqual(t, all, n*Joining.Most)
	require.Greater(t, float64(with)/n, 0.995, "everybody is still compared with themselves")
	require.Positive(t, dropped.Groups)
	require.GreaterOrEqual(t, dropped.Largest, 2*n/4)
	again, _ := Candidates(list, list, Joining, 1)
	require.Equal(t, again, pairs, "the number of cores does not show")
}
