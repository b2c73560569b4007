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
func (a *allocation) circle(order []span) (rest []span, granted bool) {
	waiting := map[int]span{}
	for _, unit := range order {
		waiting[a.requests[unit[0]].Unit] = unit
	}
	for _, unit := range order {
		picks, closed := a.closed(unit, waiting)
		if !closed {
			continue
		}
		if !a.mayCircle {
			a.circled = true
			return order, false
		}
		for i, p := range picks {
			a.grants[i].Name, a.grants[i].After = a.requests[i].Candidates[p.candidate], p.after
			a.given[a.folded[i][p.candidate]] = i
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
func (a *allocation) closed(from span, waiting map[int]span) (picks map[int]pick, closed bool) {
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
			p, possible := a.pick(i, waiting)
			if !possible {
				return nil, false
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
		if r := a.requests[i]; Fold(r.Frees) == a.folded[i][p.candidate] {
			return nil, false
		}
	}
	return picks, true
}

// pick is the first name that a request can have once units that still wait are granted.
func (a *allocation) pick(i int, waiting map[int]span) (p pick, possible bool) {
	for n, name := range a.folded[i] {
		if rival, given := a.given[name]; name == "" || given && a.requests[rival].Owner != a.requests[i].Owner {
			continue
		}
		if after, possible := a.givers(i, name, waiting); possible {
			return pick{n, after}, true
		}
	}
	return p, false
}

// givers are the units by which a name is given up for a request. A name that moves within
// a circle does not rest.
func (a *allocation) givers(i int, name string, waiting map[int]span) (after []int, possible bool) {
	if rest, rests := a.rests[name]; rests && !rest.mayHave(&a.requests[i]) {
		return nil, false
	}
	for _, h := range a.holders[name] {
		if int(h.Row) == a.requests[i].Account {
			continue
		}
		mover, moves := a.frees[frees{h.Row, h.Attribute}]
		if !moves || h.Attribute == Alias || Fold(a.requests[mover].Frees) != name {
			return nil, false
		}
		unit := a.requests[mover].Unit
		if _, waits := waiting[unit]; !waits && (!a.granted[unit] || Fold(a.grants[mover].Name) == name || a.rests != nil) {
			return nil, false
		}
		if !slices.Contains(after, unit) {
			after = append(after, unit)
		}
	}
	return after, true
}
