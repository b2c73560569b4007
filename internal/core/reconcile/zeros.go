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
	bare := map[string]bool{}
	for i := range others {
		if cell := without.Cell(i); cell != "" {
			bare[cell] = true
		}
	}
	as, trimmed := 0, 0
	for i := range rows {
		cell := with.Cell(i)
		if cell == "" {
			continue
		}
		if bare[cell] {
			as++
		}
		if cell[0] == '0' && bare[strings.TrimLeft(cell, "0")] {
			trimmed++
		}
	}
	if trimmed*2 < zeros {
		return ""
	}
	return fmt.Sprintf("key %s: the %s have lost the zeros in front (%d values agree as they stand, %d more without zeros): export the list with the column as text, or compare rewrite(X, '^0+', '') with X as the %s's expression now is", k.Name, lost, as, trimmed, side)
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
