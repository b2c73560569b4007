package calendar

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Window is a part of days by the clocks of a zone, such as the nights to Saturday and
// Sunday from 22:00 to 05:00. Whatever the clocks on the wall show counts: what happens twice
// when they are set back is open twice, and what is left out when they are set forward does
// not open on that day.
type Window struct {
	Days     []time.Weekday // on which it begins; none: every day
	From, To int            // minutes after midnight; one that ends before it begins ends the day after
}

// minutesOfDay is the end of a day, 24:00.
const minutesOfDay = 24 * 60

// Minutes reads a time of day such as 22:00 as minutes after midnight; 24:00 is the end of a
// day.
func Minutes(clock string) (minutes int, err error) {
	if clock == "24:00" {
		return minutesOfDay, nil
	}
	t, err := time.Parse("15:04", clock)
	if err != nil || len(clock) != len("15:04") {
		return 0, fmt.Errorf("%q is no time of day; expected one such as 05:00, 22:30 or 24:00", clock)
	}
	return t.Hour()*60 + t.Minute(), nil
}

// weekdays are the words for days, in the order of time.Weekday.
var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// Weekdays are the words for the days of a week, as they follow one another at work.
var Weekdays = append(slices.Clone(weekdays[1:]), weekdays[0])

// Weekday reads one of them.
func Weekday(word string) time.Weekday { return time.Weekday(slices.Index(weekdays, word)) }

func (w Window) on(day time.Weekday) bool { return len(w.Days) == 0 || slices.Contains(w.Days, day) }

// Open reports whether an instant is inside it, by the clocks of a zone.
func (w Window) Open(t time.Time, zone *time.Location) bool {
	at := t.In(orUTC(zone))
	minute, today := at.Hour()*60+at.Minute(), at.Weekday()
	if w.From < w.To {
		return w.on(today) && w.From <= minute && minute < w.To
	}
	return w.on(today) && minute >= w.From || w.on((today+6)%7) && minute < w.To
}

// String is the window as people say it.
func (w Window) String() string {
	clock := func(minutes int) string { return fmt.Sprintf("%02d:%02d", minutes/60, minutes%60) }
	var days []string
	for _, d := range w.Days {
		days = append(days, weekdays[d])
	}
	return strings.TrimSpace(strings.Join(days, ", ") + " " + clock(w.From) + "–" + clock(w.To))
}

const fortnight = 15 * 24 * time.Hour

// Opens is the first instant from now on at which one of some windows is open; now where one
// is. Every window opens within a fortnight, also where the clocks leave one out.
func Opens(windows []Window, now time.Time, zone *time.Location) time.Time {
	open := func(t time.Time) bool {
		return slices.ContainsFunc(windows, func(w Window) bool { return w.Open(t, zone) })
	}
	if open(now) {
		return now
	}
	t := now.Truncate(time.Minute).Add(time.Minute)
	for t.Sub(now) < fortnight && !open(t) {
		t = t.Add(time.Minute)
	}
	return t
}
