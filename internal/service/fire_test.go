package service

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
	"twinning/internal/store"
)

var (
	fires     = flag.Int("fires", 12, "how many histories TestUnitsUnderFire plays")
	firstFire = flag.Int("first-fire", 1, "seed of the first of them")
)

const fireRules = `people: {from: PEOPLE}
mark: person.id
pairing: {keys: [{name: number, person: person.id, account: account.externalId}]}
attributes: {userName: {candidates: [local(person.personalEmail)], rule: own}, title: person.title}
emails: {primary: person.email, rule: own, former: drop}
names: {between: between.larkspur.example}
classes: [{name: away, when: person.title == 'Away', sign-in: false}]
leavers: {grace: {readings: 1, days: 0}, hand-over: {to: person.manager}, stages: [{after: 0d, do: [hand-over]}]}
guards: {suspend: {more-than: 50}, readdress: {more-than: 50}, rename: {more-than: 50}, reinstate: {more-than: 50}, roster-drop: 90%, coverage-drop: 90%}
runs: {failures: 100%}`

// account is how one stands, as far as a change may touch it.
type account struct{ login, mail, aliases, title, active string }

func (a account) String() string {
	return strings.Join([]string{a.login, a.mail, a.aliases, a.title, a.active}, " ")
}

// fire is a history: people whose accounts exchange names, in pairs and circles, hand over what
// they have and change their class, and runs that are killed, halted, answered late, twice, with
// somebody else's record or not at all.
type fire struct {
	*days
	rng     *rand.Rand
	app     *book
	units   [][]string // ids of the accounts that are changed as one
	before  map[string]account
	wanted  map[string]account // by person's number; of newcomers as well
	ignored bool               // something was accepted, and ignored
	log     []string
}

// Whatever happens to the runs, the system itself shows at the end: nobody stands on a value in
// between, what is done as one is done or not done as one, no value is written twice, what nothing
// refused is as wanted; the nights after set the rest right, and an undo gives back what was.
func TestUnitsUnderFire(t *testing.T) {
	for n := *firstFire; n < *firstFire+*fires; n++ {
		t.Run(fmt.Sprint(n), func(t *testing.T) { playFire(t, n) })
	}
}

func playFire(t *testing.T, n int) {
	f := &fire{rng: rand.New(rand.NewPCG(uint64(n), 31)), before: map[string]account{}, wanted: map[string]account{}}
	f.days = &days{t: t, who: tester, books: map[string]*book{}, rules: map[string][]string{}, fill: map[string]*strings.Replacer{}, n: 900000 + n}
	cfg := stage.Config
	cfg.Post = f.openLetter
	cfg.Connectors = map[string]connector.Factory{"book": func(c connector.Config) (connector.Connector, error) { return f.books[c.Settings["name"]], nil }}
	f.service = New(cfg)
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("what happened:\n%s", strings.Join(f.log, "\n"))
		}
	})
	f.cast()
	f.plays("take hq", "take app", "reconcile ops", "draft ops", "seal ops")
	refuses := f.rng.IntN(3) == 0
	f.burns(refuses)
	whole := f.judge(refuses)
	if whole && f.rng.IntN(2) == 0 {
		f.undoes()
		return
	}
	f.setRight(refuses)
}

// plays carries commands out, and keeps what came of them.
func (f *fire) plays(lines ...string) (told []string) {
	for _, line := range lines {
		told = f.do(line)
		f.log = append(f.log, "> "+line)
		for _, l := range told {
			f.log = append(f.log, "    "+l)
		}
	}
	return told
}

