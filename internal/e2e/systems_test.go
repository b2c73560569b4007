package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/demo"
	"twinning/internal/service"
	"twinning/internal/standin/directory"
	"twinning/internal/standin/scimapp"
	"twinning/internal/store"
)

// put changes a system's settings, and leaves the rest.
func (h *house) put(name string, change map[string]string, secret *string) {
	h.t.Helper()
	v, err := h.app.Service.System(context.Background(), name)
	require.NoError(h.t, err)
	x := v.System
	for k, w := range change {
		x.Settings.V[k] = w
	}
	_, err = h.app.Service.PutSystem(context.Background(), admin, x, service.Putting{Secret: secret})
	require.NoError(h.t, err)
}

// Whatever a system does to a reader: the reading fails as a whole, in words
// that say what to do, and the newest roster stays what it was.
func TestReadingsFailWhole(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--name", "admin")
	wrong, right := "wrong", directory.Secret
	night := func(m scimapp.Misbehaviour) func() { return func() { h.out.NightLog.Misbehave(m) } }
	hq := func(name, value string) func() { return func() { h.put("hq", map[string]string{name: value}, nil) } }
	back := func(name, value string) func() { // where it was moved, its secret was cleared; it is set with the way back
		return func() { h.put("hq", map[string]string{name: value}, &right) }
	}
	base := demo.HQPeople
	for _, x := range []struct {
		name, system, want string
		spoil, mend        func()
	}{
		{"pages repeat", "night-log", "the list shifted while it was read", night(scimapp.Misbehaviour{RepeatPage: true}), night(scimapp.Misbehaviour{})},
		{"pages skip", "night-log", "the list shifted while it was read", night(scimapp.Misbehaviour{SkipUsers: true}), night(scimapp.Misbehaviour{})},
		{"truncated JSON", "night-log", "it breaks off before its end", night(scimapp.Misbehaviour{CutJSON: true}), night(scimapp.Misbehaviour{})},
		{"wrong content type", "night-log", "a sign-in page or a proxy", night(scimapp.Misbehaviour{HTML: true}), night(scimapp.Misbehaviour{})},
		{"reset in a page", "night-log", "the answer broke off", night(scimapp.Misbehaviour{ResetPage: true}), night(scimapp.Misbehaviour{})},
		{"wrong secret", "hq", "does not accept the DN", func() { h.put("hq", nil, &wrong) }, func() { h.put("hq", nil, &right) }},
		{"wrong base", "hq", "would look gone", hq("base", "ou=persons,"+demo.HQSuffix), hq("base", base)},
		{"stops after N entries", "hq", "a partial list is never used", func() { h.put("hq", map[string]string{"size-limit": "7", "page": "0"}, nil) }, func() { h.put("hq", map[string]string{"size-limit": "", "page": ""}, nil) }},
		{"not the name on the certificate", "hq", "for other names", hq("server-name", "hq.larkspur.example"), back("server-name", "")},
		{"another address", "hq", "it may be another system", hq("url", "ldap://169.254.169.254"), back("url", h.out.HQ.URL)},
		{"down", "candlewick", "nothing listens", func() { require.NoError(t, h.out.Candlewick.Stop()) }, nil},
		{"file outside the folders", "mail-gate", "in none of the folders", func() {}, nil},
	} {
		t.Run(x.name, func(t *testing.T) {
			h := *h
			h.t = t
			before, err := h.app.Service.System(context.Background(), x.system)
			require.NoError(t, err)
			x.spoil()
			if x.system == "mail-gate" { // refused before it is ever read
				require.Contains(t, h.twinning(1, "system", "put", "mail-gate", "--kind", "file", "--set", "path=/etc/passwd"), x.want)
				return
			}
			require.Contains(t, h.twinning(1, "roster", "take", x.system), x.want)
			v, err := h.app.Service.System(context.Background(), x.system)
			require.NoError(t, err)
			require.Equal(t, before.Latest.ID, v.Latest.ID, "what was the newest is it still")
			out := h.twinning(0, "task", "list", "--limit", "1")
			require.NotContains(t, out, directory.Secret)
			if x.mend == nil {
				return
			}
			x.mend()
			h.twinning(0, "roster", "take", x.system)
		})
	}
}

