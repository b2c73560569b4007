package likeness

import (
	"flag"
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

// The patterns by which logins and local parts are made of names.
func TestLogin(t *testing.T) {
	for _, c := range []struct {
		name, login string
		level       Level
	}{
		{"John / Doe", "john.doe", Same}, {"John / Doe", "doe_john", Same}, {"John / Doe", "JohnDoe2@x.example", Same}, {"John / Doe", "john.doe+list@x.example", Same},
		{"Åsa / Østergaard", "asa.ostergaard", Same}, {"Teun / van der Meer", "teun.meer", Same}, {"John / Doe", "jdoe", Variant}, {"John / Doe", "doe.j", Variant}, {"John / Doe", "johnd", Variant}, {"John / Doe", "jdoe17", Variant},
		{"Ana María / Soto García", "asoto", Variant}, {"Ana María / Soto García", "maria.garcia", Same}, {"Ana María / Soto García", "asotogarcia", Variant}, {"Konstantinos / Papadopoulos", "kpapadop", Variant},
		{"Juan Carlos / Soto", "juancarlos.soto", Same}, {"Juan Carlos / Soto", "jcsoto", Variant}, {"Juan Carlos / Soto", "juanc.soto", Same}, {"Mohammed / El Hassan", "mohammed.elhassan3", Same}, {"Juan Carlos / El Hassan", "juancarlose7", Variant}, {"Văn Minh / Nguyễn", "nguyenvanminh", Same}, {"Juan Carlos Soto", "juancarlos.soto", Same},
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
		a := names.Draw(t, "a")
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
		_, _, _ = Login(named(a), b), Numbers(a, b), Texts(a, b)
		_, _ = Phones([]string{a}, []string{b}), Emails([]string{a}, []string{b})
	})
}
