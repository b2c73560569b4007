package planning_test

import (
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/planning"
)

// What is unusual is said, and nothing else: a line is what the plan has, what the plans before
// had of the verb, and what is told.
func TestUnusual(t *testing.T) {
	for line, want := range map[string]string{
		"suspend:12:Kitchen | 0 2 1":                               "12 × suspend, usually 0–2, all from one department: Kitchen",
		"suspend:12:Kitchen set:9:Optics suspend:1:Optics | 0 2 1": "13 × suspend, usually 0–2, 12 of them from one department: Kitchen",
		"suspend:2:Kitchen set:1:Optics | 0 2 1":                   "",
		"suspend:4:Kitchen set:1:Optics | 0 2 1":                   "",
		"suspend:5:Kitchen set:1:Optics | 0 2 1":                   "5 × suspend, usually 0–2, all from one department: Kitchen",
		"suspend:6:Kitchen set:1:Optics | 8 9 7":                   "6 × suspend, all from one department: Kitchen",
		"suspend:6:Kitchen | 8 9 7":                                "", // there is only one
		"suspend:3:Kitchen suspend:3:Optics | 8 9 7":               "",
		"delete:1:Kitchen | 0 0 0":                                 "1 × delete, and none in the last 3 plans",
		"create:1:Kitchen | 0 0 0":                                 "",
		"set:40:Kitchen set:40:Optics | 10 12 20":                  "80 × set, usually 10–20",
		"set:40:Kitchen | 10 12":                                   "", // too few to say
	} {
		what, before, _ := strings.Cut(line, " | ")
		var changes []planning.Whose
		verb := ""
		for _, w := range strings.Fields(what) {
			parts := strings.Split(w, ":")
			n, err := strconv.Atoi(parts[1])
			require.NoError(t, err)
			for range n {
				changes = append(changes, planning.Whose{Verb: parts[0], Department: parts[2]})
			}
			if verb == "" {
				verb = parts[0]
			}
		}
		var past []map[string]int
		for _, n := range strings.Fields(before) {
			count, err := strconv.Atoi(n)
			require.NoError(t, err)
			past = append(past, map[string]int{"set": 100, verb: count})
		}
		s := planning.Summarise(changes, past)
		require.Equal(t, want, strings.Join(s.Unusual, "; "), line)
		n := 0
		for _, d := range s.Departments {
			n += d.Count
		}
		require.Equal(t, len(changes), n)
	}
}
