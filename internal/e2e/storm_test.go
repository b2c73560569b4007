package e2e

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"twinning/internal/standin/scimapp"
)

var (
	storms    = flag.Int("storms", 1, "how many runs TestStorm plays")
	stormSize = flag.Int("storm-size", 80, "changes of each")
	stormHits = flag.Int("storm-hits", 8, "things that happen in the middle of each")
	stormSeed = flag.Uint64("storm-seed", 20261127, "of the first one")
)

const stormRules = `lane: LANE
people: {from: HQ}
accounts: {in: APP}
mark: person.id
pairing: {keys: [{name: number, person: person.id, account: account.externalId}]}
attributes: {userName: {candidates: [person.employeeNumber], rule: once}, department: person.department, title: {value: "'Keeper of the ' + person.department", rule: once}}
emails: {primary: person.email, rule: own, former: keep}
names: {between: between.larkspur.example}
groups: [{enrol: watch, when: person.department == 'Night'}]
leavers: {grace: {readings: 1, days: 0}, stages: [{after: 0d, do: [suspend]}]}
guards: {suspend: {more-than: 10000}, readdress: {more-than: 10000}, reinstate: {more-than: 10000}, withdraw: {more-than: 10000}, roster-drop: 100%, coverage-drop: 100%}
runs: {failures: 100%}
`

// storm is one run in the middle of which everything goes wrong.
type storm struct {
	*rig
	rng     *rand.Rand
	app     *scimapp.App
	nodes   []*node
	lane    string
	plan    string
	people  []stormPerson
	ids     map[string]string // person -> account, of those who have one
	before  map[string]string // account -> how it stood
	touched map[string]bool   // people whose account somebody else changed meanwhile
	wrong   scimapp.Misbehaviour
	told    []string // what happened, for whoever reads a failure
}

// stormPerson is what one account should come to, by one change; by two for the first of those who
// exchange their addresses.
type stormPerson struct{ id, login, mail, dept, wants, had string }

// A run that is killed, suspended and woken, halted by hand and begun again, cut off from PostgreSQL,
// answered with errors, with another's record, throttled or not at all, shown late, altered and interfered with, on two nodes whose
// database's clock moves, by PATCH or by PUT alone: account by account the application is what the
// receipts say, no effect comes twice, nothing is lost or in doubt, and the next reconciliation sets
// right what is left, or an undo gives back what was.
func TestStorm(t *testing.T) {
	for n := range *storms {
		seed := *stormSeed + uint64(n)
		t.Run(fmt.Sprint(seed), func(t *testing.T) { playStorm(t, seed) })
	}
}

func playStorm(t *testing.T, seed uint64) {
	s := &storm{rig: newRig(t, "--lease 3s"), rng: rand.New(rand.NewPCG(seed, 1)), ids: map[string]string{}, before: map[string]string{}, touched: map[string]bool{}}
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(strings.Join(s.told, "\n"))
		}
	})
	s.movableClock()
	s.nodes = []*node{s.node, s.another("second", "--lease 3s")}
	s.begin()
	s.wrong = scimapp.Misbehaviour{SlowMillis: 5 + s.rng.IntN(15), DropEvery: 11, FailEvery: 20, ThrottleEvery: 17, TitleLimit: 10, MixEvery: 13, NoPatch: s.rng.IntN(2) == 0}
	if s.rng.IntN(2) == 0 {
		s.wrong.LagMillis = 400
		s.twinning(0, "system", "change", s.down, "--set", "lag=1")
	}
	s.plan = s.drafted(s.lane)
	s.seal(0, s.plan)
	for _, u := range s.app.Users() {
		s.before[fmt.Sprint(u["id"])] = standing(u)
	}
	s.app.Misbehave(s.wrong)
	s.twinning(0, "plan", "run", s.plan, "--no-wait")
	for range *stormHits {
		time.Sleep(time.Duration(20+s.rng.IntN(400)) * time.Millisecond)
		s.hit()
	}
	s.through()
	s.asReceiptsSay()
	if seed%2 == 0 {
		s.setRight()
	} else {
		s.giveBack()
	}
}

