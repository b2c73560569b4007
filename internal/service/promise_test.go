package service

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
	"twinning/internal/core/lifecycle"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/store"
)

var (
	histories    = flag.Int("histories", 18, "how many histories TestPromise plays")
	everyFailure = flag.Int("every", 16, "every so many-th statement is made to fail by TestEveryFailure")
	firstHistory = flag.Int("history", 1, "the number of the first")
)

// The promise as a property: people come, go, come back and are renamed; readings
// have faults of every kind; humans rule, freeze and change their minds; accounts
// are made, changed and hidden by others; answers are lost and PostgreSQL is cut
// off; plans are drafted, sealed and run in between, and all of it goes on while a
// run is at work. At every write the world below, which alone knows the truth and
// knows nothing of how Twinning decides, says whether it may be.
func TestPromise(t *testing.T) {
	done := map[string]int{}
	for n := *firstHistory; n < *firstHistory+*histories; n++ {
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			w := newWorld(t, n, stage.Store)
			for range 40 {
				w.lane = pick(w, w.lanes...)
				w.happens(w.anything())
			}
			w.calm()
			for k, v := range w.done {
				done[k] += v
			}
		})
	}
	if *histories >= 10 {
		effects := []string{"create", "suspend", "set"}
		if *histories >= 100 {
			effects = append(effects, "reinstate") // which takes three plans that come through
		}
		for _, effect := range effects {
			require.NotZero(t, done[effect], "a property that sees no %s says nothing of it: %v", effect, done)
		}
	}
	t.Logf("written: %v", done)
}

// human is a human as the authority's list has them. A number may be given again
// to another body.
type human struct {
	no, body, given, family, title string
	active, listed                 bool
}

func (h human) mail() string {
	return strings.ToLower(h.given + "." + h.body + "@larkspur.example") // marriage keeps it: else nobody could know whose an unmarked account is
}

// holding is an account, and the human whose it truly is.
type holding struct {
	id, login, mail, mark, given, family, title string
	active, hidden                              bool
	owner                                       string // a body; "" is nobody: a service account
	shut                                        string // who suspended it last: us or hand
}

// seen is what a reading of the people showed of one human.
type seen struct {
	human
	readable bool
	unsure   []string // attributes that were not read, or have several values
}

// shows reports whether the reading shows an attribute of theirs, for sure.
func (s seen) shows(attribute string) bool {
	return s.readable && !slices.Contains(s.unsure, attribute)
}

type world struct {
	t         *testing.T
	ctx       context.Context
	rng       *rand.Rand
	name      string
	one, two  *Service // two nodes over one database
	humans    []*human
	accounts  map[string]*holding
	faults    map[bool]string // of the next reading, by side: true is the people
	unread    map[bool]string // the attribute that the next reading has no column for
	read      map[string]seen // the last reading that was given
	taken     map[string]seen // the newest that was kept
	lanes     []string        // over one application: each by itself has to keep the promise
	lane      string          // whose turn it is
	rulings   map[string][]store.Ruling
	frozen    bool
	observing map[string]bool
	closed    bool
	overruled bool
	polite    bool // no answer is lost
	gone      bool // PostgreSQL was cut off, and whoever was asking it failed
	fails     *failure
	inside    bool // something happens already
	log       []string
	done      map[string]int
	wrote     []effect
	roster    int64             // the newest that was kept
	made      int               // accounts, also those that are gone
	numbers   map[string]string // by body, as they were last listed
	bodies    int               // who were given a number again
	charters  map[string]string
	running   int64 // the run that was started last
}

// effect is something that was done to an account.
type effect struct{ account, person, verb string }

const mostSuspended = 3

// promising is the lane's charter.
const promising = `lane: %[1]s
people: {from: %[2]s-people}
accounts: {in: %[2]s-accounts, where: "!account.userName.startsWith('svc-')"}
pairing:
  keys:
    - {name: number, person: person.id, account: account.externalId}
    - {name: e-mail, person: person.email, account: account.emails}
intent: both
mark: person.id
attributes:
  userName: {candidates: ["slug(initial(person.givenName) + person.familyName)", "slug(person.givenName + '.' + person.familyName)", "slug(person.givenName + person.id)"], rule: own}
  givenName: {value: person.givenName, rule: own}
  familyName: {value: person.familyName, rule: own}
  title: {value: person.title, rule: own}
emails: {primary: person.email, rule: own}
leavers:
  stages: [{after: 0d, do: [suspend]}]
guards: {suspend: {more-than: %[3]d, within: 1d}, roster-drop: 90%%, coverage-drop: 90%%, rename: {more-than: 50}, readdress: {more-than: 50}, reinstate: {more-than: 50}}
`

