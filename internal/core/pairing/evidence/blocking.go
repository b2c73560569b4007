package evidence

import (
	"cmp"
	"math"
	"slices"

	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/parallel"
)

// Blocking finds the pairs that are worth comparing: records that share one of
// many coarse keys made of name, login, address, phone, number and day. A group
// that is too large is parted by a second key and told, and every record keeps the candidates
// that share the rarest groups with it, so that all pairs are never compared,
// whatever the names.

// mostInGroup are the records of either side that a blocking key may bring
// together.
const mostInGroup = 200

// Breadth is with how many others a record is compared.
type Breadth struct {
	Most   int     // of those who share groups with it
	Few    int     // are compared in any case
	Unlike float32 // of the best one's score: who shares less is not compared beyond those few
}

var (
	// Joining wants the runners-up too: they say how sure the best one is.
	Joining = Breadth{24, 6, 0.05}
	// Asking only wants whoever is likely.
	Asking = Breadth{6, 3, 0.3}
)

// Place is where a record stands in a list of faces; such a list is no longer
// than a roster. It is no row: rows count whole rosters.
type Place int32

// Pair is two records, each by its place in the list of its side.
type Pair struct{ Person, Account Place }

// Dropped says what blocking left out.
type Dropped struct {
	Groups  int   // groups that were too large
	Pairs   int64 // pairs in them, which other groups may have held too
	Largest int   // records in the largest
}

// salts keep the kinds of blocking keys apart.
const (
	blockName uint64 = iota + 1
	blockStart
	blockEnd
	blockGivenStart
	blockGivenEnd
	blockInitial // an initial against a name in full, by which side has the initial
	blockInitials
	blockDay
	blockFamilyDay
	blockPhone
	blockLocal
	blockEmail
	blockNumber
	blockFull
	blockPlace
	blockPlain // letters that no import loses
	blockBones // consonants that are the same in every script
	blockOwn   // and more, for what is declared
)

// blockLetters of a word's beginning and end bring mistyped names together.
const blockLetters = 3

func blocked(kind, a, b uint64) uint64 { return mix(mix(a+kind*saltWord) ^ b*saltFull) }

// EachBlock visits the record's blocking keys, some of them twice.
func (f *Face) EachBlock(yield func(key uint64)) {
	given, family := f.name.perhaps()
	for i := range given {
		g := &given[i]
		for j := range family {
			w := &family[j]
			if w == g && len(family) > 1 {
				continue
			}
			for _, r := range g.roots {
				for _, s := range w.roots {
					yield(blocked(blockName, r, s))
				}
				if w.start != 0 {
					yield(blocked(blockStart, r, w.start))
					yield(blocked(blockEnd, r, w.end))
				}
			}
			for _, s := range w.roots {
				f.blockGiven(g, s, yield)
			}
			if (g.marked || w.marked) && g.plain != 0 && w.plain != 0 {
				yield(blocked(blockPlain, g.plain, w.plain))
			}
		}
		for _, r := range g.roots {
			if f.day != noDay {
				yield(blocked(blockDay, r, uint64(f.day)))
			}
			if f.department.all != 0 && f.title.all != 0 {
				yield(blocked(blockPlace, r, f.department.all^f.title.all*3^f.location.all*5))
			}
		}
	}
	for j := range family {
		if f.day != noDay {
			yield(blocked(blockFamilyDay, family[j].roots[0], uint64(f.day)))
		}
	}
	for i := range f.own {
		if f.own[i].day == "" {
			continue
		}
		for _, list := range [][]word{given, family} {
			for j := range list {
				yield(blocked(blockOwn+uint64(i), list[j].roots[0], hash(f.own[i].day)))
			}
		}
	}
	for i := range f.locals {
		yield(blocked(blockLocal, f.locals[i].key, 0))
	}
	for i := range f.logins {
		yield(blocked(blockLocal, f.logins[i].key, 0))
	}
	f.eachSure(yield)
}

// eachBone visits the keys that bring names in several scripts together.
func (f *Face) eachBone(yield func(key uint64)) {
	given, family := f.name.perhaps()
	for i := range given {
		for j := range family {
			if g, w := &given[i], &family[j]; g != w {
				if x, y := g.Bones(), w.Bones(); x+y != "" {
					yield(blocked(blockBones, hash(x), hash(y)))
				}
			}
		}
	}
}

// blockGiven brings given names together that are mistyped or cut short. An
// initial meets names in full and other initials; two names in full that share
// no more than that never meet for it.
func (f *Face) blockGiven(g *word, family uint64, yield func(key uint64)) {
	side := uint64(0)
	if f.account {
		side = 1
	}
	if len(g.Text) == 1 {
		yield(blocked(blockInitial+side<<8, uint64(g.Text[0]), family))
		yield(blocked(blockInitials, uint64(g.Text[0]), family))
		return
	}
	yield(blocked(blockInitial+(1-side)<<8, uint64(g.Text[0]), family))
	if g.start != 0 {
		yield(blocked(blockGivenStart, g.start, family))
		yield(blocked(blockGivenEnd, g.end, family))
	}
}