// begin makes people and accounts: each wants one change.
func (s *storm) begin() {
	app, err := scimapp.New("", "token")
	require.NoError(s.t, err)
	s.app = app
	server := httptest.NewServer(app)
	s.t.Cleanup(server.Close)
	list := ""
	for i := range *stormSize {
		p := stormPerson{id: fmt.Sprintf("L%04d", i), login: fmt.Sprintf("n%04d", i), mail: fmt.Sprintf("n%04d@larkspur.example", i), dept: []string{"Dome", "Mirror", "Shutter"}[i%3], wants: []string{"create", "set", "readdress", "suspend", "enrol", "swap"}[i%6]}
		p.had = p.mail
		switch other := i + 6 - i%12/6*12; {
		case p.wants == "enrol":
			p.dept = "Night"
		case p.wants == "swap" && other < *stormSize:
			p.mail = fmt.Sprintf("n%04d@larkspur.example", other)
		case p.wants == "swap":
			p.wants = "set"
		}
		s.people = append(s.people, p)
		given, family := stormName(i)
		list += fmt.Sprintf("%s,%s,%s,%s,%s,%s,%s\n", p.id, p.login, given, family, p.mail, map[bool]string{true: "L", false: "A"}[p.wants == "suspend"], p.dept)
		if p.wants == "create" {
			continue
		}
		u := user(p.id, p.login, given, family, true)
		mail, dept := p.had, p.dept
		if p.wants == "readdress" {
			mail = "old-" + p.mail
		}
		if p.wants == "set" {
			dept = "Nowhere"
		}
		u["emails"] = []any{map[string]any{"value": mail, "primary": true}}
		u["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"] = map[string]any{"department": dept}
		s.ids[p.id] = app.Put(u)
	}
	app.PutGroup("g1", "watch")
	s.lane = s.laneOf(server.URL, list, stormRules)
	s.twinning(0, "system", "change", s.down, "--at-once", "6", "--shape", s.write("app.yaml", "shape: {id: id, externalId: externalId, userName: userName, givenName: name.givenName, familyName: name.familyName, displayName: displayName, email: emails.primary, aliases: emails.other, active: active, title: title, department: enterprise.department, groups: memberships}\nmark: externalId\nstable: true\n"))
	s.twinning(0, "roster", "take", s.down)
}

// stormName gives everybody a name of their own, so that nobody seems to be hired again.
func stormName(i int) (given, family string) {
	parts := []string{"ka", "lo", "mi", "ru", "te", "va", "so", "ne", "di", "pu"}
	return []string{"Ana", "Bo", "Cyril", "Dorte", "Eskil", "Fatou", "Gwen"}[i%7], "T" + parts[i/10%10] + parts[i%10] + parts[i*7%10] + parts[(i+i/10)%10]
}

// standing is all of an account that a change may touch.
func standing(u map[string]any) string {
	more, _ := u["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"].(map[string]any)
	mails := []string{}
	list, _ := u["emails"].([]any)
	for _, m := range list {
		x, _ := m.(map[string]any)
		mark := ""
		if x["primary"] == true {
			mark = "!"
		}
		mails = append(mails, fmt.Sprint(x["value"])+mark)
	}
	slices.Sort(mails)
	return fmt.Sprint(u["active"], " ", mails, " ", more["department"])
}

// wanted is how an account stands once its change is done.
func (p stormPerson) wanted() string {
	mails := []string{p.mail + "!"}
	if p.wants == "readdress" {
		mails = append(mails, "old-"+p.mail)
	}
	return fmt.Sprint(p.wants != "suspend", " ", mails, " ", p.dept)
}

func (s *storm) note(format string, args ...any) {
	s.told = append(s.told, fmt.Sprintf(format, args...))
}