func newWorld(t *testing.T, n int, with *store.Store) *world {
	w := &world{t: t, ctx: context.Background(), rng: rand.New(rand.NewPCG(uint64(n), 7)), name: fmt.Sprintf("world-%d", n), accounts: map[string]*holding{}, numbers: map[string]string{}, faults: map[bool]string{}, unread: map[bool]string{}, done: map[string]int{}, rulings: map[string][]store.Ruling{}, observing: map[string]bool{}, charters: map[string]string{}}
	cfg := stage.Config
	cfg.Lease, cfg.Store = time.Second, with
	cfg.Connectors = map[string]connector.Factory{
		"people":   func(connector.Config) (connector.Connector, error) { return &end{w, true}, nil },
		"accounts": func(connector.Config) (connector.Connector, error) { return &end{w, false}, nil },
	}
	w.one = New(cfg)
	cfg.Node = "test-two"
	w.two = New(cfg)
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("what happened:\n%s", strings.Join(w.log, "\n"))
		}
	})
	for range 12 {
		w.born()
	}
	for _, h := range w.humans[:7] {
		w.makeAccount(h, w.rng.IntN(2) == 0)
	}
	for range 2 {
		w.add(&holding{login: "svc-" + w.word(), mail: "svc@larkspur.example", active: true})
	}
	for _, side := range []string{"people", "accounts"} {
		_, err := w.one.PutSystem(w.ctx, tester, store.System{Name: w.name + "-" + side, Kind: side, AtOnce: 1}, Putting{})
		require.NoError(t, err)
	}
	w.must(w.one.SetWriting(w.ctx, tester, w.name+"-accounts", true, 0))
	charter := fmt.Sprintf(promising, w.name, w.name, mostSuspended)
	switch n % 3 { // the rules that a lane may have
	case 1:
		charter = strings.Replace(charter, "  keys:", "  evidence: {}\n  keys:", 1)
	case 2:
		charter += "orphans: {do: suspend}\nwaves: [{name: drivers, when: person.title == 'Driver'}, {name: everybody}]\n"
	}
	w.charters[w.name] = charter
	if n%2 == 1 { // another lane looks after some of the same people, in the same application
		w.charters[w.name+"-too"] = strings.Replace(fmt.Sprintf(promising, w.name+"-too", w.name, mostSuspended), "-people}", "-people, where: \"person.title != 'Driver'\"}", 1)
	}
	if n%4 == 3 { // and a third one after the others
		w.charters[w.name+"-yet"] = strings.Replace(fmt.Sprintf(promising, w.name+"-yet", w.name, mostSuspended), "-people}", "-people, where: \"person.title == 'Driver'\"}", 1)
	}
	w.lanes = slices.Sorted(maps.Keys(w.charters))
	for _, w.lane = range w.lanes {
		w.must(w.one.PutCharter(w.ctx, tester, w.lane, w.charters[w.lane], -1, ""))
		w.must(w.one.SetObserving(w.ctx, tester, w.lane, false))
	}
	w.happens("take people")
	w.happens("take accounts")
	for _, w.lane = range w.lanes {
		w.happens("reconcile")
	}
	w.lane = w.name
	return w
}

func (w *world) must(_ any, err error) {
	w.t.Helper()
	require.NoError(w.t, err)
}

func pick[T any](w *world, list ...T) T { return list[w.rng.IntN(len(list))] }

func (w *world) word() string {
	return pick(w, "alpha", "dome", "rig", "cam") + fmt.Sprint(w.rng.IntN(1000))
}

func (w *world) born() *human {
	h := &human{no: fmt.Sprintf("L%03d", len(w.humans)+1), given: pick(w, "Ana", "Bruno", "Carla", "Dora"), family: pick(w, "Soto", "Montt", "Riquelme", "Falk"), title: pick(w, "Astronomer", "Driver"), active: true, listed: true}
	h.body = h.no
	w.humans = append(w.humans, h)
	return h
}

// again gives the number of somebody who has left for good to a newcomer who has
// nothing else in common with them.
func (w *world) again(h *human) {
	if h.listed {
		return
	}
	w.bodies++
	h.body, h.given, h.family = fmt.Sprintf("B%03d", w.bodies), pick(w, "Wenzel", "Yrsa", "Quirin"), pick(w, "Oakhollow", "Vantongeren", "Zabielska")
	h.active, h.listed = true, true
}

// seenAs is how the newest list has a human.
func (w *world) seenAs(body string) (s seen, listed bool) {
	for _, s := range w.taken {
		if s.body == body {
			return s, true
		}
	}
	return seen{}, false
}

func (w *world) add(a *holding) *holding {
	w.made++
	a.id = fmt.Sprintf("u%03d", w.made)
	w.accounts[a.id] = a
	return a
}

// makeAccount is somebody else's hand: by number, or by address alone.
func (w *world) makeAccount(h *human, marked bool) {
	a := &holding{login: strings.ToLower(h.given[:1]+h.family) + h.body, mail: h.mail(), given: h.given, family: h.family, title: h.title, active: true, owner: h.body}
	if marked {
		a.mark = h.no
	}
	w.add(a)
}

// holds counts the accounts of a body.
func (w *world) holds(body string) (n int) {
	for _, a := range w.accounts {
		if a.owner == body {
			n++
		}
	}
	return n
}

func (w *world) anything() string {
	if (w.frozen || w.observing[w.lane] || w.closed) && w.rng.IntN(3) == 0 {
		return "go on"
	}
	return pick(w, "work", "work", "work", "work", "gone and back", "gone and back", "take people", "take people", "take accounts", "take accounts", "reconcile", "reconcile", "draft", "draft", "seal", "seal", "run", "run", "run",
		"leave", "return", "return", "retire", "retire", "revive", "revive", "retitle", "marry", "join", "by hand", "second by hand", "number again", "shut by hand", "retitle by hand", "remail by hand", "relogin by hand", "delete by hand", "hide", "show",
		"same", "different", "leave-alone", "clear", "freeze", "observe", "close", "charter", "void", "halt", "cut off")
}

