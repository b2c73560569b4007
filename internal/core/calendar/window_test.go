package calendar

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestWindow(t *testing.T) {
	night := Window{Days: []time.Weekday{time.Friday, time.Saturday}, From: 22 * 60, To: 5 * 60}
	require.Equal(t, "fri, sat 22:00–05:00", night.String())
	for _, c := range []struct {
		now, zone string
		windows   []Window
		opens     string
	}{
		{"2026-11-27T12:00:00Z", "UTC", []Window{night}, "2026-11-27T22:00:00Z"},
		{"2026-11-27T22:00:00Z", "UTC", []Window{night}, "2026-11-27T22:00:00Z"},
		{"2026-11-28T04:59:59Z", "UTC", []Window{night}, "2026-11-28T04:59:59Z"},        // the night of Friday
		{"2026-11-29T05:00:00Z", "UTC", []Window{night}, "2026-12-04T22:00:00Z"},        // that of Saturday is over
		{"2026-11-27T23:30:00Z", "Asia/Tokyo", []Window{night}, "2026-11-28T13:00:00Z"}, // it is Saturday there
		{"2026-11-27T12:00:30Z", "UTC", []Window{{From: 0, To: 24 * 60}}, "2026-11-27T12:00:30Z"},
		{"2026-11-27T12:00:30Z", "UTC", []Window{{From: 12*60 + 1, To: 13 * 60}, night}, "2026-11-27T12:01:00Z"},
		{"2026-03-29T00:30:00Z", "Europe/Madrid", []Window{{From: 2*60 + 15, To: 2*60 + 45}}, "2026-03-30T00:15:00Z"}, // no such hour on that day
		{"2026-03-22T01:50:00Z", "Europe/Madrid", []Window{{Days: []time.Weekday{time.Sunday}, From: 2*60 + 15, To: 2*60 + 45}}, "2026-04-05T00:15:00Z"},
		{"2026-10-25T00:45:00Z", "Europe/Madrid", []Window{{From: 2*60 + 15, To: 2*60 + 45}}, "2026-10-25T01:15:00Z"}, // a second time
	} {
		now, err := time.Parse(time.RFC3339, c.now)
		require.NoError(t, err)
		require.Equal(t, c.opens, Opens(c.windows, now, zone(t, c.zone)).UTC().Format(time.RFC3339), "%v from %s in %s", c.windows, c.now, c.zone)
	}
	require.True(t, Opens(nil, time.Now(), nil).After(time.Now().AddDate(0, 0, 14)), "no window is never open")
	for clock, minutes := range map[string]int{"00:00": 0, "05:30": 330, "24:00": 1440, "5:30": -1, "24:01": -1, "22": -1, "": -1} {
		got, err := Minutes(clock)
		require.Equal(t, minutes < 0, err != nil, clock)
		require.True(t, minutes < 0 || got == minutes, clock)
	}
}

// Whatever the window and the zone: it is open when it opens, was not a moment before, and
// what is open in it lies on one of its days.
func TestWindowOpens(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		z := zone(t, rapid.SampledFrom([]string{"UTC", "Asia/Tokyo", "America/Santiago", "Asia/Kathmandu", "Europe/Lisbon"}).Draw(t, "zone"))
		w := Window{From: rapid.IntRange(0, 1439).Draw(t, "from"), To: rapid.IntRange(1, 1440).Draw(t, "to")}
		for _, d := range rapid.SliceOfN(rapid.IntRange(0, 6), 1, 3).Draw(t, "days") {
			w.Days = append(w.Days, time.Weekday(d))
		}
		if w.From == w.To {
			w.To++
		}
		now := time.Date(2026, 1, 1, 0, 0, 17, 0, time.UTC).Add(time.Duration(rapid.IntRange(0, 366*24*60).Draw(t, "minute")) * time.Minute)
		opens := Opens([]Window{w}, now, z)
		require.False(t, opens.Before(now))
		require.True(t, w.Open(opens, z))
		if opens.After(now) {
			require.False(t, w.Open(now, z))
			require.False(t, w.Open(opens.Add(-time.Second), z))
		}
		began := opens.In(z)
		if w.From >= w.To && began.Hour()*60+began.Minute() < w.From { // it began the day before
			began = began.AddDate(0, 0, -1)
		}
		require.Contains(t, w.Days, began.Weekday())
	})
}