// hit lets one thing happen.
func (s *storm) hit() {
	n := s.nodes[s.rng.IntN(len(s.nodes))]
	switch at := s.rng.IntN(108); {
	case at >= 100: // through begins it again
		s.note("somebody halts the run: %s", s.any("run", "halt", s.scan(`SELECT coalesce(max(id), 0)::text FROM runs`)))
	case at < 50:
		s.note("a node is killed")
		n.kill()
		if s.rng.IntN(3) == 0 {
			time.Sleep(time.Duration(s.rng.IntN(1500)) * time.Millisecond)
		}
		n.start()
	case at < 58:
		s.note("a node is suspended, and woken after its lease")
		require.NoError(s.t, n.cmd.Process.Signal(syscall.SIGSTOP))
		time.Sleep(3500 * time.Millisecond)
		require.NoError(s.t, n.cmd.Process.Signal(syscall.SIGCONT))
	case at < 66:
		s.note("connections to PostgreSQL are cut")
		_, err := s.db.Exec(context.Background(), `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND datname = current_database()`)
		require.NoError(s.t, err)
	case at < 74:
		s.note("PostgreSQL crashes and comes back")
		s.crashDatabase()
	case at < 82:
		by := []string{"40 seconds", "-20 seconds", "0"}[s.rng.IntN(3)]
		s.note("the clock is off by %s", by)
		s.exec(`UPDATE clock.shift SET by = '` + by + `'`)
	case at < 90:
		s.wrong.DropEvery, s.wrong.FailEvery = 2+s.rng.IntN(12), 2+s.rng.IntN(20)
		s.note("answers are dropped every %d, and errors come every %d", s.wrong.DropEvery, s.wrong.FailEvery)
		s.app.Misbehave(s.wrong)
	default:
		p := s.people[s.rng.IntN(len(s.people))]
		if id := s.ids[p.id]; id != "" {
			s.note("somebody moves %s", p.id)
			s.touched[p.id] = true
			s.app.Put(map[string]any{"id": id, "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": map[string]any{"department": "Elsewhere"}})
		}
	}
}

// movableClock lets the database's clock be moved for all that connect from now on.
func (s *storm) movableClock() {
	s.node.kill()
	s.exec(`CREATE SCHEMA clock`)
	s.exec(`CREATE TABLE clock.shift (by interval NOT NULL)`)
	s.exec(`INSERT INTO clock.shift VALUES ('0')`)
	s.exec(`CREATE FUNCTION clock.now() RETURNS timestamptz LANGUAGE sql STABLE AS 'SELECT pg_catalog.now() + by FROM clock.shift'`)
	s.exec(`ALTER DATABASE ` + s.scan(`SELECT current_database()::text`) + ` SET search_path = public, clock, pg_catalog`)
	s.exec(`ALTER DATABASE ` + s.scan(`SELECT current_database()::text`) + ` SET synchronous_commit = on`) // a crash forgets nothing that was kept
	s.node.start()
	s.url = s.node.url
	s.twinning(0, "sign-in", "--address", s.url)
}

// crashDatabase ends the server as a crash does, and starts it again at the same place.
func (s *storm) crashDatabase() {
	ctl, err := filepath.Glob("/usr/lib/postgresql/*/bin/pg_ctl")
	require.NoError(s.t, err)
	data := filepath.Join(s.dir, "db", "data")
	info, err := os.Stat(data)
	require.NoError(s.t, err)
	owner := info.Sys().(*syscall.Stat_t)
	cmd := exec.Command(ctl[len(ctl)-1], "-D", data, "-m", "immediate", "-w", "-l", "/dev/null", "restart")
	if os.Geteuid() == 0 {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: owner.Uid, Gid: owner.Gid}}
	}
	cmd.Dir = "/"
	require.NoError(s.t, cmd.Run())
	s.reconnect()
}

