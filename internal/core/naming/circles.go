package naming

import "slices"

// Names that move in a circle can't be granted one after the other: each waits for a name
// that another of them gives up. Where values in between may be used, they are granted
// together; whoever orders the changes breaks the circle with such a value.

// MayCircle lets names move in a circle.
func (l *Ledger) MayCircle() { l.mayCircle = true }

// Circled reports whether there were names that would move in a circle, and were not granted
// for want of values in between.
func (l *Ledger) Circled() bool { return l.circled }

// circle grants the first units that wait for nobody but each other, and returns those that
// still wait; granted is false when there are none.
func (a *allocation) circle(order []span, how patience) (rest []span, granted bool) {
	waiting := map[int]span{}
	for _, unit := range order {
		waiting[a.requests[unit[0]].Unit] = unit
	}
	for _, unit := range order {
		picks, closed := a.closed(unit, waiting, how)
		if !closed {
			continue
		}
		if !a.mayCircle {
			a.circled = true
			return order, false
		}
		for i, p := range picks {
			if p.candidate >= 0 {
				a.give(i, p)
			}
			a.granted[a.requests[i].Unit] = true
		}
		return slices.DeleteFunc(slices.Clone(order), func(u span) bool { return a.granted[a.requests[u[0]].Unit] }), true
	}
	return order, false
}

// pick is the name that a request would be granted, and the units that give it up.
type pick struct {
	candidate int
	after     []int
}

// closed follows who waits for whom from a unit on; it reports whether all of them can have
// the names they wait for if all of them are granted.
func (a *allocation) closed(from span, waiting map[int]span, how patience) (picks map[int]pick, closed bool) {
	picks = map[int]pick{}
	owners := map[string]string{} // name -> who takes it
	todo := []span{from}
	for len(todo) > 0 {
		unit := todo[0]
		todo = todo[1:]
		if _, seen := picks[unit[0]]; seen {
			continue
		}
		for i := unit[0]; i < unit[1]; i++ {
			p, possible := a.pick(i, waiting, how)
			if !possible {
				return nil, false
			}
			if p.candidate < 0 {
				picks[i] = p
				continue
			}
			name := a.folded[i][p.candidate]
			if owner, taken := owners[name]; taken && owner != a.requests[i].Owner {
				return nil, false
			}
			owners[name], picks[i] = a.requests[i].Owner, p
			for _, giver := range p.after {
				if next, waits := waiting[giver]; waits {
					todo = append(todo, next)
				}
			}
		}
	}
	for i, p := range picks { // whoever takes the name again does not give it up
		if r := a.requests[i]; p.candidate >= 0 && a.alike.Fold(r.Frees) == a.folded[i][p.candidate] {
			return nil, false
		}
	}
	return picks, true
}

// pick is the first name that a request can have once units that still wait are granted.
func (a *allocation) pick(i int, waiting map[int]span, how patience) (p pick, possible bool) {
	if a.requests[i].onlyGives() {
		return pick{candidate: -1}, true
	}
	for n, name := range a.folded[i] {
		if rival, given := a.given[name]; name == "" || given && a.requests[rival].Owner != a.requests[i].Owner {
			continue
		}
		if after, state := a.givers(i, name); state != refused && !slices.ContainsFunc(after, func(unit int) bool { return a.withholds(unit, waiting) }) {
			return pick{n, after}, true
		}
	}
	return pick{candidate: -1}, a.requests[i].Optional && (how == without || !a.mayCome(i))
}

// mayCome: a name that the request can do without may yet be freed.
func (a *allocation) mayCome(i int) bool {
	_, _, state := a.try(i, nextBest)
	return state == later
}

// withholds: a unit that is not of the circle gives its name up in vain: it is not granted,
// or the name rests. A name that moves within a circle does not.
func (a *allocation) withholds(unit int, waiting map[int]span) bool {
	_, waits := waiting[unit]
	return !waits && (!a.granted[unit] || a.rests != nil)
}
