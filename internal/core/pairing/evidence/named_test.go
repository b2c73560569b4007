package evidence

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/record"
)

// named reads "given / family", "given / middle / family", or a full name.
func named(s string) likeness.Name {
	p := strings.Split(s, "/")
	for i := range p {
		p[i] = strings.TrimSpace(p[i])
	}
	switch len(p) {
	case 2:
		return likeness.Name{Given: p[0], Family: p[1]}
	case 3:
		return likeness.Name{Given: p[0], Middle: p[1], Family: p[2]}
	}
	return likeness.Name{Full: p[0]}
}

// One name in many forms, and names that are two humans'. Matches and misses
// stand side by side.
func TestNames(t *testing.T) {
	for _, c := range []struct {
		a, b  string
		level likeness.Level
	}{
		// one name
		{"Ana / Soto", "ana / SOTO", likeness.Same}, {"Ana / Soto", "Soto, Ana", likeness.Same}, {"Ana / Soto", "Soto / Ana", likeness.Same}, {"José / Núñez", "Jose / Nunez", likeness.Same},
		{"José / Soto", "JosÃ© / Soto", likeness.Same}, {"Dr. Ana / Soto", "Ana / Soto", likeness.Same}, {"Надежда / Сорокина", "Nadezhda / Sorokina", likeness.Same}, {"Ελένη / Παπαδάκη", "Eleni / Papadaki", likeness.Same},
		{"Teun / van der Meer", "Teun / Meer", likeness.Same}, {"Ludwig / van Beek", "Ludwig / Beek", likeness.Same}, {"María José / Soto", "Maria-Jose / Soto", likeness.Same}, {"Anne Marie / Holm", "Annemarie / Holm", likeness.Same},
		{"Siobhán / O'Byrne", "Siobhan / Byrne", likeness.Same}, {"Łucja / Nowak", "Lucja / Nowak", likeness.Same}, {"陳 / 美玲", "美玲 / 陳", likeness.Same},
		// one name written or called otherwise
		{"Sergei / Petrov", "Sergey / Petrow", likeness.Variant}, {"Сергей / Ильин", "Sergei / Ilyin", likeness.Variant}, {"Jürgen / Müller", "Juergen / Mueller", likeness.Variant}, {"Юлия / Котова", "Julia / Kotova", likeness.Variant},
		{"Khristos / Xenakis", "Christos / Ksenakis", likeness.Variant}, {"Robert / Thorne", "Bob / Thorne", likeness.Short}, {"Bob / Thorne", "Rob / Thorne", likeness.Short}, {"Francisco / Vega", "Paco / Vega", likeness.Short},
		{"Aleksandr / Vega", "Sasha / Vega", likeness.Short}, {"William / Byrne", "Liam / Byrne", likeness.Short}, {"Małgorzata / Kowalczyk", "Gosia / Kowalczyk", likeness.Short},
		{"Matilda / Thorne", "Matlida / Thorne", likeness.Near}, {"Ana / Papadopoulos", "Ana / Papadopulos", likeness.Variant}, {"Ana / Castillo", "Ana / Castilo", likeness.Variant}, {"Ana / Fernandez", "Ana / Fernandes", likeness.Variant},
		// letters lost on the way
		{"José / Núñez", "Jos? / N??ez", likeness.Variant}, {"Gülşen / Öztürk", "G?l?en / ?zt?rk", likeness.Variant}, {"Juergen / Soto", "J?rgen / Soto", likeness.Variant}, {"Dũng / Soto", "D???ng / Soto", likeness.Variant}, {"Jos\ufffd / Soto", "José / Soto", likeness.Variant},
		{"Ana / Soto", "An? / S?t?", likeness.Faint}, {"Ana / Soto", "?? / Soto", likeness.Faint}, {"Ana / Soto", "Ana / S?lo", likeness.Faint}, {"Lê / Soto", "L? / Soto", likeness.Variant},
		// begun alike: nobody knows
		{"Ivan / Marić", "Ivica / Marić", likeness.Faint}, {"Tomasz / Nowak", "Tomek / Nowak", likeness.Faint}, {"Stefan / Vega", "Stefanie / Vega", likeness.Faint},
		// a part of it
		{"Ana / Soto García", "Ana / Soto", likeness.Part}, {"Ana María / Soto", "Ana / Soto", likeness.Part}, {"A. / Soto", "Ana / Soto", likeness.Part}, {"Ana / M. / Soto", "Ana / Soto", likeness.Part}, {"Carla / Montt-Riquelme", "Carla / Montt", likeness.Part},
		{"J R Thorne", "John Robert Thorne", likeness.Part}, {"Ana Soto", "Ana / María / Soto", likeness.Part},
		// relatives, strangers, and people who married
		{"Carla / Montt", "Carla / Riquelme", likeness.Faint}, {"Ema / Carrasco", "Óscar / Carrasco", likeness.Faint}, {"Bob / Thorne", "Bert / Vega", likeness.Faint}, {"Ana", "Ana / Soto", likeness.Faint},
		{"Robert / Thorne", "Richard / Thorne", likeness.Faint}, {"Maria / Soto", "Mario / Soto", likeness.Faint}, {"Paul / Soto", "Paula / Soto", likeness.Faint}, {"Daniel / Soto", "Daniela / Soto", likeness.Faint}, {"Ivan / Sorokin", "Ivan / Sorokina", likeness.Faint}, {"Martin / Soto", "Marina / Soto", likeness.Faint}, {"Li / Wei", "Lu / Wei", likeness.Faint},
		{"Ana / Soto", "Bo / Vega", likeness.Differ}, {"Jan / Bakker", "Jon / Becker", likeness.Differ}, {"John / Smith", "Jane / Schmidt", likeness.Differ},
		// in other letters: what can be one name, and never what speaks against it
		{"محمد / المصري", "Mohammed / al-Masri", likeness.Variant}, {"محمد / المصري", "Mohamad / Elmasry", likeness.Variant}, {"حسين / خليل", "Hussein / Khalil", likeness.Variant}, {"حسين / خليل", "Hassan / Khalil", likeness.Missing},
		{"يوسف / حداد", "Youssef / Haddad", likeness.Variant}, {"عائشة / منصور", "Aisha / Mansour", likeness.Variant}, {"משה / כהן", "Moshe / Cohen", likeness.Variant}, {"רבקה לוי", "Rivka / Levi", likeness.Variant},
		{"יצחק / מזרחי", "Yitzhak / Mizrahi", likeness.Variant}, {"יצחק / מזרחי", "Moshe / Mizrahi", likeness.Missing}, {"محمد / المصري", "ahmad / almasri", likeness.Missing}, {"حمد / منصور", "Ahmad / Mansour", likeness.Missing}, {"محمود / منصور", "Mohammed / Mansour", likeness.Missing}, {"عمر / منصور", "Omar / Mansour", likeness.Variant}, {"نور / حسن", "Noor / Hassan", likeness.Variant},
		{"陳 / 美玲", "Meiling / Chen", likeness.Missing}, {"", "Ana / Soto", likeness.Missing}, {"Dr. / ", "Ana / Soto", likeness.Missing},
	} {
		a, b := named(c.a), named(c.b)
		got, back := Names(a, b), Names(b, a)
		require.Equal(t, c.level.String(), got.Level.String(), "%s and %s: %s", c.a, c.b, got.Words)
		require.Equal(t, got.Level, back.Level, "%s and %s", c.a, c.b)
		require.NotEmpty(t, got.Words)
	}
}