// meanwhile is what can happen while a run waits for an answer. What changes the
// application does so only where an answer about it is still to come.
func (w *world) meanwhile(application bool) {
	if w.inside || w.polite || w.rng.IntN(4) > 0 {
		return
	}
	events := []string{"take people", "leave", "return", "marry", "same", "different", "leave-alone", "clear", "freeze", "observe", "close", "charter", "halt", "cut off"}
	if application {
		events = append(events, "by hand", "shut by hand", "retitle by hand", "remail by hand", "relogin by hand", "delete by hand")
	}
	was := w.lane
	w.lane = pick(w, w.lanes...)
	w.happens(pick(w, events...))
	w.lane = was
}

func (w *world) someone() *human { return pick(w, w.humans...) }

func (w *world) anAccount() *holding {
	return w.accounts[pick(w, slices.Sorted(maps.Keys(w.accounts))...)]
}

func (w *world) happens(what string) {
	was := w.inside
	w.inside = true
	defer func() { w.inside = was }()
	var err error
	note := ""
	h, a := w.someone(), w.anAccount()
	switch what {
	case "work": // a working day, one thing after another
		w.inside = false
		for _, step := range []string{"take people", "take accounts", "reconcile", "draft", "seal", "run"} {
			w.happens(step)
		}
		return
	case "gone and back": // who has left, and comes again
		w.inside = false
		for _, h.active = range []bool{false, true} {
			w.goOn()
			w.happens("work")
		}
		return
	case "go on":
		w.goOn()
		return
	case "take people", "take accounts":
		people := what == "take people"
		if !w.polite && w.rng.IntN(3) == 0 {
			w.faults[people] = pick(w, "unreadable", "faceless", "swallows", "left out", "hidden", "twice", "breaks off", "several", "unread")
			if w.faults[people] == "unread" {
				w.unread[people] = pick(w, spoilt(people)...)
			}
		}
		note = w.faults[people]
		err = w.take(people)
		w.faults[people], w.unread[people] = "", ""
	case "reconcile":
		if _, err = w.one.Reconcile(w.ctx, tester, w.lane, false); err == nil {
			w.perform(w.one)
		}
	case "draft":
		_, err = w.one.Draft(w.ctx, tester, w.lane, Selection{})
	case "seal":
		err = w.seal(w.rng.IntN(2) == 0)
	case "run":
		err = w.run()
	case "leave":
		h.listed = false
	case "return":
		for _, h := range w.humans {
			h.listed = h.listed || w.rng.IntN(2) == 0
		}
	case "retire":
		h.active = false
	case "revive":
		for _, h := range w.humans {
			h.active = h.active || w.rng.IntN(2) == 0
		}
	case "retitle":
		h.title = pick(w, "Librarian", "Technician", "Astronomer")
	case "marry":
		h.family = pick(w, "Soto", "Montt", "Riquelme", "Falk")
	case "join":
		h = w.born()
	case "by hand":
		if w.holds(h.body) == 0 {
			w.makeAccount(h, w.rng.IntN(2) == 0)
		}
	case "second by hand": // of the same human, by an address that only they give
		if w.holds(h.body) == 1 {
			w.add(&holding{login: "x-" + strings.ToLower(h.family) + h.body, mail: h.mail(), given: h.given, family: h.family, active: true, owner: h.body})
		}
	case "number again":
		w.again(h)
	case "shut by hand":
		if a.active { // shutting what is shut leaves no trace that anybody could see
			a.active, a.shut = false, "hand"
		}
	case "retitle by hand":
		a.title = "Somebody else's"
	case "remail by hand":
		if a.mark != "" {
			a.mail = "old." + a.mail
		}
	case "relogin by hand": // to what somebody else would be given
		login := strings.ToLower(h.given[:1] + h.family)
		if h.body != h.no { // number and login of a newcomer: nobody could tell that it is not theirs
			return
		}
		if !slices.ContainsFunc(slices.Collect(maps.Values(w.accounts)), func(o *holding) bool { return o.login == login }) && a.owner != "" {
			a.login = login
		}
	case "delete by hand":
		if len(w.accounts) > 5 && a.owner != "" {
			delete(w.accounts, a.id)
		}
	case "hide":
		a.hidden = true
	case "show":
		for _, a := range w.accounts {
			a.hidden = false
		}
	case "same", "different", "leave-alone":
		r := store.Ruling{Kind: what, Person: h.no, Account: a.id, Reason: "looked at"}
		if what == "same" { // a human who says so is right; one who says no may be wrong
			i := slices.IndexFunc(w.humans, func(h *human) bool { return h.body == a.owner })
			if i < 0 {
				return
			}
			r.Person = w.humans[i].no
		}
		if what == "leave-alone" && w.rng.IntN(2) == 0 {
			r.Person = ""
		} else if what == "leave-alone" {
			r.Account = ""
		}
		var v RulingView
		if v, err = w.one.Rule(w.ctx, tester, w.lane, r, ""); err == nil {
			w.rulings[w.lane] = append(w.rulings[w.lane], v.Ruling)
		}
		note = r.Person + " " + r.Account
	case "clear":
		if len(w.rulings[w.lane]) == 0 {
			return
		}
		r := pick(w, w.rulings[w.lane]...)
		if err = w.one.ClearRuling(w.ctx, tester, w.lane, r.ID); err == nil {
			w.rulings[w.lane] = slices.DeleteFunc(w.rulings[w.lane], func(x store.Ruling) bool { return x.ID == r.ID })
		}
	case "freeze":
		if _, err = w.one.SetFreeze(w.ctx, tester, !w.frozen, "asked"); err == nil {
			w.frozen = !w.frozen
		}
	case "observe":
		if _, err = w.one.SetObserving(w.ctx, tester, w.lane, !w.observing[w.lane]); err == nil {
			w.observing[w.lane] = !w.observing[w.lane]
		}
	case "close":
		if _, err = w.one.SetWriting(w.ctx, tester, w.name+"-accounts", w.closed, 0); err == nil {
			w.closed = !w.closed
		}
	case "charter":
		_, err = w.one.PutCharter(w.ctx, tester, w.lane, w.charters[w.lane]+fmt.Sprintf("# %d\n", len(w.log)), -1, "")
	case "void":
		if p, ok := w.plan(); ok {
			_, err = w.one.Void(w.ctx, tester, p.ID, "")
		}
	case "halt":
		if w.running != 0 {
			_, err = w.one.Halt(w.ctx, tester, w.running)
		}
	case "cut off":
		if w.rng.IntN(4) > 0 { // what it leaves behind waits for leases
			return
		}
		w.cutOff()
	default:
		w.t.Errorf("%q is not known", what)
	}
	told := "ok"
	if err != nil {
		told = err.Error()
		var f *fault.Error
		w.look()
		assert.True(w.t, w.fails != nil || w.gone && store.Away(err) || errors.As(err, &f) || errors.Is(err, store.ErrNotFound), "%s: %v is no refusal", what, err)
	}
	w.log = append(w.log, strings.TrimSpace(strings.Repeat("    ", map[bool]int{true: 1}[was])+what+" "+note+" "+h.no+" "+a.id+": "+told))
}