// cast makes the people and their accounts.
func (f *fire) cast() {
	var people, accounts []string
	number := 0
	person := func(has, wants account, active bool, heir string) string {
		number++
		id := fmt.Sprintf("L%d", number)
		given, family := fmt.Sprintf("Ana%d", number), fmt.Sprintf("Soto%d", number)
		people = append(people, fmt.Sprintf("%s %s %s %s %s %t - %s %s@home.example", id, given, family, wants.title, wants.mail, active, heir, wants.login))
		f.wanted[id] = wants
		if has.login != "" {
			accounts = append(accounts, fmt.Sprintf("u%d %s %s %s %s %s %s %s %s", number, has.login, id, given, family, has.title, has.mail, has.aliases, has.active))
			f.before[id] = has
		}
		return id
	}
	plain := func(name string) account {
		return account{name, name + "@larkspur.example", "-", "Cook", "true"}
	}
	circle := func(names []string, passes func(to *account, from account), class bool) {
		var unit []string
		for i, name := range names {
			wants := plain(name)
			passes(&wants, plain(names[(i+1)%len(names)]))
			if class && i == 0 {
				wants.title, wants.active = "Away", "false"
			}
			unit = append(unit, person(plain(name), wants, true, "-"))
		}
		f.units = append(f.units, unit)
	}
	mails := func(to *account, from account) { to.mail = from.mail }
	logins := func(to *account, from account) { to.login = from.login }
	figures := []func(k string){
		func(k string) { circle([]string{"ma" + k, "mb" + k}, mails, false) },
		func(k string) { circle([]string{"ca" + k, "cb" + k, "cc" + k}, mails, false) },
		func(k string) { circle([]string{"la" + k, "lb" + k}, logins, false) },
		func(k string) { circle([]string{"ka" + k, "kb" + k}, mails, true) },
		func(k string) { // what one who leaves has passes on
			has, heir := plain("ha"+k), plain("hb"+k)
			has.aliases = "h" + k + "@larkspur.example"
			takes, gives := heir, has
			takes.aliases = has.mail + ";" + has.aliases
			gives.mail, gives.aliases = "-", "-"
			to := person(heir, takes, true, "-")
			f.units = append(f.units, []string{to, person(has, gives, false, to)})
		},
		func(k string) { // one gives up what another takes
			first, second := plain("ga"+k), plain("gb"+k)
			gives, takes := first, second
			gives.mail, takes.mail = "new-"+first.mail, first.mail
			person(first, gives, true, "-")
			person(second, takes, true, "-")
		},
		func(k string) {
			wants := plain("ta" + k)
			wants.title = "Chef"
			person(plain("ta"+k), wants, true, "-")
		},
		func(k string) { person(account{}, plain("na"+k), true, "-") },
	}
	for i := range 3 + f.rng.IntN(3) {
		figures[f.rng.IntN(len(figures))](fmt.Sprint(i))
	}
	person(plain("keeper"), plain("keeper"), true, "-") // there is somebody whom nothing happens to
	f.begin("people hq", people)
	f.begin("accounts app", accounts)
	f.app = f.books["app"]
	f.begin("lane ops hq app", strings.Split(fireRules, "\n"))
}

// shows is how the system has everybody's account, by the number that marks it.
func (f *fire) shows() map[string]account {
	all := map[string]account{}
	for _, row := range f.app.rows {
		v := func(column string) string {
			if value := f.app.value(row, column); value != "" {
				return value
			}
			return "-"
		}
		mark := v("mark")
		require.NotContains(f.t, all, mark, "two accounts of one human")
		all[mark] = account{v("login"), v("email"), v("aliases"), v("title"), v("active")}
	}
	return all
}

// burns runs the newest plan until it has come to its end, whatever happens in between.
func (f *fire) burns(refuses bool) {
	ways := []string{"done", "done", "lost", "not-done", "dies-after", "doubled", "doubled-stale", "kind:throttled", "kind:unreachable"}
	if refuses {
		ways = append(ways, "refused", "ignores:email", "ignores:login", "kind:stale")
	}
	for round := range 40 {
		if state := f.newest("ops").State; state == "finished" {
			break
		}
		require.Less(f.t, round, 39, "the run does not end")
		f.app.answers, f.app.busy, f.app.confused = nil, 0, 0
		if round < 6 {
			if f.rng.IntN(20) == 0 { // nobody knows whether it was sent: the look after it takes its time
				f.plays("answer app dies")
			}
			for range f.rng.IntN(6) {
				answer := ways[f.rng.IntN(len(ways))]
				f.ignored = f.ignored || strings.HasPrefix(answer, "ignores:")
				f.plays("answer app " + answer)
			}
			switch f.rng.IntN(5) {
			case 0:
				f.plays(fmt.Sprintf("busy app %d", 1+f.rng.IntN(4)))
			case 1:
				f.plays(fmt.Sprintf("confused app %d", 1+f.rng.IntN(3)))
			case 2:
				f.plays("meanwhile app " + []string{"write", "one"}[f.rng.IntN(2)] + " halt ops")
			}
		}
		f.plays("run ops")
	}
	f.app.answers, f.app.busy, f.app.confused = nil, 0, 0
	clear(f.app.meanwhile)
}

