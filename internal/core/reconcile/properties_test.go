package reconcile_test

import (
	"cmp"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
)

// make test is repeatable; make soak and -rapid.seed look elsewhere.
func init() { _ = flag.Set("rapid.seed", "20261125") }

// anyLane draws two small lists that share values often, so that every kind of
// trouble is common.
func anyLane(t *rapid.T) *lane {
	word := func(name string, words ...string) string { return rapid.SampledFrom(words).Draw(t, name) }
	l := &lane{weighed: word("evidence", "keys", "weighed") == "weighed", moreAccounts: " hidden groups"}
	for i := range rapid.IntRange(1, 9).Draw(t, "people") {
		if word("readable", "yes", "yes", "yes", "yes", "yes", "yes", "yes", "no") == "no" {
			l.people = append(l.people, fmt.Sprintf("rejected %d %s", i, word("id", "-", fmt.Sprintf("p%d", i))))
			continue
		}
		l.people = append(l.people, fmt.Sprintf("p%d %s %s %s %s %s - %s %s", i, word("number", "-", "1", "2", "3", "4", "5"), word("given", "Ana", "Bo", "-"), word("family", "Soto", "Lund", "Moe"),
			word("mail", "-", "a@l.example", "b@l.example", "c@l.example", "d@l.example"), word("active", "true", "true", "true", "false", "-"), word("type", "-", "staff", "service"), word("title", "-", "Cook", "Smith")))
	}
	for i := range rapid.IntRange(1, 9).Draw(t, "accounts") {
		if word("readable", "yes", "yes", "yes", "yes", "yes", "yes", "yes", "no") == "no" {
			l.accounts = append(l.accounts, fmt.Sprintf("rejected %d %s", i, word("id", "-", fmt.Sprintf("a%d", i))))
			continue
		}
		l.accounts = append(l.accounts, fmt.Sprintf("a%d %s %s %s %s %s %s %s %s", i, word("mark", "-", "1", "2", "3", "4"), word("login", fmt.Sprintf("u%d", i), fmt.Sprintf("rig-%d", i), "asoto"), word("given", "Ana", "Bo", "-"), word("family", "Soto", "Lund", "-"),
			word("mail", "-", "a@l.example", "b@l.example", "c@l.example", fmt.Sprintf("x%d@l.example", i)), word("alias", "-", "-", "d@l.example", "a@l.example;e@l.example"), word("active", "true", "true", "false", "-"), word("title", "-", "Cook"))+
			fmt.Sprintf(" - %s %s", word("hidden", "-", "-", "true"), word("groups", "-", "crew", "crew;news", "press")))
	}
	pair := func(name string) string {
		return fmt.Sprintf(`[{"person": "p%d", "account": "a%d"}]`, rapid.IntRange(0, 5).Draw(t, name), rapid.IntRange(0, 5).Draw(t, name))
	}
	var told []string // deletions of the bonded and the ruled, since before today
	for p := range 6 {
		for a := range 6 {
			told = append(told, fmt.Sprintf(`{"id": %q, "first": "2026-11-20"}`, planning.IntentionID("delete", fmt.Sprintf("p%d", p), fmt.Sprintf("a%d", a))))
		}
	}
	l.memory = fmt.Sprintf(`{"intentions": [`+strings.Join(told, ", ")+`], "inactive": {"p0": "2026-11-01", "p1": "2026-11-01", "p2": "2026-11-01", "p3": "2026-11-01", "p4": "2026-11-01"}, "added": {"a0": {"groups": ["crew"]}, "a1": {"groups": ["crew"]}}, "bonds": %s, "same": %s, "different": %s, "claims": {"a%d": ["other"]}, "leavePeople": {"p%d": {"reason": "asked"}}, "suspended": {"a1": true}}`,
		pair("bond"), pair("same"), pair("different"), rapid.IntRange(0, 12).Draw(t, "claim"), rapid.IntRange(0, 12).Draw(t, "left"))
	l.rules = []string{`emails: {primary: person.email, rule: own, former: ` + word("former", "keep", "drop") + `}`, `orphans: {do: ` + word("orphans", "report", "suspend") + `}`}
	l.rules = append(l.rules, `groups: [{enrol: crew, when: person.title == 'Cook'}, {enrol: news, when: person.title == 'Smith', manage: all}]`,
		`leavers: {grace: {readings: 1, days: 0}, stages: [{after: 0d, do: [`+word("stages", "suspend", "suspend, hide", "suspend, delete", "delete")+`]}]}`, `guards: {suspend: {more-than: 9}, delete: {more-than: 9}}`)
	if word("rename", "once", "own") == "own" {
		l.rules = append(l.rules, `attributes: {userName: {candidates: [slug(initial(person.givenName) + person.familyName), slug(person.givenName + '.' + person.familyName), slug(person.familyName + person.id)], rule: own}, title: person.title}`)
	}
	if classes := word("classes", "", "", `{name: cook, when: "person.title == 'Cook'", without: [title, groups]}`, `{name: cook, when: "person.title.startsWith('C')", groups: [{enrol: press}]}`,
		`{name: smith, when: "person.title == 'Smith'", attributes: {title: "'Maker'"}, emails: {primary: person.email, rule: fill}}`, `{name: smith, when: "person.title == 'Smith'", sign-in: false, without: [emails]}`); classes != "" {
		l.rules = append(l.rules, `classes: [`+classes+`]`)
	}
	if seats := word("seats", "", "", "accounts: {in: app, seats: 3, where: \"!account.userName.startsWith('rig-')\"}", "accounts: {in: app, owns: account.groups, where: \"!account.userName.startsWith('rig-')\"}"); seats != "" {
		l.rules = append(l.rules, seats)
	}
	return l
}