// cutOff takes PostgreSQL away from everybody for a moment.
func (w *world) cutOff() {
	conn, err := pgx.Connect(w.ctx, stageURL)
	if !assert.NoError(w.t, err) {
		return
	}
	w.gone = true
	defer conn.Close(w.ctx)
	_, err = conn.Exec(w.ctx, `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND datname = current_database()`)
	assert.NoError(w.t, err)
}

// look finds out what stands, after a call of which only a part may have been done.
func (w *world) look() {
	if !w.gone && w.fails == nil {
		return
	}
	for range 100 {
		system, errSystem := w.one.System(w.ctx, w.name+"-accounts")
		freeze, errFreeze := w.one.Freeze(w.ctx)
		err := errors.Join(errSystem, errFreeze)
		for _, name := range w.lanes {
			lane, errLane := w.one.Lane(w.ctx, name)
			rulings, errRulings := w.one.Rulings(w.ctx, name)
			if err = errors.Join(err, errLane, errRulings); err == nil {
				w.rulings[name] = slices.DeleteFunc(rulings, func(r store.Ruling) bool { return r.Cleared != nil })
				w.observing[name] = lane.Observing
			}
		}
		if err == nil {
			w.closed, w.frozen = !system.Writable, freeze.On
			return
		}
	}
	w.t.Error("PostgreSQL does not come back")
}

// perform lets a node do what is queued. What it can't, since PostgreSQL went
// away, is gone on with when its lease has run out.
func (w *world) perform(node *Service) {
	for range 20 {
		did, err := node.Perform(w.ctx)
		if err != nil {
			w.log = append(w.log, "    a task: "+err.Error())
			continue
		}
		if !did {
			return
		}
	}
}

func (w *world) take(people bool) error {
	side := map[bool]string{true: "people", false: "accounts"}[people]
	if _, err := w.two.TakeRoster(w.ctx, tester, w.name+"-"+side, Taking{}); err != nil {
		return err
	}
	w.perform(w.two)
	w.newest()
	return nil
}

// newest finds out whether the last reading of the people was kept.
func (w *world) newest() {
	for range 100 {
		if x, err := w.two.System(w.ctx, w.name+"-people"); err == nil {
			if x.Latest != nil && x.Latest.ID != w.roster {
				w.taken, w.roster = w.read, x.Latest.ID
			}
			return
		}
	}
	w.t.Error("PostgreSQL does not come back")
}

func (w *world) plan() (PlanView, bool) {
	list, _, err := w.one.Plans(w.ctx, w.lane, store.Page{Limit: 1})
	if err != nil || len(list) == 0 {
		return PlanView{}, false
	}
	return list[0], true
}

func (w *world) seal(overrule bool) error {
	p, ok := w.plan()
	if !ok {
		return nil
	}
	reason := ""
	if overrule {
		reason = "we know"
	}
	_, err := agreed(reason, func(reason string) (PlanView, error) { return w.one.Seal(w.ctx, tester, p.ID, p.Hash, reason) })
	w.overruled = w.overruled || err == nil && overrule
	return err
}

