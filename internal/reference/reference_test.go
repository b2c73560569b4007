package reference

import (
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"twinning/internal/connector"
	"twinning/internal/connector/file"
	"twinning/internal/connector/ldapdir"
	"twinning/internal/connector/scim"
	"twinning/internal/core/charter"
	"twinning/internal/core/document"
	"twinning/internal/core/finding"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/fault"
)

// The pages in docs have every list as it is. TWINNING_WRITE=1 writes them.
func TestPages(t *testing.T) {
	paths, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	more, err := filepath.Glob("../../docs/connectors/*.md")
	require.NoError(t, err)
	pages := map[string]string{}
	for _, path := range append(paths, more...) {
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		pages[path] = string(b)
	}
	for _, l := range Lists() {
		begin, end := "<!-- "+l.Name+" -->\n", "<!-- /"+l.Name+" -->\n"
		places := 0
		for path, page := range pages {
			before, rest, found := strings.Cut(page, begin)
			if !found {
				continue
			}
			places++
			was, after, found := strings.Cut(rest, end)
			require.True(t, found, "the list of %s has no end", l.Name)
			if os.Getenv("TWINNING_WRITE") == "" {
				require.Equal(t, l.Markdown(), was, "run TWINNING_WRITE=1 go test ./internal/reference")
			}
			pages[path] = before + begin + l.Markdown() + end + after
		}
		require.Equal(t, 1, places, "pages with the list of %s", l.Name)
		for _, r := range l.Rows {
			require.Len(t, r, len(l.Columns), r[0])
			require.NotEmpty(t, r[0])
		}
	}
	if os.Getenv("TWINNING_WRITE") != "" {
		for path, page := range pages {
			require.NoError(t, os.WriteFile(path, []byte(page), 0o600))
		}
	}
}

// nested puts a value where its key stands: `a.*.b[]` becomes a mapping in mappings.
func nested(path string, value any, names map[string]string) any {
	first, rest, more := strings.Cut(path, ".")
	if more {
		value = nested(rest, value, names)
	}
	name, item := strings.CutSuffix(first, "[]")
	if item {
		value = []any{value}
	}
	if name == "*" {
		name = names[""]
	}
	return map[string]any{name: value}
}

// beneath lays a document over what it needs, item by item of a list.
func beneath(under, over any) any {
	a, isMap := under.(map[string]any)
	b, also := over.(map[string]any)
	if isMap && also {
		for k, v := range b {
			if was, ok := a[k]; ok {
				a[k] = beneath(was, v)
			} else {
				a[k] = v
			}
		}
		return a
	}
	x, isList := under.([]any)
	y, also := over.([]any)
	if isList && also && len(x) == 1 && len(y) == 1 {
		if _, ok := y[0].(map[string]any); ok {
			return []any{beneath(x[0], y[0])}
		}
	}
	return over
}

func compiled(t *testing.T, schema map[string]any) *jsonschema.Schema {
	t.Helper()
	text, err := json.Marshal(schema)
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("document.json", doc))
	s, err := c.Compile("document.json")
	require.NoError(t, err)
	return s
}

func read(t *testing.T, source string) any {
	t.Helper()
	var v any
	require.NoError(t, yaml.Unmarshal([]byte(source), &v), source)
	text, err := json.Marshal(v)
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	require.NoError(t, err)
	return doc
}

