package record

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// columns makes records of a table: names on top, cells below.
func columns(table string) (natives []string, records []map[string][]string) {
	for i, line := range strings.Split(strings.TrimSpace(table), "\n") {
		cells := strings.Split(line, "|")
		if i == 0 {
			natives = cells
			continue
		}
		r := map[string][]string{}
		for j, c := range cells {
			if c = strings.TrimSpace(c); c != "" {
				r[natives[j]] = []string{c}
			}
		}
		records = append(records, r)
	}
	return natives, records
}

// What a column becomes, how sure we are, and what is said to look at.
func TestUnderstand(t *testing.T) {
	natives, records := columns(`Staff no.|Nombre|Buzón|E-mail list|start date|Leaving date|enabled|Valid from?|secret|remarks
L1|Ana|ana@x.example|a@x.example;b@x.example|03.02.2019|never|yes|05/06/2020|s|
L2|Bo|bo@x.example||14.02.2019|never|no|07/08/2020|s|
L3|Cy|cy@x.example||28.12.2020|soon|yes|01/02/2020|s|`)
	list, shape := Understand(natives, records)
	say := func(u Understood) string {
		return strings.TrimSpace(fmt.Sprintf("%s=%s %.1f by %s, %s %d/%d %s", u.Native, u.Attribute, u.Confidence, u.Because, u.Kind, u.Filled, u.Distinct, u.Note))
	}
	var got []string
	for _, u := range list {
		got = append(got, say(u))
	}
	require.Equal(t, []string{
		"Staff no.=employeeNumber 0.9 by the header's spelling, text 3/3",
		"Nombre=givenName 0.9 by the header's spelling, text 3/3",
		"Buzón=email 0.6 by its values, addresses 3/3",
		"E-mail list=eMailList 1.0 by its own name, text 1/1",
		"start date=startsOn 0.9 by the header's spelling, days 3/3",
		"Leaving date=endsOn 0.3 by the header's spelling, text 3/2 most values are no days",
		"enabled=active 0.9 by the header's spelling, yes or no 3/2",
		"Valid from?=validFrom 1.0 by its own name, days 3/3",
		"secret= 0.0 by the header, secret 0/0 holds secrets and is never read",
		"remarks=remarks 1.0 by its own name, nothing 0/0 no record of the sample has a value",
	}, got[:10])
	require.Equal(t, "DD.MM.YYYY", shape.Attributes["startsOn"].Date)
	require.Equal(t, IDVerdict{"Staff no.", true, true, "different in every record that was looked at"}, JudgeID(list, shape, 3))

	ambiguous, _ := Understand(columns("hire date\n05/06/2020\n07/08/2020"))
	require.Equal(t, "day and month can't be told apart: read as DD/MM/YYYY; say which it is", ambiguous[0].Note)

	// a person picks, and the shape reads what is there
	shape = shape.Pick("Buzón", "personalEmail").Pick("start date", "").Pick("Valid from?", "endsOn").Fit("endsOn", records)
	require.Equal(t, "DD/MM/YYYY", shape.Attributes["endsOn"].Date)
	require.NotContains(t, shape.Attributes, "email")
	shape = shape.Pick("Nombre", "active").Words("Nombre", []string{"Ana"}, records)
	require.Equal(t, []string{"Bo", "Cy"}, shape.Attributes["active"].False)
	held := shape.Held(list, records)
	require.Equal(t, "Nombre=active 1.0 by the shape, text 3/3", say(held[1]))
	require.True(t, held[1].Flag)
	require.Equal(t, "start date= 0.0 by nothing, days 3/3", say(held[4]))
}

