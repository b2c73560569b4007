package e2e

import (
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/demo"
	"twinning/internal/standin/scimapp"
)

// A service that is killed while it reads begins the reading anew: no part of
// it ever looks whole, and in the end all of it is there.
func TestKilledInMidReading(t *testing.T) {
	application, err := scimapp.New("", "token")
	require.NoError(t, err)
	server := httptest.NewServer(application)
	t.Cleanup(server.Close)
	users := demo.FirstDay().Users
	for _, u := range users {
		application.Put(u)
	}
	application.Misbehave(scimapp.Misbehaviour{SlowMillis: 60})
	r := newRig(t, "--lease 3s")
	h := r.house
	h.twinning(0, "system", "put", "dome-booking", "--kind", "scim", "--set", "page=10,url="+server.URL+"/scim/v2", "--secret-file", r.write("token", "token"))
	h.twinning(0, "roster", "take", "dome-booking", "--no-wait")
	for i := range 5 { // a reading takes two to three seconds
		if i == 3 { // the third in a row that got no further than the one before halts it, until a human asks again
			require.Eventually(t, func() bool { return strings.Contains(h.twinning(0, "task", "list"), "halted") }, time.Minute, 200*time.Millisecond)
			h.twinning(0, "roster", "take", "dome-booking", "--no-wait")
		}
		time.Sleep(900 * time.Millisecond)
		r.node.kill()
		r.node.start()
		r.url = r.node.url
		h.twinning(0, "sign-in", "--address", r.url)
		require.NotContains(t, h.twinning(0, "roster", "list", "dome-booking", "-o", "json"), `"state": "taken"`, "a part never looks whole")
	}
	require.Eventually(t, func() bool { return strings.Contains(h.twinning(0, "task", "list"), "finished") }, time.Minute, 200*time.Millisecond)
	out := h.twinning(0, "roster", "list", "dome-booking", "-o", "json")
	require.Equal(t, 1, strings.Count(out, `"state": "taken"`), out)
	require.Contains(t, out, fmt.Sprintf(`"records": %d`, len(users)))
	require.Equal(t, 4, strings.Count(out, "the reader stopped before its end"), "each attempt that was cut off is told")
	require.Equal(t, 1, strings.Count(out, "ended three times over it"), out)
}