// judge holds the system against what was there and what is wanted. It is not whole where what was
// to be taken back was accepted, and ignored, or where nobody knows whose doing something is.
func (f *fire) judge(refuses bool) (whole bool) {
	now := f.shows()
	list, _, _, err := f.service.Changes(context.Background(), f.newest("ops").ID, "", "", store.Page{Limit: 200})
	require.NoError(f.t, err)
	unchanged := slices.ContainsFunc(list, func(c ChangeView) bool { return c.Outcome == "unchanged" })
	if f.ignored && f.logged("could not be taken back") {
		return false
	}
	for mark, a := range now {
		require.NotContains(f.t, a.String(), "between", "%s stands on a value in between: %s", mark, a)
	}
	if refuses {
		for _, unit := range f.units {
			done := 0
			for _, id := range unit {
				if a := now[id]; a.mail == f.wanted[id].mail && a.login == f.wanted[id].login && a.aliases == f.wanted[id].aliases {
					done++
					continue
				}
				require.Equal(f.t, []string{f.before[id].login, f.before[id].mail, f.before[id].aliases}, []string{now[id].login, now[id].mail, now[id].aliases}, "%s is neither as it was nor as wanted", id)
			}
			require.Contains(f.t, []int{0, len(unit)}, done, "a unit is torn apart: %v", unit)
		}
		return !unchanged
	}
	require.Equal(f.t, f.wanted, now)
	twice := map[string]int{}
	for _, e := range f.app.effects {
		twice[e]++
		require.Equal(f.t, 1, twice[e], "it was written twice: %s", e)
	}
	for _, c := range list {
		require.Contains(f.t, []string{"done", "unchanged"}, c.Outcome, "%s of %s: %s", c.Verb, c.Label, c.Detail)
	}
	return !unchanged
}

// logged reports whether a task of the newest plan's runs has said so.
func (f *fire) logged(words string) bool {
	runs, err := f.service.Store.Runs(context.Background(), f.newest("ops").ID)
	require.NoError(f.t, err)
	for _, r := range runs {
		lines, _, err := f.service.Store.TaskLog(context.Background(), r.Task, "", store.Page{Limit: 200})
		require.NoError(f.t, err)
		if slices.ContainsFunc(lines, func(l store.LogLine) bool { return strings.Contains(l.Message, words) }) {
			return true
		}
	}
	return false
}

// setRight plays the nights after.
func (f *fire) setRight(refuses bool) {
	for night := 0; ; night++ {
		require.Less(f.t, night, 5, "the nights do not set it right")
		if told := f.plays("work ops"); len(told) > 0 && strings.Contains(told[len(told)-1], "nothing to change") {
			break
		}
	}
	if !refuses || !slices.ContainsFunc(f.do("reconcile ops"), func(l string) bool { return strings.Contains(l, "taken back 2 times") }) {
		require.Equal(f.t, f.wanted, f.shows())
	}
}

// undoes gives back what the runs have done, the newest first: the accounts are as they were.
func (f *fire) undoes() {
	plan := f.newest("ops").ID
	runs, err := f.service.Store.Runs(context.Background(), plan)
	require.NoError(f.t, err)
	made := maps.Clone(f.shows())
	for _, r := range runs {
		f.plays("take app", "reconcile ops")
		p, _, err := f.service.StartUndo(context.Background(), tester, r.ID, Undoing{Reason: "it was wrong"})
		f.log = append(f.log, fmt.Sprintf("> undo run %d: %v", r.ID, err))
		if err != nil {
			require.ErrorContains(f.t, err, "nothing", "run %d", r.ID)
			continue
		}
		f.log = append(f.log, f.drafted(p)...)
		f.log = append(f.log, f.refused(p)...)
		f.plays("seal ops an undo takes names back")
		f.burns(false)
	}
	now := f.shows()
	for id, was := range f.before {
		require.Equal(f.t, was, now[id], "%s is not as it was", id)
	}
	for id := range made {
		if _, old := f.before[id]; !old {
			require.Equal(f.t, "false", now[id].active, "what was made is shut")
		}
	}
}
