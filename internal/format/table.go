package format

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"
)

// StrayLines above a header are passed over, at most so many.
const StrayLines = 10

// Named counts the cells of a row that hold anything.
func Named(row []string) (n int) {
	for _, c := range row {
		if strings.TrimSpace(c) != "" {
			n++
		}
	}
	return n
}

// Headings are the names of a table's columns as its header says them. Columns of
// one name are numbered; blank ones at the end are none. A row that holds an address
// is a record: no list calls a column so.
func Headings(row []string) ([]string, error) {
	if err := Columns(row); err != nil {
		return nil, err
	}
	names := make([]string, 0, len(row))
	met, last := make(map[string]bool, len(row)), map[string]int{}
	for i, c := range row {
		name := strings.TrimSpace(c)
		if strings.IndexByte(name, 0) >= 0 {
			return nil, fmt.Errorf("column %d of the header holds a NUL byte; is this a delimited text file?", i+1)
		}
		if local, domain, ok := strings.Cut(name, "@"); ok && local != "" && strings.Contains(domain, ".") && !strings.ContainsAny(name, " \t") {
			return nil, fmt.Errorf("the first row holds the address %s, so it is a record and not a header: put a row above it that names the columns", name)
		}
		for base, n := name, max(last[name], 1)+1; name != "" && met[name]; n++ {
			name, last[base] = fmt.Sprintf("%s (%d)", base, n), n
		}
		met[name] = true
		names = append(names, name)
	}
	for len(names) > 1 && names[len(names)-1] == "" {
		names = names[:len(names)-1]
	}
	return names, nil
}

var numbered = regexp.MustCompile(`^(.+) \(\d+\)$`)

// Ambiguous tells of a column that is read and whose name another column has as well,
// which nothing reads: whoever wrote what is read may have meant the other.
func Ambiguous(columns []string, reads func(column string) bool) error {
	for _, c := range columns {
		m := numbered.FindStringSubmatch(c)
		if m == nil || !slices.Contains(columns, m[1]) || reads(c) || !reads(m[1]) {
			continue
		}
		return fmt.Errorf("the header names column %q more than once: it is not known which is meant. Give each a name of its own, or let the shape read %q as well", m[1], c)
	}
	return nil
}

// Fitted is a row without the blank cells that it has beyond the header.
func Fitted(cells []string, columns int) []string {
	for len(cells) > columns && strings.TrimSpace(cells[len(cells)-1]) == "" {
		cells = cells[:len(cells)-1]
	}
	return cells
}

// FootOfTable is why a row that looks like a total is not taken for a record.
const FootOfTable = "it looks like a total or the foot of a page, not like a record; take it out, or say `unnamed: leave-out` in the shape"

// feet are what rows begin with that lists end with, in the languages that lists come
// in. Some of the words are names as well: those must stand alone, or before a figure.
var feet = regexp.MustCompile(`^(?i)(?:(?:grand |sub[- ]?|sous[- ]?)?(?:total|totals|totaux|totale|totaal|totales|gesamtsumme|zwischensumme)(?:$|[^\pL])` +
	`|(?:sum|summe|gesamt|somme|suma|razem|łącznie|ogółem|count|anzahl|nombre|effectif|cantidad|recuento|liczba|records|rows)\s*(?:$|[:=\d])` +
	`|(?:page|seite|página|pagina|strona|blatt)\s*\d` +
	`|(?:end|ende|fin|koniec)(?:$| of | der | des | de | du | del | listy| pliku))`)

// footWords are the first words of what feet matches.
var footWords = func() map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(`grand sub sous subtotal soustotal total totals totaux totale totaal totales gesamtsumme zwischensumme sum summe gesamt somme suma razem łącznie ogółem
		count anzahl nombre effectif cantidad recuento liczba records rows page seite página pagina strona blatt end ende fin koniec`) {
		m[w] = true
	}
	return m
}()

// LooksLikeFoot tells a row that begins like a total or a page's foot and holds next
// to nothing but numbers beside: a human is asked what it is.
func LooksLikeFoot(cells []string) bool {
	first := slices.IndexFunc(cells, func(c string) bool { return c != "" && strings.TrimSpace(c) != "" })
	if first < 0 || len(cells[first]) > 80 {
		return false
	}
	label := strings.TrimSpace(cells[first])
	word := label
	if end := strings.IndexFunc(label, func(r rune) bool { return !unicode.IsLetter(r) }); end >= 0 {
		word = label[:end]
	}
	if len(word) < 3 || !footWords[strings.ToLower(word)] || !feet.MatchString(label) { // the first looks are for the many rows that are none
		return false
	}
	filled := 1
	for _, c := range cells[first+1:] {
		if c = strings.TrimSpace(c); c == "" {
			continue
		}
		if filled++; strings.IndexFunc(c, unicode.IsLetter) >= 0 || strings.Contains(c, "@") {
			return false
		}
	}
	return filled <= max(2, len(cells)/2)
}

// AppendRow appends a row of delimited text (RFC 4180) that people open: every cell that is not
// blank is quoted, so that no program cuts or reads it otherwise than it was meant.
func AppendRow(to []byte, delimiter byte, cells ...string) []byte {
	for i, cell := range cells {
		if i > 0 {
			to = append(to, delimiter)
		}
		if cell == "" {
			continue
		}
		to = append(to, '"')
		for {
			before, after, quote := strings.Cut(cell, `"`)
			to = append(to, before...)
			if !quote {
				break
			}
			to, cell = append(to, `""`...), after
		}
		to = append(to, '"')
	}
	return append(to, '\n')
}