// movingLane draws people who are known by number, and whose names have moved among them.
func movingLane(t *rapid.T) *lane {
	n := rapid.IntRange(2, 6).Draw(t, "people")
	mails := []string{"a@l.example", "b@l.example", "c@l.example", "d@l.example", "e@l.example", "f@l.example", "g@l.example"}
	now, next := rapid.Permutation(mails).Draw(t, "now"), rapid.Permutation(mails).Draw(t, "next")
	login := rapid.Permutation(mails).Draw(t, "logins")
	if rapid.Bool().Draw(t, "logins are addresses") {
		login = now
	}
	if rapid.Bool().Draw(t, "the first keeps theirs") {
		i := slices.Index(next, now[0])
		next[0], next[i] = next[i], next[0]
	}
	former := rapid.SampledFrom([]string{"keep", "drop", "keep, rest: 9d", "keep, ours: '[a-c]@.*'"}).Draw(t, "former")
	l := &lane{rules: []string{
		`pairing: {keys: [{name: number, person: person.employeeNumber, account: account.externalId}]}`,
		`emails: {primary: person.email, rule: own, former: ` + former + rapid.SampledFrom([]string{"", ", aliases: \"person.employeeNumber + '@l.example'\"", ", aliases: [\"'f@l.example'\"]"}).Draw(t, "aliases") + `}`,
		`leavers: {hand-over: {to: person.department` + rapid.SampledFrom([]string{"", `, address: "account.id + '@left.example'"`, `, address: "'g@l.example'"`}).Draw(t, "what a leaver is left with") + `}, stages: [{after: 0d, do: [hand-over]}]}`,
		`guards: {rename: {more-than: 99}, readdress: {more-than: 99}}`,
		`waves: [{name: first, when: "person.title == 'Cook'"}, {name: everybody}]`,
	}}
	if strings.Contains(former, "ours") { // which would take away what is handed over
		l.rules[2] = `guards: {rename: {more-than: 99}}`
	}
	if rapid.IntRange(0, 3).Draw(t, "circles") > 0 {
		l.rules = append(l.rules, `names: {between: between.l.example}`)
	}
	rule := rapid.SampledFrom([]string{`{candidates: [person.email], rule: own}`, `{candidates: [person.email, person.employeeNumber + '@l.example'], rule: own}`, `{candidates: [person.email], rule: once}`}).Draw(t, "login rule")
	l.rules = append(l.rules, `attributes: {userName: `+rule+`, title: person.title}`)
	classes := rapid.SampledFrom([]string{"", "", `sign-in: false`, `emails: {primary: person.email, rule: own, former: drop}`, `sign-in: false, attributes: {userName: {candidates: [person.employeeNumber + '@l.example'], rule: own}}`}).Draw(t, "a class")
	if classes != "" {
		l.rules = append(l.rules, `classes: [{name: cook, when: "person.title == 'Cook'", `+classes+`}]`)
		l.memory = `{"suspended": {"a0": true, "a1": true, "a2": true}}`
	}
	for i := range n {
		here, heir := "true", "-"
		if i%2 == 1 && rapid.Bool().Draw(t, "left") {
			here, heir = "false", fmt.Sprintf("p%d", rapid.SampledFrom([]int{0, 0, i - 1, i}).Draw(t, "heir"))
		}
		l.people = append(l.people, fmt.Sprintf("p%d %d Ana Soto%d %s %s - - %s %s", i, i, i, next[i], here, rapid.SampledFrom([]string{"-", "Cook"}).Draw(t, "title"), heir))
		alias := "-"
		if i == 0 && rapid.Bool().Draw(t, "an alias") {
			alias = now[len(now)-1]
		}
		if i < n-1 || rapid.Bool().Draw(t, "the last has an account") {
			active := "true"
			if classes != "" {
				active = rapid.SampledFrom([]string{"true", "true", "false"}).Draw(t, "open")
			}
			l.accounts = append(l.accounts, fmt.Sprintf("a%d %d %s Ana Soto%d %s %s %s", i, i, login[i], i, now[i], alias, active))
		}
	}
	return l
}

