package scim_test

import (
	"bufio"
	"encoding/pem"
	"io"
	"log"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
	"twinning/internal/connector/connectortest"
)

// The promises hold for an application that is built on another SCIM library than our stand-in,
// too: with its own filters, PATCH, errors and versions.
func TestBehaviourOfAnotherLibrary(t *testing.T) {
	for name, pairs := range map[string][]string{
		"patch":       nil,
		"no paths":    {"dialect", "no-path"},
		"put":         {"method", "put"}, // its ETags are those of its answers
		"small pages": {"page", "2"},     // behind its end it gives the first page again
	} {
		t.Run(name, func(t *testing.T) {
			settings := otherServer(t)
			x := connectortest.Subject{
				IDs: []string{"a", "b", "c"},
				New: func(t *testing.T) connector.Connector {
					return connect(t, settings, pairs...)
				},
				Create: newcomer, Change: edit("title", "Head cook"), Rename: edit("userName", "nova.kester"), Group: "g1", Unguarded: true,
			}
			if name == "no paths" {
				x.Group = "" // members are named by paths
			}
			connectortest.Run(t, x)
		})
	}
}

// otherServer runs the application of testdata/otherserver behind TLS, and tells the settings by
// which it is reached.
func otherServer(t *testing.T) map[string]string {
	t.Helper()
	dir := filepath.Join("testdata", "otherserver")
	require.DirExists(t, filepath.Join(dir, "node_modules"), "run make test, or npm ci in %s", dir)
	cmd := exec.Command("node", "server.mjs")
	cmd.Dir, cmd.Env = dir, append(cmd.Environ(), "TOKEN="+token)
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { // it ends with its input
		require.NoError(t, in.Close())
		require.NoError(t, cmd.Wait())
	})
	port, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	server := httptest.NewUnstartedServer(httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: "127.0.0.1:" + strings.TrimSpace(port)}))
	server.Config.ErrorLog = log.New(io.Discard, "", 0) // probes hang up after the handshake
	server.StartTLS()
	t.Cleanup(server.Close)
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}), 0o600))
	return map[string]string{"url": server.URL + "/scim/v2", "ca-file": ca}
}
