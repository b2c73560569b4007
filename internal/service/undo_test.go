package service

import (
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var undos = flag.Int("undos", 12, "how many runs TestUndoGivesBack undoes")

// rows are the accounts of a downstream as they stand, but for those that are not there in
// others; aliases in whatever order.
func (d *days) rows(app string, only map[string]string) map[string]string {
	list := map[string]string{}
	for id, row := range d.books[app].rows {
		cells := strings.Fields(row)
		for i, c := range cells {
			if strings.Contains(c, ";") {
				parts := strings.Split(c, ";")
				slices.Sort(parts)
				cells[i] = strings.Join(parts, ";")
			}
		}
		if _, there := only[id]; there || only == nil {
			list[id] = strings.Join(cells, " ")
		}
	}
	return list
}

// Whatever a plan of the charter has done, halted half-way or not, its undo gives back the first
// state of every account that was there, names that moved in circles included; and the next
// night does none of it again.
func TestUndoGivesBack(t *testing.T) {
	s, clock := shiftingClock(t)
	for n := range *undos {
		seed := uint64(n + 1)
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			rng := rand.New(rand.NewPCG(seed, 15))
			d := newDays(t, s, clock, n+1)
			people, accounts := []string{}, []string{}
			size := 5 + rng.IntN(6)
			address := rng.Perm(size) // whose address whom has now
			for i := range size {
				if rng.IntN(2) == 0 {
					address[slices.Index(address, i)], address[i] = address[i], i
				}
			}
			pick := func(words ...string) string { return words[rng.IntN(len(words))] }
			for i := range size {
				people = append(people, fmt.Sprintf("L%d Ana Soto%d %s a%d@larkspur.example %s", i, i, pick("Cook", "Chef"), i, pick("true", "true", "true", "false")))
				if rng.IntN(6) > 0 {
					accounts = append(accounts, fmt.Sprintf("u%d soto%d L%d %s Soto%d %s a%d@larkspur.example %s %s", i, i, i, pick("Ana", "Anna"), i, pick("Cook", "Chef", "-"), address[i], pick("-", fmt.Sprintf("old%d@larkspur.example", i)), pick("true", "true", "false")))
				}
			}
			d.begin("people hq", people)
			d.begin("accounts app", accounts)
			d.begin("lane ops hq app", []string{"names: {between: between.larkspur.example}", "pairing: {keys: [{name: number, person: person.id, account: account.externalId}]}", "guards: {roster-drop: 90%, coverage-drop: 90%, suspend: {more-than: 50}, readdress: {more-than: 50}, reinstate: {more-than: 50}}"})
			before := d.rows("app", nil)
			told := d.do("work ops")
			if strings.HasPrefix(told[len(told)-1], "! ") {
				require.Contains(t, told[len(told)-1], "nothing to change", strings.Join(told, "\n"))
				return
			}
			did := d.rows("app", nil)
			for _, step := range []string{"take app", "reconcile ops"} {
				d.do(step)
			}
			asked := d.do("undo ops")
			if last := asked[len(asked)-1]; strings.HasPrefix(last, "! ") { // only accounts were made, say
				require.Equal(t, before, d.rows("app", before), strings.Join(asked, "\n"))
				return
			}
			first := maps.Clone(before)
			made := strings.Contains(strings.Join(told, "\n"), "done create")
			for _, line := range asked { // an address that went on to an account that was made, perhaps by way of others: it is told
				if words := strings.Fields(line); made && words[0] == "refused" && slices.Contains(words, "email:") {
					delete(before, words[2])
				}
			}
			require.Equal(t, []string{"sealed"}, d.do("seal ops"), strings.Join(asked, "\n"))
			ran := d.do("run ops")
			require.Equal(t, before, d.rows("app", before), "after\n%s\nundone by\n%s\nwhich came to\n%s", strings.Join(told, "\n"), strings.Join(asked, "\n"), strings.Join(ran, "\n"))
			for id, row := range d.rows("app", nil) {
				if _, there := first[id]; !there {
					require.True(t, strings.HasSuffix(row, "false"), "what was made is shut: %s", row)
				}
			}
			undone := d.rows("app", nil)
			again := d.do("work ops")
			require.Equal(t, undone, d.rows("app", nil), "the next night did some of it again:\n%s", strings.Join(again, "\n"))
			require.NotEqual(t, before, did, "nothing was done at all:\n%s", strings.Join(told, "\n"))
		})
	}
}