// eachSure visits the keys that say much by themselves: what is left over meets
// those who are paired already by these alone.
func (f *Face) eachSure(yield func(key uint64)) {
	if f.name.full != 0 && len(f.name.given)+len(f.name.family)+len(f.name.other) > 1 {
		yield(blocked(blockFull, f.name.full, 0))
	}
	for i := range f.phones {
		if l := &f.phones[i].Line; l.Digits != "" {
			yield(blocked(blockPhone, lineValue(l), 0))
		}
	}
	for _, e := range f.emails {
		yield(blocked(blockEmail, e.key, 0))
	}
	for i := range f.numbers {
		if n := f.numbers[i].Core; len(n) >= likeness.ShortNumber {
			yield(blocked(blockNumber, hash(n), 0))
			if len(n) > 5 {
				yield(blocked(blockNumber, hash(n[:len(n)-1]), 0)) // a check digit
			}
		}
	}
}

// blockEntry is a record in a group: the upper bits of the group's key, and the
// record's place below. Two keys that agree so far make one group, which only
// compares a few records more.
type blockEntry uint64

const placeBits = 24 // more than 16 million records of a side are not left over

func (e blockEntry) group() uint64 { return uint64(e) >> placeBits }
func (e blockEntry) face() Place   { return Place(e & (1<<placeBits - 1)) }

// groups sorts the records into groups by blocking key.
type groups struct {
	people, accounts []blockEntry
	list             []group
	ends             []int32 // of each person's groups
	of               []int32 // groups, person by person
}

// group is where the records of one key stand among the entries.
type group struct{ people, accounts [2]int }

// entriesOf lists the records by their blocking keys, in order and without repeats; by those
// of their bones too, where that is asked for. The highest bits of a key say its bucket.
func entriesOf(faces []*Face, bones bool, cores int) []blockEntry {
	parts := parallel.Bucketed(cores, len(faces), func(from, to int, put func(bucket uint8, e blockEntry)) {
		for i := from; i < to; i++ {
			add := func(k uint64) { put(uint8(k>>56), blockEntry(k>>placeBits<<placeBits|uint64(i))) }
			faces[i].EachBlock(add)
			if bones {
				faces[i].eachBone(add)
			}
		}
	})
	parallel.Each(cores, len(parts), func(at int) {
		slices.Sort(parts[at])
		parts[at] = slices.Compact(parts[at])
	})
	return slices.Concat(parts[:]...)
}

// run is the end of the entries that share a key with the one at from.
func run(entries []blockEntry, from int) int {
	to := from + 1
	for to < len(entries) && entries[to].group() == entries[from].group() {
		to++
	}
	return to
}

func newGroups(people, accounts []*Face, cores int) (g *groups, dropped Dropped) {
	sounded := func(f *Face) bool { return f.name.sounded }
	bones := slices.ContainsFunc(people, sounded) || slices.ContainsFunc(accounts, sounded)
	g = &groups{people: entriesOf(people, bones, cores), accounts: entriesOf(accounts, bones, cores)}
	var large []group
	meet(g.people, g.accounts, func(x group) {
		if x.large() {
			large = append(large, x)
		} else {
			g.list = append(g.list, x)
		}
	})
	refined := make([]refined, len(large))
	parallel.Each(cores, len(large), func(i int) { refined[i] = g.refine(large[i], people, accounts) })
	for i, x := range large {
		g.join(refined[i])
		dropped.Groups++
		dropped.Pairs += int64(x.people[1]-x.people[0]) * int64(x.accounts[1]-x.accounts[0])
		dropped.Largest = max(dropped.Largest, x.people[1]-x.people[0]+x.accounts[1]-x.accounts[0])
	}
	g.byPerson(len(people))
	return g, dropped
}

// byPerson lists the groups of each person, in the order of the groups.
func (g *groups) byPerson(people int) {
	g.ends = make([]int32, people+1)
	for _, x := range g.list {
		for _, e := range g.people[x.people[0]:x.people[1]] {
			g.ends[e.face()+1]++
		}
	}
	for p := range people {
		g.ends[p+1] += g.ends[p] // each record has some thirty groups: enough for seventy million left over
	}
	g.of = make([]int32, g.ends[people])
	next := slices.Clone(g.ends)
	for n, x := range g.list {
		for _, e := range g.people[x.people[0]:x.people[1]] {
			g.of[next[e.face()]] = int32(n)
			next[e.face()]++
		}
	}
}

// meet visits the groups that have entries on both sides, by their places among these.
func meet(people, accounts []blockEntry, yield func(x group)) {
	for p, a := 0, 0; p < len(people) && a < len(accounts); {
		switch c := cmp.Compare(people[p].group(), accounts[a].group()); {
		case c < 0:
			p = run(people, p)
		case c > 0:
			a = run(accounts, a)
		default:
			pEnd, aEnd := run(people, p), run(accounts, a)
			yield(group{[2]int{p, pEnd}, [2]int{a, aEnd}})
			p, a = pEnd, aEnd
		}
	}
}