func TestJudgeID(t *testing.T) {
	for name, c := range map[string]struct{ table, id, said string }{
		"some have none":   {"id|x\n1|\n|2", "id", "1 of 2 records have none"},
		"twice":            {"id|x\n1|\n1|2", "id", "2 records, but only 1 different values"},
		"an address":       {"id|x\na@x.example|\nb@x.example|", "id", "since they change when people marry or move"},
		"none, and a hint": {"name|badge\nAna|17\nBo|18", "", "badge is filled and different in every record"},
	} {
		t.Run(name, func(t *testing.T) {
			natives, records := columns(c.table)
			list, shape := Understand(natives, records)
			v := JudgeID(list, shape, len(records))
			require.Equal(t, c.id, v.Native)
			require.Contains(t, v.Said, c.said)
		})
	}
}

// A reference by another attribute becomes the id of who is meant.
func TestReferences(t *testing.T) {
	shape, err := ParseShape([]byte("shape: {id: no, manager: {from: boss, refers: dn}}\n"))
	require.NoError(t, err)
	refs := shape.References([]string{"manager"})
	b := NewBuilder(append([]string{"manager"}, refs.Keys...))
	reader, cells := refs.Shape.NewReader(b.Names()), make([]string, 3)
	for _, r := range []map[string][]string{{"no": {"1"}, "dn": {"uid=ana, DC=x"}}, {"no": {"2"}, "dn": {"uid=bo,dc=x"}, "boss": {"UID=Ana, dc=x"}}, {"no": {"3"}, "boss": {"uid=gone"}}} {
		require.NoError(t, reader.Row(r, cells))
		require.NoError(t, b.Append(cells))
	}
	roster, err := b.Roster()
	require.NoError(t, err)
	roster.Resolve(refs)
	require.Equal(t, []string{"id", "manager"}, roster.Names())
	require.Equal(t, []string{"", "1", ""}, []string{roster.Column("manager").Cell(0), roster.Column("manager").Cell(1), roster.Column("manager").Cell(2)})
	require.Equal(t, shape, shape.References([]string{"id"}).Shape, "nothing is added where nothing refers")

	s := roster.Describe()[1]
	require.Equal(t, Statistics{Attribute: "manager", Filled: 1, Distinct: 1, Top: []ValueCount{}}, s)
}

func TestDescribe(t *testing.T) {
	b := NewBuilder([]string{"title", "roles"})
	for i, r := range [][2]string{{"Cook", "day\x1fnight"}, {"cook ", "night"}, {"Driver", ""}, {"", "day\x1fnight"}} {
		require.NoError(t, b.Append([]string{fmt.Sprint(i), r[0], r[1]}))
	}
	roster, err := b.Roster()
	require.NoError(t, err)
	list := roster.Describe()
	require.Equal(t, Statistics{Attribute: "title", Filled: 3, Distinct: 2, Shared: 2, Top: []ValueCount{{"Cook", 2}}}, list[1])
	require.Equal(t, 2, list[2].Distinct, "each value of a list counts")
	require.Equal(t, 3, list[2].Top[0].Count)
}