// The example of every key is taken where the key stands, by the program and by the
// JSON Schema alike, and neither takes a key that is not declared.
func TestKeys(t *testing.T) {
	for name, c := range map[string]struct {
		keys  document.Keys
		base  string
		parse func([]byte) error
		any   func(path string) string // the name that * stands for
	}{
		"charter": {charter.Keys, "{lane: a, people: {from: hq}, accounts: {in: dome}, pairing: {keys: [{person: person.email, account: account.email}]}}",
			func(b []byte) error {
				_, err := charter.Parse(b, charter.Vocabulary{Person: []string{"birthDate"}, Account: []string{"mustChange", "birthDate", "owns"}})
				return err
			},
			func(path string) string {
				switch {
				case strings.HasPrefix(path, "guards."), strings.HasPrefix(path, "seals.ordinary."):
					return "suspend"
				case path == "attributes.*.candidates" || path == "attributes.*.candidates[]":
					return "userName"
				case path == "pairing.evidence.attributes.*":
					return "birthDate"
				case path == "emails.domains.*":
					return "larkspur.example"
				case path == "attributes.*.manage", path == "attributes.*.ours":
					return "roles"
				}
				return "title"
			}},
		"shape": {record.ShapeKeys, "{shape: {id: staff_no}}", func(b []byte) error { _, err := record.ParseShape(b); return err },
			func(path string) string {
				return map[string]string{"shape.*.bit": "active", "shape.*.means": "active", "shape.*.present": "active"}[path]
			}},
	} {
		schema := compiled(t, Schemas()[name])
		for _, k := range c.keys {
			require.NotEmpty(t, k.What, k.Path)
			var value, base any
			require.NoError(t, yaml.Unmarshal([]byte(k.Example), &value), k.Path)
			require.NoError(t, yaml.Unmarshal([]byte(c.base), &base))
			at, ofClass := strings.CutPrefix(k.Path, "classes[].") // it says there what stands at the top for everybody
			star := c.any(at)
			if star == "" {
				star = "costCentre"
			}
			path := strings.Replace(strings.Replace(at, "weights.*.*", "weights.phone.same", 1), "weights.*", "weights.phone", 1) // their names are those of what is compared
			doc := nested(path, value, map[string]string{"": star})
			for beside, with := range map[string]any{ // what a key does not stand without
				"attributes.*.":             map[string]any{"attributes": map[string]any{star: map[string]any{"value": "person." + star}}},
				"pairing.keys[":             map[string]any{"pairing": map[string]any{"keys": []any{map[string]any{"person": "person.email", "account": "account.email"}}}},
				"pairing.evidence.weights.": map[string]any{"pairing": map[string]any{"evidence": map[string]any{"weights": map[string]any{"phone": map[string]any{"same": map[string]any{"same": 0.7, "other": 0.0001}}}}}},
				"emails.":                   map[string]any{"emails": map[string]any{"primary": "person.email"}},
				"sign-in.":                  map[string]any{"sign-in": map[string]any{"subject": "person.email", "account": "account.userName"}},
				"groups[].":                 map[string]any{"groups": []any{map[string]any{"enrol": "observers"}}},
				"leavers.hand-over.":        map[string]any{"leavers": map[string]any{"hand-over": map[string]any{"to": "person.manager"}}},
				"leavers.stage":             map[string]any{"leavers": map[string]any{"stages": []any{map[string]any{"after": "1d", "do": []any{"suspend"}}}}},
				"waves[":                    map[string]any{"waves": []any{map[string]any{"name": "all"}}},
				"after.":                    map[string]any{"after": map[string]any{"lane": "hq-candlewick"}},
				"windows[].":                map[string]any{"windows": []any{map[string]any{"from": "21:00", "to": "06:00"}}},
				"seals.second-person.c":     map[string]any{"classes": []any{map[string]any{"name": "guest", "when": "person.userType == 'guest'"}}},
				"secrets.":                  map[string]any{"secrets": map[string]any{"to": "person.personalEmail"}},
				"invitations.":              map[string]any{"invitations": map[string]any{"to": "person.personalEmail"}},
				"shape.*.":                  map[string]any{"shape": map[string]any{star: map[string]any{"from": "column"}}},
				"upload.":                   map[string]any{"upload": map[string]any{"columns": []any{map[string]any{"name": "Login"}}}},
			} {
				if strings.HasPrefix(at, beside) && !strings.HasPrefix(at, "attributes.*.candidates") {
					doc = beneath(with, doc)
				}
			}
			switch at {
			case "shape.*.bit", "shape.*.present": // neither says by itself what it means
				doc = beneath(doc, map[string]any{"shape": map[string]any{"active": map[string]any{"means": false}}})
			}
			if ofClass {
				item := beneath(map[string]any{"name": "guest", "when": "person.userType == 'guest'"}, doc)
				doc = map[string]any{"classes": []any{item}}
			}
			text, err := yaml.Marshal(beneath(base, doc))
			require.NoError(t, err)
			require.NoError(t, c.parse(text), "%s: %s\n%s", k.Path, k.Example, text)
			require.NoError(t, schema.Validate(read(t, string(text))), "%s\n%s", k.Path, text)
		}
		wrong := strings.TrimSuffix(c.base, "}") + ", nonsense: 1}"
		require.Error(t, c.parse([]byte(wrong)))
		require.Error(t, schema.Validate(read(t, wrong)))
	}
	schema := compiled(t, Schemas()["charter"])
	charters, err := filepath.Glob("../../demo/*.yaml")
	require.NoError(t, err)
	for _, path := range charters {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		if strings.Contains(string(text), "lane:") {
			require.NoError(t, schema.Validate(read(t, string(text))), path)
		}
	}
}

