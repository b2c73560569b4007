package pairing_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/pairing"
	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/record"
)

// What a reconciliation tells explains its verdicts without its lists: what was compared
// has the bits that it was decided by, and two records that nobody compared come to what
// they do among all.
func TestTold(t *testing.T) {
	town := newTown(1500, 40)
	in := town.input(t, 0, 2)
	in.Tell = true
	r := pairing.Run(in)
	require.NotNil(t, r.Told)
	told := map[pairing.Pair]evidence.Pattern{}
	times := map[record.Row]int{}
	for _, c := range r.Told.Compared {
		back, err := evidence.PatternOf(c.Pattern.Bytes())
		require.NoError(t, err)
		require.Equal(t, c.Pattern, back)
		told[pairing.Pair{Person: in.People.ID(int(c.Person)), Account: in.Accounts.ID(int(c.Account))}] = back
		times[c.Person]++
	}
	_, err := evidence.PatternOf([]byte("too short"))
	require.Error(t, err)
	require.NotEmpty(t, r.Candidates)
	asked := 0
	for _, c := range r.Candidates {
		pair := pairing.Pair{Person: in.People.ID(int(c.Person)), Account: in.Accounts.ID(int(c.Account))}
		if r.PersonTwin[c.Person] != c.Account {
			continue
		}
		asked++
		x := pairing.Explain(pairing.Asked{Pair: pair, Weights: r.Weights, Prior: r.Prior, Accept: in.Evidence.Accept, Patterns: told})
		require.NotNil(t, x.Asked, "the twin that evidence made was compared")
		require.InDelta(t, c.Bits, x.Asked.Bits, 1e-4)
		sum := 0.0
		for _, said := range x.Asked.Said {
			sum += said.Bits
		}
		require.InDelta(t, x.Asked.Bits, sum, 1e-6, "what is said adds up")
		// the two alone: whole names are not counted, so that a common one may be worth more
		alone := func(from *record.Roster, id string) *record.Roster {
			i, _ := from.Find(id)
			b := record.NewBuilder(from.Names()[1:])
			var cells []string
			for _, name := range b.Names() {
				cells = append(cells, from.Column(name).Cell(i))
			}
			require.NoError(t, b.Append(cells))
			one, err := b.Roster()
			require.NoError(t, err)
			return one
		}
		person, account := pairing.LonePerson(alone(in.People, pair.Person), r.Weights), pairing.LoneAccount(alone(in.Accounts, pair.Account), r.Weights)
		pattern := person.Compare(account, in.People.Len()+in.Accounts.Len(), r.Told.Words)
		require.Equal(t, c.Pattern.Levels, pattern.Levels)
		require.InDelta(t, c.Pattern.Share[evidence.Family], pattern.Share[evidence.Family], 1e-6)
		require.GreaterOrEqual(t, r.Weights.Bits(&pattern), float64(c.Bits)-1e-4)
	}
	require.Positive(t, asked)

	// every value of a key that more than a pair of twins carries is told with its carriers
	in = town.input(t, 0, 2)
	in.Tell = true
	in.Keys[0].People = record.NewColumn(in.People.Len(), func(i int, dst []byte) []byte { return append(dst, in.People.Column("department").Cell(i)...) })
	r = pairing.Run(in)
	carriers := map[string]int{}
	named := func(in pairing.Input, r *pairing.Result) (list []string) {
		for _, c := range r.Told.Carriers {
			of := map[bool]*record.Roster{true: in.People, false: in.Accounts}[c.Person]
			list = append(list, c.Value+" "+of.ID(int(c.Row)))
		}
		return list
	}
	for _, c := range r.Told.Carriers {
		carriers[c.Value]++
	}
	shuffled := town.input(t, 5, 1)
	shuffled.Tell = true
	shuffled.Keys[0].People = record.NewColumn(shuffled.People.Len(), func(i int, dst []byte) []byte { return append(dst, shuffled.People.Column("department").Cell(i)...) })
	require.ElementsMatch(t, named(in, r), named(shuffled, pairing.Run(shuffled)), "the same few in whatever order they come")
	require.Len(t, carriers, 6, "as many as there are departments")
	for value, n := range carriers {
		require.Equal(t, 6, n, "%s: a few of those who carry it", value)
	}
}
