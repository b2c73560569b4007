package lifecycle

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Every state is reached, an event leads to one state only, and from every state
// that is no end a human can go on.
func TestTables(t *testing.T) {
	for start, m := range map[State]Machine{Draft: Plans, Queued: Tasks} {
		reached := map[State]bool{start: true}
		for range m.Moves {
			for _, move := range m.Moves {
				reached[move.To] = reached[move.To] || reached[move.From]
			}
		}
		for _, s := range m.States() {
			require.True(t, reached[s], "%s: nothing leads to %s", m.Kind, s)
			way := m.IsEnd(s)
			for _, move := range m.Moves {
				way = way || move.From == s && move.Human
			}
			require.True(t, way, "%s: no human can go on from %s", m.Kind, s)
		}
		for _, a := range m.Moves {
			for _, b := range m.Moves {
				require.False(t, a.Event == b.Event && a.To != b.To, "%s: %s leads to %s and to %s", m.Kind, a.Event, a.To, b.To)
			}
		}
	}
	require.True(t, Plans.Allows(Halted, Abandon))
	require.False(t, Plans.Allows(Finished, Start))
}