// Every coding gives back what was read: read, encode, read again.
func TestCodingsRoundTrip(t *testing.T) {
	for _, c := range []struct{ attribute, source, native, cell string }{
		{"endsOn", "{from: x, date: filetime}", "133801632000000000", "2025-01-01"},
		{"endsOn", "{from: x, date: filetime}", "9223372036854775807", ""},
		{"endsOn", "{from: x, date: generalized}", "20261125093000Z", "2026-11-25"},
		{"endsOn", "{from: x, date: days}", "20000", "2024-10-04"},
		{"endsOn", "{from: x, date: days}", "-1", ""},
		{"endsOn", "{from: x, date: DD.MM.YYYY}", "25.11.2026", "2026-11-25"},
		{"active", "{from: x, bit: 2, means: false}", "514", "false"},
		{"active", "{from: x, bit: 2, means: false}", "512", "true"},
		{"active", "{from: x, present: \"000001010000Z\", means: false}", "000001010000Z", "false"},
		{"email", "{from: x, prefix: \"SMTP:\"}", "SMTP:a@x.example", "a@x.example"},
		{"active", "{from: x, true: [A], false: [L]}", "L", "false"},
		{"roles", "{from: x, split: \"|\"}", "a|b", "a\x1fb"},
	} {
		shape, err := ParseShape([]byte("shape: {id: id, " + c.attribute + ": " + c.source + "}\n"))
		require.NoError(t, err)
		src, kind := shape.Attributes[c.attribute], KindOf(c.attribute)
		read := func(native []string) string {
			cell, err := shape.NewReader([]string{c.attribute}).Cell(0, native)
			require.NoError(t, err)
			return cell
		}
		require.Equal(t, c.cell, read([]string{c.native}), c.native)
		if c.cell == "" {
			continue
		}
		native, err := src.Encode(kind, SplitList(c.cell), []string{c.native}, nil)
		require.NoError(t, err)
		require.Equal(t, c.cell, read(native), "%s there and back by %v", c.native, native)
	}
	// what the shape does not speak of stays
	src := Source{Native: "x", Prefix: "SMTP:"}
	native, err := src.Encode(Email, []string{"new@x.example"}, []string{"smtp:alias@x.example", "SMTP:old@x.example"}, nil)
	require.NoError(t, err)
	require.Equal(t, []string{"smtp:alias@x.example", "SMTP:new@x.example"}, native)
	native, err = Source{Native: "x", Bit: 2}.Encode(Bool, []string{"true"}, []string{"66050"}, nil)
	require.NoError(t, err)
	require.Equal(t, []string{"66048"}, native)
}

// Whatever stands in a shape document: it is told or read, and what is read
// reads the same from our own writing of it.
func FuzzShape(f *testing.F) {
	for _, s := range []string{"shape: {id: x}", "shape: {id: {from: a, split: ';'}, active: {from: b, bit: 2, means: true}}\nmark: externalId\n", "shape:\n  id: x\nupload:\n  columns: [a, {name: b, fixed: c}]\n  rows: 3\n", "shape: [", "stable: maybe", "shape: {id: '#', email: {from: '- x', date: \"\\t\"}}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ParseShape([]byte(text))
		if err != nil {
			return
		}
		again, err := ParseShape([]byte(s.YAML()))
		require.NoError(t, err, "ours can't be read back:\n%s", s.YAML())
		require.Equal(t, s.YAML(), again.YAML())
		_ = s.NewReader(s.Canonical()).Row(map[string][]string{"x": {text}}, make([]string, len(s.Attributes)))
	})
}

