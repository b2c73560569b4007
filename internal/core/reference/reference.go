// Package reference lists what can be named in a charter, a shape or a filter, from
// the declarations themselves: for the command line and for the page in docs.
package reference

import (
	"strings"

	"twinning/internal/core/budget"
	"twinning/internal/core/charter"
	"twinning/internal/core/finding"
	"twinning/internal/core/record"
)

// List is one kind of thing that has names.
type List struct {
	Name    string // attributes, functions, findings, limits
	What    string
	Columns []string
	Rows    [][]string
}

// Lists are all of them.
func Lists() []List {
	return []List{attributes(), functions(), findings(), limits()}
}

func attributes() List {
	l := List{"attributes", "The canonical attributes, and the headings by which a list's columns are recognised", []string{"name", "form", "what", "headings"}, nil}
	catalogue, headings := record.Catalogue()
	for _, a := range catalogue {
		l.Rows = append(l.Rows, []string{a.Name, a.Kind.String(), a.What, strings.Join(headings[a.Name], ", ")})
	}
	return l
}

func functions() List {
	l := List{"functions", "The functions of expressions, beside those of CEL", []string{"name", "of", "what", "example", "gives"}, nil}
	for _, f := range charter.Functions() {
		l.Rows = append(l.Rows, []string{f.Name, f.Arguments, f.What, f.Example, f.Gives})
	}
	return l
}

func findings() List {
	l := List{"findings", "What can be wrong, with what to do", []string{"code", "severity", "meaning", "remedy"}, nil}
	for _, c := range finding.Catalogue {
		l.Rows = append(l.Rows, []string{c.Name, string(c.Severity), c.Meaning, c.Remedy})
	}
	return l
}

func limits() List {
	l := List{"limits", "How much of anything is taken; `--limit NAME=N` changes one", []string{"name", "standard", "bounds"}, nil}
	for _, x := range budget.All() {
		l.Rows = append(l.Rows, []string{x.Name, x.Told(x.Standard), x.What})
	}
	return l
}

// Markdown is the list as a table.
func (l List) Markdown() string {
	row := func(cells []string, code bool) string {
		out := "|"
		for i, c := range cells {
			c = strings.ReplaceAll(c, "|", `\|`)
			if code && c != "" && (i == 0 || l.Columns[i] == "example" || l.Columns[i] == "gives") {
				c = "`" + c + "`"
			}
			if c != "" {
				c += " "
			}
			out += " " + c + "|"
		}
		return out + "\n"
	}
	text := row(l.Columns, false) + strings.Repeat("|---", len(l.Columns)) + "|\n"
	for _, r := range l.Rows {
		text += row(r, true)
	}
	return text
}
