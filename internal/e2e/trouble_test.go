package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/demo"
	"twinning/internal/access"
	"twinning/internal/service"
	"twinning/internal/standin/scimapp"
	"twinning/internal/store"
)

var admin = access.Caller{Name: "test", Rights: access.All}

const lane = "hq-dome-booking"

// wait follows a task to its end.
func (h *house) wait(task int64, err error) store.Task {
	h.t.Helper()
	require.NoError(h.t, err)
	for deadline := time.Now().Add(3 * time.Minute); ; time.Sleep(20 * time.Millisecond) {
		t, err := h.app.Service.Task(context.Background(), task)
		require.NoError(h.t, err)
		if t.Ended != nil {
			return t
		}
		require.True(h.t, time.Now().Before(deadline), "task %d did not end", task)
	}
}

func (h *house) queue(t store.Task, err error) store.Task {
	h.t.Helper()
	return h.wait(t.ID, err)
}

// sealed drafts and seals a plan of everything.
func (h *house) sealed() service.PlanView {
	h.t.Helper()
	ctx := context.Background()
	require.EqualValues(h.t, "finished", h.queue(h.app.Service.Reconcile(ctx, admin, lane, false)).State)
	p, err := h.app.Service.Draft(ctx, admin, lane, service.Selection{})
	require.NoError(h.t, err)
	p, err = h.app.Service.Seal(ctx, admin, p.ID, p.Hash, "")
	require.NoError(h.t, err)
	return p
}

func (h *house) run(p service.PlanView) service.RunView {
	h.t.Helper()
	r, err := h.app.Service.StartRun(context.Background(), admin, p.ID, p.Hash, service.RunOrder{})
	require.NoError(h.t, err)
	h.wait(r.Task, nil)
	r, err = h.app.Service.Run(context.Background(), r.ID)
	require.NoError(h.t, err)
	return r
}

func (h *house) changes(p service.PlanView) []service.ChangeView {
	h.t.Helper()
	list, _, _, err := h.app.Service.Changes(context.Background(), p.ID, "", "", store.Page{Limit: 500})
	require.NoError(h.t, err)
	return list
}

// once checks, account by account, that the application did nothing twice and
// nothing that the plan does not say.
func (h *house) once(before scimapp.Effects, p service.PlanView) {
	h.t.Helper()
	after := h.application.Effects()
	creates, passes := 0, map[string]int{} // accounts whose address goes through one in between
	for _, c := range h.changes(p) {
		if c.Unit != "" {
			passes[c.Account]++
		}
		if c.Verb == "create" && (c.Outcome == "done" || c.Outcome == "different") {
			creates++
		}
	}
	require.Equal(h.t, creates, after.Creates-before.Creates, "accounts created")
	require.Equal(h.t, before.Deletes, after.Deletes)
	most := map[string]int{}
	for _, u := range h.application.Users() {
		most[strings.ToLower(fmt.Sprint(u["userName"]))] = passes[fmt.Sprint(u["id"])]
	}
	for name, effects := range after.ByAccount {
		for effect, n := range effects {
			require.LessOrEqual(h.t, n-before.ByAccount[name][effect], max(1, most[name]), "%s of %s happened more often than planned", effect, name)
		}
	}
}

