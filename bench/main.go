// Command bench measures Twinning beside anchors: what a skilled engineer would
// do instead, on the same data, interleaved in the same run. Ratios count:
// machines are noisy.
package main

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
)

// options of a run.
type options struct {
	sizes                  string
	rounds                 int
	binary                 string
	noise, charter, houses string
	n                      int  // of a child process
	trial                  bool // is made and kept before, for quality
}

// parts in their order; children are run by their parents.
var parts = []struct {
	name string
	run  func(options) error
}{
	{"rosters", rosters}, {"ldap", directories}, {"scim", applications}, {"memory", memory}, {"offline", offline}, {"mapping", mapping}, {"charters", checking}, {"lists", lists}, {"runs", runs}, {"drafting", drafting},
}

// asked parts are run only when they are named: they measure no speed.
var asked = map[string]func(options) error{"quality": quality}

func main() {
	var o options
	flag.StringVar(&o.sizes, "sizes", "", "numbers of people; 10000,100000,1000000 when not given, quality: 10000,100000")
	flag.StringVar(&o.noise, "noise", "low,medium,high", "levels of noise, for quality")
	flag.StringVar(&o.houses, "houses", "observatory,merger,school,works,clinic,group,cityhall,fjord,harbour,delta", "the places whose habits to make lists by, for quality")
	flag.StringVar(&o.charter, "charter", "bench/weighing-charter.yaml", "the charter, for quality")
	flag.BoolVar(&o.trial, "trial", false, "make a trial and keep it before reconciling, for quality")
	flag.IntVar(&o.rounds, "rounds", 3, "interleaved rounds; medians are shown")
	flag.StringVar(&o.binary, "binary", "bin/twinning", "the program to measure")
	only := flag.String("only", "", "parts to measure: rosters, ldap, scim, memory, offline, mapping, charters, lists, runs, drafting; all when not given; or quality")
	child := flag.String("child", "", "for the bench itself: take two rosters and tell the peak of memory")
	flag.IntVar(&o.n, "n", 0, "for the bench itself: records")
	flag.Parse()
	if *child != "" {
		fail(readInChild(*child, o.n))
		return
	}
	if o.sizes == "" {
		o.sizes = "10000,100000,1000000"
		if *only == "quality" {
			o.sizes = "10000,100000"
		}
	}
	if run := asked[*only]; run != nil {
		fail(run(o))
		return
	}
	for _, p := range parts {
		if *only == "" || slices.Contains(strings.Split(*only, ","), p.name) {
			fail(p.run(o))
		}
	}
}

func fail(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}
