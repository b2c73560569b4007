package main

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"twinning/bench/population"
	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/record"
	"twinning/internal/format/anyfile"
)

// judged is how well the pairing of one population came out.
type judged struct {
	automatic, right       int // pairs made without asking
	twins, found, proposed int // true pairs; made; among the proposals
	people, contested      int
	wrong                  map[string]int // pairs of two humans, by the trap
	missed                 map[string]int // true pairs neither made nor proposed, by what was done to them
	blocked                blocked
	bins                   [len(binEnds)]bin // candidates by the probability that is told
}

// bin counts candidates, the true ones among them, and what was said of them.
type bin struct {
	all, right int
	said       float64
}

var binEnds = [...]float64{0.05, 0.1, 0.3, 0.5, 0.7, 0.8, 0.9, 0.95, 0.98, 0.99, 0.995, 0.999, 1.01}

func (j *judged) candidate(probability float64, right bool) {
	for i, end := range binEnds {
		if probability < end {
			j.bins[i].all++
			j.bins[i].said += probability
			if right {
				j.bins[i].right++
			}
			return
		}
	}
}

// blocked is how well blocking brought the leftovers of keys together.
type blocked struct {
	records, pairs int // leftover people; pairs compared
	twins, brought int // true pairs among the leftovers; compared
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
				fmt.Printf("%11s blocking: %.4f of %d true pairs among the leftovers, %.1f candidates a person\n%11s calibration, said: true (candidates):", "", share(total.blocked.brought, total.blocked.twins), total.blocked.twins, share(total.blocked.pairs, total.blocked.records), "")
				for _, b := range total.bins[1:] { // what is said to be less is nobody's question
					if b.all > 0 {
						fmt.Printf("  %.4f: %.4f (%d)", b.said/float64(b.all), share(b.right, b.all), b.all)
					}
				}
				fmt.Println()
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
	low, _ := evidence.Between(share(part, whole), float64(max(whole, 1)))
	return low
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
	lists := []string{"--charter", o.charter, "--people-shape", "bench/noisy-people-shape.yaml", "--accounts-shape", "bench/noisy-accounts-shape.yaml",
		"--people", dir + "/people.csv", "--accounts", dir + "/accounts.csv", "--memory", dir + "/memory"}
	if o.trial {
		if _, _, err := timed(append([]string{o.binary, "twin", "trial", "--keep"}, lists...), 0); err != nil {
			return err
		}
	}
	if _, _, err := timed(append([]string{o.binary, "reconcile", "--out", dir + "/out"}, lists...), 3); err != nil {
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
	if err := rows(filepath.Join(dir, "out", "candidates.csv"), func(r []string) {
		probability, _ := strconv.ParseFloat(r[4], 64) // our own number
		_, right := truth[[2]string{r[0], r[1]}]
		j.candidate(probability, right)
	}); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := j.blocked.measure(dir, truth); err != nil {
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

// measure blocks what keys leave over of the lists in dir, as the pairing does.
func (b *blocked) measure(dir string, truth map[[2]string]string) error {
	keyed := [2]map[string]bool{{}, {}}
	if err := rows(filepath.Join(dir, "out", "twins.csv"), func(r []string) {
		if r[2] == "keyed" {
			keyed[0][r[0]], keyed[1][r[1]] = true, true
		}
	}); err != nil {
		return err
	}
	var faces [2][]*evidence.Face
	var ids [2][]string
	for side, name := range []string{"people", "accounts"} {
		r, err := readNoisy(dir, name)
		if err != nil {
			return err
		}
		reader := map[int]func(*record.Roster, int) *evidence.Records{0: evidence.People, 1: evidence.Accounts}[side](r, runtime.NumCPU()).Reader()
		for _, row := range r.Order() {
			if id := r.ID(int(row)); !keyed[side][id] {
				ids[side], faces[side] = append(ids[side], id), append(faces[side], reader.Face(int(row)))
			}
		}
	}
	pairs, _ := evidence.Candidates(faces[0], faces[1], evidence.Joining, runtime.NumCPU())
	brought := map[[2]string]bool{}
	for p, list := range pairs {
		b.records++
		b.pairs += len(list)
		for _, x := range list {
			if pair := [2]string{ids[0][p], ids[1][x.Account]}; truth[pair] != "" {
				brought[pair] = true
			}
		}
	}
	for pair := range truth {
		if !keyed[0][pair[0]] && !keyed[1][pair[1]] {
			b.twins++
			if brought[pair] {
				b.brought++
			}
		}
	}
	return nil
}

func readNoisy(dir, name string) (*record.Roster, error) {
	src, err := os.ReadFile("bench/noisy-" + name + "-shape.yaml")
	if err != nil {
		return nil, err
	}
	shape, err := record.ParseShape(src)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(filepath.Join(dir, name+".csv"))
	if err != nil {
		return nil, err
	}
	defer f.Close() // only read
	file, err := anyfile.Open(f, anyfile.Options{})
	if err != nil {
		return nil, err
	}
	return anyfile.Roster(file, shape, slices.Sorted(maps.Keys(shape.Attributes)))
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
