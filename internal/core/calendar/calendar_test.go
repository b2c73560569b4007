package calendar

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func zone(t require.TestingT, name string) *time.Location {
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

func TestDay(t *testing.T) {
	for _, c := range []struct{ instant, zone, day string }{
		{"2026-06-29T15:00:00Z", "Asia/Tokyo", "2026-06-30"},
		{"2026-06-29T14:59:59Z", "Asia/Tokyo", "2026-06-29"},
		{"2026-06-30T02:00:00Z", "America/Santiago", "2026-06-29"},
		{"2026-06-30T02:00:00Z", "UTC", "2026-06-30"},
		{"2026-03-29T01:30:00+01:00", "Europe/Madrid", "2026-03-29"}, // the hour before the clocks go forward
	} {
		at, err := time.Parse(time.RFC3339, c.instant)
		require.NoError(t, err)
		require.Equal(t, c.day, Day(at, zone(t, c.zone)), "%s in %s", c.instant, c.zone)
	}
	require.Equal(t, "2026-06-29", Day(time.Date(2026, 6, 29, 15, 0, 0, 0, time.UTC), nil))
	for _, c := range []struct{ day, zone, begins string }{
		{"2026-06-30", "Asia/Tokyo", "2026-06-29T15:00:00Z"},
		{"2026-09-06", "America/Santiago", "2026-09-06T04:00:00Z"}, // midnight does not exist: the clocks go forward
		{"2018-11-04", "America/Sao_Paulo", "2018-11-04T03:00:00Z"},
	} {
		at, err := Begin(c.day, zone(t, c.zone))
		require.NoError(t, err)
		require.Equal(t, c.begins, at.UTC().Format(time.RFC3339), "%s in %s", c.day, c.zone)
	}
	for _, none := range []string{"", "2026-02-30", "30.06.2026", "2026-6-1"} {
		require.False(t, IsDay(none), none)
		_, err := Begin(none, nil)
		require.Error(t, err)
		_, ok := Between(none, "2026-01-01")
		require.False(t, ok)
		require.Equal(t, none, Add(none, 3))
	}
}

// A day begins and ends on itself in every zone, and days add up, clock changes or not.
func TestDays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		z := zone(t, rapid.SampledFrom([]string{"UTC", "Asia/Tokyo", "America/Santiago", "Pacific/Apia", "Asia/Kathmandu", "Europe/Lisbon", "Africa/Cairo"}).Draw(t, "zone"))
		day := Add("2012-01-02", rapid.IntRange(0, 8000).Draw(t, "days"))
		from, err := Begin(day, z)
		require.NoError(t, err)
		to, err := End(day, z)
		require.NoError(t, err)
		require.Equal(t, []string{day, day}, []string{Day(from, z), Day(to, z)})
		require.NotEqual(t, day, Day(from.Add(-time.Nanosecond), z))
		require.NotEqual(t, day, Day(to.Add(time.Nanosecond), z))
		n := rapid.IntRange(-400, 400).Draw(t, "later")
		between, ok := Between(day, Add(day, n))
		require.True(t, ok)
		require.Equal(t, n, between)
	})
}
