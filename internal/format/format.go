// Package format is what all file formats have in common: an open file that
// gives records one by one, and a writer that takes them. Each format has a
// room of its own; anyfile finds out which one a file is in.
package format

import (
	"fmt"
	"iter"
	"slices"
	"strings"
)

// Row is one record of a file.
type Row struct {
	Line   int                 // where it begins, 1-based; 0 where the format has no lines
	Values map[string][]string // by native; when Fault is set, only what is certain all the same
	Fault  string              // why the row can't be trusted, "" when it can
	At     string              // the column or attribute at fault, "" when the row as a whole is
	// Swallows: the fault may have eaten other rows beside this one.
	Swallows bool
	// Foot: the fault is that it looks like a total, or the foot of a page.
	Foot    bool
	LeftOut string // why the row stands for nobody, "" when it stands for somebody: the header once more, say
}

// HeaderAgain is why a row that repeats the header is left out.
const HeaderAgain = "the header stands here once more"

// RepeatsHeader tells a row that names the columns once more, as when two
// exports were joined. In another order, what is below it can't be trusted.
func RepeatsHeader(header, cells []string) (again, reordered bool) {
	if len(header) < 2 || len(cells) != len(header) {
		return false, false
	}
	if !slices.Contains(header, strings.TrimSpace(cells[0])) { // as nearly every row: it is asked of each
		return false, false
	}
	again = true
	names := map[string]bool{}
	for i, c := range cells {
		c = strings.TrimSpace(c)
		again = again && c == header[i]
		names[c] = true
	}
	if again {
		return true, false
	}
	for _, h := range header {
		if !names[h] {
			return false, false
		}
	}
	return false, true
}

// About is what was found out about a file.
type About struct {
	Format     string   `json:"format"` // csv, jsonl, ldif, scim or xlsx
	Encoding   string   `json:"encoding,omitempty"`
	Delimiter  string   `json:"delimiter,omitempty"`
	Sheet      string   `json:"sheet,omitempty"`
	Compressed bool     `json:"compressed,omitempty"`
	Above      []string `json:"above,omitempty"` // lines above the header that were passed over
}

// String tells it in words.
func (a About) String() string {
	words := []string{a.Format}
	for _, w := range []string{a.Encoding, a.Sheet} {
		if w != "" {
			words = append(words, w)
		}
	}
	if a.Delimiter != "" {
		words = append(words, fmt.Sprintf("delimiter %q", a.Delimiter))
	}
	if a.Compressed {
		words = append(words, "gzip")
	}
	return strings.Join(words, ", ")
}

// File is an open file.
type File interface {
	About() About
	// Natives are the columns, or the attributes met in the first records.
	Natives() []string
	// Expected is about how many records there are; -1 when nobody knows.
	Expected() int
	// Each calls fn for every record. An error, but for fn's own, means that the
	// file as a whole can't be trusted.
	Each(fn func(Row) error) error
}

// Writer takes records; Close finishes the file.
type Writer interface {
	Write(values map[string][]string) error
	Close() error
}

// Writing says for whom a table is written.
type Writing struct {
	People    bool // who open it in a spreadsheet: what it would run is defused
	Delimiter rune // of delimited text; 0 is a comma
	BOM       bool // delimited text begins with a byte order mark
}

// Wanted is a column of a template.
type Wanted struct {
	Native   string
	Required bool
	Form     string   // in words
	Allowed  []string // nil: any
	Known    []string // values with a meaning
	Example  string
}

// Explain says what the column must hold.
func (w Wanted) Explain() string {
	text := w.Form
	if len(w.Allowed) > 0 {
		text = strings.Join(w.Allowed, " or ")
	}
	if len(w.Known) > 0 {
		text += "; with a meaning of its own: " + strings.Join(w.Known, ", ")
	}
	return text
}

// ListSeparator stands between the values of a list in one cell of a table.
const ListSeparator = ";"

// dangerous first characters make a spreadsheet run a cell as a formula.
const dangerous = "=+-@\t\r"

// separators are the characters at which a spreadsheet may cut a line into cells, whatever the
// file was meant to be cut at.
const separators = ";,|\t\r\n"

// Defuse makes a cell harmless in a spreadsheet, in such a way that Restore gives it back: an
// apostrophe goes in front of what would be a formula, at the beginning or after a separator, and
// in front of what looks defused already.
func Defuse(cell string) string {
	if harmless(cell) {
		return cell
	}
	return atFormulas(cell, "'", 0)
}

// harmless: the cell is cut nowhere, and does not begin with what starts a formula, as nearly all.
func harmless(cell string) bool {
	if cell != "" && roles[cell[0]]&(starts|quotes) != 0 {
		return false
	}
	for i := range len(cell) {
		if roles[cell[i]]&cuts != 0 {
			return false
		}
	}
	return true
}

// Restore is the way back of Defuse.
func Restore(cell string) string {
	if !strings.Contains(cell, "'") {
		return cell
	}
	return atFormulas(cell, "", 1)
}

// atFormulas edits a cell wherever it would be a formula: put goes in front of it, and as many of
// the apostrophes that are there already go, at most cut.
func atFormulas(cell, put string, cut int) string {
	var b strings.Builder
	done := 0
	for at := range formulas(cell) {
		b.WriteString(cell[done:at])
		b.WriteString(put)
		if done = at; cell[at] == '\'' {
			done += cut
		}
	}
	if b.Len() == 0 && done == 0 {
		return cell
	}
	b.WriteString(cell[done:])
	return b.String()
}

// formulas visits the places where a cell may begin and would be a formula, behind any number
// of apostrophes.
func formulas(cell string) iter.Seq[int] {
	return func(yield func(at int) bool) {
		begin := 0 // where what may be a cell begins; -1 inside of one
		for i := range len(cell) {
			is := roles[cell[i]]
			if begin >= 0 && is&quotes != 0 {
				continue
			}
			if begin >= 0 && is&starts != 0 && !yield(begin) {
				return
			}
			if begin = -1; is&cuts != 0 {
				begin = i + 1
			}
		}
	}
}

// roles are what a byte may do in a spreadsheet: start a formula, cut a line, take a cell as text.
var roles = func() (roles [256]byte) {
	for role, characters := range map[byte]string{starts: dangerous, cuts: separators, quotes: "'"} {
		for i := range len(characters) {
			roles[characters[i]] |= role
		}
	}
	return roles
}()

const (
	starts byte = 1 << iota
	cuts
	quotes
)
