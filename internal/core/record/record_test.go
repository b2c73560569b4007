package record

import (
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// One table of pairs: what is one value, and what is not.
func TestSame(t *testing.T) {
	for _, c := range []struct {
		kind Kind
		x, y string
		same bool
	}{
		{Text, "Ana  Soto ", "ana soto", true},
		{Text, "Jose\u0301", "José", true},
		{Text, "STRASSE", "straße", true},
		{Text, "Ana\u00a0Soto", "Ana Soto", true},
		{Text, "Ana", "Anna", false},
		{Email, "Ana@Larkspur.EXAMPLE.", "ana@larkspur.example", true},
		{Email, "x@bücher.example", "x@xn--bcher-kva.example", true},
		{Email, "a.b@x.example", "ab@x.example", false},
		{Phone, "+56 (2) 123-45", "0056212345", true},
		{Phone, "+56 2 12345", "56212345", false},
		{Exact, "aB", "ab", false},
		{Emails, "a@x.example\x1fB@x.example", "b@x.example\x1fa@x.example", true},
		{Emails, "a@x.example", "a@x.example\x1fb@x.example", false},
	} {
		require.Equal(t, c.same, Same(c.kind, c.x, c.y), "%q and %q", c.x, c.y)
		require.Equal(t, c.same, Same(c.kind, c.y, c.x), "%q and %q", c.y, c.x)
	}
}

func TestSlugAndFold(t *testing.T) {
	for in, want := range map[string]string{
		"Łucja": "lucja", "Þóra Ægisdóttir": "thoraaegisdottir", "Надежда": "nadezhda", "Παπαδάκη": "papadaki", "O'Brien": "obrien", "van der Meer": "vandermeer",
		"Müller-Lüdenscheidt": "muller-ludenscheidt", "陳": "", ".x.": "x", "Юлия Щукина": "yuliyashchukina",
	} {
		require.Equal(t, want, Slug(in), in)
	}
	for address, ok := range map[string]bool{
		"a@b.example": true, "a.b+c@b-c.example": true, "ana@larkspur": false, "a@@b.example": false, "@b.example": false, "a b@c.example": false, ".a@b.example": false, "a..b@c.example": false,
		"a@-b.example": false, "a@b_c.example": false, "ñ@bücher.example": true, "a,b@c.example": false,
	} {
		require.Equal(t, ok, ValidEmail(address), address)
	}
	// by language, then: what people there expect their logins to be
	for in, want := range map[[2]string]string{
		{"de", "mKrüger"}: "mkrueger", {"de", "Ärmel-Öß"}: "aermel-oess", {"da", "Åse Bjørk"}: "aasebjoerk", {"nb", "Æra"}: "aera", {"hr", "Đurđa"}: "djurdja", {"bg", "Щерев"}: "shterev", {"bg", "Ъглов"}: "aglov",
		{"uk", "Григорій"}: "hryhorii", {"uk", "Щур'юк"}: "shchuriuk", {"el", "Ευγενία Χούρη"}: "evgeniachouri", {"de", "Kru\u0308ger"}: "krueger", {"de", "Núñez"}: "nunez",
	} {
		spelt, known := Spelt(in[1], in[0])
		require.True(t, known)
		require.Equal(t, want, Slug(spelt), in)
	}
	_, known := Spelt("Krüger", "deutsch")
	require.False(t, known)
}

func TestShapeRoundTripsAndGuesses(t *testing.T) {
	source := "shape:\n  id: staff_no\n  active: {from: Status, true: [\"A\"], false: [\"L\", \"X y\"]}\n  aliases: {from: other, split: \";\"}\n  endsOn: {from: end, date: DD.MM.YYYY}\nstable: false\nmark: externalId\n"
	s, err := ParseShape([]byte(source))
	require.NoError(t, err)
	again, err := ParseShape([]byte(s.YAML()))
	require.NoError(t, err)
	require.Equal(t, s, again)
	r := s.NewReader([]string{"id", "active", "aliases", "endsOn"})
	cells := make([]string, 4)
	require.NoError(t, r.Row(map[string][]string{"staff_no": {" 7 "}, "Status": {"l"}, "other": {"a@x; ;b@x"}, "end": {"31.12.2026"}}, cells))
	require.Equal(t, []string{"7", "false", "a@x\x1fb@x", "2026-12-31"}, cells)
	require.ErrorContains(t, r.Row(map[string][]string{"staff_no": {"7"}, "Status": {"?"}}, cells), "neither among the words for true")
	require.ErrorContains(t, r.Row(map[string][]string{"staff_no": {"7\x00"}}, cells), "control character")
	_, err = ParseShape([]byte("shape: {email: mail}\nstabel: true\n"))
	require.ErrorContains(t, err, "no column is named for `id`")
	require.ErrorContains(t, err, `did you mean "stable"`)

	g := Guess([]string{"Staff No.", "First name", "Surname", "E-Mail", "password", "badge"})
	require.Equal(t, "Staff No.", g.Attributes["id"].Native)
	require.Equal(t, "First name", g.Attributes["givenName"].Native)
	require.Equal(t, "E-Mail", g.Attributes["email"].Native)
	require.Equal(t, []string{"badge"}, g.Custom(), "a secret is never taken up")
}

// What is longer than any name is cut where a list shows it.
func TestLabel(t *testing.T) {
	for _, c := range []struct{ name, want string }{{"Ana Soto", "Ana Soto"}, {strings.Repeat("ñ", 200), strings.Repeat("ñ", 200)}, {strings.Repeat("ñ", 201), strings.Repeat("ñ", 199) + "…"}} {
		b := NewBuilder([]string{"displayName"})
		require.NoError(t, b.Append([]string{"1", c.name}))
		r, err := b.Roster()
		require.NoError(t, err)
		require.Equal(t, c.want, Label(r, 0))
	}
}

func FuzzNormalisers(f *testing.F) {
	for _, s := range []string{"Ana Soto", "Jose\u0301@X.example", "\xff", "+56 2", "ß\u0307", "ana  soto ", "a @x.example.", "a\t"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for _, k := range []Kind{Text, Email, Phone, Exact} {
			once := Normal(k, s)
			require.Equal(t, once, Normal(k, once), "normalising twice changes nothing: %q", s)
			require.Equal(t, string(AppendNormal(nil, k, s)), once, "what is normalised at once is the same: %q", s)
		}
		_, _, _ = Fold(s), Slug(s), ValidEmail(s)
	})
}

