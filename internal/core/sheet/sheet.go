// Package sheet is what goes out to a spreadsheet and comes back: values of accounts, to be
// edited there, and what was decided about the changes of a plan.
//
// The header says what a column is. One column identifies, and says so; a column of an
// attribute may be edited; beside it stands what the attribute was when the sheet went out, on
// which the edit rests; `action` asks for a verb. A blank cell leaves alone, the word (clear)
// clears. What a spreadsheet is known to do to values by itself (zeros lost, numbers in
// scientific notation, days written in another way, texts taken for days) is never taken for
// an edit: it is told.
package sheet

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"twinning/internal/core/calendar"
	"twinning/internal/core/document"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

const (
	// Identifies is what the header of the column says that tells whose a row is.
	Identifies = " (identifies)"
	// Was begins the header of a column that holds what an attribute was.
	Was = "was: "
	// Lane heads the column that says of which lane a row is; Whose that of the name that is
	// shown. Neither is edited: a row that says another lane, or another name than the account
	// has, is of somebody else.
	Lane  = "lane"
	Whose = "whose"
	// Action heads the column of verbs.
	Action = "action"
	// Clear is the marker that clears a value.
	Clear = "(clear)"
	// Person is what identifies rows that are about people, who may be without account.
	Person = "person"
	// ListSeparator stands between the values of a list in one cell.
	ListSeparator = "; "
)

// identifying are the attributes by which a row may say whose it is.
var identifying = []string{"id", "userName", "email", "externalId", "employeeNumber", Person}

// Header is that of a sheet of some attributes, in the order in which people read it.
func Header(attributes []string) []string {
	list := []string{"id" + Identifies, Lane, Whose, Action}
	for _, a := range attributes {
		list = append(list, a, Was+a)
	}
	return list
}

// Cell is the values of an attribute as a cell shows them.
func Cell(values []string) string { return strings.Join(values, ListSeparator) }

// Layout is what the columns of a sheet that came back are.
type Layout struct {
	Identifies string // the attribute by which a row says whose it is
	key        string // its heading
	edits      []string
	was        map[string]bool
	action     string
	passed     []string
}

// Passed are the headings that nothing is made of.
func (l Layout) Passed() []string { return l.passed }

// Attributes are those that the sheet can edit.
func (l Layout) Attributes() []string { return l.edits }

// Read finds out what the columns of a sheet are, of accounts that have some attributes.
func Read(header, known []string) (l Layout, problems document.Problems) {
	l.was = map[string]bool{}
	problem := func(column int, format string, args ...any) {
		problems = append(problems, document.Problem{Line: 1, Column: column + 1, Message: fmt.Sprintf(format, args...)})
	}
	for i, h := range header {
		name := strings.TrimSpace(h)
		switch {
		case strings.HasSuffix(name, Identifies):
			attribute := strings.TrimSpace(strings.TrimSuffix(name, Identifies))
			switch {
			case l.key != "":
				problem(i, "two columns identify, %q and %q; one says whose a row is", l.key, name)
			case !slices.Contains(identifying, attribute):
				problem(i, "%q identifies nobody; expected one of %s", attribute, strings.Join(identifying, ", "))
			default:
				l.key, l.Identifies = h, attribute
			}
		case strings.EqualFold(name, Action):
			l.action = h
		case name == Lane, name == Whose:
		case strings.HasPrefix(name, Was):
			l.was[strings.TrimPrefix(name, Was)] = true
		case slices.Contains(known, name):
			if slices.Contains(l.edits, name) {
				problem(i, "the column %q stands twice", name)
			}
			l.edits = append(l.edits, name)
		default:
			l.passed = append(l.passed, name)
		}
	}
	if l.key == "" {
		problem(0, "no column says whose a row is; write%s behind the heading of the one that does, such as id%s", Identifies, Identifies)
	}
	if len(l.edits) == 0 && l.action == "" {
		problem(0, "no column can be edited; expected attributes of accounts, such as title, or action")
	}
	return l, problems
}

// Refused is a cell that asks for nothing after all.
type Refused struct{ Attribute, Reason string }

// Row is what one row asks for.
type Row struct {
	Key     string // whose it is
	Lane    string // of which lane it says to be; "": it does not say
	Whose   string // what it calls the account, likewise
	Verbs   []string
	Values  []planning.Wanted
	Refused []Refused
}

// Asks reports whether it asks for anything.
func (r Row) Asks() bool { return len(r.Verbs)+len(r.Values) > 0 }

