package charter

import (
	"slices"
	"time"

	"twinning/internal/core/calendar"
	"twinning/internal/core/document"
)

// Wait is what accounts wait for, and for how many days before that is told.
type Wait struct {
	Lane string // "": until they appear
	Days int
	Line int
}

// readAwaited reads which lane comes first.
func (r *reader) readAwaited(n document.Node) {
	f := n.Declared(Keys)
	if !n.Present() {
		return
	}
	line, _ := n.Place()
	r.After = &Wait{Lane: f["lane"].Text(), Line: line}
	if d, ok := f["within"]; ok {
		r.After.Days = d.Days()
	}
	switch {
	case r.After.Lane == "":
		n.Problem("`after:` needs `lane:`, in which people have an account before they are given one here")
	case r.After.Lane == r.Lane:
		f["lane"].Problem("the lane can't come after itself")
	case r.Appear != nil:
		n.Problem("with `accounts: {appear-within: …}` none is made here, so there is nothing to come after; leave one of them out")
	}
}

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