// TestNamesMove: names move among accounts, in chains and circles, so that none is ever two
// accounts', and a plan that was carried out leaves nothing to do.
func TestNamesMove(t *testing.T) {
	circles, units, handed := 0, 0, 0
	rapid.Check(t, func(rt *rapid.T) {
		l := movingLane(rt)
		in := l.input(rt, nil)
		out := reconcile.Run(in)
		checkNames(rt, l, in, out)
		checkPrefixes(rt, in, out)
		checkSteps(rt, out)
		checkSettled(rt, l, in, out)
		again := l.input(rt, rand.New(rand.NewPCG(1, 2)))
		again.Cores = 2
		require.Equal(rt, tell(in, out), tell(again, reconcile.Run(again)), "a second draft allocates the same")
		for _, c := range out.Changes {
			if c.Between {
				circles++
			}
			if c.Unit != "" {
				units++
			}
			if c.HandsOver {
				handed++
			}
		}
		if slices.ContainsFunc(l.rules, func(r string) bool { return strings.HasPrefix(r, "names:") }) {
			require.NotContains(rt, strings.Join(out.Notes, "\n"), "circle")
		}
	})
	require.NotZero(t, circles)
	require.NotZero(t, units)
	require.NotZero(t, handed)
}

// checkSteps: of what is done of an account as one, rights go first and come last.
func checkSteps(t require.TestingT, out *reconcile.Output) {
	for i, c := range out.Changes {
		for _, d := range out.Changes[i+1:] {
			if c.Unit == "" || c.Unit != d.Unit || c.Account != d.Account || c.Between {
				continue
			}
			require.NotContains(t, []string{planning.Reinstate, planning.Unhide, planning.Enrol}, c.Verb, "%s of %s before %s", c.Verb, c.Account, d.Verb)
			require.NotContains(t, []string{planning.Suspend, planning.Withdraw}, d.Verb, "%s of %s after %s", d.Verb, d.Account, c.Verb)
		}
	}
}