// In whatever way a system keeps addresses, those that are written are read again, and what
// else stands beside them stays as it is, byte for byte.
func FuzzAddressCodings(f *testing.F) {
	f.Add("ana@l.example", "a.soto@l.example", "as@k.example", "x400:c=CL;a=ana")
	f.Add("Ana@L.example", "", "", "SMTP")
	f.Add("ana@l.example", "ana+x@l.example", "bo@l.example", "sip:ana@l.example")
	codings := map[string][2]Source{
		"marked":     {{Native: "all", Prefix: "SMTP:"}, {Native: "all", Prefix: "smtp:"}},
		"a list":     {{Native: "mail"}, {Native: "other"}},
		"in a value": {{Native: "mail"}, {Native: "other", Split: ";"}},
	}
	f.Fuzz(func(t *testing.T, primary, first, second, beside string) {
		if !ValidEmail(primary) || first != "" && !ValidEmail(first) || second != "" && !ValidEmail(second) || !utf8.ValidString(primary+first+second+beside) {
			return
		}
		var aliases []string
		for _, v := range []string{first, second} {
			if v != "" && !strings.ContainsAny(v, ";\x1f") && !slices.Contains(aliases, v) {
				aliases = append(aliases, v)
			}
		}
		for name, coding := range codings {
			shape := Shape{Attributes: map[string]Source{"id": {Native: "id"}, "email": coding[0], "aliases": coding[1]}}
			native := map[string][]string{"all": {"smtp:old@l.example", beside, "SMTP:old2@l.example"}, "mail": {"old@l.example"}, "other": {"old2@l.example"}}
			if strings.HasPrefix(strings.ToLower(beside), "smtp:") {
				native["all"] = native["all"][:1]
			}
			for i, values := range [][]string{{primary}, aliases} {
				out, err := coding[i].Encode([]Kind{Email, Emails}[i], values, native[coding[i].Native], nil)
				require.NoError(t, err)
				native[coding[i].Native] = out
			}
			r := shape.NewReader([]string{"email", "aliases"})
			for i, want := range []string{strings.TrimSpace(primary), JoinList(aliases)} {
				got, err := r.Cell(i, native[coding[i].Native])
				require.NoError(t, err)
				require.Equal(t, want, got, "%s of %q", name, native)
			}
			if name == "marked" && !strings.HasPrefix(strings.ToLower(beside), "smtp:") {
				require.Contains(t, native["all"], beside, "%q", native)
			}
		}
	})
}
