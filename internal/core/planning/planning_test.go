package planning

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/charter"
)

// A change reads verb:person:wave:needs; what comes out is the order, and what
// was dropped because a need of it is not planned.
func TestOrder(t *testing.T) {
	for _, c := range []struct{ name, in, want, dropped string }{
		{"verbs, then people", "suspend:a:0 create:b:0 mark:c:0 create:a:0", "mark c, create a, create b, suspend a", ""},
		{"waves first", "mark:a:1 suspend:b:0", "suspend b, mark a", ""},
		{"behind what it needs", "readdress:a:0:b readdress:b:0", "readdress b, readdress a", ""},
		{"into the wave of what it needs", "readdress:a:0:b readdress:b:1 set:c:0", "set c, readdress b, readdress a", ""},
		{"a need that is not planned", "readdress:a:0:x readdress:b:0:a set:c:0", "set c", "a b"},
		{"needs in a circle", "readdress:a:0:b readdress:b:0:a", "", "a b"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var changes []Change
			for _, w := range strings.Fields(c.in) {
				f := append(strings.Split(w, ":"), "")
				x := Change{Verb: f[0], Person: f[1], ID: "readdress " + f[1]}
				if f[0] != Readdress {
					x.ID = ChangeID(f[0], f[1], "")
				}
				_, err := fmt.Sscan(f[2], &x.Wave)
				require.NoError(t, err)
				if f[3] != "" {
					x.Needs = []string{"readdress " + f[3]}
				}
				changes = append(changes, x)
			}
			ordered, dropped := Order(changes)
			var got, gone []string
			for _, x := range ordered {
				got = append(got, x.Verb+" "+x.Person)
			}
			for _, x := range dropped {
				gone = append(gone, x.Person)
			}
			require.Equal(t, c.want, strings.Join(got, ", "))
			require.ElementsMatch(t, strings.Fields(c.dropped), gone)
		})
	}
}

func TestGuards(t *testing.T) {
	guard := charter.Guard{Verb: Suspend, MoreThan: 2, Share: 0.01, Within: 7}
	for _, c := range []struct {
		count, twins, recent, pending int
		tripped                       bool
	}{{2, 10, 0, 0, false}, {3, 10, 0, 0, true}, {3, 400, 0, 0, false}, {3, 400, 2, 0, true}, {3, 400, 0, 2, true}, {2, 400, 1, 1, false}, {0, 10, 9, 9, false}} {
		changes := make([]Change, c.count)
		for i := range changes {
			changes[i].Verb = Suspend
		}
		r := Guards([]charter.Guard{guard}, changes, Totals{Twins: c.twins}, true, Past{Recent: func(string, int) int { return c.recent }, Pending: func(string) int { return c.pending }})
		require.Equal(t, c.tripped, r[0].Tripped, "%+v: %+v", c, r[0])
	}
	first := Guards([]charter.Guard{{Verb: Create}}, []Change{{Verb: Create}}, Totals{People: 1}, true, Past{})
	require.False(t, first[0].Tripped, "a declared first load may create")
	require.Equal(t, ChangeID("set", "p", "a"), ChangeID("set", "p", "a"))
	require.NotEqual(t, ChangeID("set", "pa", ""), ChangeID("set", "p", "a"))
}
