package cli

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/finding"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
)

// balance is what both doors show: the people's and the accounts' columns.
type balance struct {
	people, accounts []column
}

type column struct {
	glyph, word string
	count       int
}

func balanceOf(b reconcile.Balance) balance {
	columns := func(s reconcile.Side, loose string, n int) []column {
		return []column{{"●", "twinned", s.Twinned}, {"○", loose, n}, {"◎", "duplicate", s.Duplicate}, {"◐", "contested", s.Contested}, {"◌", "exempt", s.Exempt}}
	}
	return balance{columns(b.People, "missing", b.People.Missing), columns(b.Accounts, "orphan", b.Accounts.Orphan)}
}

func total(columns []column) (n int) {
	for _, c := range columns {
		n += c.count
	}
	return n
}

// barWidth is the length of the longest bar in characters.
const barWidth = 24

// drawBalance prints the ledger: people on the left, accounts on the right,
// the spine between them, a line a state.
func drawBalance(w io.Writer, b balance) {
	people, accounts := total(b.people), total(b.accounts)
	longest := max(people, accounts, 1)
	bar := func(n int) string {
		if n == 0 {
			return ""
		}
		return strings.Repeat("▬", max(1, n*barWidth/longest))
	}
	indent := strings.Repeat(" ", barWidth)
	fmt.Fprintf(w, "%s %9s   %9s │ %-9s   accounts\n", indent, "people", thousands(people), thousands(accounts))
	for i := range b.people {
		l, r := b.people[i], b.accounts[i]
		spine := "│"
		if i == 0 && l.count > 0 {
			spine = "┿"
		}
		left := bar(l.count)
		right := fmt.Sprintf("%-9s %s %-9s %s", thousands(r.count), r.glyph, r.word, bar(r.count))
		fmt.Fprintf(w, "%s%s %9s %s %9s %s %s\n", indent[len([]rune(left)):], left, l.word, l.glyph, thousands(l.count), spine, strings.TrimRight(right, " "))
	}
}

// summary prints the balance, the counts by finding and by verb, and what
// stands in the way.
func (r *result) summary(w io.Writer) {
	drawBalance(w, balanceOf(r.Balance))
	codes, verbs := r.counts()
	drawFindings(w, codes)
	drawVerbs(w, verbs)
	drawIntentions(w, r.Output.Memory.Intentions, calendar.Day(r.Now, r.Charter.Zone))
	drawWithheld(w, r.Withheld)
	for _, g := range r.Guards {
		if g.Tripped {
			fmt.Fprintf(w, "\nStopped by a guard: %s\n", strings.ReplaceAll(guardSentence(g), "twinning finding accept "+r.Charter.Lane, "twinning finding accept --memory DIR"))
		}
	}
}

// counts are those of the findings by code, and of the changes by verb.
func (r *result) counts() (codes, verbs map[string]int) {
	codes, verbs = map[string]int{}, map[string]int{}
	for _, f := range r.Findings {
		codes[f.Code]++
	}
	for _, c := range r.Changes {
		verbs[c.Verb]++
	}
	return codes, verbs
}

// told is what machines get of it.
func (r *result) told() map[string]any {
	codes, verbs := r.counts()
	return map[string]any{
		"lane": r.Charter.Lane, "balance": balancesOf(r.Balance), "findings": codes, "changes": verbs,
		"intentions": append([]planning.Intention{}, r.Output.Memory.Intentions...), "withheld": len(r.Withheld), "stopped": r.Stopped(), "toDo": r.toDo(), "guards": r.Guards, "notes": append([]string{}, r.Notes...),
	}
}

// toDo reports whether there is anything to do, or to look at.
func (r *result) toDo() bool {
	return r.ToDo() || len(r.People.Rejected)+len(r.Accounts.Rejected) > 0
}

func drawFindings(w io.Writer, counts map[string]int) {
	if len(counts) == 0 {
		return
	}
	fmt.Fprintln(w, "\nFindings")
	for _, c := range finding.Catalogue {
		if n := counts[c.Name]; n > 0 {
			fmt.Fprintf(w, "%9s  %-20s %-8s %s\n", thousands(n), c.Name, c.Severity, c.Meaning)
		}
	}
}

// drawWithheld tells how much is not drafted for each reason.
func drawWithheld(w io.Writer, list []planning.Withheld) {
	if len(list) == 0 {
		return
	}
	counts := map[[2]string]int{}
	for _, x := range list {
		counts[[2]string{x.Verb, x.Reason}]++
	}
	keys := slices.SortedFunc(maps.Keys(counts), func(a, b [2]string) int {
		return cmp.Or(cmp.Compare(counts[b], counts[a]), slices.Compare(a[:], b[:]))
	})
	fmt.Fprintln(w, "\nWithheld")
	left := len(list)
	for i, k := range keys {
		if i == withheldShown && len(keys) > i+1 {
			fmt.Fprintf(w, "%9s  for %s other reasons\n", thousands(left), thousands(len(keys)-i))
			return
		}
		left -= counts[k]
		fmt.Fprintf(w, "%9s  %-10s %s\n", thousands(counts[k]), k[0], k[1])
	}
}

// withheldShown are the reasons for which changes are withheld in a summary: many name a
// record, and all of them stand in withheld.csv.
const withheldShown = 10

func drawVerbs(w io.Writer, counts map[string]int) {
	if len(counts) == 0 {
		return
	}
	fmt.Fprintln(w, "\nChanges")
	for _, v := range charter.Verbs {
		if n := counts[v]; n > 0 {
			fmt.Fprintf(w, "%9s  %s\n", thousands(n), v)
		}
	}
}

func guardSentence(g planning.Reading) string {
	if g.Message != "" {
		return g.Verb + ": " + g.Message
	}
	return g.String()
}

// thousands groups digits in threes.
func thousands(n int) string {
	s := strconv.Itoa(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + " " + s[i:]
	}
	return s
}