// An application that misbehaves: what can be done is done exactly once, what
// can't is told, nothing is lost.
func TestMisbehavingApplication(t *testing.T) {
	for _, c := range []struct {
		name  string
		wrong scimapp.Misbehaviour
		check func(h *house, r service.RunView, p service.PlanView)
	}{
		{"throttled", scimapp.Misbehaviour{ThrottleEvery: 4}, allDone},
		{"slow", scimapp.Misbehaviour{SlowMillis: 30}, allDone},
		{"drops the answer after doing the work", scimapp.Misbehaviour{DropEvery: 5}, allDone},
		{"answers changes without a body, and without ETags", scimapp.Misbehaviour{Silent: true, NoETag: true}, allDone},
		{"shows changes late", scimapp.Misbehaviour{LagMillis: 700}, func(h *house, r service.RunView, p service.PlanView) {
			require.Equal(h.t, p.Total, r.Outcomes["done"], "%v", r.Outcomes)
			require.Eventually(h.t, func() bool { return h.queue(h.app.Service.Verify(context.Background(), admin, r.ID)).Bad == 0 }, time.Minute, 500*time.Millisecond)
		}},
		{"shows changes late, and nobody has said so", scimapp.Misbehaviour{LagMillis: 300}, func(h *house, r service.RunView, p service.PlanView) {
			for _, c := range h.changes(p) { // what others hang on is given time
				require.Contains(h.t, []string{"done", "different"}, c.Outcome, "%s of %s: %s", c.Verb, c.Label, c.Detail)
				require.True(h.t, c.Outcome == "done" || !slices.Contains([]string{"rename", "readdress", "suspend", "reinstate"}, c.Verb), "%s of %s: %s", c.Verb, c.Label, c.Detail)
			}
			require.Eventually(h.t, func() bool { return h.queue(h.app.Service.Verify(context.Background(), admin, r.ID)).Bad == 0 }, time.Minute, 500*time.Millisecond)
		}},
		{"refuses every write", scimapp.Misbehaviour{RefuseAll: true}, func(h *house, r service.RunView, _ service.PlanView) {
			require.EqualValues(h.t, "halted", r.State)
			require.Contains(h.t, r.Message, "lacks the right")
			require.Zero(h.t, r.Outcomes["done"])
		}},
		{"refuses one user", scimapp.Misbehaviour{RefuseUser: "u-none", TitleLimit: 4}, func(h *house, r service.RunView, p service.PlanView) {
			require.EqualValues(h.t, "finished", r.State)
			altered := 0
			for _, c := range h.changes(p) {
				if c.Outcome == "different" {
					require.Contains(h.t, c.Detail, "title shows as")
					altered++
				}
			}
			require.Equal(h.t, r.Outcomes["different"], altered)
			require.Greater(h.t, altered, 5, "values that the application altered are told")
			task := h.queue(h.app.Service.Verify(context.Background(), admin, r.ID))
			require.Greater(h.t, task.Bad, 5, "verification finds them different")
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			h := newHouse(t)
			p := h.sealed()
			before := h.application.Effects()
			if c.wrong.LagMillis > 0 {
				h.declareLag("1")
			}
			h.application.Misbehave(c.wrong)
			c.check(h, h.run(p), p)
			h.once(before, p)
		})
	}
}

// declareLag says how many seconds dome-booking may show changes late.
func (h *house) declareLag(seconds string) {
	h.t.Helper()
	ctx := context.Background()
	x, err := h.app.Service.System(ctx, "dome-booking")
	require.NoError(h.t, err)
	x.Settings.V["lag"] = seconds
	_, err = h.app.Service.PutSystem(ctx, admin, store.System{Name: x.Name, Kind: x.Kind, Settings: x.Settings}, service.Putting{})
	require.NoError(h.t, err)
}

func allDone(h *house, r service.RunView, p service.PlanView) {
	require.EqualValues(h.t, "finished", r.State, r.Message)
	require.Equal(h.t, p.Total, r.Outcomes["done"], "%v", r.Outcomes)
	h.application.Misbehave(scimapp.Misbehaviour{})
	task := h.queue(h.app.Service.Verify(context.Background(), admin, r.ID))
	require.Zero(h.t, task.Bad)
}

