// Package assignment turns the odds of single pairs into the probability of
// each among all the ways in which everybody has one twin at most.
//
// A way is worth the product of the odds of its pairs. Within a group of
// records that candidates connect, the probability of a pair is the worth of
// the ways that hold it, as a share of all: what two records say of each other
// counts, and what everybody else around them does. In small groups all ways
// are summed up; in large ones a pair is set against every other candidate of
// its two records at once, which can only ask more often.
package assignment

import (
	"slices"

	"twinning/internal/core/parallel"
)

// Edge is a candidate pair. Odds are those of the pair being one human's
// against both records being without a twin.
type Edge struct {
	Person, Account int // numbered from 0 by the caller, each side by itself
	Odds            float64
}

const (
	mostExact = 10    // records on the smaller side of a group of which all ways are summed up
	greatest  = 1e20  // odds beyond this are certain, and would only cost digits
	mostSteps = 40000 // of summing up in one group
)

// faintest are the probabilities, against all rivals at once, below which a pair
// connects no group: first every pair does, then, where that makes groups that
// are too large, only those that matter. What connects nothing still stands
// beside its records.
var faintest = []float64{0, 1e-4, 1e-2}

// Probabilities gives that of every edge, in their order, worked out on so many cores.
func Probabilities(edges []Edge, people, accounts, cores int) []float64 {
	odds := make([]float64, len(edges))
	open := make([]int, len(edges))
	for i, e := range edges {
		odds[i], open[i] = min(e.Odds, greatest), i
	}
	// sums adds up the odds that stand beside each record: of having no twin, and of these edges
	sums := func(of []int) (row, column []float64) {
		row, column = make([]float64, people), make([]float64, accounts)
		for i := range row {
			row[i] = 1
		}
		for i := range column {
			column[i] = 1
		}
		for _, i := range of {
			row[edges[i].Person] += odds[i]
			column[edges[i].Account] += odds[i]
		}
		return row, column
	}
	p := make([]float64, len(edges))
	row, column := sums(open)
	for i, e := range edges {
		p[i] = odds[i] / (row[e.Person] + column[e.Account] - odds[i])
	}
	for _, least := range faintest {
		var strong, weak []int
		for _, i := range open {
			if p[i] >= least {
				strong = append(strong, i)
			} else {
				weak = append(weak, i)
			}
		}
		row, column := sums(weak)
		groups := components(edges, strong, people, accounts)
		large := make([]bool, len(groups))
		parallel.InChunks(cores, len(groups), func() func(from, to int) {
			return func(from, to int) {
				for g := from; g < to; g++ {
					large[g] = !exact(edges, odds, groups[g], row, column, p)
				}
			}
		})
		var left []int
		for g, group := range groups {
			if large[g] {
				left = append(left, group...)
			}
		}
		open = left
	}
	return p
}

// components splits the edges into groups that share records, each in the
// order of the edges.
func components(edges []Edge, strong []int, people, accounts int) [][]int {
	parent := make([]int, people+accounts)
	for i := range parent {
		parent[i] = i
	}
	find := func(i int) int {
		for parent[i] != i {
			parent[i] = parent[parent[i]]
			i = parent[i]
		}
		return i
	}
	for _, i := range strong {
		a, b := find(edges[i].Person), find(edges[i].Account+people)
		parent[max(a, b)] = min(a, b)
	}
	// groups stand in one array, in the order in which their first edges come
	size := make([]int, people+accounts)
	for _, i := range strong {
		size[find(edges[i].Person)]++
	}
	var groups [][]int
	all, at := make([]int, len(strong)), make([]int, people+accounts)
	end := 0
	for _, i := range strong {
		root := find(edges[i].Person)
		if n := size[root]; n > 0 {
			groups = append(groups, all[end:end+n])
			at[root], size[root] = end, 0
			end += n
		}
		all[at[root]] = i
		at[root]++
	}
	return groups
}

// number gives the records of one side of a group small numbers.
func number(group []int, of func(i int) int) (ids []int, places []int) {
	places = make([]int, len(group))
	for k, i := range group {
		id := of(i)
		at := slices.Index(ids, id)
		if at < 0 {
			at, ids = len(ids), append(ids, id)
		}
		places[k] = at
	}
	return ids, places
}

// mostEdges bounds the groups that are looked at for being small.
const mostEdges = 400

// exact sums up all ways of a group; false when it is too large for that.
func exact(edges []Edge, odds []float64, group []int, row, column, p []float64) bool {
	if len(group) == 1 {
		e := edges[group[0]]
		o := odds[group[0]] / (row[e.Person] * column[e.Account])
		p[group[0]] = o / (1 + o)
		return true
	}
	if len(group) > mostEdges {
		return false
	}
	rows, rowOf := number(group, func(i int) int { return edges[i].Person })
	columns, columnOf := number(group, func(i int) int { return edges[i].Account })
	if len(columns) > len(rows) {
		rows, columns, rowOf, columnOf = columns, rows, columnOf, rowOf
	}
	if len(columns) > mostExact || len(group)<<len(columns) > mostSteps*mostExact {
		return false
	}
	type option struct {
		edge   int
		column int
		odds   float64
	}
	options := make([][]option, len(rows))
	for k, i := range group {
		e := edges[i]
		options[rowOf[k]] = append(options[rowOf[k]], option{i, columnOf[k], odds[i] / (row[e.Person] * column[e.Account])})
	}
	states := 1 << len(columns)
	// forward[r][taken]: worth of all ways for the rows before r
	forward := make([][]float64, len(rows)+1)
	forward[0] = make([]float64, states)
	forward[0][0] = 1
	for r, list := range options {
		next := slices.Clone(forward[r])
		for taken, worth := range forward[r] {
			if worth == 0 {
				continue
			}
			for _, o := range list {
				if taken&(1<<o.column) == 0 {
					next[taken|1<<o.column] += worth * o.odds
				}
			}
		}
		forward[r+1] = next
	}
	total := 0.0
	for _, worth := range forward[len(options)] {
		total += worth
	}
	// backward[taken]: worth of all ways for the rows from r on
	backward := make([]float64, states)
	for i := range backward {
		backward[i] = 1
	}
	for r := len(options) - 1; r >= 0; r-- {
		for _, o := range options[r] {
			sum := 0.0
			for taken, worth := range forward[r] {
				if worth != 0 && taken&(1<<o.column) == 0 {
					sum += worth * backward[taken|1<<o.column]
				}
			}
			p[o.edge] = min(sum*o.odds/total, 1) // rounding may take it beyond
		}
		before := slices.Clone(backward)
		for taken := range before {
			for _, o := range options[r] {
				if taken&(1<<o.column) == 0 {
					before[taken] += o.odds * backward[taken|1<<o.column]
				}
			}
		}
		backward = before
	}
	return true
}
