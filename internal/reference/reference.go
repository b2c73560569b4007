// Package reference lists what can be named in a charter, a shape, a setting or a filter, from
// the declarations themselves: for the command line and for the page in docs.
package reference

import (
	"slices"
	"strings"

	"twinning/internal/connector"
	"twinning/internal/connector/file"
	"twinning/internal/connector/ldapdir"
	"twinning/internal/connector/scim"
	"twinning/internal/core/budget"
	"twinning/internal/core/charter"
	"twinning/internal/core/document"
	"twinning/internal/core/finding"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/fault"
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
	return []List{
		attributes(), keys("charter", "The keys of a charter; `*` stands for a name of your own", charter.Keys), functions(),
		keys("shape", "The keys of a shape; `*` stands for a canonical attribute, or a name of your own", record.ShapeKeys),
		settings("file", "The settings of a file", file.Settings), settings("ldap", "The settings of a directory", ldapdir.Settings), settings("scim", "The settings of a SCIM application", scim.Settings),
		findings(), words("verbs", "What a change can be", planning.Verbs), words("outcomes", "What can have come of a change", planning.Outcomes), problems(), limits(),
	}
}

// Schemas are the JSON Schemas of the documents that people write, by their name.
func Schemas() map[string]map[string]any {
	return map[string]map[string]any{"charter": charter.Keys.Schema("Charter of a lane"), "shape": record.ShapeKeys.Schema("Shape of a system")}
}

func keys(name, what string, keys document.Keys) List {
	l := List{name, what, []string{"key", "form", "what", "example"}, nil}
	for _, k := range keys {
		section, ofClass := strings.CutPrefix(k.Path, "classes[].")
		if ofClass && strings.ContainsAny(section, ".[") && slices.ContainsFunc(keys, func(o document.Key) bool { return o.Path == section }) {
			continue // a class says it as the section for everybody does
		}
		form := k.Form
		if len(k.Words) > 0 {
			form = strings.Join(k.Words, ", ")
		}
		l.Rows = append(l.Rows, []string{k.Path, form, k.What, k.Example})
	}
	return l
}

func settings(name, what string, of connector.Settings) List {
	l := List{name, what, []string{"setting", "what", "otherwise", "example"}, nil}
	for _, x := range of.List {
		text, otherwise := x.What, x.Default
		if len(x.Words) > 0 {
			text, otherwise = text+" ("+strings.Join(x.Words, ", ")+")", x.Words[0]
		}
		l.Rows = append(l.Rows, []string{x.Name, text, otherwise, x.Name + "=" + x.Example})
	}
	return l
}

func words(name, what string, of []planning.Word) List {
	l := List{name, what, []string{"name", "meaning"}, nil}
	for _, w := range of {
		l.Rows = append(l.Rows, []string{w.Name, w.Meaning})
	}
	return l
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

func problems() List {
	l := List{"problems", "The types of problems that the API answers with, beside those of the status; each begins with `urn:twinning:`", []string{"type", "meaning"}, nil}
	for _, c := range fault.Causes {
		l.Rows = append(l.Rows, []string{c.Name, c.Meaning})
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
