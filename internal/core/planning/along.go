package planning

// Along are the changes that go the same way as some others, by their places: to include a
// change takes along all that it needs, to set one aside all that needs it; a unit goes as a
// whole, either way.
func Along(n int, at func(i int) *Change, from func(i int) bool, aside bool) []bool {
	in := make([]bool, n)
	next := make(map[string][]int) // what a change, or a unit, takes along
	units := map[string][]int{}
	byID := make(map[string]int, n)
	for i := range n {
		c := at(i)
		byID[c.ID] = i
		if c.Unit != "" {
			units[c.Unit] = append(units[c.Unit], i)
		}
	}
	for i := range n {
		c := at(i)
		for _, need := range c.Needs {
			j, there := byID[need]
			switch {
			case aside:
				next[need] = append(next[need], i)
			case there:
				next[c.ID] = append(next[c.ID], j)
			}
		}
	}
	var todo []int
	add := func(i int) {
		if !in[i] {
			in[i] = true
			todo = append(todo, i)
		}
	}
	for i := range n {
		if from(i) {
			add(i)
		}
	}
	for len(todo) > 0 {
		c := at(todo[len(todo)-1])
		todo = todo[:len(todo)-1]
		for _, j := range next[c.ID] {
			add(j)
		}
		if c.Unit != "" {
			for _, j := range units[c.Unit] {
				add(j)
			}
		}
	}
	return in
}