// A gateway that knows files alone: what is written stays waiting, in a file
// of the gateway's own form, until the gateway's list shows it.
func TestMailGate(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--name", "admin")
	const gate = "hq-mail-gate"
	draft := func(reconciled int) string {
		h.twinning(reconciled, "reconcile", gate)
		out := h.twinning(0, "plan", "draft", gate)
		id := regexp.MustCompile(`plan (\d+) of`).FindStringSubmatch(out)[1]
		h.seal(0, id)
		return id
	}
	plan := draft(3)
	require.Contains(t, h.twinning(0, "plan", "run", plan), "21 waiting")
	// asked again before the gateway was fed: nothing is asked for twice
	h.twinning(3, "reconcile", gate)
	require.Contains(t, h.twinning(1, "plan", "draft", gate), "withheld changes: 21")
	require.Equal(t, 21, strings.Count(h.twinning(0, "lane", "withheld", gate, "--limit", "100", "-o", "json"), "no roster shows it yet"))
	files, err := filepath.Glob(filepath.Join(h.out.MailGate.Inbox, "*.csv"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	rows, complaints, err := h.out.MailGate.Load()
	require.NoError(t, err)
	require.Empty(t, complaints)
	require.Equal(t, 21, rows)
	h.twinning(0, "roster", "take", "mail-gate")
	out := h.twinning(0, "run", "receipts", "3", "-o", "json")
	require.Equal(t, 21, strings.Count(out, `"outcome": "done"`), out)
	require.Contains(t, out, "shows it")
	list, err := os.ReadFile(h.out.MailGate.List)
	require.NoError(t, err)
	require.Contains(t, string(list), "carla.montt;L0950;Carla Montt-Riquelme;carla.montt-riquelme@larkspur.example;on\r\n", "two changes of one box keep each other")
	require.Contains(t, string(list), "meiling.chen;L0903;美玲 陳;")
	require.NotContains(t, h.twinning(3, "reconcile", gate), "Changes", "nothing is left to do but what needs a human")
}

// Rosters: changes are read as such, named, compared, asked for by date,
// exported and read back, forgotten after a while, and halted.
func TestRosters(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--name", "admin")
	ctx := context.Background()
	require.Contains(t, h.twinning(0, "roster", "take", "hq", "--extent", "changes", "--name", "after the move"), "changes")
	id := h.newest("hq")
	require.Contains(t, h.twinning(0, "roster", "rejected", id), "L0200", "what was not understood before, and not read again, is so still")
	out := h.twinning(0, "roster", "compare", "7", "--attribute", "email")
	require.Contains(t, out, "0 came, 1 went, 11 changed")
	require.Contains(t, out, "b.luna@larkspur.example")
	require.NotContains(t, out, "Deputy director")
	require.Contains(t, h.twinning(1, "roster", "compare", "1"), "is the first of hq")
	require.Contains(t, h.twinning(1, "roster", "compare", "7", "--with", "2"), "two systems")
	require.Contains(t, h.twinning(0, "roster", "statistics", id), "Cerro Alto (1")
	require.Contains(t, h.twinning(0, "roster", "history", "hq", "L0950", "--at", "2999-01-01"), "carla.montt-riquelme@")
	require.Contains(t, h.twinning(1, "roster", "history", "hq", "L0950", "--at", "yesterday"), "no day and no instant")
	require.Contains(t, h.twinning(1, "roster", "history", "hq", "nobody"), "never had a record")
	require.Contains(t, h.twinning(1, "roster", "export", id, "--columns", "id,emial"), `did you mean "email"`)

	// what goes out in any format comes back the same
	_, err := h.app.Service.PutSystem(ctx, admin, store.System{Name: "copy", Kind: "file", Shape: "shape: {id: id, email: email, givenName: givenName, department: department}\n"}, service.Putting{})
	require.NoError(t, err)
	want := ""
	for _, format := range []string{"csv", "jsonl", "xlsx"} {
		file := filepath.Join(dataDir(t), "out."+format)
		h.twinning(0, "roster", "export", id, "--format", format, "--columns", "id,email,givenName,department", "--skip", "3", "--first", "400", "--out", file)
		h.twinning(0, "roster", "take", "copy", "--file", file)
		got := h.twinning(0, "roster", "export", h.newest("copy"))
		require.Equal(t, 401, strings.Count(got, "\n"))
		if want != "" {
			require.Equal(t, want, got, format)
		}
		want = got
	}
	v, err := h.app.Service.Roster(ctx, int64(mustNumber(t, h.newest("copy"))))
	require.NoError(t, err)
	require.Zero(t, v.Changed+v.Came+v.Went, "the same records in another format are the same records")

	// the newest two are kept, however short the memory
	x, err := h.app.Service.System(ctx, "copy")
	require.NoError(t, err)
	x.KeepDays = 1
	_, err = h.app.Service.PutSystem(ctx, admin, x.System, service.Putting{})
	require.NoError(t, err)

	// a slow system is let go of when somebody says so
	h.out.NightLog.Misbehave(scimapp.Misbehaviour{SlowMillis: 5000})
	task, err := h.app.Service.TakeRoster(ctx, admin, "night-log", service.Taking{})
	require.NoError(t, err)
	h.twinning(0, "task", "halt", fmt.Sprint(task.ID))
	ended := h.wait(task.ID, nil)
	require.EqualValues(t, "halted", ended.State)
	require.Contains(t, ended.Message, "nothing of it was kept")

	// the list that HR is asked for says what the charter needs
	template := filepath.Join(dataDir(t), "people.csv")
	h.twinning(0, "charter", "template", lane, "--format", "csv", "--out", template)
	text, err := os.ReadFile(template)
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(string(text), "employeeNumber,givenName,mail,sn,"), string(text))
	h.twinning(0, "charter", "template", lane, "--format", "xlsx", "--out", filepath.Join(dataDir(t), "people.xlsx"))
	require.Contains(t, h.twinning(0, "charter", "template", lane), "A or L")
}

// The same by hand: what HR sends is looked at, picked, kept and taken, and
// every setting can be changed by itself.
func TestPreviewByHand(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--name", "admin")
	file := filepath.Join(dataDir(t), "hr.csv")
	require.NoError(t, os.WriteFile(file, []byte("Larkspur people\r\nKod;Buz\xf3n;Etwas\r\n1;ana.soto@larkspur.example;ja\r\n2;bo.vega@larkspur.example;nein\r\n"), 0o600))
	h.twinning(0, "system", "put", "hr", "--kind", "file")
	out := h.twinning(0, "system", "preview", "hr", "--file", file)
	require.Contains(t, out, "csv, windows-1252, delimiter \";\"")
	require.Contains(t, out, "Kod is filled and different in every record")
	require.Contains(t, h.twinning(2, "system", "preview", "hr", "--file", file, "--true", "Etwas"), "expected COLUMN=WORD")
	out = h.twinning(0, "system", "preview", "hr", "--file", file, "--id", "Kod", "--pick", "Etwas=active", "--true", "Etwas=ja", "--keep")
	require.Contains(t, out, "2 records, 0 that can't be read")
	require.Contains(t, out, "the shape is kept with hr")
	h.twinning(0, "roster", "take", "hr", "--file", file)
	require.Contains(t, h.twinning(0, "roster", "export", h.newest("hr"), "--columns", "id,email,active"), "2,bo.vega@larkspur.example,false")

	h.twinning(0, "system", "change", "hq", "--set", "page=50", "--at-once", "2", "--per-second", "500", "--keep-days", "30")
	out = h.twinning(0, "system", "show", "hq")
	for _, want := range []string{"page", "50", "at once", "per second", "keep days", demo.HQPeople, "larkspurStatus"} {
		require.Contains(t, out, want, "what was not named stays")
	}
	h.twinning(0, "roster", "take", "hq")
	h.twinning(0, "system", "change", "hq", "--set", "page=", "--at-once", "0")
	out = h.twinning(0, "system", "show", "hq")
	require.NotContains(t, out, "page")
	require.NotContains(t, out, "at once")
	require.Contains(t, h.twinning(1, "system", "change", "hq", "--set", "pge=50"), `did you mean "page"`)
	require.Contains(t, h.twinning(1, "system", "change", "none", "--set", "page=50"), `no system "none"`)
	require.Contains(t, h.twinning(1, "system", "probe", "none"), `no system "none"`)
	wrong := filepath.Join(dataDir(t), "wrong")
	require.NoError(t, os.WriteFile(wrong, []byte("wrong"), 0o600))
	h.twinning(0, "system", "change", "hq", "--secret-file", wrong)
	out = h.twinning(1, "system", "probe", "hq")
	require.Contains(t, out, "does not accept the DN")
	require.NotContains(t, out, "wrong\n")
}

func mustNumber(t *testing.T, s string) (n int) {
	require.NoError(t, json.Unmarshal([]byte(s), &n))
	return n
}

// The first command of every connector's page works as it is written there.
func TestConnectorPages(t *testing.T) {
	pages, err := filepath.Glob("../../docs/connectors/*.md")
	require.NoError(t, err)
	require.Len(t, pages, 4)
	root, err := filepath.Abs("../..")
	require.NoError(t, err)
	var commands []string
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		text = bytes.ReplaceAll(text, []byte("\\\n"), nil)
		if command := regexp.MustCompile(`(?m)^twinning .*$`).Find(text); command != nil {
			commands = append(commands, string(command))
		}
	}
	require.Len(t, commands, 3, "the page about new kinds has none")
	dir := dataDir(t)
	require.NoError(t, os.Symlink(filepath.Join(root, "demo"), filepath.Join(dir, "demo")))
	for _, secret := range []string{"token.txt", "reader.txt"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, secret), []byte("secret"), 0o600))
	}
	empty, demo := newRig(t, "--files "+dir), newHouse(t) // what a page sets up is not there yet; what it reads is the demo's
	t.Chdir(dir)
	ca, err := os.ReadFile(demo.out.HQ.CAFile)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "hq-ca.pem"), ca, 0o600))
	demo.twinning(0, "sign-in", "--name", "admin")
	for _, command := range commands {
		command = strings.ReplaceAll(command, "/etc/twinning", dir) // where this machine has nothing
		// the words as a shell has them
		words, err := exec.Command("bash", "-c", `twinning() { printf '%s\0' "$@"; }; `+command).Output()
		require.NoError(t, err, command)
		args := strings.Split(strings.TrimSuffix(string(words), "\x00"), "\x00")
		if args[0] == "charter" {
			demo.twinning(0, args...)
		} else {
			require.NotContains(t, empty.any(args...), "[exit 1]", command)
		}
	}
}
