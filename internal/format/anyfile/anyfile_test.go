package anyfile_test

import (
	"bytes"
	"compress/gzip"
	"flag"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"twinning/internal/core/record"
	"twinning/internal/format"
	"twinning/internal/format/anyfile"
	"twinning/internal/format/ldif"
)

func rows(t testing.TB, body []byte, opt anyfile.Options) (format.About, []map[string][]string) {
	t.Helper()
	f, err := anyfile.Open(bytes.NewReader(body), opt)
	require.NoError(t, err)
	var out []map[string][]string
	require.NoError(t, f.Each(func(r format.Row) error {
		require.Empty(t, r.Fault)
		out = append(out, r.Values)
		return nil
	}))
	return f.About(), out
}

// properties are tried on the same values every time; soak takes others
func init() { _ = flag.Set("rapid.seed", "20261125") }

// Whatever is written is found out to be what it is, and comes back as it
// went, compressed or not.
func TestRoundTrip(t *testing.T) {
	for _, kind := range anyfile.Formats {
		columns := []string{"id", "dn", "userName", "name.givenName", "emails.primary", "urn:larkspur:params:scim:schemas:2.0:Observer:dome", "title"}
		if kind == "ldif" { // has names of its own
			columns = []string{"id", "dn", "userName", "title;lang-es", "2.5.4.12"}
		}
		t.Run(kind, rapid.MakeCheck(func(t *rapid.T) {
			text := rapid.StringOfN(rapid.RuneFrom([]rune(" abcÄñЖ陳'\"\\,;:|<>=+-@#*(){}[]&\t\u00a0")), 1, 20, -1).Filter(func(s string) bool {
				return strings.TrimSpace(s) == s && s != "" && !strings.Contains(s, "E+") && !strings.HasPrefix(s, "#")
			})
			var want []map[string][]string
			for i := range rapid.IntRange(1, 5).Draw(t, "records") {
				r := map[string][]string{"id": {fmt.Sprint("i", i)}, "dn": {fmt.Sprintf("uid=%d,dc=example", i)}}
				for _, c := range columns[2:] {
					if rapid.Bool().Draw(t, c) {
						r[c] = []string{text.Draw(t, "value")}
					}
				}
				want = append(want, r)
			}
			var out bytes.Buffer
			people := rapid.Bool().Draw(t, "for people")
			w, err := anyfile.NewWriter(&out, kind, columns, format.Writing{People: people})
			require.NoError(t, err)
			for _, r := range want {
				require.NoError(t, w.Write(r))
			}
			require.NoError(t, w.Close())
			body := out.Bytes()
			if rapid.Bool().Draw(t, "compressed") {
				var z bytes.Buffer
				g := gzip.NewWriter(&z)
				_, err := g.Write(body)
				require.NoError(t, err)
				require.NoError(t, g.Close())
				body = z.Bytes()
			}
			f, err := anyfile.Open(bytes.NewReader(body), anyfile.Options{Restore: people && kind == "csv", Delimiter: ',', Encoding: "utf-8"})
			require.NoError(t, err)
			require.Equal(t, kind, f.About().Format)
			i := 0
			require.NoError(t, f.Each(func(r format.Row) error {
				require.Empty(t, r.Fault)
				delete(r.Values, "parent") // LDIF tells it besides
				require.Equal(t, want[i], r.Values)
				i++
				return nil
			}))
			require.Equal(t, len(want), i)
		}))
	}
}

// Formulas are defused for people, and come back unharmed.
func TestDefuse(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.StringOfN(rapid.RuneFrom([]rune("'=+-@\t\r\n;,|a1")), 0, 8, -1).Draw(t, "cell")
		d := format.Defuse(s)
		require.Equal(t, s, format.Restore(d))
		for _, at := range []string{";", ",", "|", "\t", "\n", "\r"} { // wherever a spreadsheet cuts it
			for _, part := range strings.Split(d, at) {
				require.False(t, part != "" && strings.ContainsRune("=+-@", rune(part[0])), "%q", d)
			}
		}
	})
}

