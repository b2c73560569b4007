package charter

import (
	"slices"
	"time"

	"twinning/internal/core/calendar"
	"twinning/internal/core/document"
)

// readWindows reads when runs may write.
func (r *reader) readWindows(n document.Node) {
	for _, item := range n.Items() {
		f := item.Declared(Keys)
		var w calendar.Window
		for _, d := range f["days"].Items() {
			if day := calendar.Weekday(d.Word(Keys, "windows[].days[]")); !slices.Contains(w.Days, day) {
				w.Days = append(w.Days, day)
			}
		}
		if !f["from"].Present() || !f["to"].Present() {
			item.Problem("a window needs `from:` and `to:`, two times of day by the clocks of the charter's zone")
			continue
		}
		clock := func(n document.Node) int {
			minutes, err := calendar.Minutes(n.Text())
			if err != nil {
				n.Problem("%v", err)
			}
			return minutes
		}
		w.From, w.To = clock(f["from"]), clock(f["to"])
		switch {
		case w.From == 24*60:
			f["from"].Problem("no day begins at its end; expected 00:00, of the day after")
		case w.From == w.To:
			item.Problem("the window ends where it begins; one of a whole day is {from: \"00:00\", to: \"24:00\"}")
		}
		r.Windows = append(r.Windows, w)
	}
}

// Opens is when a run may write, from an instant on: that instant itself inside a window, and
// where the charter has none.
func (c *Charter) Opens(now time.Time) time.Time {
	if len(c.Windows) == 0 {
		return now
	}
	return calendar.Opens(c.Windows, now, c.Zone)
}
