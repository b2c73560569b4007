package e2e

import (
	"bufio"
	"context"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/demo"
	"twinning/internal/cluster"
	"twinning/internal/standin/scimapp"
)

// The test binary is the service too, so that it can be killed for real.
func TestMain(m *testing.M) {
	if args := os.Getenv("TWINNING_E2E_ARGS"); args != "" {
		os.Exit(main(strings.Fields(args)))
	}
	os.Exit(m.Run())
}

// node is a service in a process of its own.
type node struct {
	t    *testing.T
	cmd  *exec.Cmd
	url  string
	db   string
	args string
}

func (n *node) start() {
	n.t.Helper()
	n.cmd = exec.Command(os.Args[0])
	n.cmd.Env = append(os.Environ(), "TWINNING_E2E_ARGS="+n.args, "TWINNING_DATABASE_URL="+n.db)
	out, err := n.cmd.StdoutPipe()
	require.NoError(n.t, err)
	require.NoError(n.t, n.cmd.Start())
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if url, ok := strings.CutPrefix(lines.Text(), "serving at "); ok {
			n.url = url
			return
		}
	}
	n.t.Fatal("the service did not come up")
}

func (n *node) kill() {
	_ = n.cmd.Process.Signal(syscall.SIGKILL)
	_ = n.cmd.Wait()
}

// A service that is killed at random points of a run goes on with it: every
// account gets exactly what the plan says, nothing twice.
func TestKilledInMidRun(t *testing.T) {
	dir := dataDir(t)
	ctx := context.Background()
	db, err := cluster.Start(ctx, cluster.Config{Dir: filepath.Join(dir, "db"), Volatile: true})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, db.Stop()) })

	application, err := scimapp.New("", "token")
	require.NoError(t, err)
	server := httptest.NewServer(application)
	t.Cleanup(server.Close)
	world := demo.FirstDay()
	for _, u := range world.Users {
		application.Put(u)
	}
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	// a first load with a hundred people more, so that there is something to kill
	for i := range 100 {
		world.People = append(world.People, demo.Person{No: fmt.Sprintf("N%04d", i), Given: "Nova", Family: fmt.Sprintf("Kester%d", i), Mail: fmt.Sprintf("nova.kester%d@larkspur.example", i), Title: "Visitor", Status: "A", Employment: "visitor"})
	}
	write("hq.csv", world.CSV(false))
	write("shape.yaml", demo.HQFileShape)
	write("charter.yaml", demo.DomeBooking)
	write("token", "token")

	n := &node{t: t, db: db.URL, args: fmt.Sprintf("serve --data-dir %s --listen 127.0.0.1:0 --lease 3s --files %s", filepath.Join(dir, "node"), dir)}
	n.start()
	t.Cleanup(n.kill)
	password, err := os.ReadFile(filepath.Join(dir, "node", "first-sign-in"))
	require.NoError(t, err)
	h := &house{t: t, url: n.url, credentials: filepath.Join(dir, "credentials.json")}
	h.password = strings.TrimSpace(strings.Split(string(password), "password: ")[1])
	h.twinning(0, "sign-in", "--address", n.url)
	h.twinning(0, "system", "put", "hq", "--kind", "file", "--set", "path="+filepath.Join(dir, "hq.csv"), "--shape", filepath.Join(dir, "shape.yaml"))
	h.twinning(0, "system", "put", "dome-booking", "--kind", "scim", "--set", "url="+server.URL+"/scim/v2,timeout=1", "--secret-file", filepath.Join(dir, "token"))
	h.twinning(0, "system", "open", "dome-booking")
	h.twinning(0, "roster", "take", "hq")
	h.twinning(0, "roster", "take", "dome-booking")
	h.twinning(0, "charter", "put", filepath.Join(dir, "charter.yaml"))
	h.twinning(3, "reconcile", lane)
	h.twinning(0, "plan", "draft", lane)
	h.seal(0, "1")
	application.Misbehave(scimapp.Misbehaviour{SlowMillis: 15, DropEvery: 11})
	h.twinning(0, "plan", "run", "1", "--no-wait")

	rng := rand.New(rand.NewPCG(20261125, 1))
	kills := 20
	for range kills {
		time.Sleep(time.Duration(30+rng.IntN(250)) * time.Millisecond)
		n.kill()
		n.start()
	}
	h.url = n.url
	h.twinning(0, "sign-in", "--address", n.url)
	require.Eventually(t, func() bool { return strings.Contains(h.twinning(0, "plan", "list", lane), "finished") }, 4*time.Minute, 300*time.Millisecond)
	out := h.twinning(0, "run", "show", "1", "-o", "json")
	t.Log(out)

	// account by account: each effect at most once, and all that was asked for
	for name, effects := range application.Effects().ByAccount {
		for effect, times := range effects {
			require.Equal(t, 1, times, "%s of %s", effect, name)
		}
	}
	marks := map[string]int{}
	for _, u := range application.Users() {
		if mark, _ := u["externalId"].(string); mark != "" {
			marks[mark]++
		}
	}
	for i := range 100 {
		require.Equal(t, 1, marks[fmt.Sprintf("N%04d", i)], "one account for each newcomer")
	}
	application.Misbehave(scimapp.Misbehaviour{})
	require.Contains(t, h.twinning(0, "plan", "verify", "1"), " confirmed, 0 not")
	require.Contains(t, h.twinning(0, "audit", "check"), "unbroken")
}
