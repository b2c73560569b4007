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
			var changes []*Change
			for _, w := range strings.Fields(c.in) {
				f := append(strings.Split(w, ":"), "")
				x := &Change{Verb: f[0], Person: f[1], ID: "readdress " + f[1]}
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

// What a premise says when it falls, and that nothing falls while all is as it was.
func TestStillHold(t *testing.T) {
	pair := PairKey("L1", "u1")
	for _, c := range []struct {
		kind              PremiseKind
		key, version, now string
		says              string
	}{
		{PersonAsRead, "L1", "d1", "d1", ""},
		{PersonAsRead, "L1", "d1", "d2", "changed since"},
		{PersonAsRead, "L1", "d1", "", "not in the newest roster any more"},
		{PersonAsRead, "L1", "d1", Unreadable, "could not be read"},
		{PersonAbsent, "L1", "", "", ""},
		{PersonAbsent, "L1", "", "present", `person "L1" is in the newest roster again`},
		{AbsenceKnown, "people", "", "", ""},
		{AbsenceKnown, "people", "", "2 records could not be read", "nothing may be concluded from an absence: 2 records"},
		{NobodyNew, "people", "7", "7", ""},
		{NobodyNew, "people", "7", "3 people came or changed since", "nobody owning the account, and 3 people came"},
		{NoneHidden, "accounts", "", "", ""},
		{NoneHidden, "accounts", "", "2 records do not show", "nobody may be created: 2 records do not show"},
		{NamesKnown, "accounts", "", "1 account does not show", "no name may be called free: 1 account does not show"},
		{KeyAlone, KeyOf("e-mail", "a@l.example"), "", "", ""},
		{KeyAlone, KeyOf("e-mail", "a@l.example"), "", `person "L9" carries it since`, `e-mail "a@l.example" is no longer theirs alone`},
		{BondOf, "u1", "L1", "L1", ""},
		{BondOf, "u1", "L1", "L2", `bonded with person "L2" now`},
		{BondOf, "u1", "L1", "", "no longer bonded as it was"},
		{BondOf, "u1", Unless("", "L1"), "L1", ""}, // by an earlier change of this very twin
		{BondOf, "u1", Unless("", "L1"), "", ""},
		{BondOf, "u1", Unless("", "L1"), "L2", `bonded with person "L2" now`},
		{BondedTo, "L1", "", "u2", `bonded with account "u2" now`},
		{Rulings, pair, "", "", ""},
		{Rulings, pair, "3,5", "3,5", ""},
		{Rulings, pair, "", "8", "a human ruled on L1 or u1 since: ruling 8 is new"},
		{Rulings, pair, "3", "", "a human ruled on L1 or u1 since: ruling 3 was cleared"},
		{Rulings, pair, "3,5", "5,9", "ruling 9 is new"},
		{Unclaimed, "u1", "", "", ""},
		{Unclaimed, "u1", "", "other", "held or contested by lane other now"},
		{NameReserved, "asoto", "12", "12", ""},
		{NameReserved, "asoto", "12", "13", "no longer reserved for this plan"},
		{OurSuspend, "u1", "4/2", "4/2", ""},
		{OurSuspend, "u1", "4/2", "", "somebody opened it since"},
		{NotCancelled, "i-1", "", "", ""},
		{NotCancelled, "i-1", "", "their thesis is read", "cancelled: their thesis is read"},
		{WeightsUsed, "", "1", "2", "weights 2, were 1"},
		{CharterUsed, "", "1", "2", "version 2, was 1"},
	} {
		said := StillHold([]Premise{{c.kind, c.key, c.version}}, Facts{{c.kind, c.key}: c.now})
		if c.says == "" {
			require.Empty(t, said, "%s %q %q", c.kind, c.version, c.now)
		} else {
			require.Contains(t, said, c.says)
		}
		require.Contains(t, StillHold([]Premise{{c.kind, c.key, c.version}}, Facts{}), "not known", "what was not asked about has not been seen to hold")
	}
	first := []Premise{{PersonAsRead, "L1", "d1"}, {Unclaimed, "u1", ""}}
	require.Contains(t, StillHold(first, Facts{{PersonAsRead, "L1"}: "d1", {Unclaimed, "u1"}: "other"}), "lane other")
}

// Guards count what was done, is being done and is planned, together.
func TestGuardsCountTogether(t *testing.T) {
	suspend := func(n int) (list []Change) {
		for range n {
			list = append(list, Change{Verb: Suspend})
		}
		return list
	}
	for _, c := range []struct {
		name                    string
		planned, recent, others int
		within                  int
		first, tripped          bool
	}{
		{"within", 2, 0, 0, 1, false, false},
		{"beyond", 3, 0, 0, 1, false, true},
		{"with what was done", 1, 2, 0, 1, false, true},
		{"with what others do", 1, 0, 2, 1, false, true},
		{"with both", 1, 1, 1, 1, false, true},
		{"nothing of its own", 0, 5, 5, 1, false, false},
		{"no days are looked back on", 1, 2, 0, 0, false, false},
		{"a first load suspends nobody either", 3, 0, 0, 1, true, true},
	} {
		past := Past{Recent: func(verb string, days int) int {
			require.Equal(t, Suspend, verb)
			require.Equal(t, c.within, days)
			return c.recent
		}, Pending: func(string) int { return c.others }}
		got := Guards([]charter.Guard{{Verb: Suspend, MoreThan: 2, Within: c.within}}, suspend(c.planned), Totals{Twins: 10, People: 10}, c.first, past)
		require.Equal(t, c.tripped, got[0].Tripped, c.name)
	}
}