// What changes behind our back between plan and run is left alone; a freeze
// stops a run; a halted run goes on where it stopped.
func TestBehindOurBack(t *testing.T) {
	h := newHouse(t)
	p := h.sealed()
	byPerson := map[string]service.ChangeView{}
	for _, c := range h.changes(p) {
		byPerson[c.Verb+" "+c.Person] = c
	}
	// somebody retitles one, suspends another, and already moved a third
	retitled, suspended := byPerson["set L0008"], byPerson["suspend L0953"]
	require.NotEmpty(t, retitled.Account)
	require.NotEmpty(t, suspended.Account)
	h.application.Put(map[string]any{"id": retitled.Account, "title": "Somebody else's title"})
	h.application.Put(map[string]any{"id": suspended.Account, "active": false})
	ctx := context.Background()
	h.application.Misbehave(scimapp.Misbehaviour{SlowMillis: 60})
	r, err := h.app.Service.StartRun(ctx, admin, p.ID, p.Hash, service.RunOrder{})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		v, err := h.app.Service.Run(ctx, r.ID)
		return err == nil && v.Outcomes["done"] > 3
	}, time.Minute, 10*time.Millisecond)
	_, err = h.app.Service.SetFreeze(ctx, admin, true, "somebody called")
	require.NoError(t, err)
	require.EqualValues(t, "halted", h.wait(r.Task, nil).State)
	v, err := h.app.Service.Run(ctx, r.ID)
	require.NoError(t, err)
	require.Contains(t, v.Message, "frozen")
	require.Less(t, v.Outcomes["done"], p.Total)
	_, err = h.app.Service.StartRun(ctx, admin, p.ID, p.Hash, service.RunOrder{})
	require.ErrorContains(t, err, "frozen")
	_, err = h.app.Service.SetFreeze(ctx, admin, false, "")
	require.NoError(t, err)
	h.application.Misbehave(scimapp.Misbehaviour{})
	h.run(p)
	outcomes := map[string]string{}
	for _, c := range h.changes(p) {
		outcomes[c.Verb+" "+c.Person] = c.Outcome
	}
	require.Equal(t, "stale", outcomes["set L0008"])
	require.Equal(t, "unchanged", outcomes["suspend L0953"])
	for _, u := range h.application.Users() {
		if u["id"] == retitled.Account {
			require.Equal(t, "Somebody else's title", u["title"])
		}
	}
	// what somebody else suspended is not undone: Rita Falk's
	for what, outcome := range outcomes {
		require.NotEqual(t, "reinstate L0956", what)
		if what != "set L0008" && what != "suspend L0953" {
			require.Contains(t, []string{"done", "unchanged"}, outcome, what)
		}
	}
}

// Bad input through the real command line: a clear sentence, and nothing lost.
func TestBadFiles(t *testing.T) {
	h := newHouse(t)
	h.twinning(0, "sign-in", "--name", "admin")
	dir := dataDir(t)
	good := h.hqByFile(dir)
	lines := strings.Split(strings.TrimSpace(good), "\n")
	rows := func(n int) string { return strings.Join(lines[:n], "\n") + "\n" }
	put := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	for _, c := range []struct{ name, text, want string }{
		{"empty", "", "path"}, // nothing sent: the system's own file is read
		{"header-only", lines[0] + "\n", "no records"},
		{"other-columns", "a,b\n1,2\n", `"staff_no" is not in the file`},
		{"unclosed", rows(3) + `"L9999,never closed` + "\n", "never closed"},
		{"twice-named", "staff_no,staff_no\n1,2\n", "more than once"},
	} {
		if c.name == "empty" {
			continue
		}
		require.Contains(t, h.twinning(1, "roster", "take", "hq", "--file", put(c.name, c.text)), c.want, c.name)
	}
	require.Contains(t, h.twinning(4, "reconcile", lane, "-o", "json"+take(h, "hq", put("shrunken", rows(60)))), "roster-shrunk")
	emptied := strings.Builder{}
	for i, l := range lines {
		cells := strings.Split(l, ",")
		if i > 0 && len(cells) > 4 {
			cells[4] = ""
		}
		emptied.WriteString(strings.Join(cells, ",") + "\n")
	}
	require.Contains(t, h.twinning(4, "reconcile", lane, "-o", "json"+take(h, "hq", put("emptied", emptied.String()))), "coverage-drop")
	// guards can't be sealed past without a reason
	out := h.twinning(4, "plan", "draft", lane, "-o", "json")
	var p struct{ ID int64 }
	require.NoError(t, json.Unmarshal([]byte(out[:strings.LastIndex(out, "}")+1]), &p))
	require.Contains(t, h.seal(4, fmt.Sprint(p.ID)), "guard")
	// a faceless row blocks whatever rests on an absence
	take(h, "hq", put("faceless", good+"\"\",no,id\n"))
	require.Contains(t, h.twinning(3, "reconcile", lane), "a row of the people could not be read, nor whose it is")
	require.NotContains(t, h.twinning(0, "lane", "show", lane), "create\n")
	require.Contains(t, h.twinning(1, "charter", "put", put("bad.yaml", "lane: x\npeople: {frm: hq}\n")), `did you mean "from"`)
}

