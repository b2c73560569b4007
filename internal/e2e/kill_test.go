package e2e

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/demo"
	"twinning/internal/standin/scimapp"
)

// The test binary is the service too, so that it can be killed for real.
func TestMain(m *testing.M) {
	if args := os.Getenv("TWINNING_E2E_ARGS"); args != "" {
		os.Exit(main(strings.Fields(args)))
	}
	os.Exit(m.Run())
}

// said is what a service says of itself, while it runs and afterwards.
type said struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (s *said) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(b)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

// node is a service in a process of its own.
type node struct {
	t    *testing.T
	cmd  *exec.Cmd
	url  string
	db   string
	args string
	log  said
}

func (n *node) start() {
	n.t.Helper()
	n.cmd = exec.Command(os.Args[0])
	n.cmd.Stderr = &n.log
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

// killed ends the service so often, each time after a pause, over the run of plan 1.
// When three kills in a row left it no time to get further, a human starts it again.
func (r *rig) killed(times int, pause func() time.Duration) {
	r.t.Helper()
	for i := range times {
		time.Sleep(pause())
		r.node.kill()
		r.node.start()
		var state string
		require.NoError(r.t, r.db.QueryRow(context.Background(), "SELECT state FROM plans WHERE id = 1").Scan(&state))
		if r.url = r.node.url; state == "halted" || i == times-1 {
			r.twinning(0, "sign-in", "--address", r.url)
			r.any("plan", "run", "1", "--no-wait")
		}
	}
}

// A service that is killed at random points of a run goes on with it: every
// account gets exactly what the plan says, nothing twice.
func TestKilledInMidRun(t *testing.T) {
	application, err := scimapp.New("", "token")
	require.NoError(t, err)
	server := httptest.NewServer(application)
	t.Cleanup(server.Close)
	world := demo.FirstDay()
	for _, u := range world.Users {
		application.Put(u)
	}
	// a first load with a hundred people more, so that there is something to kill
	for i := range 100 {
		world.People = append(world.People, demo.Person{No: fmt.Sprintf("N%04d", i), Given: "Nova", Family: fmt.Sprintf("Kester%d", i), Mail: fmt.Sprintf("nova.kester%d@larkspur.example", i), Title: "Visitor", Status: "A", Employment: "visitor"})
	}
	r := newRig(t, "--lease 3s")
	h := r.house
	h.twinning(0, "system", "put", "hq", "--kind", "file", "--set", "path="+r.write("hq.csv", world.CSV(false)), "--shape", r.write("shape.yaml", demo.HQFileShape))
	h.twinning(0, "system", "put", "dome-booking", "--kind", "scim", "--set", "url="+server.URL+"/scim/v2,timeout=1", "--secret-file", r.write("token", "token"))
	h.twinning(0, "system", "open", "dome-booking")
	h.twinning(0, "roster", "take", "hq")
	h.twinning(0, "roster", "take", "dome-booking")
	h.twinning(0, "charter", "put", r.write("charter.yaml", demo.DomeBooking))
	h.twinning(3, "reconcile", lane)
	h.twinning(0, "plan", "draft", lane)
	h.seal(0, "1")
	application.Misbehave(scimapp.Misbehaviour{SlowMillis: 15, DropEvery: 11})
	h.twinning(0, "plan", "run", "1", "--no-wait")

	rng := rand.New(rand.NewPCG(20261125, 1))
	r.killed(20, func() time.Duration { return time.Duration(30+rng.IntN(250)) * time.Millisecond })
	require.Eventually(t, func() bool { return strings.Contains(h.twinning(0, "plan", "list", lane), "finished") }, 4*time.Minute, 300*time.Millisecond)

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
