package e2e

import (
	"encoding/csv"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/standin/scimapp"
)

// fence is a block of a page: what it is in, and what it holds.
var fence = regexp.MustCompile("(?s)```(\\w*)\n(.*?)```")

// The page that newcomers begin with is gone through word for word, against an empty
// service; its addresses alone are where the test has put things.
func TestFirstLane(t *testing.T) {
	r := newRig(t, "--lease 3s")
	page, err := os.ReadFile("../../docs/first-lane.md")
	require.NoError(t, err)
	app, err := scimapp.New("", "token")
	require.NoError(t, err)
	server := httptest.NewServer(app)
	t.Cleanup(server.Close)
	for i, a := range rowsOf(t, "../../demo/first/accounts.csv") {
		if i == 0 {
			continue
		}
		u := map[string]any{"id": a[0], "userName": a[1], "active": true, "name": map[string]any{"givenName": a[3], "familyName": a[4]}, "emails": []any{map[string]any{"value": a[5], "primary": true, "type": "work"}}}
		if a[2] != "" {
			u["externalId"] = a[2]
		}
		app.Put(u)
	}
	people, err := os.ReadFile("../../demo/first/people.csv")
	require.NoError(t, err)
	r.write("people.csv", string(people))
	r.write("token.txt", "token")
	place := strings.NewReplacer("/data/", r.dir+"/", "https://dome.example/scim/v2", server.URL+"/scim/v2", " hr-shape.yaml", " "+filepath.Join(r.dir, "hr-shape.yaml"), " lane.yaml", " "+filepath.Join(r.dir, "lane.yaml"), " token.txt", " "+filepath.Join(r.dir, "token.txt"))
	ran := 0
	last := ""
	for _, block := range fence.FindAllStringSubmatch(string(page), -1) {
		if name, ok := strings.CutPrefix(strings.SplitN(block[2], "\n", 2)[0], "# "); ok && block[1] == "yaml" {
			r.write(name, block[2])
			continue
		}
		for _, line := range strings.Split(strings.TrimSpace(block[2]), "\n") {
			ran++
			last = r.any(words(place.Replace(strings.TrimPrefix(line, "twinning ")))...)
			require.Regexp(t, `\[exit [03]\]`, last, line)
			if strings.Contains(line, "plan run") {
				require.Contains(t, last, "8 done", "what the page says")
			}
		}
	}
	require.GreaterOrEqual(t, ran, 25)
	require.Contains(t, last, "[exit 0]", "in the end nothing is left to do")
	require.Len(t, app.Users(), 7)
}

// words are the arguments of a line, as a shell would part them.
func words(line string) []string {
	r := csv.NewReader(strings.NewReader(line))
	r.Comma = ' '
	list, err := r.Read()
	if err != nil {
		panic(err)
	}
	return list
}

func rowsOf(t *testing.T, path string) [][]string {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close() // only read
	list, err := csv.NewReader(f).ReadAll()
	require.NoError(t, err)
	return list
}
