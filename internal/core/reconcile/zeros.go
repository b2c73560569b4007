package reconcile

import (
	"fmt"
	"strings"

	"twinning/internal/core/pairing"
	"twinning/internal/core/record"
)

// lostZeros tells of a key whose numbers have zeros in front on one side alone: a
// spreadsheet takes them away, and then nobody is recognised by it.
func lostZeros(k pairing.Key, people, accounts int) string {
	with, without, rows, others, side, lost := k.People, k.Accounts, people, accounts, "person", "accounts"
	zeros, elsewhere := beginWithZero(with, rows), beginWithZero(without, others)
	switch {
	case (zeros > 0) == (elsewhere > 0):
		return ""
	case elsewhere > 0:
		with, without, rows, others, side, lost, zeros = without, with, others, rows, "account", "people", elsewhere
	}
	numbers := 0
	for i := range rows {
		if cell := with.Cell(i); cell != "" && allFigures(cell) {
			numbers++
		}
	}
	if zeros*5 < numbers { // less than a fifth of them
		return ""
	}
	bare := map[string]int{} // numbers without their zeros
	for i := range rows {
		if cell := with.Cell(i); cell != "" && cell[0] == '0' {
			bare[strings.TrimLeft(cell, "0")]++
		}
	}
	trimmed := matches(bare, without, others)
	if trimmed*2 < zeros {
		return ""
	}
	all := map[string]int{}
	for i := range rows {
		if cell := with.Cell(i); cell != "" {
			all[cell]++
		}
	}
	as := matches(all, without, others)
	return fmt.Sprintf("key %s: the %s have lost the zeros in front (%d values agree as they stand, %d more without zeros): export the list with the column as text, or compare rewrite(X, '^0+', '') with X as the %s's expression now is", k.Name, lost, as, trimmed, side)
}

// matches counts the values of which a column holds one that is the same.
func matches(values map[string]int, c *record.Column, rows int) (n int) {
	for i := range rows {
		if cell := c.Cell(i); cell != "" && values[cell] > 0 {
			n += values[cell]
			delete(values, cell)
		}
	}
	return n
}

// beginWithZero counts the numbers that do; most keys have none, and then it looks at
// one character of each cell.
func beginWithZero(c *record.Column, rows int) (n int) {
	for i := range rows {
		if cell := c.Cell(i); cell != "" && cell[0] == '0' && allFigures(cell) {
			n++
		}
	}
	return n
}

func allFigures(cell string) bool { return strings.Trim(cell, "0123456789") == "" }
