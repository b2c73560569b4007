package pairing_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/pairing"
	"twinning/internal/core/record"
)

// town invents lists of which everybody knows who is who: few names, so that namesakes
// abound, a number that most accounts carry, accounts of people who have left, and people
// without account. Rows come in any order.
type town struct {
	people, accounts [][]string
	owner            map[string]string // account -> person, of those whose owner is listed
}

func newTown(n, names int) *town {
	rng := rand.New(rand.NewPCG(uint64(n), uint64(names))) // repeatable on purpose
	t := &town{owner: map[string]string{}}
	for i := range n {
		no := fmt.Sprintf("L%05d", i)
		human := []string{called("ba ce di fo gu la me ni ro su", rng.IntN(names)), called("tan vel wor xim yor zad kel hup", rng.IntN(names)), no, "D" + fmt.Sprint(rng.IntN(6))}
		listed := rng.Float64() > 0.06
		if listed {
			t.people = append(t.people, append([]string{no}, human...))
		}
		if rng.Float64() < 0.06 {
			continue
		}
		id := fmt.Sprintf("u%05d", rng.IntN(1000)*1000+i)
		if listed {
			t.owner[id] = no
		}
		number := no
		if rng.Float64() < 0.2 {
			number = ""
		}
		if rng.Float64() < 0.1 {
			human[3] = "D" + fmt.Sprint(rng.IntN(6))
		}
		t.accounts = append(t.accounts, []string{id, human[0], human[1], number, human[3]})
	}
	return t
}

func (t *town) input(tb testing.TB, shuffle uint64, cores int) pairing.Input {
	read := func(rows [][]string, number string) *record.Roster {
		b := record.NewBuilder([]string{"givenName", "familyName", number, "department"})
		order := rand.New(rand.NewPCG(shuffle, 7)).Perm(len(rows))
		for i := range rows {
			row := rows[i]
			if shuffle > 0 {
				row = rows[order[i]]
			}
			cells := make([]string, len(b.Names()))
			for k, name := range b.Names() {
				cells[k] = map[string]string{"id": row[0], "givenName": row[1], "familyName": row[2], number: row[3], "department": row[4]}[name]
			}
			require.NoError(tb, b.Append(cells))
		}
		r, err := b.Roster()
		require.NoError(tb, err)
		return r
	}
	in := pairing.Input{People: read(t.people, "employeeNumber"), Accounts: read(t.accounts, "externalId"), Cores: cores}
	in.Keys = []pairing.Key{{Name: "number", People: in.People.Column("employeeNumber"), Accounts: in.Accounts.Column("externalId"), Attributes: []string{"employeeNumber", "externalId"}}}
	in.Evidence = &pairing.Evidence{Accept: 0.95, Review: 0.5}
	return in
}

// joined counts the twins that evidence makes, and those of two humans.
func (t *town) joined(in pairing.Input) (all, wrong int) {
	r := pairing.Run(in)
	for p, a := range r.PersonTwin {
		if a >= 0 && r.Basis[p] == pairing.Weighed {
			all++
			if t.owner[in.Accounts.ID(int(a))] != in.People.ID(p) {
				wrong++
			}
		}
	}
	return all, wrong
}

func asText(t *testing.T, v any) string {
	b, err := json.Marshal(v)
	require.NoError(t, err)
	return string(b)
}