// Row reads the cells of a row, by their headings.
func (l Layout) Row(cells map[string]string) (r Row) {
	r.Key, r.Lane, r.Whose = strings.TrimSpace(cells[l.key]), strings.TrimSpace(cells[Lane]), strings.TrimSpace(cells[Whose])
	if why := spoilt(r.Key); why != "" {
		r.Refused = append(r.Refused, Refused{l.Identifies, fmt.Sprintf("%q says whose the row is, and %s", r.Key, why)})
		r.Key = ""
		return r
	}
	if l.action != "" {
		if verb := strings.ToLower(strings.TrimSpace(cells[l.action])); verb != "" {
			if a, is := planning.Actions[verb]; is && a.New != "" || verb == planning.Delete {
				r.Verbs = append(r.Verbs, verb)
			} else {
				r.Refused = append(r.Refused, Refused{Action, fmt.Sprintf("%q is no action%s; expected suspend, reinstate, hide, unhide or delete", verb, document.Suggest(verb, []string{planning.Suspend, planning.Reinstate, planning.Hide, planning.Unhide, planning.Delete}))})
			}
		}
	}
	for _, attribute := range l.edits {
		cell := strings.TrimSpace(cells[attribute])
		if cell == "" {
			continue
		}
		was, known := strings.TrimSpace(cells[Was+attribute]), l.was[attribute]
		if known && cell == was {
			continue
		}
		if v, why := edit(attribute, cell, was, known); why != "" {
			r.Refused = append(r.Refused, Refused{attribute, why})
		} else if v != nil {
			r.Values = append(r.Values, *v)
		}
	}
	return r
}

// edit is what a cell asks for: nil where it is as it was.
func edit(attribute, cell, was string, known bool) (v *planning.Wanted, why string) {
	v = &planning.Wanted{Attribute: attribute}
	kind := record.KindOf(attribute)
	if cell == Clear {
		cell = ""
	}
	if kind.Multi() {
		if !known {
			return nil, fmt.Sprintf("a list is edited beside the one that it was: the column %q is missing", Was+attribute)
		}
		v.Adds, v.Takes = planning.Moved(kind, list(was), list(cell))
		if len(v.Adds)+len(v.Takes) == 0 {
			return nil, ""
		}
		return v, ""
	}
	if known && kind == record.Date && calendar.Respelt(cell, was) {
		return nil, ""
	}
	if w := spoilt(cell); w != "" {
		return nil, fmt.Sprintf("%q %s", cell, w)
	}
	if how := record.Damaged(cell, was); known && how != "" {
		return nil, fmt.Sprintf("%q is what it was, %q, with something lost: %s", cell, was, how)
	}
	if kind == record.Date && cell != "" && !calendar.IsDay(cell) {
		return nil, fmt.Sprintf("%q is a day in another form; write it as 2026-12-31", cell)
	}
	if kind == record.Bool {
		cell = strings.ToLower(cell) // TRUE, as spreadsheets write it
	}
	if v.New = cell; known {
		if kind == record.Bool {
			was = strings.ToLower(was)
		}
		if cell == was {
			return nil, ""
		}
		v.Old = &was
	}
	return v, ""
}

// list is a list as one cell of ours holds it.
func list(cell string) string {
	var values []string
	for _, v := range strings.Split(cell, ";") {
		if v = strings.TrimSpace(v); v != "" {
			values = append(values, v)
		}
	}
	return record.JoinList(values)
}

var (
	scientific = regexp.MustCompile(`^\d([.,]\d+)?E\+?\d+$`)
	month      = regexp.MustCompile(`(?i)^(\d{1,2}-(jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)|(jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)-\d{2})$`)
	fault      = regexp.MustCompile(`^#(N/A|REF!|VALUE!|NAME\?|DIV/0!|NUM!|NULL!)`)
	hashes     = regexp.MustCompile(`^#{3,}$`)
)

// spoilt says what a spreadsheet has made of a value, "" where it has not, as far as can be
// seen.
func spoilt(cell string) string {
	switch {
	case scientific.MatchString(cell):
		return "is a number that the spreadsheet has shortened; format the column as text, and type it anew"
	case month.MatchString(cell):
		return "is a day that the spreadsheet has made of something else; format the column as text, and type it anew"
	case fault.MatchString(cell):
		return "is what a formula that failed shows"
	case hashes.MatchString(cell):
		return "is what a column shows that is too narrow"
	}
	return ""
}