func (s *storm) reconnect() {
	_ = s.db.Close(context.Background()) // it is gone
	require.Eventually(s.t, func() bool {
		conn, err := pgx.Connect(context.Background(), s.dbURL)
		s.db = conn
		return err == nil
	}, 30*time.Second, 100*time.Millisecond)
}

// through waits until the run has come to its end; where it was halted, somebody starts it
// again.
func (s *storm) through() {
	s.exec(`UPDATE clock.shift SET by = '0'`)
	s.wrong.DropEvery, s.wrong.FailEvery = 11, 20 // with more than that it comes to its end too, some day
	s.app.Misbehave(s.wrong)
	s.url = s.node.url
	require.Eventually(s.t, func() bool { return strings.Contains(s.any("sign-in", "--address", s.url), "[exit 0]") }, 30*time.Second, 200*time.Millisecond)
	state := ""
	for deadline := time.Now().Add(4 * time.Minute); time.Now().Before(deadline); time.Sleep(300 * time.Millisecond) {
		state = s.scan(`SELECT state FROM plans WHERE id = ` + s.plan)
		if state == "finished" {
			return
		}
		if state == "halted" || state == "sealed" {
			s.note("it is %s, and started again: %s", state, s.any("plan", "run", s.plan, "--no-wait"))
		}
	}
	s.t.Fatalf("the run does not end: it is %s\n%s", state, s.any("task", "list"))
}

// asReceiptsSay holds every account against the newest receipt of its change.
func (s *storm) asReceiptsSay() {
	rows, err := s.db.Query(context.Background(), `SELECT c.person, c.verb, coalesce((SELECT x.outcome FROM receipts x JOIN runs r ON r.id = x.run_id WHERE r.plan_id = c.plan_id AND x.number = c.number ORDER BY x.run_id DESC LIMIT 1), 'none') FROM changes c WHERE c.plan_id = `+s.plan+` ORDER BY c.number`)
	require.NoError(s.t, err)
	outcomes, counts, all, swaps := map[string]string{}, map[string]int{}, 0, 0
	var person, verb, outcome string
	_, err = pgx.ForEachRow(rows, []any{&person, &verb, &outcome}, func() error {
		all++
		counts[outcome]++
		outcomes[person] = outcome
		return nil
	})
	require.NoError(s.t, err)
	s.note("outcomes: %v", counts)
	s.note("not done: %s", s.scan(`SELECT coalesce(string_agg(concat_ws(' ', c.verb, c.person, x.outcome, x.detail, x.attempts, x.intended, x.ended, x.trace), '; '), '') FROM receipts x JOIN runs r ON r.id = x.run_id JOIN changes c ON c.plan_id = r.plan_id AND c.number = x.number WHERE x.outcome NOT IN ('done', 'different') AND r.plan_id = `+s.plan))
	for _, p := range s.people {
		if p.wants == "swap" {
			swaps++
		}
	}
	require.Equal(s.t, len(s.people)+swaps/2, all)
	for _, never := range []string{"none", "", "in-doubt"} {
		require.Zero(s.t, counts[never], "%q: %v", never, counts)
	}
	require.Greater(s.t, counts["done"]+counts["different"], len(s.people)*7/10, "most is done all the same: %v", counts)
	marks := map[string]map[string]any{}
	for _, u := range s.app.Users() {
		mark := fmt.Sprint(u["externalId"])
		require.Nil(s.t, marks[mark], "two accounts of %s", mark)
		marks[mark] = u
	}
	for _, p := range s.people {
		u, there := marks[p.id]
		switch done := outcomes[p.id] == "done" || outcomes[p.id] == "unchanged" || p.wants == "create" && outcomes[p.id] == "different"; { // its title is cut
		case s.touched[p.id]:
		case done:
			require.True(s.t, there, "%s of %s is %s", p.wants, p.id, outcomes[p.id])
			require.Equal(s.t, p.wanted(), standing(u), "%s of %s is %s", p.wants, p.id, outcomes[p.id])
		case p.wants == "create":
			require.False(s.t, there, "%s of %s is %s", p.wants, p.id, outcomes[p.id])
		default:
			require.Equal(s.t, s.before[s.ids[p.id]], standing(u), "%s of %s is %s", p.wants, p.id, outcomes[p.id])
		}
	}
	watch := s.app.Members("g1")
	for _, p := range s.people {
		if p.wants == "enrol" {
			require.Equal(s.t, outcomes[p.id] == "done" || outcomes[p.id] == "unchanged", slices.Contains(watch, s.ids[p.id]), "%s is %s", p.id, outcomes[p.id])
		}
	}
	for name, effects := range s.app.Effects().ByAccount {
		for effect, times := range effects {
			i := slices.IndexFunc(s.people, func(p stormPerson) bool { return p.login == name })
			most := 1
			if s.people[i].wants == "swap" && effect == "change:emails" { // by a value in between, or there and back
				most = 2
			}
			require.LessOrEqual(s.t, times, most, "%s of %s", effect, name)
		}
	}
}