// The example of every setting holds to its own declaration; what does not is told
// with the setting's name.
func TestSettings(t *testing.T) {
	for _, s := range []connector.Settings{file.Settings, ldapdir.Settings, scim.Settings} {
		for _, x := range s.List {
			given, err := s.Read(map[string]string{x.Name: x.Example})
			require.NoError(t, err, x.Name)
			require.Equal(t, x.Example, given.Text(x.Name))
			otherwise, err := s.Read(nil)
			require.NoError(t, err)
			require.NotEqual(t, x.Example, otherwise.Text(x.Name), "%s: an example says what the default does not", x.Name)
			if x.Words != nil || x.Number {
				_, err = s.Read(map[string]string{x.Name: "nonsense", x.Name + "x": "y"})
				require.ErrorContains(t, err, "setting "+x.Name+" is \"nonsense\"")
				require.ErrorContains(t, err, "did you mean \""+x.Name+"\"?")
			}
		}
	}
}

// Every cause of a problem is declared, and given somewhere.
func TestCauses(t *testing.T) {
	given := map[string]bool{"changed": true} // the kind's own word
	named := regexp.MustCompile(`(?:Because\(|Cause: )"([^"]+)"|urn:twinning:([a-z-]+)`)
	require.NoError(t, filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.Contains(path, ".gen.") {
			return err
		}
		b, err := os.ReadFile(path)
		for _, m := range named.FindAllStringSubmatch(string(b), -1) {
			given[m[1]+m[2]] = true
		}
		return err
	}))
	declared := map[string]bool{}
	for _, c := range fault.Causes {
		declared[c.Name] = true
	}
	require.Equal(t, declared, given)
}

// Every finding, verb and outcome comes about in a transcript that a test runs.
func TestSeen(t *testing.T) {
	var all []byte
	for _, pattern := range []string{"../core/*/testdata/*.txtar", "../service/testdata/*.txtar", "../cli/testdata/*", "../cli/testdata/*/*", "../e2e/testdata/*"} {
		paths, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, path := range paths {
			if info, err := os.Stat(path); err == nil && !info.IsDir() {
				b, err := os.ReadFile(path)
				require.NoError(t, err)
				all = append(all, b...)
			}
		}
	}
	names := make([]string, 0, 40)
	for _, c := range finding.Catalogue {
		names = append(names, c.Name)
	}
	for _, w := range slices.Concat(planning.Verbs, planning.Outcomes) {
		require.NotEmpty(t, w.Meaning)
		names = append(names, w.Name)
	}
	for _, name := range names {
		require.Contains(t, string(all), name)
	}
}