func (w *world) run() error {
	p, ok := w.plan()
	if !ok {
		return nil
	}
	r, err := w.one.StartRun(w.ctx, tester, p.ID, p.Hash, RunOrder{})
	if err != nil {
		return err
	}
	w.running = r.ID
	w.inside = false // while it is at work, more happens
	w.perform(w.one)
	return nil
}

// calm: nothing goes wrong any more. From whatever was left a human can go on,
// and in the end nothing is left to do.
func (w *world) calm() {
	w.polite = true
	for range 20 { // connections that were cut are used up
		w.look()
	}
	for _, w.lane = range w.lanes {
		w.goOn()
	}
	w.happens("show")
	for _, w.lane = range w.lanes {
		require.Eventually(w.t, func() bool {
			w.perform(w.one)
			p, ok := w.plan()
			return !ok || p.State != lifecycle.Running
		}, 30*time.Second, 100*time.Millisecond, "a plan runs for ever")
		for _, p := range w.plans() {
			if p.State != lifecycle.Finished && p.State != lifecycle.Void {
				w.must(w.one.Void(w.ctx, tester, p.ID, ""))
			}
		}
	}
	for round := range 5 {
		w.happens("take people")
		w.happens("take accounts")
		left := false
		for _, w.lane = range w.lanes {
			w.happens("reconcile") // whoever shares the application has to have looked, too
		}
		for _, w.lane = range w.lanes {
			left = w.settles(round) || left
		}
		if !left {
			break
		}
	}
	w.receipts()
	w.bonds()
}

func (w *world) plans() []PlanView {
	list, _, err := w.one.Plans(w.ctx, w.lane, store.Page{Limit: 500})
	require.NoError(w.t, err)
	return list
}

// settles reports whether there was something to do for the lane, which is done then.
func (w *world) settles(round int) bool {
	w.happens("reconcile")
	p, err := w.one.Draft(w.ctx, tester, w.lane, Selection{})
	if err != nil {
		require.ErrorContains(w.t, err, "nothing to change", "round %d", round)
		return false
	}
	w.must(w.one.Seal(w.ctx, tester, p.ID, p.Hash, "we know"))
	w.overruled = true
	r, err := w.one.StartRun(w.ctx, tester, p.ID, p.Hash, RunOrder{})
	require.NoError(w.t, err)
	w.perform(w.one)
	v, err := w.one.Run(w.ctx, r.ID)
	require.NoError(w.t, err)
	require.EqualValues(w.t, lifecycle.Finished, v.State, v.Message)
	if round == 4 {
		list, _, _, err := w.one.Changes(w.ctx, p.ID, "", "stale", store.Page{Limit: 5})
		require.Fail(w.t, "it never ends", "%v: %+v %v", v.Outcomes, list, err)
	}
	return true
}

// goOn takes back what stops all writing.
func (w *world) goOn() {
	for _, off := range []struct {
		is   bool
		what string
	}{{w.frozen, "freeze"}, {w.observing[w.lane], "observe"}, {w.closed, "close"}} {
		if off.is {
			w.happens(off.what)
		}
	}
}

// receipts: whatever was done to an account, a receipt tells.
func (w *world) receipts() {
	told := map[string]bool{}
	var plans []PlanView
	for _, w.lane = range w.lanes {
		plans = append(plans, w.plans()...)
	}
	for _, p := range plans {
		list, _, _, err := w.one.Changes(w.ctx, p.ID, "", "", store.Page{Limit: 500})
		require.NoError(w.t, err)
		for _, c := range list {
			if c.Outcome != "" {
				told[c.Account], told["of "+c.Person] = true, true
			}
		}
	}
	for _, e := range w.wrote {
		require.True(w.t, told[e.account] || told["of "+e.person], "no receipt tells of %v", e)
	}
}

// bonds are of one human, and nobody has said otherwise.
func (w *world) bonds() {
	for _, lane := range w.lanes {
		bonds, err := w.one.Bonds(w.ctx, lane)
		require.NoError(w.t, err)
		for _, b := range bonds {
			if a := w.accounts[b.Account]; a != nil {
				require.Equal(w.t, w.numbers[a.owner], b.Person, "account %s is bonded to another human", b.Account)
			}
			against := w.ruledAgainst(lane, b.Person, b.Account)
			require.False(w.t, strings.HasPrefix(against, "different"), against)
		}
	}
}

// against says which ruling forbids touching the account for the human, in every lane: whose
// write it is can't be seen from the application.
func (w *world) against(person, account string) (against string) {
	for _, lane := range w.lanes {
		if against = w.ruledAgainst(lane, person, account); against == "" {
			return ""
		}
	}
	return against
}

func (w *world) ruledAgainst(lane, person, account string) string {
	for _, r := range w.rulings[lane] {
		switch {
		case r.Kind == "different" && r.Person == person && r.Account == account,
			r.Kind == "leave-alone" && (r.Person == "" && r.Account == account || r.Account == "" && r.Person == person || r.Person == person && r.Account == account):
			return fmt.Sprintf("%s %s %s", r.Kind, r.Person, r.Account)
		}
	}
	return ""
}

