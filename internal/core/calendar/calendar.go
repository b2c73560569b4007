// Package calendar is the one room in which an instant becomes a calendar day and a
// day an instant. Both need a zone: a term that ends at 15:00 UTC has ended the day
// after in Tokyo. A day is text, "2006-01-02" (ISO 8601), as the canonical values
// of dates are, so that days sort and compare as they stand; nobody else in the
// house takes one apart.
package calendar

import (
	"fmt"
	"time"
)

const form = time.DateOnly

// Day is the calendar day of an instant in a zone; a nil zone is UTC.
func Day(t time.Time, zone *time.Location) string {
	return t.In(orUTC(zone)).Format(form)
}

// IsDay reports whether the text is a day that exists.
func IsDay(day string) bool {
	if len(day) != len(form) || day[4] != '-' || day[7] != '-' {
		return false
	}
	number := func(from, to int) (n int) {
		for i := from; i < to; i++ {
			if day[i] < '0' || day[i] > '9' {
				return -1
			}
			n = 10*n + int(day[i]-'0')
		}
		return n
	}
	y, m, d := number(0, 4), number(5, 7), number(8, 10)
	return y >= 0 && m >= 1 && m <= 12 && d >= 1 && d <= time.Date(y, time.Month(m)+1, 0, 0, 0, 0, 0, time.UTC).Day()
}

// Begin is the first instant of a day in a zone: midnight, or where a clock change
// takes midnight away, the instant of the change.
func Begin(day string, zone *time.Location) (time.Time, error) {
	t, err := time.ParseInLocation(form, day, orUTC(zone))
	if err != nil {
		return time.Time{}, fmt.Errorf("%q is not a day (YYYY-MM-DD)", day)
	}
	for t.Format(form) < day { // no such midnight: Go takes the hour before
		t = t.Add(30 * time.Minute)
	}
	return t, nil
}

// End is the last instant of a day in a zone, to the nanosecond.
func End(day string, zone *time.Location) (time.Time, error) {
	t, err := Begin(Add(day, 1), zone)
	return t.Add(-time.Nanosecond), err
}

// Add is the day so many days later, or earlier; text that is no day stays.
func Add(day string, days int) string {
	t, err := time.Parse(form, day)
	if err != nil {
		return day
	}
	return t.AddDate(0, 0, days).Format(form)
}

// Between counts the days from one day to another; ok is false when either is none.
func Between(from, to string) (days int, ok bool) {
	a, err1 := time.Parse(form, from)
	b, err2 := time.Parse(form, to)
	return int(b.Sub(a) / (24 * time.Hour)), err1 == nil && err2 == nil
}

func orUTC(zone *time.Location) *time.Location {
	if zone == nil {
		return time.UTC
	}
	return zone
}
