package e2e

import (
	"context"
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/demo"
	"twinning/internal/cluster"
	"twinning/internal/standin/scimapp"
)

// A service that is killed while it reads begins the reading anew: no part of
// it ever looks whole, and in the end all of it is there.
func TestKilledInMidReading(t *testing.T) {
	dir := dataDir(t)
	db, err := cluster.Start(context.Background(), cluster.Config{Dir: filepath.Join(dir, "db"), Volatile: true})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, db.Stop()) })
	application, err := scimapp.New("", "token")
	require.NoError(t, err)
	server := httptest.NewServer(application)
	t.Cleanup(server.Close)
	users := demo.FirstDay().Users
	for _, u := range users {
		application.Put(u)
	}
	application.Misbehave(scimapp.Misbehaviour{SlowMillis: 60})
	token := filepath.Join(dir, "token")
	require.NoError(t, os.WriteFile(token, []byte("token"), 0o600))
	n := &node{t: t, db: db.URL, args: fmt.Sprintf("serve --data-dir %s --listen 127.0.0.1:0 --lease 3s", filepath.Join(dir, "node"))}
	n.start()
	t.Cleanup(n.kill)
	h := &house{t: t, url: n.url, credentials: filepath.Join(dir, "credentials.json")}
	password, err := os.ReadFile(filepath.Join(dir, "node", "first-sign-in"))
	require.NoError(t, err)
	h.password = strings.TrimSpace(strings.Split(string(password), "password: ")[1])
	sign := func() {
		h.url = n.url
		h.twinning(0, "sign-in", "--address", n.url)
	}
	sign()
	h.twinning(0, "system", "put", "dome-booking", "--kind", "scim", "--set", "page=10,url="+server.URL+"/scim/v2", "--secret-file", token)
	h.twinning(0, "roster", "take", "dome-booking", "--no-wait")
	for range 3 { // a reading takes two to three seconds
		time.Sleep(900 * time.Millisecond)
		n.kill()
		n.start()
		sign()
		require.NotContains(t, h.twinning(0, "roster", "list", "dome-booking", "-o", "json"), `"state": "taken"`, "a part never looks whole")
	}
	require.Eventually(t, func() bool { return strings.Contains(h.twinning(0, "task", "list"), "finished") }, time.Minute, 200*time.Millisecond)
	out := h.twinning(0, "roster", "list", "dome-booking", "-o", "json")
	require.Equal(t, 1, strings.Count(out, `"state": "taken"`), out)
	require.Contains(t, out, fmt.Sprintf(`"records": %d`, len(users)))
	require.Equal(t, 3, strings.Count(out, "the reader stopped before its end"), "each attempt that was cut off is told")
}