// Names in several scripts are brought together, where a list has them.
func TestScriptsMeet(t *testing.T) {
	people := faces(roster(t, "givenName=محمد familyName=المصري", "givenName=משה familyName=כהן", "givenName=Ana familyName=Soto"))
	accounts := counted(Accounts(roster(t, "givenName=Moshe familyName=Cohen", "displayName=Mohamad_Elmasry", "givenName=Anna familyName=Soto", "givenName=Bo familyName=Vega"), 1), 4)
	pairs, _ := Candidates(people, accounts, Joining, 2)
	for p, want := range []int32{1, 0, 2} {
		require.True(t, slices.ContainsFunc(pairs[p], func(x Pair) bool { return int32(x.Account) == want }), p)
		found := Compare(people[p], accounts[want])
		require.True(t, found.NamesAgree())
		require.False(t, slices.ContainsFunc(pairs[p], func(x Pair) bool { return x.Account == 3 }))
	}
}

// What is told in words and what is weighed are one: a comparator of texts says of two
// cells what the comparator of faces says of the records that hold them.
func TestWordsAndWeights(t *testing.T) {
	texts := rapid.OneOf(rapid.SampledFrom(strings.Fields("Ana Ana_María J. José Robert van_der_Meer Soto Soto_García Сорокина 陳 Müller O'Byrne ana.soto asoto soto jsoto7 a@x.example A@X.example a@y.example 2026-03-01 2026-03-20 2026-06-01 -")), rapid.StringMatching(`[a-dA-D.@'-]{1,9}`))
	rapid.Check(t, func(t *rapid.T) {
		cells, rows := [2]map[string]string{{}, {}}, [2]string{}
		for side := range rows {
			for _, name := range []string{"givenName", "middleName", "familyName", "displayName", "userName", "emails", "department", "startsOn"} {
				word := texts.Draw(t, name)
				if cells[side][name] = strings.ReplaceAll(strings.Trim(word, "-"), "_", " "); cells[side][name] != "" {
					rows[side] += " " + name + "=" + strings.Trim(word, "-")
				}
			}
		}
		r := roster(t, rows[0], rows[1])
		list := faces(r)
		found := Compare(list[0], list[1])
		cell := func(side int, name string) string { return r.Column(name).Cell(side) }
		called := func(side int) likeness.Name {
			return likeness.Name{Given: cell(side, "givenName"), Middle: cell(side, "middleName"), Family: cell(side, "familyName"), Full: cell(side, "displayName")}
		}
		names := Names(called(0), called(1))
		require.Equal(t, names.Level, Names(called(1), called(0)).Level)
		require.Contains(t, []likeness.Level{likeness.Same, likeness.Missing}, Names(called(0), called(0)).Level)
		alone := Named(People(r, 1).Reader(), 0, Accounts(r, 1).Reader(), 1)
		require.Equal(t, alone.NamesDiffer(), names.Level == likeness.Differ, names.Words)

		emails := likeness.Emails(record.SplitList(cell(0, "emails")), record.SplitList(cell(1, "emails"))).Level
		require.Equal(t, emails == likeness.Same, found.Levels[Email] == same, "%q", rows)
		require.Equal(t, likeness.Texts(cell(0, "department"), cell(1, "department")).Level, likeness.Level(found.Levels[Department]), "%q", rows)
		require.Equal(t, likeness.Days(cell(0, "startsOn"), cell(1, "startsOn")).Level, likeness.Level(found.Levels[Day]), "%q", rows)
		if l, n := newLocal(cell(1, "userName")); n >= shortLocal { // whose login a name gives
			login := likeness.Login(called(0), cell(1, "userName"))
			require.False(t, list[0].gives(l.key) && login.Level <= likeness.Differ, "%q: %s", rows, login.Words)
			require.False(t, !list[0].gives(l.key) && login.Level >= likeness.Part, "%q: %s", rows, login.Words)
		}
	})
}
