// Package archtest holds the house to its plan: who may import whom, and which
// outsiders live in which room.
package archtest

import (
	"encoding/json"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const module = "twinning"

// layers says, for every package by longest matching prefix, what else inside
// the module it may import (by prefix). Extend it when the house grows.
var layers = map[string][]string{
	"internal/core":                    {"internal/core"},
	"internal/format":                  {"internal/core/record", "internal/core/document", "internal/core/budget", "internal/format"},
	"internal/connector":               {"internal/connector/outbound", "internal/core", "internal/format"},
	"internal/connector/outbound":      {},
	"internal/connector/file":          {"internal/connector", "internal/core", "internal/format"},
	"internal/connector/ldapdir":       {"internal/connector", "internal/core", "internal/format"},
	"internal/connector/scim":          {"internal/connector", "internal/core", "internal/format"},
	"internal/store":                   {"internal/core"},
	"internal/access":                  {"internal/core"},
	"internal/crypt":                   {"internal/core"},
	"internal/cluster":                 {},
	"internal/standin":                 {"internal/format", "internal/core/record", "internal/standin", "internal/standin/certs"},
	"internal/notify":                  {"internal/core", "internal/connector/outbound"},
	"internal/fault":                   {"internal/core", "internal/store", "internal/crypt"},
	"internal/work":                    {"internal/store"},
	"internal/reach":                   {"internal/core", "internal/format", "internal/connector", "internal/store", "internal/crypt", "internal/fault"},
	"internal/intake":                  {"internal/core", "internal/connector", "internal/store", "internal/fault", "internal/work", "internal/reach"},
	"internal/execution":               {"internal/core", "internal/connector", "internal/store", "internal/crypt", "internal/fault", "internal/work", "internal/reach"},
	"internal/explain":                 {"internal/core", "internal/store", "internal/fault", "internal/reach"},
	"internal/service":                 {"internal/core", "internal/format", "internal/connector", "internal/store", "internal/access", "internal/crypt", "internal/fault", "internal/work", "internal/reach", "internal/intake", "internal/execution", "internal/explain"},
	"internal/reference":               {"internal/core", "internal/connector", "internal/fault"},
	"internal/job":                     {"internal/service"},
	"api":                              {},
	"internal/httpapi":                 {"internal/service", "internal/core", "internal/httpapi/openapi", "api"},
	"internal/httpapi/openapi":         {},
	"internal/apiclient":               {},
	"internal/cli":                     {"internal/app", "internal/reference", "internal/apiclient", "internal/core", "internal/format"},
	"internal/app":                     {"internal", "console", "demo"},
	"internal/archtest":                {},
	"internal/e2e":                     {"internal", "demo", "console"},
	"cmd/twinning":                     {"internal/cli"},
	"console":                          {},
	"demo":                             {"internal/core/record"},
	"bench":                            {"bench/population", "internal"},
	"bench/population":                 {"internal/core/record"},
	"internal/connector/connectortest": {"internal/connector", "internal/core"},
}

// outsiders live in these rooms alone.
var outsiders = map[string][]string{
	"github.com/jackc/pgx":         {"internal/store", "internal/cluster", "internal/app", "bench"},
	"github.com/jmoiron/sqlx":      {"internal/store"},
	"github.com/pressly/goose":     {"internal/store"},
	"github.com/labstack/echo":     {"internal/httpapi", "internal/app"},
	"github.com/getkin":            {"internal/httpapi"},
	"github.com/spf13/cobra":       {"internal/cli"},
	"github.com/jedib0t/go-pretty": {"internal/cli"},
	"cel.dev/cel-go":               {"internal/core/charter", "bench"}, // which compiles beside it
	"go.yaml.in/yaml":              {"internal/core/document", "internal/cli"},
	"github.com/elimity-com/scim":  {"internal/standin/scimapp"},
	"golang.org/x/crypto":          {"internal/crypt"},
	"github.com/go-ldap/ldap":      {"internal/connector/ldapdir", "bench"},
	"github.com/go-asn1-ber":       {"internal/connector/ldapdir", "internal/standin/directory"},
	"github.com/xuri/excelize":     {"internal/format/xlsx"},
	"github.com/emersion/go-smtp":  {"internal/notify", "internal/standin/mailbox"},
	"github.com/emersion/go-sasl":  {"internal/notify", "internal/standin/mailbox"},
	"filippo.io/age":               {"internal/crypt"},
	"golang.org/x/oauth2":          {"internal/connector/scim"},
	"golang.org/x/time":            {"internal/connector"},
}

// pure packages look at no clock, file, network, database or log.
var impure = []string{"os", "net", "net/http", "log", "log/slog", "database/sql", "os/exec", "io/fs", "math/rand", "math/rand/v2"}

func TestLayers(t *testing.T) {
	used := map[string]bool{}
	for _, pkg := range packages(t) {
		layer := longest(layers, pkg.dir)
		require.NotEmpty(t, layer, "package %s stands in no layer: give it a line in layers", pkg.dir)
		used[layer] = true
		for _, imp := range pkg.imports {
			if inside, ok := strings.CutPrefix(imp, module+"/"); ok {
				allowed := inside == pkg.dir || slices.ContainsFunc(layers[layer], func(p string) bool { return under(inside, p) })
				require.True(t, allowed, "%s imports %s: %s may only import %v", pkg.file, inside, layer, layers[layer])
				sibling := under(pkg.dir, "internal/connector/") && under(inside, "internal/connector/") && inside != pkg.dir && inside != "internal/connector/outbound"
				require.False(t, sibling, "%s imports its sibling %s: connectors share only the contract", pkg.file, inside)
			}
			for outsider, rooms := range outsiders {
				if under(imp, outsider) {
					used[outsider] = true
					require.True(t, slices.ContainsFunc(rooms, func(r string) bool { return under(pkg.dir, r) }), "%s imports %s, which lives in %v alone", pkg.file, imp, rooms)
				}
			}
			if under(pkg.dir, "internal/core") {
				require.NotContains(t, impure, imp, "%s imports %s: the core is pure computation", pkg.file, imp)
			}
		}
	}
	for layer := range layers {
		require.True(t, used[layer] || layer == "internal/e2e" || layer == "internal/archtest", "no package stands in layer %s: remove its line", layer)
	}
	for outsider := range outsiders {
		require.True(t, used[outsider], "nobody imports %s: remove its line", outsider)
	}
}

func under(p, prefix string) bool {
	return p == prefix || strings.HasPrefix(p, strings.TrimSuffix(prefix, "/")+"/")
}

func longest(m map[string][]string, dir string) (best string) {
	for prefix := range m {
		if under(dir, prefix) && len(prefix) > len(best) {
			best = prefix
		}
	}
	return best
}

type pkgFile struct {
	dir, file string
	imports   []string
}

func packages(t *testing.T) (list []pkgFile) {
	root := "../.."
	err := filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && p != root) {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") {
			return nil
		}
		rel, err := filepath.Rel(root, p)
		if err != nil {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), p, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		x := pkgFile{dir: path.Dir(filepath.ToSlash(rel)), file: rel}
		for _, imp := range f.Imports {
			name, err := strconv.Unquote(imp.Path.Value)
			if err != nil {
				return err
			}
			x.imports = append(x.imports, name)
		}
		list = append(list, x)
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, len(list), 40, "the walk did not find the house")
	return list
}