// checkPrefixes: wherever a plan stops, no name that it moves is two accounts'; and outside
// of a unit that is under way, nobody's is none that was somebody's and is again in the end.
func checkPrefixes(t require.TestingT, in reconcile.Input, out *reconcile.Output) {
	held := map[string]map[string][]string{} // account -> attribute -> names
	holders := func(name string) (ids []string) {
		for id, names := range held {
			for _, list := range names {
				if slices.Contains(list, name) && !slices.Contains(ids, id) {
					ids = append(ids, id)
				}
			}
		}
		return ids
	}
	for i := range in.Accounts.Len() {
		names := map[string][]string{}
		for _, a := range []string{"userName", "email", "aliases"} {
			names[a] = record.SplitList(in.Accounts.Column(a).Cell(i))
		}
		held[in.Accounts.ID(i)] = names
	}
	write := func(c *planning.Change) {
		id := cmp.Or(c.Account, "new-"+c.Person)
		if held[id] == nil {
			held[id] = map[string][]string{}
		}
		for _, e := range c.Edits {
			held[id][e.Attribute] = record.SplitList(e.New)
		}
	}
	moved, before := map[string]bool{}, map[string]bool{}
	for _, c := range out.Changes {
		for _, e := range c.Edits {
			if e.Attribute == "userName" || e.Attribute == "email" || e.Attribute == "aliases" {
				for _, name := range append(record.SplitList(e.Old), e.NewNames()...) {
					moved[name], before[name] = true, len(holders(name)) > 0
				}
			}
		}
	}
	start := held
	held = map[string]map[string][]string{}
	for id, names := range start {
		held[id] = maps.Clone(names)
	}
	left := map[string]int{}
	for i := range out.Changes {
		left[out.Changes[i].Unit]++
		write(&out.Changes[i])
	}
	after := map[string]bool{}
	for name := range moved {
		after[name] = len(holders(name)) > 0
	}
	held = start
	begun := map[string]int{}
	for i := range out.Changes {
		c := &out.Changes[i]
		write(c)
		begun[c.Unit]++
		for _, e := range c.Edits {
			for _, name := range e.NewNames() {
				if holdsNow(in, c.Account, name) {
					continue
				}
				require.Len(t, holders(name), 1, "after %s of %s: %s", c.Verb, c.Person, name)
			}
		}
		underway := false
		for unit, n := range begun {
			underway = underway || unit != "" && n < left[unit]
		}
		for name := range moved {
			if !underway && name != "" && before[name] && after[name] {
				require.NotEmpty(t, holders(name), "after %s of %s: %s is nobody's", c.Verb, c.Person, name)
			}
		}
	}
}

func TestProperties(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		l := anyLane(rt)
		in := l.input(rt, nil)
		out := reconcile.Run(in)
		checkKept(rt, in, out)
		checkBalance(rt, in, out)
		checkUntouched(rt, in, out)
		checkNames(rt, l, in, out)
		checkPrefixes(rt, in, out)
		checkSteps(rt, out)
		checkSettled(rt, l, in, out)
		checkRulings(rt, in, out)
		shuffled := l.input(rt, rand.New(rand.NewPCG(1, 2)))
		shuffled.Cores = 2
		require.Equal(rt, tell(in, out), tell(shuffled, reconcile.Run(shuffled)), "neither the order of the records nor the cores matter")
	})
}

// checkKept: the same lists have the same twins and the same questions, whether the
// weights were learnt from them in this pass or kept from one before.
func checkKept(t require.TestingT, in reconcile.Input, out *reconcile.Output) {
	in.Memory.Weights = out.Memory.Weights
	again := reconcile.Run(in)
	require.Equal(t, out.Pairing.PersonTwin, again.Pairing.PersonTwin)
	require.Equal(t, out.Pairing.PersonState, again.Pairing.PersonState)
	require.Equal(t, out.Pairing.AccountState, again.Pairing.AccountState)
	require.Equal(t, out.Pairing.Probability, again.Pairing.Probability)
	require.Equal(t, out.Pairing.Proposals, again.Pairing.Proposals)
}

func checkBalance(t require.TestingT, in reconcile.Input, out *reconcile.Output) {
	p, a := out.Balance.People, out.Balance.Accounts
	require.Equal(t, in.People.Len(), p.Twinned+p.Missing+p.Duplicate+p.Contested+p.Exempt)
	require.Equal(t, in.Accounts.Len(), a.Twinned+a.Orphan+a.Duplicate+a.Contested+a.Exempt)
	require.Equal(t, p.Twinned, a.Twinned)
	for i, s := range out.Pairing.PersonState {
		if s == pairing.Twinned {
			require.Equal(t, record.Row(i), out.Pairing.AccountTwin[out.Pairing.PersonTwin[i]], "a twin is mutual")
		}
	}
}

