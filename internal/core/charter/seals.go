package charter

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"twinning/internal/core/document"
)

// Seals says who may approve which plans.
type Seals struct {
	Second   Second
	Ordinary map[string]int // verb -> of how many changes a plan is still sealed without a human; nil: none is
}

// Second says which plans need a second person: whoever drafted one may then not seal it.
type Second struct {
	Verbs   []string
	Share   float64 // of the lane's twins; 0: it does not matter
	Classes []string
	Line    int // 0: none does
}

// never are the verbs that no plan has which is sealed without a human.
var never = map[string]bool{"delete": true, "reissue": true, "invite": true}

const (
	// DefaultFailures holds where a charter is silent.
	DefaultFailures = 0.25
	// FewestTried is of how many changes a share says anything.
	FewestTried = 20
)

func (r *reader) readSeals(n document.Node) {
	f := n.Declared(Keys)
	if !n.Present() {
		return
	}
	if s, ok := f["second-person"]; ok {
		x := &r.Seals.Second
		x.Line, _ = s.Place()
		g := s.Declared(Keys)
		for _, v := range g["verbs"].Items() {
			x.Verbs = append(x.Verbs, r.verb(v))
		}
		if v, ok := g["share"]; ok {
			x.Share = v.Percent()
		}
		for _, v := range g["classes"].Items() {
			if !slices.ContainsFunc(r.Classes, func(c Class) bool { return c.Name == v.Text() }) {
				v.Problem("there is no class %q", v.Text())
			}
			x.Classes = append(x.Classes, v.Text())
		}
		if len(x.Verbs)+len(x.Classes) == 0 && x.Share == 0 {
			s.Problem("say which plans need a second person: `verbs:`, `share:` or `classes:`")
		}
	}
	if o, ok := f["ordinary"]; ok {
		r.Seals.Ordinary = map[string]int{}
		for _, e := range o.Entries() {
			switch {
			case never[e.Key]:
				e.Value.Problem("a plan with %s is sealed by a human, always", e.Key)
			case !slices.Contains(Verbs, e.Key):
				e.Value.Problem("unknown verb %q%s; expected one of %v", e.Key, document.Suggest(e.Key, Verbs), Verbs)
			default:
				r.Seals.Ordinary[e.Key] = e.Value.Int(0)
			}
		}
	}
}

func (r *reader) verb(n document.Node) string {
	if !slices.Contains(Verbs, n.Text()) {
		n.Problem("unknown verb %q%s; expected one of %v", n.Text(), document.Suggest(n.Text(), Verbs), Verbs)
	}
	return n.Text()
}

func (r *reader) readRuns(n document.Node) {
	r.Failures = DefaultFailures
	if v, ok := n.Declared(Keys)["failures"]; ok {
		r.Failures = v.Percent()
	}
}

// pause reads what comes after a wave: a human's go-ahead, or so long a time.
func (w *Wave) pause(n document.Node) {
	if !n.Present() {
		return
	}
	if n.Text() == "go-ahead" {
		w.GoAhead = true
		return
	}
	if days, ok := strings.CutSuffix(n.Text(), "d"); ok {
		var d int
		if _, err := fmt.Sscanf(days+".", "%d.", &d); err == nil && d > 0 && d <= mostPause {
			w.Pause = time.Duration(d) * 24 * time.Hour
			return
		}
	}
	d, err := time.ParseDuration(n.Text())
	if err != nil || d <= 0 || d > mostPause*24*time.Hour {
		n.Problem("%q is no pause; expected go-ahead, or a time such as 30m, 2h or 1d, of %d days at most", n.Text(), mostPause)
		return
	}
	w.Pause = d
}

// mostPause is in days: a seal is not good for longer.
const mostPause = 7

// StopsAfter is the first wave behind one that a human has let go on ("" none), in which there
// is something to do, and after which a human says whether it goes on; "" when there is none.
func (c *Charter) StopsAfter(passed string, todo func(wave string) bool) string {
	first := slices.IndexFunc(c.Waves, func(w Wave) bool { return passed != "" && w.Name == passed }) + 1
	for _, w := range c.Waves[first:] {
		if w.GoAhead && todo(w.Name) {
			return w.Name
		}
	}
	return ""
}

// WaveAt is the place of a wave, -1 when the charter has none of that name.
func (c *Charter) WaveAt(name string) int {
	return slices.IndexFunc(c.Waves, func(w Wave) bool { return w.Name == name })
}

// Needs says why a plan needs a second person, "" where it does not: by how many changes of
// each verb it has, of which classes of people, beside how many twins.
func (s Second) Needs(verbs map[string]int, classes map[string]int, twins int) string {
	all := 0
	for _, verb := range slices.Sorted(maps.Keys(verbs)) {
		n := verbs[verb]
		if all += n; n > 0 && slices.Contains(s.Verbs, verb) {
			return fmt.Sprintf("it has %d × %s (charter line %d)", n, verb, s.Line)
		}
	}
	if s.Share > 0 && float64(all) > s.Share*float64(twins) {
		return fmt.Sprintf("it has %d changes, more than %g %% of %d twins (charter line %d)", all, 100*s.Share, twins, s.Line)
	}
	for _, c := range s.Classes {
		if n := classes[c]; n > 0 {
			return fmt.Sprintf("it has %d changes of class %s (charter line %d)", n, c, s.Line)
		}
	}
	return ""
}

// Beyond says what of a plan is not ordinary.
func (s Seals) Beyond(verbs map[string]int) (list []string) {
	for _, verb := range slices.Sorted(maps.Keys(verbs)) {
		most, named := s.Ordinary[verb]
		switch n := verbs[verb]; {
		case n == 0:
		case !named:
			list = append(list, fmt.Sprintf("%d × %s, which is never ordinary here", n, verb))
		case n > most:
			list = append(list, fmt.Sprintf("%d × %s, ordinary are %d at most", n, verb, most))
		}
	}
	return list
}

// looserSeals tells in what fewer plans need a human, or two, than before.
func (s Seals) looserSeals(before Seals) (list []string) {
	was, now := before.Second, s.Second
	for _, v := range was.Verbs {
		if !slices.Contains(now.Verbs, v) {
			list = append(list, fmt.Sprintf("second-person: not for %s any more", v))
		}
	}
	for _, c := range was.Classes {
		if !slices.Contains(now.Classes, c) {
			list = append(list, fmt.Sprintf("second-person: not for class %s any more", c))
		}
	}
	if was.Share > 0 && (now.Share == 0 || now.Share > was.Share) {
		list = append(list, fmt.Sprintf("second-person: share %g %%, was %g %%", 100*now.Share, 100*was.Share))
	}
	return list
}
