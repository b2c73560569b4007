package reconcile_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
)

// anyIntents draws what humans may ask for, wise or not, of accounts that are there or not.
func anyIntents(t *rapid.T) (list []planning.Intent) {
	word := func(name string, words ...string) string { return rapid.SampledFrom(words).Draw(t, name) }
	for range rapid.IntRange(1, 7).Draw(t, "intents") {
		i := planning.Intent{Verb: word("verb", planning.Set, planning.Set, planning.Suspend, planning.Reinstate, planning.Hide, planning.Unhide, planning.Enrol, planning.Withdraw, planning.Delete, planning.Create), Reason: "asked", Until: word("until", "", "2026-12-25")}
		if i.Undoes = word("undo", "no", "no", "yes") == "yes"; i.Undoes {
			i.Verb = planning.Set
		}
		who := rapid.IntRange(0, 6).Draw(t, "who")
		if i.Account = fmt.Sprintf("a%d", who); i.Verb == planning.Create || word("by", "account", "person") == "person" {
			i.Account, i.Person = "", fmt.Sprintf("p%d", who)
		}
		switch i.Verb {
		case planning.Set, planning.Create:
			attribute := word("attribute", "title", "userName", "email", "aliases", "groups", "active", "hidden", "givenName", "externalId", "id", "nonsense")
			v := planning.Wanted{Attribute: attribute, New: word("value", "", "Cook", "asoto", "a@l.example", "new@l.example", "true", "false", "u1")}
			if attribute == "aliases" || attribute == "groups" {
				v.New, v.Adds, v.Takes = "", []string{word("adds", "e@l.example", "z@l.example", "press", "crew")}, []string{word("takes", "d@l.example", "a@l.example", "news")}
			} else if old := word("old", "-", "Cook", "true", ""); old != "-" {
				v.Old = &old
			}
			i.Values = []planning.Wanted{v}
		case planning.Enrol:
			i.Values = []planning.Wanted{{Attribute: "groups", Adds: []string{word("group", "press", "crew")}}}
		case planning.Withdraw:
			i.Values = []planning.Wanted{{Attribute: "groups", Takes: []string{word("group", "press", "crew")}}}
		}
		list = append(list, i)
	}
	return list
}

// Whatever humans ask for: nobody is touched who could not be read, is contested, left alone or
// another lane's; no name is two accounts'; every value that is written was asked for, and
// every refusal says why.
func TestAskedProperties(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		l, intents := anyLane(rt), anyIntents(rt)
		if rapid.IntRange(0, 3).Draw(rt, "lane") > 0 { // of people who are known: the other lists are mostly trouble
			l = movingLane(rt)
		}
		in := l.input(rt, nil)
		out, answers := reconcile.Asked(in, intents)
		for _, c := range out.Changes {
			if c.Account != "" {
				a, there := in.Accounts.Find(c.Account)
				require.True(rt, there)
				_, unread := in.Accounts.Unread(a)
				require.False(rt, unread)
				require.Contains(rt, []pairing.State{pairing.Twinned, pairing.Orphan, pairing.Duplicate}, out.Pairing.AccountState[a])
				require.Empty(rt, in.Memory.Claims[c.Account])
				if c.Verb == planning.Delete {
					require.Equal(rt, "false", in.Accounts.Column("active").Cell(a), "an account in use is not deleted")
				}
				if c.Verb == planning.Reinstate {
					require.True(rt, in.Memory.Suspended[c.Account], "only what was ours is opened")
				}
			}
			if c.Person != "" {
				p, there := in.People.Find(c.Person)
				require.True(rt, there)
				_, unread := in.People.Unread(p)
				require.False(rt, unread)
				require.NotContains(rt, in.Memory.LeftPeople, c.Person)
			} else {
				require.Zero(rt, in.People.Faceless()+in.Accounts.Faceless(), "nobody's account is anybody's while a faceless record exists")
			}
			require.GreaterOrEqual(rt, c.Wave, 0)
		}
		checkNames(rt, l, in, out)
		for _, w := range answers {
			switch w.Outcome {
			case reconcile.Drafted:
				require.True(rt, slices.ContainsFunc(out.Changes, func(c planning.Change) bool {
					return c.ID == w.Change && (w.Attribute == "" || slices.ContainsFunc(c.Edits, func(e planning.Edit) bool { return e.Attribute == w.Attribute }))
				}), "%+v", w)
			case reconcile.Refused:
				require.NotEmpty(rt, w.Reason)
			}
		}
		for n := range intents {
			require.True(rt, slices.ContainsFunc(answers, func(w reconcile.Answer) bool { return w.Intent == n }), "intent %d has no answer", n)
		}
		shuffled := l.input(rt, rand.New(rand.NewPCG(1, 2)))
		shuffled.Cores = 2
		again, same := reconcile.Asked(shuffled, intents)
		require.Equal(rt, answers, same)
		require.Equal(rt, strings.Join(tell(in, out), "\n"), strings.Join(tell(shuffled, again), "\n"))
	})
}
