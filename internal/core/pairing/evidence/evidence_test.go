package evidence

import (
	"encoding/json"
	"flag"
	"fmt"
	"math"
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
	return counted(People(r, 2), r.Len())
}

// counted are the faces of these records, which know how common their values are.
func counted(records *Records, n int) (list []*Face) {
	reader := records.Reader()
	for i := range n {
		list = append(list, reader.Face(i))
	}
	counts := NewCounts(n, list)
	tally := counts.Tally(counts.Asked(records), 1)
	for i := range n {
		tally.Add(i, nil)
	}
	tally.Done()
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
		{"givenName=José familyName=Núñez", "givenName=Jos? familyName=N??ez", "familyName variant, givenName variant"},
		{"givenName=Anh familyName=Nguyễn middleName=Văn", "givenName=Nguyen_Van familyName=Anh", "familyName variant, givenName variant"},
		{"givenName=María_del_Carmen familyName=Caquero_Bravo", "givenName=María familyName=del_Carmen_Caquero", "familyName part, givenName part"},
		{"middleName=M. familyName=Soto", "givenName=Soto familyName=Müller", "familyName part, givenName variant"},
		{"givenName=Ana familyName=Soto_Vega", "givenName=Vega familyName=Ana_Lund", "familyName differ, givenName differ"},
		{"familyName=Ana", "givenName=Ana familyName=Soto", "familyName differ"},
		{"givenName=Soto", "givenName=Ana familyName=Soto", "givenName differ"},
		{"givenName=Ivan familyName=Marić", "givenName=Ivica familyName=Marić", "familyName same, givenName begins alike"},
		{"givenName=Josip familyName=Marić", "givenName=Josipa familyName=Marić", "familyName same, givenName differ"},
		{"givenName=Séamus familyName=Byrne userName=seamus.byrne", "givenName=James familyName=Byrne emails=seamus.byrne@x.example", "familyName same"},
		{"givenName=Séamus familyName=Byrne userName=seamus.byrne", "givenName=James familyName=Byrne emails=james.byrne@x.example", "familyName same, givenName differ"},
		{"givenName=Ana familyName=Soto emails=ana.soto@x.example", "givenName=Ana familyName=Soto emails=ana.soto@y.example", "familyName same, givenName same, login made of the name, email the local part"},
		{"givenName=Ana familyName=Soto emails=ana.soto@x.example", "givenName=Ana familyName=Soto emails=anasoto4@X.example userName=star", "familyName same, givenName same, login other digits, email other digits"},
		{"givenName=Ana familyName=Soto emails=a.soto@y.example;ana.soto2@x.example", "givenName=Ana familyName=Soto emails=stargazer@x.example", "familyName same, givenName same, login other, email another in the domain"},
		{"givenName=Ana familyName=Soto emails=ana.soto@x.example", "givenName=Ana familyName=Soto emails=anna@y.example", "familyName same, givenName same, login other, email elsewhere"},
		{"givenName=Ana familyName=Soto emails=ana.soto@x.example", "givenName=Ana familyName=Soto emails=ana.soto4@x.example;ana.soto@x.example", "familyName same, givenName same, email same"},
		{"givenName=Bo familyName=Lund emails=ana.soto@x.example", "givenName=Ana familyName=Soto emails=ana.soto4@x.example", "familyName differ, givenName differ"},
		{"givenName=Juan_Carlos familyName=Soto", "givenName=Juan_Carlos familyName=Soto", "familyName same, givenName same"},
		{"givenName=Juan_Carlos middleName=Bo familyName=Soto", "givenName=Juan_Carlos middleName=Gil familyName=Soto", "familyName same, givenName same, middleName differ"},
		{"givenName=Juan_Carlos familyName=El_Hassan userName=juancarlos.elhassan", "givenName=Juan_Carlos familyName=El_Hassan emails=juancarlos.elhassan@x.example", "familyName same, givenName same, login made of the name"},
		{"phoneNumbers=+56_2_2123_4567", "phoneNumbers=ext._4567", "phone part"},
		{"phoneNumbers=+56_2_2000_0000_x4567", "phoneNumbers=+56_2_2000_0000_x4568", "phone differ"},
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

// Whether other digits in an address speak of a namesake, the lists say: where two systems
// give out digits of their own, they do not.
func TestNamesakes(t *testing.T) {
	list := faces(roster(t, "givenName=Ana familyName=Soto emails=ana.soto@x.example", "givenName=Ana familyName=Soto emails=ana.soto4@x.example", "givenName=Ana familyName=Soto emails=ana@y.example"))
	digits, elsewhere := Compare(list[0], list[1]), Compare(list[0], list[2])
	for _, c := range []struct {
		twins, strangers *Pattern
		want             bool
	}{{&elsewhere, &digits, true}, {&digits, &digits, false}, {&digits, &elsewhere, false}} {
		var l Lesson
		for range 300 {
			l.Twin(c.twins, nil)
			l.Candidate(c.strangers, 0)
		}
		w := l.Learn()
		require.Equal(t, c.want, w.Namesakes(&digits))
		require.LessOrEqual(t, w.bits[Email][emailDigits], w.bits[Email][differ], "they never speak for a pair")
		require.False(t, w.Namesakes(&elsewhere))
	}
}

var anyFace = rapid.Custom(func(t *rapid.T) string {
	var words []string
	for _, column := range []string{
		"givenName Ana Anna Bob Robert José_María J. - Soto Юлия 陳", "middleName - - María M.", "familyName Soto Sotto Soto-Vega de_la_Vega Müller - Ana 美玲", "displayName - Ana_Soto Soto,_Ana Ana_María_Soto", "userName - asoto asoto2 soto.ana x77",
		"emails - a@x.example asoto@y.example;a@x.example", "phoneNumbers - +5622123456 22123456 123", "employeeNumber - 12345 L12345 123457 E12345", "startsOn - 2020-01-01 2020-01-20 x", "department - Optics Optics_Lab", "title - Cook", "active - true false",
	} {
		name, values, _ := strings.Cut(column, " ")
		if v := rapid.SampledFrom(strings.Fields(values)).Draw(t, name); v != "-" {
			words = append(words, name+"="+v)
		}
	}
	return strings.Join(words, " ")
})

// What people are called elsewhere is learnt from twins: a form that several bear, and
// neither the name of a sister, nor a new surname, nor what an import lost.
func TestForms(t *testing.T) {
	learnt := func(twins ...string) Forms {
		var left, right []string
		for _, twin := range twins {
			n, pair, _ := strings.Cut(twin, "x ")
			a, b, _ := strings.Cut(pair, " | ")
			var times int
			_, err := fmt.Sscan(n, &times)
			require.NoError(t, err)
			for range times {
				left, right = append(left, a), append(right, b)
			}
		}
		people, accounts := People(roster(t, left...), 1).Reader(), Accounts(roster(t, right...), 1).Reader()
		l := NewFormLesson()
		for i := range left {
			l.Twin(people, accounts, i, i)
		}
		return l.Learn()
	}
	const ana = "200x givenName=Ana familyName=Soto | givenName=Ana familyName=Soto"
	require.Equal(t, Forms{"ivica": {"ivan"}, "carey": {"ciardha"}, "richard": {"risteard"}}, learnt(ana,
		"40x givenName=Ivan familyName=Marić | givenName=Ivan familyName=Marić", "3x givenName=Ivan familyName=Jurić | givenName=Ivica familyName=Jurić",
		"4x givenName=Risteard familyName=Ó_Ciardha | givenName=Richard familyName=Carey",
		"2x givenName=Zoltán familyName=Nagy | givenName=Zoli familyName=Nagy",    // too few
		"5x givenName=Josip familyName=Babić | givenName=Josipa familyName=Babić", // a sister's
		"5x givenName=Inês familyName=Lund | givenName=In?s familyName=Lund",
		"5x givenName=Bo familyName=dos_Santos | givenName=Bo familyName=Santos", "3x givenName=A. familyName=Vega | givenName=Alma familyName=Vega"))
	require.Empty(t, learnt("200x givenName=Ivan familyName=Marić | givenName=Ivica familyName=Nagy"), "two words that differ are two humans' as well as one's: not of 200 alike")

	require.Empty(t, learnt(ana, "6x givenName=Charles familyName=Lund | givenName=Carl familyName=Lund", "20x givenName=Carl familyName=Vega | givenName=Carl familyName=Vega"), "people here are given both names")

	plain, knowing := People(roster(t, "givenName=Risteard familyName=Byrne", "givenName=Richard familyName=Byrne"), 1).Reader(), Forms{"richard": {"risteard"}}
	p := Compare(plain.Face(0), plain.Face(1))
	require.Equal(t, differ, p.Levels[Given])
	reader := People(roster(t, "givenName=Risteard familyName=Byrne", "givenName=Richard familyName=Byrne"), 1).Knowing(knowing).Reader()
	p = Compare(reader.Face(0), reader.Face(1))
	require.Equal(t, short, p.Levels[Given])
	met := map[uint64]bool{}
	reader.Face(0).EachBlock(func(k uint64) { met[k] = true })
	together := 0
	reader.Face(1).EachBlock(func(k uint64) {
		if met[k] {
			together++
		}
	})
	require.Positive(t, together, "and brought together by it")
}

// A curve never falls, finds what is true where enough was seen, leaves what was said
// where nothing was, and survives being written down.
func TestCurve(t *testing.T) {
	require.InDelta(t, 0.7, (*Curve)(nil).At(0.7), 1e-12)
	rapid.Check(t, func(t *rapid.T) {
		var seen []Observed
		power := rapid.Float64Range(0.5, 3).Draw(t, "power")
		n := rapid.IntRange(0, 400).Draw(t, "n") * 10
		for i := range n {
			said := (float64(i%100) + 0.5) / 100
			truth := math.Pow(said, power)
			seen = append(seen, Observed{Said: said, Weight: 1, One: math.Mod(float64(i/100)*0.6180339887+0.31, 1) < truth})
		}
		c := Fit(seen)
		last := -1.0
		for i := range 201 {
			said := float64(i) / 200
			told := c.At(said)
			require.GreaterOrEqual(t, told, last, "at %g", said)
			require.LessOrEqual(t, told, 1.0)
			last = told
			if n == 0 {
				require.InDelta(t, said, told, 1e-9)
			} else if n >= 2000 && said > 0.05 && said < 0.95 {
				require.InDelta(t, math.Pow(said, power), told, 0.12, "%d pairs, said %g", n, said)
			}
		}
		for _, p := range []float64{0.1, 0.5, 0.9} {
			if before := c.Before(p); before < 1-1e-9 {
				require.InDelta(t, p, c.At(before), 0.05)
			}
		}
		w := Priors().WithCurve(c).WithForms(Forms{"ivica": {"ivan"}})
		back := w.Kept()
		require.Equal(t, w.Version(), back.Version())
		require.Equal(t, w.Kept().Curve(), back.Curve())
		require.Equal(t, w.Forms(), back.Forms())
	})
}

// What a charter declares is compared as it says, kept under its name, and learnt with the
// rest.
func TestDeclared(t *testing.T) {
	list := []Declared{{"room", "text"}, {"born", "day"}, {"badge", "number"}}
	face := func(row string) *Face {
		b := record.NewBuilder([]string{"room", "born", "badge"})
		cells := make([]string, 4)
		for i, name := range b.Names() {
			for _, word := range strings.Fields(row) {
				if n, v, _ := strings.Cut(word, "="); n == name {
					cells[i] = v
				}
			}
		}
		cells[0] = "r"
		require.NoError(t, b.Append(cells))
		r, err := b.Roster()
		require.NoError(t, err)
		return Accounts(r, 1).Declaring(list).Reader().Face(0)
	}
	w := Priors().Declaring(list)
	for _, c := range []struct{ a, b, want string }{
		{"born=1980-03-04", "born=1980-03-04", "born same"}, {"born=1980-03-04", "born=1980-04-03", "born near"}, {"born=1980-03-04", "born=1981-03-04", "born near"},
		{"born=1980-03-04", "born=1980-03-05", "born near"}, {"born=1980-03-04", "born=1981-03-05", "born differ"}, {"born=1980-03-04", "", ""}, {"born=1899-12-31", "born=1899-12-31", "born same"},
		{"badge=B00471", "badge=471", "badge variant"}, {"badge=B471", "badge=B472", "badge differ"}, {"room=A100", "room=a100", "room same"}, {"room=A100", "room=B200 badge=7", "room differ"},
	} {
		p := Compare(face(c.a), face(c.b))
		var got []string
		sum := 0.0
		for _, s := range w.Say(&p) {
			got, sum = append(got, s.Comparator+" "+s.Level), sum+s.Bits
			require.Equal(t, s.Level == "differ", s.Bits < 0, "%s and %s: %s %s %g", c.a, c.b, s.Comparator, s.Level, s.Bits)
		}
		require.Equal(t, c.want, strings.Join(got, ", "), "%s and %s", c.a, c.b)
		require.InDelta(t, w.Bits(&p), sum, 1e-9)
		require.Equal(t, p, Compare(face(c.b), face(c.a)))
	}
	l := Lesson{Declared: list}
	same, differ := Compare(face("born=1980-03-04"), face("born=1980-03-04")), Compare(face("born=1980-03-04"), face("born=1990-10-04"))
	for range 1000 {
		l.Twin(&same, nil)
		l.Stranger(&differ)
	}
	learnt := l.Learn()
	require.Greater(t, learnt.Bits(&same), w.Bits(&same))
	back := learnt.Kept()
	require.InDelta(t, learnt.Bits(&same), back.Bits(&same), 1e-9)
	other := back.Declaring([]Declared{{"born", "day"}})
	alone := Pattern{}
	alone.Levels[declared] = same.Levels[int(declared)+1]
	require.InDelta(t, back.Bits(&same), other.Bits(&alone), 1e-9, "an attribute keeps what it is worth when others go")
	require.Same(t, other, other.Declaring([]Declared{{"born", "day"}}))
}

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

// Whatever texts stand in whichever columns, filled or not: two records can be compared
// and brought together, and none differs from itself.
func TestAnyTexts(t *testing.T) {
	texts := rapid.OneOf(rapid.SampledFrom([]string{"", "", "Ana", "Soto", "Ana Soto", "Soto, Ana", "J.", "N??ez", "??", "-", "O'", "van der", "美玲", "Юлия", "x", "ext. 4567", "+56 2 2123 4567", "7777", "a@x.example", "1980-03-04", "José\ufffd"}), rapid.StringN(0, 60, -1))
	list := []Declared{{"born", "day"}, {"badge", "number"}, {"room", "text"}}
	rapid.Check(t, func(t *rapid.T) {
		b := record.NewBuilder(append([]string{"born", "badge", "room"}, columns[1:]...))
		for i := range 2 {
			cells := []string{fmt.Sprintf("r%d", i)}
			for range b.Names()[1:] {
				cells = append(cells, texts.Draw(t, "cell"))
			}
			require.NoError(t, b.Append(cells))
		}
		r, err := b.Roster()
		require.NoError(t, err)
		faces := counted(People(r, 1).Knowing(Forms{"ana": {"soto"}}).Declaring(list), 2)
		x, y := faces[0], faces[1]
		p := Compare(x, y)
		require.False(t, math.IsNaN(Priors().Declaring(list).Bits(&p)))
		own := Compare(x, x)
		for c := range comparators {
			require.NotEqual(t, differ, own.Levels[c], "%s of one record with itself", Priors().Declaring(list).name(c))
		}
		Candidates([]*Face{x, y}, []*Face{y, x}, Joining, 1)
	})
}

// The counting hashes what a face holds, without making it.
func FuzzKeys(f *testing.F) {
	for _, s := range []string{"A.Soto12+x@l.example", "L-00420.0", "ñandú7", " 7 ", "", "0", "a.0", "\xff"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		text, bare := likeness.Local(s)
		l, n := newLocal(s)
		require.Equal(t, len(bare), n, "%q", s)
		require.Equal(t, local{text: hash(text), key: hash(bare), digits: uint8(min(len(text)-len(bare), 255))}, l, "%q", s)
		require.Equal(t, hash(record.Normal(record.Email, s)), emailKey(s), "%q", s)
		number := record.Normal(record.Text, s)
		core, _ := likeness.NumberCore(number)
		if key, n := coreKey(s); number != "" {
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