// References by distinguished names are compared as such, whatever they are written like.
func TestDistinguishedNames(t *testing.T) {
	for _, c := range []struct {
		a, b string
		same bool
	}{
		{"uid=ana,ou=People,dc=x", "UID=Ana, OU=people , DC=X", true},
		{`cn=Soto\, Ana,dc=x`, `CN=Soto\2c Ana,dc=x`, true},
		{`cn=Jos\C3\A9,dc=x`, "cn=José,dc=x", true},
		{`cn="Soto, Ana",dc=x`, `cn=Soto\, Ana;dc=x`, true},
		{"cn=a+sn=b,dc=x", "SN=B+CN=A,dc=x", true},
		{`cn=a\ ,dc=x`, "cn=a,dc=x", true}, // white space at the ends tells nobody from anybody
		{"oid.2.5.4.3=a", "2.5.4.3=a", true},
		{"cn=a,dc=x", "cn=a,dc=y", false},
		{"cn=a,cn=b", "cn=b,cn=a", false},
		{"cn=a+sn=b,dc=x", "cn=a,sn=b,dc=x", false},
		{"M-77", "m-77", true}, // no name of this kind: text
		{"a=b,c", "A=B,C", true},
		{"", "cn=a", false},
	} {
		require.Equal(t, c.same, SameReferences([]string{c.a}, []string{c.b}), "%q %q", c.a, c.b)
	}
	shape, err := ParseShape([]byte("shape: {id: no, manager: {from: boss, refers: dn}, title: title, aliases: {from: more}, email: more}\n"))
	require.NoError(t, err)
	load := shape.NewLoader(nil)
	for _, native := range []map[string][]string{
		{"no": {"1"}, "dn": {"cn=Soto\\, Ana,dc=x"}, "boss": {"CN=Bo, DC=x"}, "title": {"Cook", "cook", "Chef", " "}, "more": {"a@x.example", "b@x.example"}},
		{"no": {"2"}, "dn": {"cn=bo,dc=x"}, "boss": {"cn=gone,dc=x"}},
		{"no": {"3"}, "dn": {"cn=cy,dc=x"}, "boss": {`cn=Soto\2C Ana,dc=x`}},
	} {
		require.NoError(t, load.AddNative(0, native))
	}
	r, err := load.Roster()
	require.NoError(t, err)
	require.Equal(t, []string{"2", "", "1"}, []string{r.Column("manager").Cell(0), r.Column("manager").Cell(1), r.Column("manager").Cell(2)})
	require.Equal(t, []Broken{{1, "manager", "cn=gone,dc=x"}}, r.Broken())
	require.Equal(t, []string{"Chef"}, r.Several(0, "title"))
	require.Empty(t, r.Several(0, "email"), "the list beside it holds all of them")
	// nobody carries what they refer by
	shape, err = ParseShape([]byte("shape: {id: no, manager: {from: boss, refers: entryDN}}\n"))
	require.NoError(t, err)
	load = shape.NewLoader(nil)
	for _, no := range []string{"1", "2"} {
		require.NoError(t, load.AddNative(0, map[string][]string{"no": {no}, "boss": {"cn=x"}}))
	}
	r, err = load.Roster()
	require.NoError(t, err)
	require.Equal(t, []Broken{{-1, "manager", "entryDN"}}, r.Broken())
}

// The usual headings of lists of people in five languages, and their days.
func TestHeadings(t *testing.T) {
	for heading, want := range map[string]string{
		"Staff no./Given name/Family name/E-mail/Last day/Department":                       "employeeNumber givenName familyName email endsOn department",
		"Personalnummer/Vorname/Nachname/E-Mail-Adresse/Eintrittsdatum/Abteilung":           "employeeNumber givenName familyName email startsOn department",
		"Matricule/Prénom/Nom/Adresse e-mail/Date d'entrée/Fonction":                        "employeeNumber givenName familyName email startsOn title",
		"Nº empleado/Nombre/Apellidos/Correo electrónico/Fecha de baja/Puesto":              "employeeNumber givenName familyName email endsOn title",
		"Numer pracownika/Imię/Nazwisko/Adres e-mail/Data zatrudnienia/Dział/Miejsce pracy": "employeeNumber givenName familyName email startsOn department location",
		"Manager/Responsable/Vorgesetzter":                                                  "manager", // whose columns often hold names, not ids: only what says it
	} {
		natives := strings.Split(heading, "/")
		shape := Guess(natives)
		var got []string
		for _, n := range natives {
			for name, src := range shape.Attributes {
				if _, canonical := Canonical(name); canonical && src.Native == n && name != "id" {
					got = append(got, name)
				}
			}
		}
		require.Equal(t, want, strings.Join(got, " "), heading)
	}
	for form, days := range map[string]map[string]string{
		"DD.MM.YYYY": {"3.4.2019": "2019-04-03", "03.04.2019": "2019-04-03", "31.4.2019": "", "4.13.2019": "", "3.4.19": ""}, "DD/MM/YYYY": {"3/4/2019": "2019-04-03", "13/4/2019": "2019-04-13"}, "YYYYMMDD": {"20190403": "2019-04-03", "2019403": ""},
	} {
		for text, want := range days {
			got, err := readDate(&Source{Date: form}, text, nil)
			require.Equal(t, want, got, "%s as %s", text, form)
			require.Equal(t, want == "", err != nil, text)
		}
	}
}
