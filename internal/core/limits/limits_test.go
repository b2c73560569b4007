package limits_test

import (
	"flag"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"twinning/internal/core/charter"
	"twinning/internal/core/limits"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// make test is repeatable; make soak and -rapid.seed look elsewhere.
func init() { _ = flag.Set("rapid.seed", "20261125") }

func rules(t require.TestingT, accounts string) *charter.Charter {
	c, err := charter.Parse([]byte("lane: t\npeople: {from: hq}\naccounts: {in: app, "+accounts+"}\npairing: {keys: [{person: person.email, account: account.emails}]}\n"), charter.Vocabulary{})
	require.NoError(t, err)
	return c
}

// accounts reads rows of an id, whether it is active, its roles and its groups.
func accounts(t require.TestingT, rows ...string) *record.Roster {
	b := record.NewBuilder([]string{"active", "roles", "groups"})
	for _, row := range rows {
		cells := strings.Fields(row)
		for i := range cells {
			cells[i] = strings.ReplaceAll(strings.TrimPrefix(cells[i], "-"), ";", "\x1f")
		}
		require.NoError(t, b.Append(cells))
	}
	r, err := b.Roster()
	require.NoError(t, err)
	return r
}

func change(verb, account, attribute, old, now string) *planning.Change {
	c := &planning.Change{Verb: verb, Account: account, Person: "p" + account, Edits: []planning.Edit{{Attribute: attribute, Old: old, New: now}}}
	if verb == planning.Create {
		c.Person, c.Account = account, ""
	}
	return c
}

// The last administrator is not lost, whichever plan would shut it, and however.
func TestLastAdministrator(t *testing.T) {
	suspend := func(id string) *planning.Change { return change(planning.Suspend, id, "active", "true", "false") }
	for name, c := range map[string]struct {
		before []*planning.Change // of other plans
		step   limits.Step
		then   *planning.Change
		breaks bool
	}{
		"one of two":                           {nil, limits.Done, suspend("a1"), false},
		"the last, since another is done":      {[]*planning.Change{suspend("a1")}, limits.Done, suspend("a2"), true},
		"the last, since another is sealed":    {[]*planning.Change{suspend("a1")}, limits.Pending, suspend("a2"), true},
		"one whose role is taken":              {[]*planning.Change{suspend("a1")}, limits.Done, change(planning.Set, "a2", "roles", "admin", ""), true},
		"somebody else":                        {[]*planning.Change{suspend("a1")}, limits.Done, suspend("a3"), false},
		"what is only to be opened is not":     {[]*planning.Change{suspend("a1"), change(planning.Reinstate, "a4", "active", "false", "true")}, limits.Pending, suspend("a2"), true},
		"what was opened is":                   {[]*planning.Change{suspend("a1"), change(planning.Reinstate, "a4", "active", "false", "true")}, limits.Done, suspend("a2"), false},
		"deleted":                              {[]*planning.Change{suspend("a1")}, limits.Pending, change(planning.Delete, "a2", "id", "a2", ""), true},
		"the same account twice counts once":   {[]*planning.Change{suspend("a1"), suspend("a1")}, limits.Pending, suspend("a1"), false},
		"another who is made an administrator": {[]*planning.Change{change(planning.Set, "a3", "roles", "", "admin"), suspend("a1")}, limits.Done, suspend("a2"), false},
	} {
		s := limits.New([]*charter.Charter{rules(t, "administrators: \"'admin' in account.roles\"")}, accounts(t, "a1 true admin -", "a2 true admin -", "a3 true - -", "a4 false admin -"), "2026-11-25")
		for _, o := range c.before {
			s.Apply(o, o.Account, c.step)
		}
		breaks, _ := s.Apply(c.then, c.then.Account, limits.Done)
		require.Equal(t, c.breaks, breaks != "", "%s: %s", name, breaks)
	}
}

// However changes are counted and taken back, the counts are those of a list counted anew.
func TestSeatsAsCounted(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const n, seats = 5, 3
		open := make([]bool, n)
		rows := make([]string, n)
		for i := range rows {
			open[i] = rapid.Bool().Draw(t, "open")
			rows[i] = fmt.Sprintf("a%d %v - -", i, open[i])
		}
		s := limits.New([]*charter.Charter{rules(t, fmt.Sprintf("seats: %d", seats))}, accounts(t, rows...), "2026-11-25")
		count := func() (n int) {
			for _, o := range open {
				if o {
					n++
				}
			}
			return n
		}
		for range rapid.IntRange(1, 12).Draw(t, "steps") {
			i := rapid.IntRange(0, n-1).Draw(t, "account")
			to := rapid.Bool().Draw(t, "to")
			verb := map[bool]string{true: planning.Reinstate, false: planning.Suspend}[to]
			was := slices.Clone(open)
			opens := to && !open[i]
			open[i] = to
			breaks, undo := s.Apply(change(verb, fmt.Sprintf("a%d", i), "active", fmt.Sprint(!to), fmt.Sprint(to)), fmt.Sprintf("a%d", i), limits.Done)
			require.Equal(t, opens && count() > seats, breaks != "")
			if breaks != "" || rapid.Bool().Draw(t, "undo") {
				undo()
				open = was
			}
		}
	})
}
