package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/ext"

	"twinning/bench/population"
	"twinning/internal/core/charter"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/format/anyfile"
)

// mapping measures what computing every account and giving out names adds to a reconciliation
// that only pairs, beside reading the two files and doing nothing with them.
func mapping(o options) error {
	dir, err := os.MkdirTemp("", "twinning-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir) // best effort
	fmt.Printf("\nmapping of 12 attributes, login and address among them, and giving out names; limit 2 of reading\n%10s  %10s  %10s  %9s  %9s  %7s  %14s\n", "people", "changes", "pairing s", "mapping s", "reading s", "ratio", "µs per person")
	for _, size := range strings.Split(o.sizes, ",") {
		n, err := strconv.Atoi(strings.TrimSpace(size))
		if err != nil {
			return err
		}
		files := filepath.Join(dir, size)
		if err := population.WriteNoisy(files, n, 20261125, population.Medium, population.Wide); err != nil {
			return err
		}
		if err := mappingOf(n, o.rounds, files); err != nil {
			return err
		}
	}
	return nil
}

func mappingOf(n, rounds int, files string) error {
	full, err := os.ReadFile("bench/mapping-charter.yaml")
	if err != nil {
		return err
	}
	bare, _, _ := strings.Cut(string(full), "attributes:")
	var charters [2]*charter.Charter
	for i, source := range []string{bare, string(full)} {
		if charters[i], err = charter.Parse([]byte(source), charter.Vocabulary{}); err != nil {
			return err
		}
	}
	people, accounts := charters[1].Needs()
	in := reconcile.Input{Now: time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC), Cores: 2, Mark: "externalId"}
	if in.People, err = rosterOf(files+"/people.csv", "bench/noisy-people-shape.yaml", people); err != nil {
		return err
	}
	if in.Accounts, err = rosterOf(files+"/accounts.csv", "bench/mapping-accounts-shape.yaml", accounts); err != nil {
		return err
	}
	var pairing, added, read, ratios []float64
	changes := 0
	for range rounds {
		r, err := reading(files+"/people.csv", files+"/accounts.csv")
		if err != nil {
			return err
		}
		var seconds [2]float64
		for i := range charters {
			in.Charter = charters[i]
			start := time.Now()
			out := reconcile.Run(in)
			seconds[i], changes = time.Since(start).Seconds(), len(out.Changes)
		}
		m := seconds[1] - seconds[0]
		pairing, added, read, ratios = append(pairing, seconds[0]), append(added, m), append(read, r), append(ratios, m/r)
	}
	fmt.Printf("%10d  %10d  %10.2f  %9.2f  %9.2f  %7.2f  %14.2f\n", n, changes, median(pairing), median(added), median(read), median(ratios), 1e6*median(added)/float64(n))
	return nil
}

func rosterOf(path, shapePath string, wanted []string) (*record.Roster, error) {
	src, err := os.ReadFile(shapePath)
	if err != nil {
		return nil, err
	}
	shape, err := record.ParseShape(src)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close() // only read
	file, err := anyfile.Open(f, anyfile.Options{})
	if err != nil {
		return nil, err
	}
	return anyfile.Roster(file, shape, wanted)
}

// checking measures the check of a charter beside compiling its expressions with CEL alone.
func checking(o options) error {
	fmt.Printf("\ncheck of a charter; limit 100 ms at 500 rules\n%10s  %10s  %10s  %7s\n", "rules", "check ms", "CEL ms", "ratio")
	for _, rules := range []int{50, 500} {
		source, expressions, vocabulary := largeCharter(rules)
		var mine, theirs, ratios []float64
		for range max(o.rounds, 5) {
			start := time.Now()
			if err := compileBare(expressions); err != nil {
				return err
			}
			b := time.Since(start).Seconds()
			start = time.Now()
			if _, err := charter.Parse([]byte(source), vocabulary); err != nil {
				return err
			}
			a := time.Since(start).Seconds()
			mine, theirs, ratios = append(mine, 1e3*a), append(theirs, 1e3*b), append(ratios, a/b)
		}
		fmt.Printf("%10d  %10.1f  %10.1f  %7.2f\n", rules, median(mine), median(theirs), median(ratios))
	}
	return nil
}

// largeCharter rules so many attributes by expressions of the usual kinds.
func largeCharter(rules int) (source string, expressions []string, v charter.Vocabulary) {
	kinds := []string{
		"person.givenName + ' ' + person.familyName", "person.userType == 'guest' ? 'Guest' : person.title", "person.department", "person.location == 'Summit' && person.userType != 'guest' ? 'S' : 'V'",
		"person.title != null ? person.title : 'Staff'",
	}
	var b strings.Builder
	b.WriteString("lane: bench\npeople: {from: hq}\naccounts: {in: app}\npairing: {keys: [{person: person.email, account: account.email}]}\nattributes:\n")
	for i := range rules {
		e := kinds[i%len(kinds)]
		name := fmt.Sprintf("field%d", i)
		v.Account = append(v.Account, name)
		expressions = append(expressions, e)
		fmt.Fprintf(&b, "  %s: {value: %q, rule: fill}\n", name, e)
	}
	return b.String(), expressions, v
}

// compileBare compiles the expressions with nothing of ours.
func compileBare(expressions []string) error {
	env, err := cel.NewEnv(cel.Variable("person", cel.DynType), cel.Variable("account", cel.DynType), ext.Strings())
	if err != nil {
		return err
	}
	for _, e := range expressions {
		ast, issues := env.Compile(e)
		if issues.Err() != nil {
			return issues.Err()
		}
		if _, err := env.Program(ast); err != nil {
			return err
		}
	}
	return nil
}