// The same lists have the same trial in whatever order they come and on any number of
// cores; it changes nothing; and what it lets expect comes about.
func TestTry(t *testing.T) {
	for _, names := range []int{25, 60, 400} { // from namesakes everywhere to none
		town := newTown(1000, names)
		in := town.input(t, 0, 1)
		before := asText(t, pairing.Run(in).PersonTwin)
		trial, err := pairing.Try(in, false)
		require.NoError(t, err)
		require.Equal(t, before, asText(t, pairing.Run(in).PersonTwin), "a trial changes nothing")
		for shuffle, cores := range []int{3, 2} {
			again, err := pairing.Try(town.input(t, uint64(shuffle), cores), false)
			require.NoError(t, err)
			require.Equal(t, asText(t, trial), asText(t, again))
			require.Equal(t, trial.Weights.Version(), again.Weights.Version())
		}
		require.Equal(t, min(trial.Known, 4000), trial.Held)
		require.Positive(t, trial.Lost, "some have nobody to be found")
		found := 1.0
		for _, x := range trial.Thresholds {
			require.LessOrEqual(t, x.Wrong, x.Joined)
			require.LessOrEqual(t, x.Found, found+1e-9, "who asks for more finds less")
			enough := x.Accept >= trial.Review && x.WouldBeWrong <= float64(trial.Known+x.WouldJoin)/10000
			require.Equal(t, enough, trial.Careful > 0 && x.Accept >= trial.Careful, "from the careful threshold on, one in ten thousand may be wrong: %g", x.Accept)
			found = x.Found
		}

		in.Evidence.Weights = trial.Weights
		all, wrong := town.joined(in)
		for _, x := range trial.Thresholds {
			if x.Accept == in.Evidence.Accept {
				require.Equal(t, x.WouldJoin, all, "%d names: it was said how many would be joined", names)
				// four standard deviations of what chance does to so many
				require.InDelta(t, x.WouldBeWrong, wrong, 4+4*float64(x.WouldBeWrong), "%d names: of %d", names, all)
			}
		}
		require.LessOrEqual(t, float64(wrong), 0.06*float64(all)+2, "%d names: what is joined from 0.95 on is nearly always one human", names)
	}
}

// Lists without anything to hold back say so.
func TestTryNothing(t *testing.T) {
	town := newTown(20, 10)
	_, err := pairing.Try(town.input(t, 0, 1), false)
	require.ErrorContains(t, err, "needs 30 at least")
	town = newTown(100, 10)
	in := town.input(t, 0, 1)
	in.Keys = nil
	_, err = pairing.Try(in, false)
	require.ErrorContains(t, err, "twins that keys and rulings make: 0")

	// accounts that we made say what we wrote: they are neither held back nor learnt from
	in = town.input(t, 0, 1)
	all, err := pairing.Try(in, false)
	require.NoError(t, err)
	for account, person := range town.owner {
		if a, _ := in.Accounts.Find(account); in.Accounts.Column("externalId").Cell(a) != "" && len(in.Bonds) < 30 {
			in.Bonds = append(in.Bonds, pairing.Bond{Person: person, Account: account, Basis: pairing.Created})
		}
	}
	less, err := pairing.Try(in, false)
	require.NoError(t, err)
	require.Equal(t, all.Known-30, less.Known)
}

// called makes a name of a number, of syllables that no slip of the hand confuses.
func called(syllables string, n int) string {
	list, name := strings.Fields(syllables), ""
	for range 3 {
		name += list[n%len(list)]
		n /= len(list)
	}
	return name
}

// A value that everybody shares is told once, with its count, and holds all who carry it;
// what else is known of them still finds who is who.
func TestCommonValues(t *testing.T) {
	for _, n := range []int{30, 300} {
		town := newTown(n, 400)
		for _, row := range town.accounts {
			row[3] = "N/A"
		}
		in := town.input(t, 0, 2)
		for i, row := range town.people {
			town.people[i] = append(row[:3:3], "N/A", row[4])
		}
		in = town.input(t, 0, 2)
		in.Evidence = nil
		r := pairing.Run(in)
		require.Len(t, r.Issues, 1, "%d records", n)
		require.Equal(t, "shared-key", r.Issues[0].Code)
		require.Contains(t, r.Issues[0].Detail, fmt.Sprintf(`number "N/A" is carried by %d people and %d accounts`, len(town.people), len(town.accounts)))
		require.Empty(t, r.Proposals, "nobody is asked to pick one of so many")
		for _, s := range r.PersonState {
			require.Equal(t, pairing.Contested, s)
		}
		for _, s := range r.AccountState {
			require.Equal(t, pairing.Contested, s)
		}
		in.Evidence = &pairing.Evidence{Accept: 0.9, Review: 0.5}
		if all, wrong := town.joined(in); n == 300 {
			require.Greater(t, all, n/2, "evidence settles what keys leave unsure")
			require.LessOrEqual(t, wrong, all/20)
		}
	}
}