// hqByFile lets hq be an export from now on, as it is when no read account was
// granted, and returns it. What it covers is another thing than what the
// directory did, which has to be said.
func (h *house) hqByFile(dir string) string {
	world := demo.FirstDay()
	world.SecondDay()
	good, shape := world.CSV(false), filepath.Join(dir, "shape.yaml")
	require.NoError(h.t, os.WriteFile(shape, []byte(demo.HQFileShape), 0o600))
	export := filepath.Join(dir, "hq.csv")
	require.NoError(h.t, os.WriteFile(export, []byte(good), 0o600))
	require.Contains(h.t, h.twinning(1, "system", "put", "hq", "--kind", "file", "--shape", shape), "bonds and rulings")
	h.twinning(0, "system", "put", "hq", "--kind", "file", "--shape", shape, "--same-records")
	require.Contains(h.t, h.twinning(1, "roster", "take", "hq", "--file", export), "would look gone")
	h.twinning(0, "roster", "take", "hq", "--file", export, "--new-scope")
	return good
}

func take(h *house, system, file string) string {
	h.twinning(0, "roster", "take", system, "--file", file)
	return ""
}

// A second lane into the same application owns the administrators' accounts
// and touches nothing of the first lane's.
func TestSecondLane(t *testing.T) {
	h := newHouse(t)
	ctx := context.Background()
	const admins = "hq-dome-admins"
	before := map[string]any{}
	for _, u := range h.application.Users() {
		before[u["id"].(string)] = fmt.Sprint(u)
	}
	require.EqualValues(t, "finished", h.queue(h.app.Service.Reconcile(ctx, admin, admins, false)).State)
	p, err := h.app.Service.Draft(ctx, admin, admins, service.Selection{})
	require.NoError(t, err)
	p, err = h.app.Service.Seal(ctx, admin, p.ID, p.Hash, "")
	require.NoError(t, err)
	r := h.run(p)
	require.Equal(t, p.Total, r.Outcomes["done"], "%v", r.Outcomes)
	created := 0
	for _, u := range h.application.Users() {
		if was, known := before[u["id"].(string)]; known {
			require.Equal(t, was, fmt.Sprint(u), "an account of the first lane was touched")
			continue
		}
		created++
		require.True(t, strings.HasPrefix(u["userName"].(string), "adm-"))
	}
	require.Equal(t, p.Total, created)
	for _, name := range []string{admins, lane} {
		require.EqualValues(t, "finished", h.queue(h.app.Service.TakeRoster(ctx, admin, "dome-booking", service.Taking{})).State)
		require.EqualValues(t, "finished", h.queue(h.app.Service.Reconcile(ctx, admin, name, false)).State)
	}
	list, _, total, err := h.app.Service.Verdicts(ctx, lane, "accounts", "exempt", store.Page{Text: "adm-", Count: true})
	require.NoError(t, err)
	require.Equal(t, created, total, "the first lane leaves them alone: %v", list)
	v, err := h.app.Service.Lane(ctx, admins)
	require.NoError(t, err)
	require.JSONEq(t, "{}", string(v.Latest.Changes), "the second lane has nothing left to do")
}