// checkRulings: what a human has ruled different is never joined, and one who is
// ruled to be the same as somebody is joined with nobody else.
func checkRulings(t require.TestingT, in reconcile.Input, out *reconcile.Output) {
	twin := func(r pairing.Pair) (account string) {
		if p, ok := in.People.Find(r.Person); ok && out.Pairing.PersonState[p] == pairing.Twinned {
			return in.Accounts.ID(int(out.Pairing.PersonTwin[p]))
		}
		return ""
	}
	for _, r := range in.Memory.Different {
		if !slices.Contains(in.Memory.Same, r) {
			require.NotEqual(t, r.Account, twin(r))
		}
	}
	for _, r := range in.Memory.Same {
		if _, there := in.Accounts.Find(r.Account); there && twin(r) != "" {
			require.Equal(t, r.Account, twin(r))
		}
	}
}

// checkUntouched: nothing contested, exempt, duplicate, unread or claimed is in
// a change, and while a faceless record exists nothing rests on an absence.
func checkUntouched(t require.TestingT, in reconcile.Input, out *reconcile.Output) {
	for _, c := range out.Changes {
		if c.Person != "" {
			i, ok := in.People.Find(c.Person)
			require.True(t, ok)
			_, unread := in.People.Unread(i)
			require.False(t, unread)
			require.Contains(t, []pairing.State{pairing.Twinned, pairing.Missing}, out.Pairing.PersonState[i])
		}
		if c.Account != "" {
			i, ok := in.Accounts.Find(c.Account)
			require.True(t, ok)
			_, unread := in.Accounts.Unread(i)
			require.False(t, unread)
			require.Contains(t, []pairing.State{pairing.Twinned, pairing.Orphan}, out.Pairing.AccountState[i])
			require.Empty(t, in.Memory.Claims[c.Account])
			if c.Verb == planning.Delete {
				require.Equal(t, "false", in.Accounts.Column("active").Cell(i), "an account in use is not deleted")
				p, a := pairing.Pair{Person: c.Person, Account: c.Account}, func(b pairing.Bond) bool { return b.Account == c.Account && (c.Person == "" || b.Person == c.Person) }
				require.True(t, slices.Contains(in.Memory.Same, p) || slices.ContainsFunc(in.Memory.Bonds, a), "nobody is bonded with it")
			}
		}
		if in.People.Faceless()+in.Accounts.Faceless() > 0 {
			require.NotEqual(t, planning.Create, c.Verb)
			require.NotEmpty(t, c.Person, "a change without a person rests on an absence")
		}
	}
}

// checkNames: after the plan no name is held twice that was not before.
func checkNames(t require.TestingT, l *lane, in reconcile.Input, out *reconcile.Output) {
	holders := map[string][]string{}
	next := applied(l, in, out)
	for _, row := range next {
		cells := strings.Fields(row)
		if cells[0] == "rejected" {
			continue
		}
		for _, n := range append([]string{cells[2], cells[5]}, strings.Split(cells[6], ";")...) {
			if n != "-" && !slices.Contains(holders[n], cells[0]) {
				holders[n] = append(holders[n], cells[0])
			}
		}
	}
	for _, c := range out.Changes {
		for _, e := range c.Edits {
			for _, name := range e.NewNames() {
				if !c.Between && !holdsNow(in, c.Account, name) {
					require.Len(t, holders[name], 1, "%s %s takes %s", c.Verb, c.Person, name)
				}
			}
		}
	}
}

// holdsNow: the name is the account's already, and may be another's as well.
func holdsNow(in reconcile.Input, account, name string) bool {
	a, there := in.Accounts.Find(account)
	return there && slices.ContainsFunc([]string{"userName", "email", "aliases"}, func(n string) bool {
		return slices.Contains(record.SplitList(in.Accounts.Column(n).Cell(a)), name)
	})
}