// Whoever is referred to by another column is found by it, whatever the format.
func TestRosterResolvesReferences(t *testing.T) {
	shape, err := record.ParseShape([]byte("shape: {id: no, manager: {from: boss, refers: login}}\n"))
	require.NoError(t, err)
	for kind, body := range map[string]string{
		"csv":   "no,login,boss\n1,ana,\n2,bo,ANA\n3,cy,gone\n",
		"jsonl": `{"no": "1", "login": "ana"}` + "\n" + `{"no": "2", "login": "bo", "boss": "ANA"}` + "\n" + `{"no": "3", "boss": "gone"}` + "\n",
	} {
		f, err := anyfile.Open(strings.NewReader(body), anyfile.Options{Format: kind})
		require.NoError(t, err, kind)
		roster, err := anyfile.Roster(f, shape, nil)
		require.NoError(t, err, kind)
		require.Equal(t, []string{"id", "manager"}, roster.Names(), kind)
		manager := roster.Column("manager")
		require.Equal(t, []string{"", "1", ""}, []string{manager.Cell(0), manager.Cell(1), manager.Cell(2)}, kind)
	}
	f, err := anyfile.Open(strings.NewReader("no,boss\n1,ana\n"), anyfile.Options{Format: "csv"})
	require.NoError(t, err)
	_, err = anyfile.Roster(f, shape, nil)
	require.ErrorContains(t, err, `the shape names columns that the file lacks: "login" (for manager)`)
}

// What each format does with files that are not quite right.
func TestOddFiles(t *testing.T) {
	for _, c := range []struct{ name, body, opt, want string }{
		{"a cut line of JSON", "{\"id\": 1}\n{\"id\": ", "", "line 2, the last one, breaks off"},
		{"a bad line of JSON", "{\"id\": 1}\n{id: 2}\n{\"id\": 3}\n", "", "ok [] line 2: it is no JSON object"},
		{"a JSON list", "[{\"id\": 1}]", "", "one object a line"},
		{"two objects in a line", "{\"id\": 1} {\"id\": 2}\n", "", "line 1: it is no JSON object: more follows"},
		{"large numbers", "{\"id\": 12345678901234567890}\n", "", "ok [12345678901234567890]"},
		{"nested JSON", "{\"id\": {\"x\": [1, \"b\", {\"value\": \"c\"}, null]}}\n", "", "ok [1 b c]"},
		{"folded LDIF", "dn: uid=a\nid: 12\n 34\n# note\n  is folded\n\n", "", "ok [1234]"},
		{"Base64 LDIF", "dn: uid=a\nid:: w6k=\n", "", "ok [é]"},
		{"LDIF that points elsewhere", "dn: uid=a\nid:< file:///etc/passwd\n", "", "ok [] line 1: line 2: the value of id stands in another file"},
		{"LDIF changes", "dn: uid=a\nchangetype: modify\nreplace: id\nid: 1\n-\n", "", "the file holds changes"},
		{"LDIF without dn", "version: 1\n\nid: 1\n", "", "line 3: expected an entry beginning with dn:"},
		{"LDIF of another version", "version: 2\ndn: uid=a\n", "ldif", "version \"2\" is not known"},
		{"a page of SCIM", "{\"totalResults\": 5, \"Resources\": [{\"id\": \"1\"}]}", "", "one page of a longer one"},
		{"cut SCIM", "{\"totalResults\": 1, \"Resources\": [{\"id\": ", "", "breaks off before its end"},
		{"SCIM over many lines", "{\n  \"totalResults\": 1,\n  \"Resources\": [{\"id\": \"1\", \"password\": \"x\"}]\n}", "", "ok [1]"},
		{"SCIM without an id", "{\"totalResults\": 1, \"Resources\": [{\"userName\": \"x\"}]}", "", "ok [] line 0: it has no id"},
		{"no workbook", "PK\x03\x04 nothing", "", "the workbook can't be opened"},
		{"empty", "", "jsonl", "the file is empty"},
		{"not a format", "x", "pdf", "format \"pdf\" is not known"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := ""
			f, err := anyfile.Open(strings.NewReader(c.body), anyfile.Options{Format: c.opt})
			if err == nil {
				err = f.Each(func(r format.Row) error {
					switch id := r.Values["id"]; {
					case r.Fault != "":
						got += fmt.Sprintf("ok %v line %d: %s", id, r.Line, r.Fault)
					default:
						got += fmt.Sprintf("ok %v", append(id, r.Values["id.x"]...))
					}
					return nil
				})
			}
			if err != nil {
				got = err.Error()
			}
			require.Contains(t, got, strings.TrimPrefix(c.want, "ok [] "))
		})
	}
}

