package reconcile_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
)

// A deletion that a human has cancelled does not come back while the person is gone, whatever
// the list says of when and why they left, or whether it has them at all; once they were back,
// and leave again, it is another deletion.
func TestCancelledStaysCancelled(t *testing.T) {
	deleted, kept := 0, 0
	rapid.Check(t, func(rt *rapid.T) {
		memory := reconcile.Memory{Bonds: []pairing.Bond{{Person: "p0", Account: "a0"}}, Suspended: map[string]bool{"a0": true},
			Inactive:   map[string]string{"p0": "2026-09-01"},
			Intentions: []planning.Intention{{ID: planning.IntentionID(planning.Delete, "p0", "a0"), Verb: planning.Delete, Person: "p0", Account: "a0", First: "2026-09-01", Due: "2026-11-01", Cancelled: "her thesis is still being read"}}}
		cancelled := true
		for day := range rapid.IntRange(2, 7).Draw(rt, "readings") {
			l := &lane{rules: []string{`leavers: {grace: {readings: 1, days: 0}, stages: [{after: 0d, do: [suspend]}, {after: 30d, do: [delete]}]}`, `guards: {suspend: {more-than: 9}, delete: {more-than: 9}}`}}
			here := false
			switch rapid.SampledFrom([]string{"ended", "ended", "inactive", "vanished", "back"}).Draw(rt, "the list says") {
			case "ended":
				l.people = []string{fmt.Sprintf("p0 1 Ana Soto - %s %s - - -", rapid.SampledFrom([]string{"true", "-", "false"}).Draw(rt, "active"), noon.AddDate(0, 0, -rapid.IntRange(31, 90).Draw(rt, "days ago")).Format(time.DateOnly))}
			case "inactive":
				l.people = []string{"p0 1 Ana Soto - false - - - -"}
			case "back":
				l.people = []string{"p0 1 Ana Soto - true - - - -"}
				here = true
			}
			l.people = append(l.people, "p1 2 Bo Lund - true - - - -", "p2 3 Cy Moe - true - - - -")
			l.accounts = []string{"a0 1 u0 Ana Soto - - false - -", "a1 2 u1 Bo Lund - - true - -"}
			in := l.input(rt, nil)
			in.Now, in.Reading = noon.AddDate(0, 0, day), fmt.Sprint("reading ", day)
			in.Memory = memory
			out := reconcile.Run(in)
			if here {
				cancelled = false
			}
			for _, c := range out.Changes {
				if c.Verb == planning.Delete {
					deleted++
					require.False(rt, cancelled, "the deletion was cancelled, and is drafted: %+v", c)
				}
			}
			if cancelled {
				kept++
			}
			memory = out.Memory
			memory.Bonds, memory.Suspended = in.Memory.Bonds, in.Memory.Suspended
		}
	})
	require.NotZero(t, deleted, "what was never cancelled comes")
	require.NotZero(t, kept)
}

// Who is listed twice, under a number that has ended and one that has not, never loses their
// account for the one that ended; and a namesake with another address, telephone and day of birth
// never gets it.
func TestListedTwice(t *testing.T) {
	passed, asked, apart := 0, 0, 0
	rapid.Check(t, func(rt *rapid.T) {
		same := rapid.Bool().Draw(rt, "one human")
		word := func(name string, words ...string) string { return rapid.SampledFrom(words).Draw(rt, name) }
		mail, born := word("address", "ana@l.example", "-"), word("born", "1990-01-02", "-")
		second, secondBorn := mail, born
		if !same {
			second, secondBorn = "ana.soto2@l.example", "1961-07-08"
			mail, born = "ana@l.example", "1990-01-02"
		}
		l := &lane{morePeople: " birthday", rules: []string{
			`leavers: {grace: {readings: 1, days: 0}, stages: [{after: 0d, do: [` + word("stages", "suspend", "suspend, hide", "suspend, delete") + `]}]}`,
			`guards: {suspend: {more-than: 9}, delete: {more-than: 9}}`}, weighed: rapid.Bool().Draw(rt, "weighed")}
		old := fmt.Sprintf("p0 1 Ana Soto %s %s - - - %s", mail, word("ended how", "false -", "true 2026-10-31", "false 2026-10-31"), born)
		current := fmt.Sprintf("p1 %s Ana Soto %s true - - - - %s", word("number", "2", "-"), second, secondBorn)
		l.people = []string{old, current, "p2 3 Bo Lund bo@l.example true - - - - -", "p3 4 Cy Moe cy@l.example true - - - - -"}
		if rapid.Bool().Draw(rt, "the current one first") {
			l.people[0], l.people[1] = l.people[1], l.people[0]
		}
		l.accounts = []string{fmt.Sprintf("a0 1 asoto Ana Soto %s - true - -", mail), "a1 3 blund Bo Lund bo@l.example - true - -"}
		if rapid.Bool().Draw(rt, "bonded") {
			l.memory = `{"bonds": [{"person": "p0", "account": "a0"}]}`
		}
		in := l.input(rt, nil)
		out := reconcile.Run(in)
		twin := ""
		for i, s := range out.Pairing.PersonState {
			if s == pairing.Twinned && in.Accounts.ID(int(out.Pairing.PersonTwin[i])) == "a0" {
				twin = in.People.ID(i)
			}
		}
		for _, c := range out.Changes {
			if same && c.Account == "a0" {
				require.NotContains(rt, []string{planning.Suspend, planning.Hide, planning.Delete}, c.Verb, "they are here: %v\n%v", l.people, tell(in, out))
			}
			if same {
				require.False(rt, c.Verb == planning.Create && c.Person == "p1", "they have an account: %v\n%v", l.people, tell(in, out))
			}
		}
		switch {
		case !same:
			apart++
			require.NotEqual(rt, "p1", twin, "two humans: %v\n%v", l.people, tell(in, out))
		case twin == "p1":
			passed++
		default:
			asked++
			require.Empty(rt, twin, "the record that ended keeps it: %v\n%v", l.people, tell(in, out))
		}
	})
	require.NotZero(t, passed)
	require.NotZero(t, asked)
	require.NotZero(t, apart)
}
