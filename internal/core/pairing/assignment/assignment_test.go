package assignment

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What a pair's rivals do to it, in small pictures.
func TestProbabilities(t *testing.T) {
	for _, c := range []struct {
		name  string
		edges []Edge
		want  []float64
	}{
		{"a pair by itself is worth its odds", []Edge{{0, 0, 99}}, []float64{0.99}},
		{"two accounts that are equally good halve it", []Edge{{0, 0, 1e9}, {0, 1, 1e9}}, []float64{0.5, 0.5}},
		{"who has another twin is no rival", []Edge{{0, 0, 1e6}, {1, 0, 1e6}, {1, 1, 1e12}}, []float64{1, 0, 1}},
		{"a chain is settled as a whole", []Edge{{0, 0, 1e6}, {0, 1, 1e4}, {1, 1, 1e6}, {1, 2, 1e4}, {2, 2, 1e6}}, []float64{1, 0, 1, 0, 1}},
		{"what nobody has a better twin for stays open", []Edge{{0, 0, 1}}, []float64{0.5}},
	} {
		got := Probabilities(c.edges, 3, 3, 2)
		for i := range got {
			require.InDelta(t, c.want[i], got[i], 0.001, "%s: edge %d", c.name, i)
		}
	}
}

// ways sums up all one-to-one ways by hand.
func ways(edges []Edge, from int, rows, columns int) (all float64, with []float64) {
	with = make([]float64, len(edges))
	if from == len(edges) {
		return 1, with
	}
	all, without := ways(edges, from+1, rows, columns)
	copy(with, without)
	e := edges[from]
	if rows&(1<<e.Person) == 0 && columns&(1<<e.Account) == 0 {
		more, inside := ways(edges, from+1, rows|1<<e.Person, columns|1<<e.Account)
		all += more * e.Odds
		with[from] += more * e.Odds
		for i := range inside {
			with[i] += inside[i] * e.Odds
		}
	}
	return all, with
}

// Small groups are summed up exactly, and a record's probabilities never come to
// more than one, in large groups too.
func TestProperties(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		people, accounts := rapid.IntRange(1, 6).Draw(t, "people"), rapid.IntRange(1, 6).Draw(t, "accounts")
		if rapid.Bool().Draw(t, "large") {
			people, accounts = 15, 15
		}
		var edges []Edge
		for p := range people {
			for a := range accounts {
				if rapid.IntRange(0, 2).Draw(t, "there") == 0 && len(edges) < 60 {
					edges = append(edges, Edge{p, a, math.Pow(10, rapid.Float64Range(-3, 17).Draw(t, "odds"))})
				}
			}
		}
		got := Probabilities(edges, people, accounts, 2)
		rows, columns := map[int]float64{}, map[int]float64{}
		for i, e := range edges {
			rows[e.Person] += got[i]
			columns[e.Account] += got[i]
			require.LessOrEqual(t, got[i], 1.0, "a probability")
			require.LessOrEqual(t, max(rows[e.Person], columns[e.Account]), 1.02, "but for what a weak pair kept of its first estimate")
		}
		if people < 7 && len(edges) < 16 {
			all, with := ways(edges, 0, 0, 0)
			for i := range edges {
				require.InDelta(t, with[i]/all, got[i], 1e-9, fmt.Sprint(edges))
			}
		}
	})
}
