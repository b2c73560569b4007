package likeness

import (
	"flag"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// properties are tried on the same values every time; soak takes others
func init() { _ = flag.Set("rapid.seed", "20261125") }

// named reads "given / family", "given / middle / family", or a full name.
func named(s string) Name {
	p := strings.Split(s, "/")
	for i := range p {
		p[i] = strings.TrimSpace(p[i])
	}
	switch len(p) {
	case 2:
		return Name{Given: p[0], Family: p[1]}
	case 3:
		return Name{Given: p[0], Middle: p[1], Family: p[2]}
	}
	return Name{Full: p[0]}
}

// One name in many forms, and names that are two humans'. Matches and misses
// stand side by side.
func TestNames(t *testing.T) {
	for _, c := range []struct {
		a, b  string
		level Level
	}{
		// one name
		{"Ana / Soto", "ana / SOTO", Same}, {"Ana / Soto", "Soto, Ana", Same}, {"Ana / Soto", "Soto / Ana", Same}, {"José / Núñez", "Jose / Nunez", Same},
		{"José / Soto", "JosÃ© / Soto", Same}, {"Dr. Ana / Soto", "Ana / Soto", Same}, {"Надежда / Сорокина", "Nadezhda / Sorokina", Same}, {"Ελένη / Παπαδάκη", "Eleni / Papadaki", Same},
		{"Teun / van der Meer", "Teun / Meer", Same}, {"Ludwig / van Beek", "Ludwig / Beek", Same}, {"María José / Soto", "Maria-Jose / Soto", Same}, {"Anne Marie / Holm", "Annemarie / Holm", Same},
		{"Siobhán / O'Byrne", "Siobhan / Byrne", Same}, {"Łucja / Nowak", "Lucja / Nowak", Same}, {"陳 / 美玲", "美玲 / 陳", Same},
		// one name written or called otherwise
		{"Sergei / Petrov", "Sergey / Petrow", Variant}, {"Сергей / Ильин", "Sergei / Ilyin", Variant}, {"Jürgen / Müller", "Juergen / Mueller", Variant}, {"Юлия / Котова", "Julia / Kotova", Variant},
		{"Khristos / Xenakis", "Christos / Ksenakis", Variant}, {"Robert / Thorne", "Bob / Thorne", Short}, {"Bob / Thorne", "Rob / Thorne", Short}, {"Francisco / Vega", "Paco / Vega", Short},
		{"Aleksandr / Vega", "Sasha / Vega", Short}, {"William / Byrne", "Liam / Byrne", Short}, {"Małgorzata / Kowalczyk", "Gosia / Kowalczyk", Short},
		{"Matilda / Thorne", "Matlida / Thorne", Near}, {"Ana / Papadopoulos", "Ana / Papadopulos", Variant}, {"Ana / Castillo", "Ana / Castilo", Variant}, {"Ana / Fernandez", "Ana / Fernandes", Variant},
		// letters lost on the way
		{"José / Núñez", "Jos? / N??ez", Variant}, {"Gülşen / Öztürk", "G?l?en / ?zt?rk", Variant}, {"Juergen / Soto", "J?rgen / Soto", Variant}, {"Dũng / Soto", "D???ng / Soto", Variant}, {"Jos\ufffd / Soto", "José / Soto", Variant},
		{"Ana / Soto", "An? / S?t?", Faint}, {"Ana / Soto", "?? / Soto", Faint}, {"Ana / Soto", "Ana / S?lo", Faint}, {"Lê / Soto", "L? / Soto", Variant},
		// begun alike: nobody knows
		{"Ivan / Marić", "Ivica / Marić", Faint}, {"Tomasz / Nowak", "Tomek / Nowak", Faint}, {"Stefan / Vega", "Stefanie / Vega", Faint},
		// a part of it
		{"Ana / Soto García", "Ana / Soto", Part}, {"Ana María / Soto", "Ana / Soto", Part}, {"A. / Soto", "Ana / Soto", Part}, {"Ana / M. / Soto", "Ana / Soto", Part}, {"Carla / Montt-Riquelme", "Carla / Montt", Part},
		{"J R Thorne", "John Robert Thorne", Part}, {"Ana Soto", "Ana / María / Soto", Part},
		// relatives, strangers, and people who married
		{"Carla / Montt", "Carla / Riquelme", Faint}, {"Ema / Carrasco", "Óscar / Carrasco", Faint}, {"Bob / Thorne", "Bert / Vega", Faint}, {"Ana", "Ana / Soto", Faint},
		{"Robert / Thorne", "Richard / Thorne", Faint}, {"Maria / Soto", "Mario / Soto", Faint}, {"Paul / Soto", "Paula / Soto", Faint}, {"Daniel / Soto", "Daniela / Soto", Faint}, {"Ivan / Sorokin", "Ivan / Sorokina", Faint}, {"Martin / Soto", "Marina / Soto", Faint}, {"Li / Wei", "Lu / Wei", Faint},
		{"Ana / Soto", "Bo / Vega", Differ}, {"Jan / Bakker", "Jon / Becker", Differ}, {"John / Smith", "Jane / Schmidt", Differ},
		{"陳 / 美玲", "Meiling / Chen", Missing}, {"", "Ana / Soto", Missing}, {"Dr. / ", "Ana / Soto", Missing},
	} {
		a, b := named(c.a), named(c.b)
		got, back := Names(a, b), Names(b, a)
		require.Equal(t, c.level.String(), got.Level.String(), "%s and %s: %s", c.a, c.b, got.Words)
		require.Equal(t, got.Level, back.Level, "%s and %s", c.a, c.b)
		require.NotEmpty(t, got.Words)
	}
}

// The patterns by which logins and local parts are made of names.
func TestLogin(t *testing.T) {
	for _, c := range []struct {
		name, login string
		level       Level
	}{
		{"John / Doe", "john.doe", Same}, {"John / Doe", "doe_john", Same}, {"John / Doe", "JohnDoe2@x.example", Same}, {"John / Doe", "john.doe+list@x.example", Same},
		{"Åsa / Østergaard", "asa.ostergaard", Same}, {"Teun / van der Meer", "teun.meer", Same}, {"John / Doe", "jdoe", Variant}, {"John / Doe", "doe.j", Variant}, {"John / Doe", "johnd", Variant}, {"John / Doe", "jdoe17", Variant},
		{"Ana María / Soto García", "asoto", Variant}, {"Ana María / Soto García", "maria.garcia", Same}, {"Ana María / Soto García", "asotogarcia", Variant}, {"Konstantinos / Papadopoulos", "kpapadop", Variant},
		{"John Doe", "jdoe", Variant}, {"Doe John", "jdoe", Variant}, {"John / Doe", "doe", Part}, {"John / Doe", "john", Faint}, {"John / Doe", "jd", Faint},
		{"John / Doe", "jsmith", Differ}, {"John / Doe", "rig-north", Differ}, {"Ana / Soto", "bsoto", Differ}, {"John / Doe", "", Missing}, {"", "jdoe", Missing}, {"John / Doe", "4711", Missing},
	} {
		got := Login(named(c.name), c.login)
		require.Equal(t, c.level.String(), got.Level.String(), "%s as %s: %s", c.name, c.login, got.Words)
	}
}

// Numbers, phones, addresses and days.
func TestIdentifiers(t *testing.T) {
	for _, c := range []struct {
		how, a, b string
		level     Level
	}{
		{"number", "L0042", "l0042", Same}, {"number", "L0042", "42", Differ}, {"number", "L04242", "4242", Variant}, {"number", "04242.0", "4242", Variant}, {"number", "L-4242", "l4242", Variant},
		{"number", "12345", "123457", Part}, {"number", "L4242", "E4242", Faint}, {"number", "L4242", "L4243", Differ}, {"number", "123", "1237", Differ}, {"number", "", "1", Missing},
		{"phone", "+56 2 2123 4567", "0056 2 21234567", Same}, {"phone", "+56 2 2123 4567", "2123-4567", Variant}, {"phone", "+56 2 2123 4567 ext 12", "+56 2 2123 4567", Same},
		{"phone", "+56 2 2123 4567", "+56 2 2123 4568", Differ}, {"phone", "4567", "2123 4567", Part}, {"phone", "ext. 4567", "+56 2 2123 4567", Part}, {"phone", "0567", "+56 2 2123 0567", Part}, {"phone", "+56 2 2000 0000 ext 4567", "4567", Part}, {"phone", "+56 2 2000 0000 x4567", "+56 2 2000 0000 x4568", Differ}, {"phone", "022123 4567", "+56 2 2123 4567", Variant}, {"phone", "4568", "2123 4567", Differ}, {"phone", "12", "2123 4512", Missing}, {"phone", "+56 2 2123 4567", "+54 2 2123 4567", Differ},
		{"email", "ana@x.example", "ANA@X.example", Same}, {"email", "ana@x.example|a.soto@x.example", "bo@y.example|a.soto@x.example", Same}, {"email", "ana.soto@old.example", "ana.soto@x.example", Part},
		{"email", "ana@x.example", "bo@x.example", Differ}, {"email", "", "bo@x.example", Missing},
		{"day", "2026-03-01", "2026-03-01", Same}, {"day", "2026-03-01", "2026-02-20", Part}, {"day", "2026-03-01", "2026-05-01", Faint}, {"day", "2026-03-01", "2020-05-01", Differ}, {"day", "", "2020-05-01", Missing},
		{"text", "Night assistant", "assistant, night", Same}, {"text", "Senior astronomer", "Astronomer", Part}, {"text", "Cook", "Driver", Differ}, {"text", "", "Cook", Missing},
	} {
		compare := func(a, b string) Verdict {
			split := func(s string) []string { return strings.FieldsFunc(s, func(r rune) bool { return r == '|' }) }
			switch c.how {
			case "number":
				return Numbers(a, b)
			case "phone":
				return Phones(split(a), split(b))
			case "email":
				return Emails(split(a), split(b))
			case "day":
				return Days(a, b)
			}
			return Texts(a, b)
		}
		got := compare(c.a, c.b)
		require.Equal(t, c.level.String(), got.Level.String(), "%s %s and %s: %s", c.how, c.a, c.b, got.Words)
		require.Equal(t, got.Level, compare(c.b, c.a).Level, "%s %s and %s", c.how, c.a, c.b)
	}
}

func TestMended(t *testing.T) {
	for in, want := range map[string]string{"JosÃ©": "José", "MÃ¼ller": "Müller", "JosÃƒÂ©": "José", "Ångström": "Ångström", "Ñuñoa": "Ñuñoa", "Ã": "Ã", "NadÄ›Å¾da": "Naděžda", "plain": "plain"} {
		require.Equal(t, want, Mended(in), in)
	}
}

// Every short form stands for a name that somebody bears, in folded letters.
func TestNicknames(t *testing.T) {
	home := func(a, b string) bool { x, y := NewWord(a), NewWord(b); return sameAtHome(&x, &y) }
	for short, full := range calledBy {
		require.Regexp(t, `^[a-z]+$`, short)
		for _, f := range full {
			require.NotEqual(t, short, f)
			require.True(t, home(short, f))
			require.True(t, home(f, short))
		}
	}
	require.False(t, home("robert", "richard"), "two names are not one for sharing a short form")
	require.False(t, home("jo", "bob"))
}

var nameTexts = rapid.OneOf(rapid.SampledFrom([]string{"", "Ana", "Ana María", "J.", "José", "Bob", "Robert", "van der Meer", "Soto", "Soto García", "Сорокина", "陳", "JosÃ©", "Müller", "Mueller", "O'Byrne"}), rapid.StringN(0, 12, -1))

// Comparators are symmetric, say Same of what is one value, and never panic.
func TestProperties(t *testing.T) {
	names := rapid.Custom(func(t *rapid.T) Name {
		return Name{nameTexts.Draw(t, "given"), nameTexts.Draw(t, "middle"), nameTexts.Draw(t, "family"), nameTexts.Draw(t, "full")}
	})
	rapid.Check(t, func(t *rapid.T) {
		a, b := names.Draw(t, "a"), names.Draw(t, "b")
		require.Equal(t, Names(a, b).Level, Names(b, a).Level)
		require.Contains(t, []Level{Same, Missing}, Names(a, a).Level)
		x, y := nameTexts.Draw(t, "x"), nameTexts.Draw(t, "y")
		require.Equal(t, Numbers(x, y).Level, Numbers(y, x).Level)
		require.Equal(t, Texts(x, y).Level, Texts(y, x).Level)
		require.Equal(t, Phones([]string{x}, []string{y}).Level, Phones([]string{y}, []string{x}).Level)
		require.Equal(t, Emails([]string{x}, []string{y}).Level, Emails([]string{y}, []string{x}).Level)
		require.Equal(t, Days(x, y).Level, Days(y, x).Level)
		_ = Login(a, x)
		p, q := []rune(x), []rune(y)
		require.Equal(t, distance(p, q, 3) <= 3, distance(q, p, 3) <= 3)
	})
}

func FuzzComparators(f *testing.F) {
	for _, s := range []string{"Ana Soto", "\xff", "JosÃ©", "van der", "+tag@", "0", "ÃÃÃÃ", "a.b_c-d@e"} {
		f.Add(s, "Ana / Soto")
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		require.Equal(t, Names(named(a), named(b)).Level, Names(named(b), named(a)).Level, fmt.Sprintf("%q %q", a, b))
		_, _, _ = Login(named(a), b), Numbers(a, b), Texts(a, b)
		_, _ = Phones([]string{a}, []string{b}), Emails([]string{a}, []string{b})
	})
}
