package connector_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
)

// What finds no turn by its instant is not sent, says so, and keeps nobody else from theirs;
// only the first request of something is bound so.
func TestStartBy(t *testing.T) {
	const soon, long = 20 * time.Millisecond, time.Hour
	for name, c := range map[string]struct {
		pace  *connector.Pace
		taken int // turns that others have
		wait  time.Duration
		late  bool
	}{
		"no limit":                     {nil, 5, soon, false},
		"a place is free":              {connector.NewPace(2, 0), 1, soon, false},
		"all places are taken":         {connector.NewPace(2, 0), 2, soon, true},
		"a turn is free":               {connector.NewPace(0, 3), 2, soon, false},
		"its turn would be too late":   {connector.NewPace(0, 0.01), 1, soon, true},
		"it can wait for it":           {connector.NewPace(0, 50), 50, long, false},
		"a place, and no turn":         {connector.NewPace(9, 0.01), 1, soon, true},
		"a rate, and its instant past": {connector.NewPace(0, 0.01), 0, -soon, true},
	} {
		t.Run(name, func(t *testing.T) {
			var leaves []func()
			for range c.taken {
				leave, err := c.pace.Enter(context.Background())
				require.NoError(t, err)
				leaves = append(leaves, leave)
			}
			ctx := connector.StartBy(context.Background(), time.Now().Add(c.wait))
			leave, err := c.pace.Enter(ctx)
			if c.late {
				require.Equal(t, connector.Throttled, connector.KindOf(err), "%v", err)
			} else {
				require.NoError(t, err)
				leaves = append(leaves, leave)
			}
			for _, leave := range leaves {
				leave()
			}
			if c.pace != nil && c.wait == soon && name != "its turn would be too late" && name != "a place, and no turn" {
				_, err = c.pace.Enter(ctx) // what follows is under way already
				require.NoError(t, err)
			}
		})
	}
	given, cancel := context.WithCancel(context.Background())
	cancel()
	slow := connector.NewPace(1, 0.01)
	_, err := slow.Enter(context.Background())
	require.NoError(t, err)
	_, err = slow.Enter(given)
	require.ErrorIs(t, err, context.Canceled)
}
