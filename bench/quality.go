package main

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"twinning/bench/population"
)

// judged is how well the pairing of one population came out.
type judged struct {
	automatic, right       int // pairs made without asking
	twins, found, proposed int // true pairs; made; among the proposals
	people, contested      int
	wrong                  map[string]int // pairs of two humans, by the trap
	missed                 map[string]int // true pairs neither made nor proposed, by what was done to them
}

// quality measures pairing against the truth of populations that were made
// with every habit and trap, pooled over seeds. It says nothing about other
// people's lists: those are tried elsewhere.
func quality(o options) error {
	fmt.Printf("\npairing quality beside the truth; limits at medium: precision 0.9997, recall 0.98, contested 1.5 %%, missed 0.7 %%\n%11s  %8s  %8s  %10s  %10s  %10s  %8s  %10s  %8s\n",
		"house", "people", "noise", "automatic", "precision", "at least", "recall", "contested", "missed")
	for _, size := range strings.Split(o.sizes, ",") {
		n, err := strconv.Atoi(size)
		if err != nil {
			return err
		}
		for _, level := range strings.Split(o.noise, ",") {
			noise := population.Noise(level)
			for _, name := range strings.Split(o.houses, ",") {
				house, ok := population.HouseNamed(name)
				if !ok {
					return fmt.Errorf("there is no house %q", name)
				}
				total := judged{wrong: map[string]int{}, missed: map[string]int{}}
				for seed := range uint64(o.rounds) {
					if err := judge(&total, o, n, 100+seed, noise, house); err != nil {
						return err
					}
				}
				fmt.Printf("%11s  %8d  %8s  %10d  %10.5f  %10.5f  %8.4f  %8.2f %%  %6.2f %%\n", house.Name, n, noise, total.automatic, share(total.right, total.automatic), lowest(total.right, total.automatic),
					share(total.found, total.twins), 100*share(total.contested, total.people), 100*share(total.twins-total.found-total.proposed, total.twins))
				for _, list := range []struct {
					words string
					kinds map[string]int
				}{{"two humans joined", total.wrong}, {"missed", total.missed}} {
					for _, k := range most(list.kinds) {
						fmt.Printf("%18s %s: %s %d\n", "", list.words, k, list.kinds[k])
					}
				}
			}
		}
	}
	return nil
}

func share(part, whole int) float64 { return float64(part) / float64(max(whole, 1)) }

// lowest is the lower end of the 95 % interval of a share (Wilson 1927).
func lowest(part, whole int) float64 {
	const z = 1.96
	n, p := float64(max(whole, 1)), share(part, whole)
	return (p + z*z/(2*n) - z*math.Sqrt(p*(1-p)/n+z*z/(4*n*n))) / (1 + z*z/n)
}

// most are the kinds that happened most, few of them.
func most(kinds map[string]int) (list []string) {
	for k := range kinds {
		list = append(list, k)
	}
	slices.SortFunc(list, func(a, b string) int {
		if kinds[a] != kinds[b] {
			return kinds[b] - kinds[a]
		}
		return strings.Compare(a, b)
	})
	return list[:min(len(list), 6)]
}

func judge(j *judged, o options, n int, seed uint64, noise population.Noise, house population.House) error {
	dir, err := os.MkdirTemp("", "twinning-quality-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir) // best effort
	if err := population.WriteNoisy(dir, n, seed, noise, house); err != nil {
		return err
	}
	args := []string{o.binary, "reconcile", "--charter", o.charter, "--people-shape", "bench/noisy-people-shape.yaml", "--accounts-shape", "bench/noisy-accounts-shape.yaml",
		"--people", dir + "/people.csv", "--accounts", dir + "/accounts.csv", "--out", dir + "/out"}
	if _, _, err := timed(args, 3); err != nil {
		return err
	}
	truth, forbidden := map[[2]string]string{}, map[[2]string]string{}
	if err := rows(filepath.Join(dir, "truth.csv"), func(r []string) {
		if trap, ok := strings.CutPrefix(r[2], "!"); ok {
			forbidden[[2]string{r[0], r[1]}] = trap
		} else {
			truth[[2]string{r[0], r[1]}] = r[2]
		}
	}); err != nil {
		return err
	}
	done := map[[2]string]bool{}
	if err := rows(filepath.Join(dir, "out", "twins.csv"), func(r []string) {
		pair := [2]string{r[0], r[1]}
		j.automatic++
		if _, ok := truth[pair]; ok {
			j.right++
			j.found++
			done[pair] = true
			return
		}
		trap := forbidden[pair]
		if trap == "" {
			trap = "strangers"
		}
		j.wrong[trap]++
	}); err != nil {
		return err
	}
	if err := rows(filepath.Join(dir, "out", "contested.csv"), func(r []string) {
		pair := [2]string{r[0], r[1]}
		if _, ok := truth[pair]; ok && !done[pair] {
			done[pair] = true
			j.proposed++
		}
	}); err != nil {
		return err
	}
	j.twins += len(truth)
	for pair, kind := range truth {
		if !done[pair] {
			j.missed[kind]++
		}
	}
	src, err := os.ReadFile(filepath.Join(dir, "out", "balance.json"))
	if err != nil {
		return err
	}
	var b struct {
		People struct{ Total, Contested int }
	}
	if err := json.Unmarshal(src, &b); err != nil {
		return err
	}
	people := 0
	if err := rows(filepath.Join(dir, "people.csv"), func([]string) { people++ }); err != nil {
		return err
	}
	j.people, j.contested = j.people+people, j.contested+b.People.Contested
	return nil
}

// rows calls fn for every row below the header.
func rows(path string, fn func([]string)) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close() // only read
	list, err := csv.NewReader(f).ReadAll()
	if err != nil {
		return err
	}
	for _, r := range list[min(1, len(list)):] {
		fn(r)
	}
	return nil
}
