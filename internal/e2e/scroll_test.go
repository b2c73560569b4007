package e2e

import (
	"flag"
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

var scroll = flag.Int("scroll", 0, "of how many changes the plan is that TestScroll scrolls; 0 leaves it out")

// A plan is scrolled from its first change to its last: what the browser is kept busy with at
// a stretch is told; above 50 ms a person feels it.
func TestScroll(t *testing.T) {
	if *scroll == 0 {
		t.Skip("make soak plays it: it measures time, which the race detector and other tests would spoil")
	}
	r := newRig(t, "")
	people, users := "", []map[string]any{}
	for i := range *scroll {
		id := fmt.Sprintf("L%06d", i)
		people += fmt.Sprintf("%s,%d,Ana,Soto%d,a%d@larkspur.example,A,North\n", id, i, i, i)
		users = append(users, user(id, fmt.Sprintf("asoto%d", i), "Ana", fmt.Sprintf("Soto%d", i), true))
	}
	lane, _, _ := r.lane(people, plainRules, users...)
	plan := r.drafted(lane)
	p := r.signedIn()
	p.sees("lane-1")
	p.do(chromedp.Navigate(r.url + "/plans/" + plan))
	p.until("document.querySelectorAll('[role=rowgroup] [role=row]').length > 5", "the changes")
	eval[bool](p, `(() => { window.busy = []; new PerformanceObserver(l => l.getEntries().forEach(e => window.busy.push(e.duration))).observe({type: 'longtask', buffered: false}); return true })()`)
	last := fmt.Sprintf("Soto%d", *scroll-1)
	eval[bool](p, fmt.Sprintf(`(() => { const g = document.querySelector('[role=rowgroup]'); const box = [g, ...(function*(e) { while ((e = e.parentElement)) yield e })(g)].find(e => e.scrollHeight > e.clientHeight + 10 && getComputedStyle(e).overflowY !== 'visible'); window.scrolling = setInterval(() => { box.scrollTop += 120; if (g.textContent.includes(%q)) clearInterval(window.scrolling) }, 16); return true })()`, last))
	there := fmt.Sprintf(`document.querySelector('[role=rowgroup]').textContent.includes(%q)`, last)
	for deadline := time.Now().Add(4 * time.Minute); !eval[bool](p, there) && time.Now().Before(deadline); {
		time.Sleep(300 * time.Millisecond)
	}
	busy := eval[[]float64](p, `window.busy`)
	t.Logf("tasks of the browser above 50 ms while %d changes were scrolled: %v", *scroll, busy)
	require.True(t, eval[bool](p, there), "the last change is reached")
}