// judge is asked at the instant of every write.
func (w *world) judge(now *holding, want holding) (verb string) {
	w.t.Helper()
	holds := func(ok bool, format string, args ...any) {
		w.t.Helper()
		if !ok {
			w.log = append(w.log, "    WRONG "+fmt.Sprintf(format, args...))
			w.t.Errorf("%s of %+v, wanted %+v: %s", verb, now, want, fmt.Sprintf(format, args...))
		}
	}
	verb = "set"
	if now == nil {
		verb = "create"
	}
	w.newest()
	holds(!w.frozen, "writing is frozen")
	holds(slices.ContainsFunc(w.lanes, func(lane string) bool { return !w.observing[lane] }), "the lane only observes")
	holds(!w.closed, "the application is closed")
	for _, other := range w.accounts {
		if now != nil && other.id == now.id {
			continue
		}
		for _, name := range []string{want.login, want.mail} {
			given := name != "" && (now == nil || name != now.login && name != now.mail)
			holds(!given || name != other.login && name != other.mail, "%q is account %s's", name, other.id)
		}
	}
	body, s, listed := "", w.taken[want.mark], false
	if now == nil {
		_, listed = w.taken[want.mark]
		body = s.body
	} else {
		body = now.owner
		s, listed = w.seenAs(body)
	}
	no := s.no
	if !listed { // the number under which they were known, by which humans ruled
		no = w.numbers[body]
	}
	shuts, orphans := now != nil && now.active && !want.active, strings.Contains(w.charters[w.name], "orphans")
	holds(body != "" || shuts && orphans, "it is nobody's")
	holds(now == nil || want.mark == now.mark || want.mark == no, "it is marked as another human's")
	id := ""
	if now != nil {
		id = now.id
	}
	against := w.against(no, id)
	if strings.HasPrefix(against, "different") && shuts && orphans { // a human says that it is not theirs: it is nobody's
		against, listed = "", false
	}
	holds(against == "", "ruled %s", against)
	if now == nil {
		for _, a := range w.accounts {
			holds(a.owner != body, "they have account %s", a.id)
		}
		holds(listed && s.shows("active") && s.active, "the newest list does not have them so: %+v", s)
	}
	switch {
	case shuts:
		verb = "suspend"
		holds(!listed || s.shows("active") && !s.active, "they are there: %+v", s)
		holds(w.overruled || w.done["suspend"] < mostSuspended*len(w.lanes), "the guard counts %d", mostSuspended)
	case now != nil && !now.active && want.active:
		verb = "reinstate"
		holds(listed && s.shows("active") && s.active, "they are not there: %+v", s)
		holds(now.shut == "us", "somebody else suspended it")
	}
	if now != nil && now.shut != want.shut {
		return verb
	}
	for what, values := range map[string][3]string{"title": {before(now).title, want.title, s.title}, "givenName": {before(now).given, want.given, s.given},
		"familyName": {before(now).family, want.family, s.family}, "email": {before(now).mail, want.mail, s.mail()}} {
		if values[0] != values[1] {
			holds(listed && s.shows(what) && values[1] == values[2], "the newest list says that their %s is %q, or does not say it: %v", what, values[2], s.unsure)
		}
	}
	return verb
}

func before(a *holding) holding {
	if a == nil {
		return holding{}
	}
	return *a
}

// end is one of the two systems.
type end struct {
	w      *world
	people bool
}

func (e *end) Declare() connector.Declaration {
	unread := e.w.unread[e.people]
	shape := record.Shape{Stable: true, Attributes: map[string]record.Source{}}
	for _, n := range []string{"id", "givenName", "familyName", "title", "email", "active"} {
		shape.Attributes[n] = record.Source{Native: n}
	}
	d := connector.Declaration{Kind: "people", Scope: "all", Extents: []string{connector.Whole, connector.Sample}}
	if !e.people {
		shape.Attributes["userName"], shape.Attributes["externalId"] = record.Source{Native: "userName"}, record.Source{Native: "externalId"}
		shape.Mark = "externalId"
		d.Kind, d.Writes, d.ReadsOne, d.Finds = "accounts", true, true, "externalId"
		d.Verbs = []string{"create", "mark", "set", "rename", "readdress", "suspend", "reinstate"}
	}
	delete(shape.Attributes, unread)
	d.Shape = shape
	return d
}

// spoilt are the attributes that a reading may not show for sure.
func spoilt(people bool) []string {
	if people {
		return []string{"givenName", "familyName", "title", "email", "active"}
	}
	return []string{"givenName", "familyName", "title", "email", "active", "userName"}
}

func (e *end) rows() (ids []string, row map[string]connector.Record) {
	row = map[string]connector.Record{}
	put := func(id string, cells ...string) {
		r := connector.Record{ID: id, Values: map[string][]string{}}
		for i := 0; i < len(cells); i += 2 {
			if cells[i+1] != "" {
				r.Values[cells[i]] = []string{cells[i+1]}
			}
		}
		r.Version = fmt.Sprint(cells)
		row[id] = r
	}
	if e.people {
		for _, h := range e.w.humans {
			if h.listed {
				put(h.no, "id", h.no, "givenName", h.given, "familyName", h.family, "title", h.title, "email", h.mail(), "active", fmt.Sprint(h.active))
			}
		}
	} else {
		for _, a := range e.w.accounts {
			put(a.id, "id", a.id, "userName", a.login, "externalId", a.mark, "givenName", a.given, "familyName", a.family, "title", a.title, "email", a.mail, "active", fmt.Sprint(a.active))
		}
	}
	return slices.Sorted(maps.Keys(row)), row
}