// Change records say what is done, attribute by attribute.
func TestChangeRecords(t *testing.T) {
	list, err := ldif.Changes([]byte("version: 1\ndn: uid=a,dc=x\nchangetype: modify\ndelete: title\ntitle: Cook\n-\nadd: title\ntitle: Driver\n-\n\ndn: uid=b,dc=x\nchangetype: modrdn\nnewrdn: uid=c\ndeleteoldrdn: 1\nnewsuperior: ou=y,dc=x\n\ndn: uid=d,dc=x\nchangetype: delete\n\ndn: uid=e,dc=x\nchangetype: add\nuid: e\n"))
	require.NoError(t, err)
	require.Equal(t, []ldif.Change{
		{Line: 2, DN: "uid=a,dc=x", Type: "modify", Attributes: map[string][]string{}, Mods: []ldif.Mod{{Op: "delete", Attribute: "title", Values: []string{"Cook"}}, {Op: "add", Attribute: "title", Values: []string{"Driver"}}}},
		{Line: 11, DN: "uid=b,dc=x", Type: "modrdn", Attributes: map[string][]string{}, NewRDN: "uid=c", DeleteOld: true, NewParent: "ou=y,dc=x"},
		{Line: 17, DN: "uid=d,dc=x", Type: "delete", Attributes: map[string][]string{}},
		{Line: 20, DN: "uid=e,dc=x", Type: "add", Attributes: map[string][]string{"uid": {"e"}}},
	}, list)
	var out bytes.Buffer // and is written as it was read, whatever a comment or a value holds
	hostile := append(slices.Clone(list), ldif.Change{DN: "uid=f\n-\n\ndn: uid=a,dc=x", Type: "modify", Attributes: map[string][]string{}, Mods: []ldif.Mod{{Op: "add", Attribute: "title", Values: []string{"-", "", " a\nchangetype: delete", "Nö", strings.Repeat("long ", 40)}}, {Op: "delete", Attribute: "cn"}}})
	for _, c := range hostile {
		require.NoError(t, ldif.WriteChange(&out, c, "somebody\ndn: uid=a,dc=x\r\nchangetype: delete", strings.Repeat("word ", 40)))
	}
	again, err := ldif.Changes(out.Bytes())
	require.NoError(t, err, out.String())
	for i := range again {
		again[i].Line = hostile[i].Line
	}
	require.Equal(t, hostile, again)
	for line := range strings.Lines(out.String()) {
		require.LessOrEqual(t, len(line), 78)
	}
	require.Error(t, ldif.WriteChange(&out, ldif.Change{DN: "uid=a", Type: "add", Attributes: map[string][]string{"title: Cook\ncn": {"a"}}}))
	_, err = ldif.Changes([]byte("dn: uid=a\nchangetype: modify\ntitle: Cook\n"))
	require.ErrorContains(t, err, "line 3")
}

// A workbook: what a spreadsheet does to values is told or mended.
func TestWorkbook(t *testing.T) {
	var out bytes.Buffer
	w, err := anyfile.NewWriter(&out, "xlsx", []string{"id", "name"}, format.Writing{People: true})
	require.NoError(t, err)
	require.NoError(t, w.Write(map[string][]string{"id": {"00123"}, "name": {"=1+1"}}))
	require.NoError(t, w.Close())
	about, got := rows(t, out.Bytes(), anyfile.Options{})
	require.Equal(t, "Sheet1", about.Sheet)
	require.Equal(t, []map[string][]string{{"id": {"00123"}, "name": {"=1+1"}}}, got)
	_, err = anyfile.Open(bytes.NewReader(out.Bytes()), anyfile.Options{Sheet: "People"})
	require.ErrorContains(t, err, `no sheet "People"; it has Sheet1`)
}

// FuzzOpen: no file makes a reader panic, and what is read can be written.
func FuzzOpen(f *testing.F) {
	for _, seed := range []string{"id,name\n1,Ana\n", "{\"id\": 1}\n", "dn: uid=a\nid:: w6k=\n folded\n", "{\"totalResults\": 1, \"Resources\": [{\"id\": \"1\", \"emails\": [{\"value\": \"a\", \"primary\": true}]}]}"} {
		f.Add([]byte(seed), uint8(0))
	}
	kinds := slices.DeleteFunc(slices.Clone(anyfile.Formats), func(k string) bool { return k == "xlsx" }) // a library's
	f.Fuzz(func(t *testing.T, body []byte, kind uint8) {
		opt := anyfile.Options{}
		if k := int(kind) % (len(kinds) + 1); k > 0 {
			opt.Format = kinds[k-1]
		}
		file, err := anyfile.Open(bytes.NewReader(body), opt)
		if err != nil {
			return
		}
		for _, k := range kinds {
			w, err := anyfile.NewWriter(new(bytes.Buffer), k, file.Natives(), format.Writing{People: true})
			require.NoError(t, err)
			_ = file.Each(func(r format.Row) error { return w.Write(r.Values) }) // LDIF wants a dn
			require.NoError(t, w.Close())
		}
	})
}