// What stands in the way of a seal: a read-only system, a lane that only
// observes, another hash, a newer reconciliation, a guard. A guard is only
// overruled by somebody who may, and with a reason.
func TestSealing(t *testing.T) {
	h := newHouse(t)
	ctx := context.Background()
	strict := strings.Replace(demo.DomeBooking, "suspend: {more-than: 5, or: 2%, within: 7d}", "suspend: {more-than: 0}", 1)
	_, err := h.app.Service.PutCharter(ctx, admin, lane, strict, -1, "")
	require.NoError(t, err)
	_, err = h.app.Service.PutCharter(ctx, admin, lane, strict+"# later\n", 1, "")
	require.ErrorContains(t, err, "changed by somebody else", "made from version 1, and 2 is there")
	require.EqualValues(t, "finished", h.queue(h.app.Service.Reconcile(ctx, admin, lane, false)).State)
	p, err := h.app.Service.Draft(ctx, admin, lane, service.Selection{})
	require.NoError(t, err)
	require.True(t, p.Stopped)
	seal := func(who access.Caller, hash, overrule string) error {
		_, err := h.app.Service.Seal(ctx, who, p.ID, hash, overrule)
		return err
	}
	sealer := access.Caller{Name: "sealer", Rights: []access.Right{access.Look, access.Seal}}
	require.ErrorContains(t, seal(admin, "other", ""), "hash")
	require.ErrorContains(t, seal(admin, p.Hash, ""), "a guard stops")
	require.ErrorContains(t, seal(sealer, p.Hash, "because"), "needs the right overrule")
	_, err = h.app.Service.SetWriting(ctx, admin, "dome-booking", false, 0)
	require.NoError(t, err)
	require.ErrorContains(t, seal(admin, p.Hash, "because"), "read-only")
	_, err = h.app.Service.SetWriting(ctx, admin, "dome-booking", true, 0)
	require.NoError(t, err)
	_, err = h.app.Service.SetObserving(ctx, admin, lane, true)
	require.NoError(t, err)
	require.ErrorContains(t, seal(admin, p.Hash, "because"), "only observes")
	_, err = h.app.Service.SetObserving(ctx, admin, lane, false)
	require.NoError(t, err)
	before := h.application.Effects()
	_, err = h.app.Service.StartRun(ctx, admin, p.ID, p.Hash, service.RunOrder{})
	require.ErrorContains(t, err, "only a sealed plan can be run")
	require.NoError(t, seal(admin, p.Hash, "the board asked for it"))
	_, err = h.app.Service.StartRun(ctx, admin, p.ID, "other", service.RunOrder{})
	require.ErrorContains(t, err, "hash")
	_, err = h.app.Service.StartRun(ctx, admin, p.ID, p.Hash, service.RunOrder{Wave: "no such wave"})
	require.ErrorContains(t, err, "no wave")
	require.Equal(t, before.Changes, h.application.Effects().Changes, "nothing was written by asking")

	// a wave by itself, then the rest
	r, err := h.app.Service.StartRun(ctx, admin, p.ID, p.Hash, service.RunOrder{Wave: "pilot"})
	require.NoError(t, err)
	h.wait(r.Task, nil)
	v, err := h.app.Service.Plan(ctx, p.ID)
	require.NoError(t, err)
	require.EqualValues(t, "sealed", v.State)
	require.Equal(t, "the board asked for it", v.Overruled)
	require.Equal(t, before.Changes+4, h.application.Effects().Changes, "one is let in again, and two swap their addresses")
	rest := h.run(v)
	require.EqualValues(t, "finished", rest.State)
	require.Equal(t, p.Total-4, rest.Outcomes["done"], "the pilot is not run again: %v", rest.Outcomes)

	// rulings that contradict each other are told, a later draft voids an older one
	_, err = h.app.Service.Rule(ctx, admin, lane, store.Ruling{Kind: "same", Person: "L0924", Account: "u90924", Reason: "asked her"}, "")
	require.NoError(t, err)
	_, err = h.app.Service.Rule(ctx, admin, lane, store.Ruling{Kind: "same", Person: "L0924", Account: "u90925", Reason: "no, this"}, "")
	require.ErrorContains(t, err, "another ruling says otherwise")
	_, err = h.app.Service.Rule(ctx, admin, lane, store.Ruling{Kind: "leave-alone", Account: "u90930"}, "")
	require.ErrorContains(t, err, "needs a reason")
}
