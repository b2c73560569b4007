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
	at := func(c *record.Column, rows int) (begin, numbers int) {
		for i := range rows {
			switch cell := c.Cell(i); {
			case cell == "" || strings.Trim(cell, "0123456789") != "":
			case cell[0] == '0':
				begin++
				fallthrough
			default:
				numbers++
			}
		}
		return begin, numbers
	}
	with, without, rows, others, side, lost := k.People, k.Accounts, people, accounts, "person", "accounts"
	zeros, numbers := at(with, rows)
	elsewhere, all := at(without, others)
	switch {
	case zeros > 0 && elsewhere > 0:
		return ""
	case elsewhere > 0:
		with, without, rows, others, side, lost, zeros, numbers = without, with, others, rows, "account", "people", elsewhere, all
	}
	if zeros*5 < numbers || numbers == 0 { // less than a fifth of them
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