func (e *end) Read(_ context.Context, _ connector.Reading, sink connector.Sink) (string, error) {
	w := e.w
	if err := w.fails.call("read"); err != nil {
		return "", err
	}
	ids, row := e.rows()
	read := map[string]seen{}
	for _, h := range w.humans {
		if h.listed {
			read[h.no] = seen{human: *h, readable: true, unsure: []string{w.unread[e.people]}}
			w.numbers[h.body] = h.no
		}
	}
	fault := w.faults[e.people]
	bad := map[string]bool{}
	if fault != "" && len(ids) > 0 {
		for range 1 + w.rng.IntN(2) {
			bad[pick(w, ids...)] = true
		}
	}
	for _, id := range slices.Sorted(maps.Keys(bad)) {
		several := pick(w, spoilt(e.people)...)
		if r := row[id]; fault == "several" && len(r.Values[several]) > 0 {
			other := "another " + r.Values[several][0]
			switch several {
			case "active":
				other = map[string]string{"true": "false", "false": "true"}[r.Values[several][0]]
			case "email":
				other = "another." + r.Values[several][0]
			}
			r.Values[several] = append(r.Values[several], other)
		}
		if s, ok := read[id]; ok {
			s.readable = fault == "several" || fault == "unread"
			s.unsure = append(s.unsure, several)
			read[id] = s
		}
	}
	first := true
	for _, id := range ids {
		var err error
		switch {
		case !e.people && w.accounts[id].hidden:
			err = sink.LeftOut(connector.Left{Kind: record.Hidden, What: "some", Reason: "what we may not see"})
		case !bad[id] || fault == "several" || fault == "unread":
			err = sink.Record(row[id])
		case fault == "unreadable":
			err = sink.Reject(record.Rejection{ID: id, Reason: "it can't be read"})
		case fault == "faceless":
			err = sink.Reject(record.Rejection{Reason: "it can't be read"})
		case fault == "swallows" && first:
			first, err = false, sink.Reject(record.Rejection{ID: id, Reason: "a quote is never closed", Swallows: true})
		case fault == "left out":
			err = sink.LeftOut(connector.Left{Kind: record.LeftOut, ID: id, Reason: "not taken"})
		case fault == "hidden":
			err = sink.LeftOut(connector.Left{Kind: record.Hidden, What: "a container", Reason: "it can't be read"})
		case fault == "twice":
			if err = sink.Record(row[id]); err == nil {
				err = sink.Record(row[id])
			}
		case fault == "breaks off":
			return "", &connector.Error{Kind: connector.Broken, Doing: "read", Target: w.name, Reason: "it breaks off"}
		}
		if err != nil {
			return "", err
		}
	}
	if e.people {
		w.read = read
	}
	return "", nil
}

func (e *end) One(_ context.Context, id string) (connector.Record, error) {
	e.w.meanwhile(true)
	if err := e.w.fails.call("one"); err != nil {
		return connector.Record{}, err
	}
	_, row := e.rows()
	if r, ok := row[id]; ok && !e.w.accounts[id].hidden {
		return r, nil
	}
	return connector.Record{}, &connector.Error{Kind: connector.NotFound, Doing: "read", Target: id, Reason: "it is not there"}
}

func (e *end) Find(_ context.Context, _, value string) (list []connector.Record, _ error) {
	e.w.meanwhile(true)
	if err := e.w.fails.call("find"); err != nil {
		return nil, err
	}
	ids, row := e.rows()
	for _, id := range ids {
		if a := e.w.accounts[id]; a.mark == value && !a.hidden {
			list = append(list, row[id])
		}
	}
	return list, nil
}

func (e *end) Holders(_ context.Context, name string) (ids []string, _ error) {
	e.w.meanwhile(false)
	if err := e.w.fails.call("holders"); err != nil {
		return nil, err
	}
	for _, id := range slices.Sorted(maps.Keys(e.w.accounts)) {
		if a := e.w.accounts[id]; strings.EqualFold(a.login, name) || strings.EqualFold(a.mail, name) {
			ids = append(ids, id)
		}
	}
	return ids, nil
}