// One room turns instants into days; whoever else did would do it in another zone.
func TestDaysAreMadeInOneRoom(t *testing.T) {
	seen := 0
	for path, source := range sources(t) {
		if strings.Contains(path, "core/calendar/") {
			seen++
			continue
		}
		for _, form := range []string{"DateOnly", `"2006-01-02"`, "current_date", "CURRENT_DATE"} {
			if strings.Contains(source, form+")") || strings.Contains(source, form+",") {
				t.Errorf("%s makes or reads days by itself (%s); core/calendar does it, in a zone", path, form)
			}
		}
	}
	require.NotZero(t, seen, "core/calendar has moved")
}

// sources are the hand-written Go files of the house, but for tests.
func sources(t *testing.T) map[string]string {
	found := map[string]string{}
	require.NoError(t, filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.HasSuffix(path, ".gen.go") {
			return err
		}
		b, err := os.ReadFile(path)
		found[filepath.ToSlash(path)] = string(b)
		return err
	}))
	return found
}

// Every library that we name has its version and a reason in docs/dependencies.md.
func TestDependenciesHaveReasons(t *testing.T) {
	page, err := os.ReadFile("../../docs/dependencies.md")
	require.NoError(t, err)
	require.Regexp(t, `(?m)^Looked at: \d{4}-\d{2}-\d{2}$`, string(page))
	said := map[string]string{}
	for _, row := range regexp.MustCompile("(?m)^\\| (?:Go|npm) \\| `([^`]+)` \\| (\\S+) \\| .{5,} \\|$").FindAllStringSubmatch(string(page), -1) {
		said[row[1]] = row[2]
	}
	built := map[string]string{}
	for file, indirect := range map[string]string{"../../go.mod": "github.com/oapi-codegen/oapi-codegen/v2", "../../tools.mod": "honnef.co/go/tools"} {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, l := range strings.Split(string(text), "\n") {
			if m := regexp.MustCompile(`^\t(\S+) (v\S+)( // indirect)?$`).FindStringSubmatch(l); m != nil && (m[3] == "" || m[1] == indirect) {
				built[m[1]] = m[2]
			}
		}
	}
	var console struct{ Dependencies, DevDependencies map[string]string }
	var lock struct {
		Packages map[string]struct{ Version string }
	}
	for file, into := range map[string]any{"../../console/package.json": &console, "../../console/package-lock.json": &lock} {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(text, into))
	}
	for _, list := range []map[string]string{console.Dependencies, console.DevDependencies} {
		for name := range list {
			built[name] = lock.Packages["node_modules/"+name].Version
		}
	}
	require.Equal(t, built, said, "docs/dependencies.md does not say what is built: add what is missing with its reason, look at what was said of new versions, and set the day")
}
