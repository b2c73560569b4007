package intake

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"twinning/internal/connector"
	"twinning/internal/core/record"
)

// properties are tried on the same values every time; soak takes others
func init() { _ = flag.Set("rapid.seed", "20261125") }

// What is known of a system is found whatever the order, each id is new once,
// and what a reading did not see is missed.
func TestStock(t *testing.T) {
	k := newStock()
	k.expect(0) // whatever was expected
	const n = 5000
	for i := range n {
		require.NoError(t, k.add([]byte(fmt.Sprintf("id-%d", i)), []byte(fmt.Sprintf("digest--%08d", i))))
	}
	rng := rand.New(rand.NewPCG(1, 2))
	for _, i := range rng.Perm(n) {
		if i%10 == 0 {
			continue // not seen
		}
		before, stored := k.see(fmt.Sprintf("id-%d", i), i+1)
		require.Zero(t, before)
		require.Equal(t, short([]byte(fmt.Sprintf("digest--%08d", i))), stored)
	}
	before, stored := k.see("fresh", 7)
	require.Zero(t, before)
	require.Zero(t, stored)
	before, _ = k.see("fresh", 9)
	require.EqualValues(t, 7, before, "where it was seen first")
	before, _ = k.see("id-41", 0)
	require.EqualValues(t, 42, before)
	require.Equal(t, n/10, k.unseen)
	require.True(t, k.missed([]byte("id-40")))
	require.False(t, k.missed([]byte("id-41")))
	require.False(t, k.missed([]byte("fresh")))
	k.forget()
	require.Equal(t, n, k.unseen)
	require.True(t, k.missed([]byte("id-41")))
}

// What is stored is JSON that says the same, and two records have one digest
// only when they are one.
func TestKeeper(t *testing.T) {
	texts := rapid.OneOf(rapid.StringN(0, 6, -1), rapid.SampledFrom([]string{"", "\"", "\\", "\n\t\x01", "Ægir 陳", "a\u2028b"}))
	records := rapid.MapOf(rapid.SampledFrom([]string{"a", "b", "ab", "c"}), rapid.SliceOfN(texts, 0, 3))
	rapid.Check(t, func(t *rapid.T) {
		x, y := records.Draw(t, "x"), records.Draw(t, "y")
		var k keeper
		k.natives = []string{"a", "ab", "b", "c"}
		dx := string(k.digest(x))
		var back map[string][]string
		require.NoError(t, json.Unmarshal(k.json(x), &back), "%s", k.json(x))
		require.Equal(t, len(x), len(back))
		same := len(x) == len(y)
		for n, v := range x {
			require.Equal(t, append([]string{}, v...), append([]string{}, back[n]...))
			w, there := y[n]
			same = same && there && slices.Equal(v, w)
		}
		require.Equal(t, same, dx == string(k.digest(y)))
	})
}

// slowly collects what it is given, and fails at a record.
type slowly struct {
	calls  []string
	failAt string
}

func (s *slowly) note(call string) error {
	s.calls = append(s.calls, call)
	if call == s.failAt {
		return errors.New("enough of it")
	}
	return nil
}
func (s *slowly) Expect(n int)                    { _ = s.note(fmt.Sprint("expect ", n)) }
func (s *slowly) Record(r connector.Record) error { return s.note("record " + r.ID) }
func (s *slowly) Reject(r record.Rejection) error { return s.note("reject " + r.ID) }
func (s *slowly) Gone(id string) error            { return s.note("gone " + id) }
func (s *slowly) Restart() error                  { return s.note("restart") }
func (s *slowly) LeftOut(l connector.Left) error  { return s.note("left " + l.What) }

// Reading ahead changes neither order nor end; a failure is told, and what
// comes after it is not taken in.
func TestReadAhead(t *testing.T) {
	to := &slowly{}
	a := readAhead(to)
	a.Expect(3)
	var want []string
	for i := range 3*aheadBy + 5 {
		id := fmt.Sprint(i)
		require.NoError(t, a.Record(connector.Record{ID: id}))
		want = append(want, "record "+id)
	}
	require.NoError(t, a.Reject(record.Rejection{ID: "x"}))
	require.NoError(t, a.Gone("y"))
	require.NoError(t, a.LeftOut(connector.Left{What: "z"}))
	require.NoError(t, a.Restart())
	require.NoError(t, a.wait())
	require.Equal(t, strings.Join(append(append([]string{"expect 3"}, want...), "reject x", "gone y", "left z", "restart"), ","), strings.Join(to.calls, ","))

	to = &slowly{failAt: "record 10"}
	a = readAhead(to)
	var err error
	for i := 0; err == nil; i++ {
		err = a.Record(connector.Record{ID: fmt.Sprint(i)})
		require.Less(t, i, 100*aheadBy, "the connector hears of it")
	}
	require.ErrorContains(t, err, "enough of it")
	require.ErrorContains(t, a.wait(), "enough of it")
	require.Equal(t, "record 10", to.calls[len(to.calls)-1])
}
