// Package e2e drives the whole program as its users do: the service on
// loopback through its HTTP interface and its command line, the console in a
// real browser, against a real PostgreSQL and the simulated application.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/internal/access"
	"twinning/internal/app"
	"twinning/internal/cli"
	"twinning/internal/service"
	"twinning/internal/standin/scimapp"
)

// house is a running demo.
type house struct {
	t           *testing.T
	app         *app.App
	url         string
	out         *app.Outside
	application *scimapp.App // dome-booking
	credentials string
	password    string
}

func main(args []string) int { return cli.Main(args, os.Stdin, os.Stdout, os.Stderr) }

// newHouse starts the demo with the Larkspur Observatories for one test.
func newHouse(t *testing.T) *house {
	t.Helper()
	h := &house{t: t}
	dir := dataDir(t)
	h.credentials = filepath.Join(dir, "credentials.json")
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	ready := make(chan struct{})
	go func() {
		ended <- app.Demo(ctx, app.DemoConfig{DataDir: dir, Listen: "127.0.0.1:0", Volatile: true, Talk: io.Discard, Ready: func(a *app.App, url string, out *app.Outside) {
			h.app, h.url, h.out, h.application, h.password = a, url, out, out.DomeBooking, a.Password
			close(ready)
		}})
	}()
	t.Cleanup(func() {
		cancel()
		require.NoError(t, <-ended)
	})
	select {
	case <-ready:
	case err := <-ended:
		ended <- nil
		require.NoError(t, err)
	case <-time.After(5 * time.Minute):
		t.Fatal("the demo did not start within five minutes")
	}
	return h
}

// dataDir is a folder that the account postgres may reach, unlike t.TempDir
// below a private one.
func dataDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "twinning-e2e-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o711))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// twinning runs the real command line and returns what it printed.
func (h *house) twinning(wantExit int, args ...string) string {
	h.t.Helper()
	return h.typing("", wantExit, args...)
}

// typing is twinning with something typed at its prompts.
func (h *house) typing(typed string, wantExit int, args ...string) string {
	h.t.Helper()
	got, said := h.try(typed, args...)
	require.Equal(h.t, wantExit, got, "twinning %s\n%s", strings.Join(args, " "), said)
	return said
}

// any runs a command whatever its exit code is.
func (h *house) any(args ...string) string {
	code, said := h.try("", args...)
	return fmt.Sprintf("%s[exit %d]", said, code)
}

func (h *house) try(typed string, args ...string) (code int, said string) {
	h.t.Setenv("TWINNING_CREDENTIALS", h.credentials)
	h.t.Setenv("TWINNING_ADDRESS", h.url)
	h.t.Setenv("TWINNING_PASSWORD", h.password)
	var out, talk bytes.Buffer
	code = cli.Main(args, strings.NewReader(typed), &out, &talk)
	return code, out.String() + talk.String()
}

// seal approves a plan by the hash that is shown for it, with the reason that the first plan of a
// lane needs whose guards allow more than the defaults do, where nothing else stands in the way.
func (h *house) seal(wantExit int, plan string) string {
	h.t.Helper()
	out := h.twinning(0, "plan", "show", plan, "-o", "json")
	var shown struct {
		Plan *struct {
			Hash    string
			Lowered []string
			Guards  []struct{ Tripped bool }
		}
	}
	require.NoError(h.t, json.Unmarshal([]byte(out[:strings.LastIndex(out, "}")+1]), &shown), out)
	args := []string{"plan", "seal", plan, "--hash", shown.Plan.Hash}
	agreed := len(shown.Plan.Lowered) > 0
	for _, l := range shown.Plan.Lowered {
		agreed = agreed && strings.HasSuffix(l, " by default")
	}
	for _, g := range shown.Plan.Guards {
		agreed = agreed && !g.Tripped
	}
	if agreed {
		args = append(args, "--overrule", "agreed on before the first plan")
	}
	return h.twinning(wantExit, args...)
}

// token makes a bearer token for a user with just these rights.
func (h *house) token(rights ...string) string {
	h.t.Helper()
	ctx := context.Background()
	who := access.Caller{Name: "test", Rights: access.All}
	name := "user-" + strings.Join(rights, "-")
	_, err := h.app.Service.AddUser(ctx, who, name, service.Granted{Rights: rights}, "")
	require.NoError(h.t, err)
	secret, _, err := h.app.Service.AddToken(ctx, who, name, "test", 1)
	require.NoError(h.t, err)
	return secret
}

// call sends one request; out, when not nil, takes the answer.
func (h *house) call(method, path, token string, body any, out any) int {
	h.t.Helper()
	var in io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		require.NoError(h.t, err)
		in = bytes.NewReader(b)
	}
	req, err := http.NewRequest(method, h.url+path, in)
	require.NoError(h.t, err)
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	if method == http.MethodPut { // as one who has just read it
		if _, header, _ := h.send(http.MethodGet, path, token, "", nil); header.Get("ETag") != "" {
			req.Header.Set("If-Match", header.Get("ETag"))
		}
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(h.t, err)
	defer func() { _ = res.Body.Close() }()
	if strings.HasPrefix(res.Header.Get("Content-Type"), "text/event-stream") {
		return res.StatusCode // it may go on for ever
	}
	answer, err := io.ReadAll(res.Body)
	require.NoError(h.t, err)
	if out != nil && res.StatusCode < 300 {
		require.NoError(h.t, json.Unmarshal(answer, out), string(answer))
	}
	return res.StatusCode
}
