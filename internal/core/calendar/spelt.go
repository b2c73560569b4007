package calendar

import (
	"slices"
	"time"
)

// spellings are the ways in which spreadsheets write a day again.
var spellings = []string{"2006-01-02", "2.1.2006", "2/1/2006", "1/2/2006", "2-1-2006", "2006/1/2", "2.1.06", "1/2/06", "2/1/06", "2 January 2006", "January 2, 2006", "2006-01-02 15:04:05", "2006-01-02T15:04:05Z"}

// Respelt reports whether a text is a day written in another way.
func Respelt(text, day string) bool {
	return IsDay(day) && slices.ContainsFunc(spellings, func(form string) bool {
		t, err := time.Parse(form, text)
		return err == nil && t.Format(time.DateOnly) == day
	})
}