// setRight plays the nights after: what is left is done, and then nothing is.
func (s *storm) setRight() {
	s.app.Misbehave(scimapp.Misbehaviour{})
	time.Sleep(500 * time.Millisecond) // what shows late shows by now
	for night := range 3 {
		s.twinning(0, "roster", "take", s.down)
		s.any("reconcile", s.lane)
		left := s.scan(`SELECT (SELECT coalesce(sum(v.value::int), 0) FROM json_each_text(r.changes::json) v)::text FROM reconciliations r ORDER BY id DESC LIMIT 1`)
		if left == "0" {
			break
		}
		require.Less(s.t, night, 2, "%s changes are left", left)
		plan := s.drafted(s.lane)
		s.seal(0, plan)
		require.Contains(s.t, s.any("plan", "run", plan), "finished")
	}
	for _, u := range s.app.Users() {
		i := slices.IndexFunc(s.people, func(p stormPerson) bool { return p.id == fmt.Sprint(u["externalId"]) })
		p := s.people[i]
		if s.touched[p.id] && p.wants == "suspend" { // nobody cares for the department of who has left
			p.dept = "Elsewhere"
		}
		require.Equal(s.t, p.wanted(), standing(u), p.id)
	}
	require.Len(s.t, s.app.Users(), len(s.people))
	require.Contains(s.t, s.twinning(0, "audit", "check"), "unbroken")
}

// giveBack undoes the runs, the newest first, in calm weather: whoever nobody else has touched is as
// they were, and what was made is shut.
func (s *storm) giveBack() {
	s.app.Misbehave(scimapp.Misbehaviour{NoPatch: s.wrong.NoPatch})
	time.Sleep(500 * time.Millisecond) // what shows late shows by now
	for _, run := range strings.Fields(s.scan(`SELECT coalesce(string_agg(id::text, ' ' ORDER BY id DESC), '') FROM runs WHERE plan_id = ` + s.plan)) {
		s.twinning(0, "roster", "take", s.down)
		s.any("reconcile", s.lane)
		told := s.any("run", "undo", run, "--reason", "the storm was none of theirs")
		if !strings.Contains(told, "[exit 0]") {
			require.Contains(s.t, told, "nothing", "run %s", run)
			continue
		}
		plan := s.scan(`SELECT max(id)::text FROM plans`)
		s.seal(0, plan)
		require.Contains(s.t, s.any("plan", "run", plan), "finished")
	}
	for _, u := range s.app.Users() {
		id := fmt.Sprint(u["id"])
		was, old := s.before[id]
		i := slices.IndexFunc(s.people, func(p stormPerson) bool { return p.id == fmt.Sprint(u["externalId"]) })
		switch {
		case s.touched[s.people[i].id]:
		case old:
			require.Equal(s.t, was, standing(u), s.people[i].id)
		default:
			require.Equal(s.t, false, u["active"], s.people[i].id)
		}
	}
	require.Empty(s.t, s.app.Members("g1"))
}