// large: too many records of a side share the key to compare each with each.
func (x group) large() bool {
	return x.people[1]-x.people[0] > mostInGroup || x.accounts[1]-x.accounts[0] > mostInGroup
}

// eachSecond visits what parts a group that is too large: where its records work and as
// what, when they began, and how they are reached.
func (f *Face) eachSecond(yield func(key uint64)) {
	if f.department.all != 0 && f.title.all != 0 {
		yield(blocked(blockPlace, f.department.all, f.title.all))
	}
	if f.day != noDay {
		yield(blocked(blockDay, uint64(f.day), 0))
	}
	for i := range f.phones {
		yield(blocked(blockPhone, endValue(&f.phones[i].Line), 0))
	}
	for i := range f.locals {
		yield(blocked(blockLocal, f.locals[i].key, 0))
	}
}

// refined are the parts of a group that is too large, with their own entries.
type refined struct {
	people, accounts []blockEntry
	list             []group
}

// refine parts a group that is too large by a second key; what is still too large, or has
// none, is left out and told.
func (g *groups) refine(x group, people, accounts []*Face) (r refined) {
	parts := func(entries []blockEntry, faces []*Face) (list []blockEntry) {
		for _, e := range entries {
			faces[e.face()].eachSecond(func(k uint64) { list = append(list, blockEntry(k>>placeBits<<placeBits|uint64(e.face()))) })
		}
		slices.Sort(list)
		return slices.Compact(list)
	}
	left, right := parts(g.people[x.people[0]:x.people[1]], people), parts(g.accounts[x.accounts[0]:x.accounts[1]], accounts)
	r.people, r.accounts = left, right
	meet(left, right, func(y group) {
		if !y.large() {
			r.list = append(r.list, y)
		}
	})
	return r
}

// join takes the parts in.
func (g *groups) join(r refined) {
	at, to := len(g.people), len(g.accounts)
	g.people, g.accounts = append(g.people, r.people...), append(g.accounts, r.accounts...)
	for _, x := range r.list {
		g.list = append(g.list, group{[2]int{at + x.people[0], at + x.people[1]}, [2]int{to + x.accounts[0], to + x.accounts[1]}})
	}
}

// Candidates lists the pairs to compare, by person and then by account. The
// lists are in an order that doesn't depend on how the rosters were read.
func Candidates(people, accounts []*Face, breadth Breadth, cores int) (pairs [][]Pair, dropped Dropped) {
	g, dropped := newGroups(people, accounts, cores)
	pairs = make([][]Pair, len(people))
	parallel.InChunks(cores, len(people), func() func(from, to int) {
		score, touched, room := make([]float32, len(accounts)), []Place{}, []uint64{}
		return func(from, to int) {
			for p := from; p < to; p++ {
				touched = touched[:0]
				for _, n := range g.of[g.ends[p]:g.ends[p+1]] {
					x := g.list[n]
					rare := 1 / float32(x.people[1]-x.people[0]+x.accounts[1]-x.accounts[0])
					for _, e := range g.accounts[x.accounts[0]:x.accounts[1]] {
						a := e.face()
						if score[a] == 0 {
							touched = append(touched, a)
						}
						score[a] += rare
					}
				}
				touched, room = nearest(touched, score, breadth, room)
				slices.Sort(touched)
				list := make([]Pair, len(touched))
				for i, a := range touched {
					list[i] = Pair{Place(p), a}
					score[a] = 0
				}
				pairs[p] = list
			}
		}
	})
	return pairs, dropped
}

// nearest keeps the best of those that share groups with a record, and clears the
// scores of the others. The room is for sorting, and given back.
func nearest(touched []Place, score []float32, breadth Breadth, room []uint64) ([]Place, []uint64) {
	if len(touched) <= breadth.Few {
		return touched, room
	}
	best := score[touched[0]]
	for _, a := range touched {
		best = max(best, score[a])
	}
	// whoever is alike goes to the front: the others, most by far, matter only where
	// too few are
	alike := 0
	for i, a := range touched {
		if score[a] >= breadth.Unlike*best {
			touched[i], touched[alike] = touched[alike], a
			alike++
		}
	}
	keep := min(max(alike, breadth.Few), breadth.Most)
	from, to := 0, alike // what has to be sorted to know whom to keep
	if alike < keep {
		from, to = alike, len(touched)
	}
	if keep != alike {
		room = byScore(touched[from:to], score, room)
	}
	for _, a := range touched[keep:] {
		score[a] = 0
	}
	return touched[:keep], room
}

// byScore sorts the best first, and of equals by their place: as one number each, since the
// bits of a score, which is positive, are in its order.
func byScore(list []Place, score []float32, room []uint64) []uint64 {
	room = room[:0]
	for _, a := range list {
		room = append(room, uint64(^math.Float32bits(score[a]))<<32|uint64(uint32(a)))
	}
	slices.Sort(room)
	for i, k := range room {
		list[i] = Place(uint32(k))
	}
	return room
}