func (e *end) Write(_ context.Context, x connector.Write) (connector.Record, error) {
	w := e.w
	var now *holding
	want := holding{active: true}
	if x.Record != nil {
		if now = w.accounts[x.Record.ID]; now == nil {
			return connector.Record{}, &connector.Error{Kind: connector.NotFound, Doing: "write", Target: x.Record.ID, Reason: "it is not there"}
		}
		want = *now
	}
	for _, edit := range x.Edits {
		value := strings.Join(edit.New, "|")
		switch edit.Native {
		case "userName":
			want.login = value
		case "email":
			want.mail = value
		case "externalId":
			want.mark = value
		case "givenName":
			want.given = value
		case "familyName":
			want.family = value
		case "title":
			want.title = value
		case "active":
			want.active = value == "true"
		default:
			w.t.Errorf("%s is not ours to write", edit.Native)
		}
	}
	verb := w.judge(now, want)
	if err := w.fails.call("write"); err != nil {
		return connector.Record{}, err
	}
	lost := ""
	if !w.polite && w.rng.IntN(5) == 0 {
		lost = pick(w, "refused", "forbidden", "slow down", "not done", "done")
	}
	failed := func(kind connector.Kind, answered bool) (connector.Record, error) {
		return connector.Record{}, &connector.Error{Kind: kind, Doing: verb, Target: w.name, Reason: lost, After: time.Millisecond, Answered: answered}
	}
	w.log = append(w.log, fmt.Sprintf("    WRITE %s %s %s %s", verb, want.id, want.owner, lost))
	switch lost {
	case "refused":
		return failed(connector.Refused, false)
	case "forbidden":
		return failed(connector.Forbidden, false)
	case "slow down":
		return failed(connector.Throttled, false)
	case "not done":
		return failed(connector.Unanswered, true)
	}
	switch verb {
	case "create":
		want.owner = w.taken[want.mark].body
		now = w.add(&want)
	case "suspend":
		want.shut = "us"
	case "reinstate":
		want.shut = ""
	}
	id := now.id
	*now = want
	now.id = id
	w.done[verb]++
	w.wrote = append(w.wrote, effect{id, cmp.Or(want.mark, w.numbers[want.owner]), verb})
	if err := w.fails.call("written"); err != nil {
		return connector.Record{}, err
	}
	if lost == "done" {
		return failed(connector.Unanswered, true)
	}
	_, row := e.rows()
	return row[id], nil
}

// failure strikes once: at the so many-th statement, or call of a connector, since
// it was armed.
type failure struct {
	calls bool // of connectors; else statements
	at    int64
	armed atomic.Bool
	seen  atomic.Int64
	hit   atomic.Bool
}

func (f *failure) strikes() bool {
	strikes := f != nil && f.armed.Load() && f.seen.Add(1) == f.at
	if strikes {
		f.hit.Store(true)
	}
	return strikes
}

func (f *failure) call(doing string) error {
	if f == nil || !f.calls || !f.strikes() {
		return nil
	}
	return &connector.Error{Kind: connector.Broken, Doing: doing, Target: "the world", Reason: "the answer can't be understood"}
}

func (f *failure) spoil(ctx context.Context) context.Context {
	if f == nil || f.calls || !f.strikes() {
		return ctx
	}
	ctx, cancel := context.WithCancel(ctx)
	cancel()
	return ctx
}

// watcher lets statements fail; which failure strikes changes from world to world.
type watcher struct{ fails atomic.Pointer[failure] }

func (x *watcher) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	return x.fails.Load().spoil(ctx)
}
func (x *watcher) TraceQueryEnd(context.Context, *pgx.Conn, pgx.TraceQueryEndData) {}
func (x *watcher) TraceBatchStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceBatchStartData) context.Context {
	return x.fails.Load().spoil(ctx)
}
func (x *watcher) TraceBatchQuery(context.Context, *pgx.Conn, pgx.TraceBatchQueryData) {}
func (x *watcher) TraceBatchEnd(context.Context, *pgx.Conn, pgx.TraceBatchEndData)     {}
func (x *watcher) TraceCopyFromStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceCopyFromStartData) context.Context {
	return x.fails.Load().spoil(ctx)
}
func (x *watcher) TraceCopyFromEnd(context.Context, *pgx.Conn, pgx.TraceCopyFromEndData) {}

// A working day in which one statement, or one call of a connector, fails, whichever
// it is: a human can go on from whatever is left, and nothing was written that no
// receipt tells.
func TestEveryFailure(t *testing.T) {
	watch := &watcher{}
	s, err := store.Open(context.Background(), stageURL, watch)
	require.NoError(t, err)
	require.NoError(t, s.KeyTrail(context.Background(), []byte("a key for tests"), false))
	t.Cleanup(s.Close)
	for _, calls := range []bool{true, false} {
		every := int64(*everyFailure)
		if calls { // there are fewer
			every = (every + 3) / 4
		}
		last, wrote := int64(0), 0
		for at := int64(1); ; at += every {
			f := &failure{calls: calls, at: at}
			t.Run(fmt.Sprintf("calls %v %d", calls, at), func(t *testing.T) {
				watch.fails.Store(nil)
				w := newWorld(t, 100000+int(at)*2+map[bool]int{true: 1}[calls], s)
				w.polite, w.fails = true, f
				watch.fails.Store(f)
				f.armed.Store(true)
				for _, step := range []string{"take people", "retitle", "leave", "take people", "take accounts", "reconcile", "draft", "seal", "run"} {
					w.happens(step)
				}
				f.armed.Store(false)
				w.look()
				w.calm()
				wrote += len(w.wrote)
			})
			if last = f.seen.Load(); !f.hit.Load() || t.Failed() {
				break
			}
		}
		t.Logf("calls %v: %d could fail, every %d-th did; %d writes", calls, last, every, wrote)
		require.Greater(t, last, int64(20))
		require.NotZero(t, wrote)
	}
}