// applied gives the accounts' rows after the plan has been carried out.
func applied(l *lane, in reconcile.Input, out *reconcile.Output) (rows []string) {
	names := strings.Fields(accountColumns + l.moreAccounts)
	deleted := map[string]bool{}
	byAccount := map[string][]planning.Edit{}
	for _, c := range out.Changes {
		id := c.Account
		if id == "" {
			id = "new-" + c.Person
		}
		deleted[id] = deleted[id] || c.Verb == planning.Delete
		byAccount[id] = append(byAccount[id], c.Edits...)
	}
	write := func(id string, cell func(name string) string) {
		row := []string{id}
		for _, n := range names[1:] {
			v := cell(n)
			for _, e := range byAccount[id] {
				switch {
				case e.Attribute == n && n == "groups": // who comes and goes, not the whole list
					list := slices.DeleteFunc(record.SplitList(v), func(g string) bool {
						return slices.Contains(record.SplitList(e.Old), g) && !slices.Contains(record.SplitList(e.New), g)
					})
					for _, g := range record.SplitList(e.New) {
						if !slices.Contains(record.SplitList(e.Old), g) {
							list = append(list, g)
						}
					}
					v = record.JoinList(list)
				case e.Attribute == n:
					v = e.New
				}
			}
			if v == "" {
				v = "-"
			}
			row = append(row, strings.NewReplacer(" ", "_", "\x1f", ";").Replace(v))
		}
		rows = append(rows, strings.Join(row, " "))
	}
	for _, rej := range in.Accounts.Rejected {
		rows = append(rows, fmt.Sprintf("rejected %d %s", rej.Line, max(rej.ID, "-")))
	}
	for i := range in.Accounts.Len() {
		if _, unread := in.Accounts.Unread(i); !unread && !deleted[in.Accounts.ID(i)] {
			write(in.Accounts.ID(i), func(n string) string { return in.Accounts.Column(n).Cell(i) })
		}
	}
	for _, c := range out.Changes {
		if c.Verb == planning.Create {
			write("new-"+c.Person, func(string) string { return "" })
		}
	}
	return rows
}

// checkSettled: with the plan carried out and its bonds kept, the next
// reconciliation has nothing left to do for anybody who was not in doubt.
func checkSettled(t require.TestingT, l *lane, in reconcile.Input, out *reconcile.Output) {
	after := *l
	after.accounts = applied(l, in, out)
	next := after.input(t, nil)
	next.Memory = out.Memory
	bonds := map[string]pairing.Bond{}
	for _, b := range in.Memory.Bonds {
		bonds[b.Account] = b
	}
	for i, s := range out.Pairing.PersonState {
		if s == pairing.Twinned {
			a := in.Accounts.ID(int(out.Pairing.PersonTwin[i]))
			bonds[a] = pairing.Bond{Person: in.People.ID(i), Account: a}
		}
	}
	next.Memory.Suspended = map[string]bool{"a1": true}
	for _, c := range out.Changes {
		if c.Verb == planning.Create {
			bonds["new-"+c.Person] = pairing.Bond{Person: c.Person, Account: "new-" + c.Person}
		}
	}
	next.Memory.Bonds = nil
	for _, b := range bonds {
		next.Memory.Bonds = append(next.Memory.Bonds, b)
	}
	slices.SortFunc(next.Memory.Bonds, func(a, b pairing.Bond) int { return strings.Compare(a.Account, b.Account) })
	// Writing may settle what was in doubt (an address that two accounts shared
	// is freed): only who was asked about before may be in the second plan.
	asked := map[string]bool{}
	for i, s := range out.Pairing.PersonState {
		asked[in.People.ID(i)] = s == pairing.Contested || s == pairing.Duplicate
	}
	doubted := map[string]bool{}
	for i, s := range out.Pairing.AccountState {
		doubted[in.Accounts.ID(i)] = s == pairing.Contested || s == pairing.Duplicate
	}
	for _, f := range out.Findings {
		if slices.Contains([]string{"email-taken", "username-taken", "resting"}, f.Code) { // files alone do not know what rests
			asked[f.Person] = true
		}
	}
	for _, x := range out.Withheld { // who takes over changed names themselves
		asked[x.Person] = true
	}
	for _, x := range out.Memory.Intentions { // whom it waits for is made by this plan
		asked[x.Person] = asked[x.Person] || x.Waits != ""
	}
	again := reconcile.Run(next).Changes
	for _, c := range again {
		asked[c.Unit] = asked[c.Unit] || c.Unit != "" && asked[c.Person]
	}
	for _, c := range again {
		if c.Verb == planning.Delete {
			continue // it waited for the account to be shut, or for the bond
		}
		require.True(t, asked[c.Person] || asked[c.Unit] || doubted[c.Account], "%v is left to do\nfirst plan: %v\naccounts after: %v", c, out.Changes, after.accounts)
	}
}
