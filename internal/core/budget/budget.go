// Package budget declares, in one table, how much of anything Twinning takes from
// outside: files, requests, documents, expressions. Small inputs must not become
// large work; whoever has a good reason for more raises the limit by its name.
//
// The limits are those of the process. They are set once, before anything is
// read, and are safe to ask for from everywhere.
package budget

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
)

// Limit is one of them.
type Limit struct {
	Name     string
	What     string // what it bounds, in words
	Standard int64
	Bytes    bool // it is a size, told as KiB, MiB, GiB
	value    atomic.Int64
}

func limit(name string, standard int64, bytes bool, what string) *Limit {
	l := &Limit{Name: name, What: what, Standard: standard, Bytes: bytes}
	l.value.Store(standard)
	all = append(all, l)
	return l
}

const (
	kib = 1 << 10
	mib = 1 << 20
	gib = 1 << 30
)

var all []*Limit

// The limits. What they are for stands beside each.
var (
	Body      = limit("body", 4*mib, true, "a request that is not a file")
	Upload    = limit("upload", 4*gib, true, "a file as it is sent")
	Sheet     = limit("sheet", 64*mib, true, "a sheet with new values, as it is sent")
	Spool     = limit("spool", 8*gib, true, "all files that one user has sent and that wait to be read")
	Unpacked  = limit("unpacked", 4*gib, true, "a file after unpacking")
	Ratio     = limit("ratio", 100, false, "how many times larger a file may become by unpacking")
	Converted = limit("converted", 256*mib, true, "a delimited text that is not UTF-8 and has to be converted")
	Workbook  = limit("workbook", 512*mib, true, "a workbook after unpacking")
	Records   = limit("records", 10_000_000, false, "records in a list")
	Record    = limit("record", 16*mib, true, "one record as it is read: a line, a row, an entry, a resource")
	Columns   = limit("columns", 2000, false, "columns of a list, or attributes of a record")
	Key       = limit("key", 256, true, "the name of a column, an attribute or a JSON member")
	Cell      = limit("cell", 64*kib, true, "one value")
	Values    = limit("values", 10_000, false, "values in one cell")
	Depth     = limit("depth", 32, false, "JSON objects and lists inside one another")
	Document  = limit("document", mib, true, "a charter or a shape")
	Nesting   = limit("nesting", 64, false, "mappings and lists of a charter or a shape inside one another")
	Formula   = limit("expression", 8*kib, true, "one expression of a charter")
	Formulas  = limit("expressions", 1000, false, "expressions of one charter")
	Cost      = limit("cost", 100_000, false, "steps of evaluating one expression for one record")
	Pattern   = limit("pattern", 10_000, false, "parts of a pattern, repetitions counted")
	Made      = limit("made", 64*kib, true, "a text that an expression makes")
	Patience  = limit("patience", 30, false, "seconds in which a connection must send or take something")
	Tasks     = limit("tasks", 100, false, "tasks of one user that wait to be begun")
	Requests  = limit("requests", 8, false, "requests of one user at a time, by one node; files and streams are not counted")
	Streams   = limit("streams", 32, false, "files and streams that one user sends or takes at a time, by one node")
	Exports   = limit("exports", 4, false, "files that are given out at a time, by one node")
	Previews  = limit("previews", 4, false, "previews and surveys at a time, by one node")
	Hashes    = limit("password-checks", 2, false, "passwords that are checked at a time, by one node (64 MiB each)")
)

// All lists the limits in the order of their table.
func All() []*Limit { return slices.Clone(all) }

// Value is what is in force.
func (l *Limit) Value() int64 { return l.value.Load() }

// Int is Value as an int.
func (l *Limit) Int() int { return int(l.value.Load()) }

// String tells the limit in force, "4 GiB" or "2,000".
func (l *Limit) String() string { return l.Told(l.Value()) }

// Told tells an amount as the limit is told.
func (l *Limit) Told(n int64) string {
	if l.Bytes {
		for _, u := range units {
			if n >= u.size && n%u.size == 0 {
				return fmt.Sprintf("%d %s", n/u.size, u.name)
			}
		}
		return grouped(n) + " bytes"
	}
	return grouped(n)
}

func grouped(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

var units = []struct {
	name string
	size int64
}{{"GiB", gib}, {"MiB", mib}, {"KiB", kib}}

// Error is a limit that something went over.
type Error struct {
	Limit *Limit
	What  string // what went over it, as the subject of a sentence
}

func (e *Error) Error() string {
	if e.Limit == Ratio {
		return fmt.Sprintf("%s becomes more than %s times larger by unpacking; if it is in order, raise the limit: --limit %s=N", e.What, e.Limit, e.Limit.Name)
	}
	return fmt.Sprintf("%s is over the limit of %s; if it is in order, raise the limit: --limit %s=N", e.What, e.Limit, e.Limit.Name)
}

// Over is the error of something that is over the limit, nil when n is within.
func (l *Limit) Over(n int64, what string) error {
	if n <= l.Value() {
		return nil
	}
	return &Error{l, what}
}

// Set reads "NAME=N", where N may end in KiB, MiB or GiB.
func Set(text string) error {
	name, value, _ := strings.Cut(text, "=")
	i := slices.IndexFunc(all, func(l *Limit) bool { return l.Name == strings.TrimSpace(name) })
	if i < 0 {
		names := make([]string, len(all))
		for i, l := range all {
			names[i] = l.Name
		}
		return fmt.Errorf("limit %q is not known; known are %s", name, strings.Join(names, ", "))
	}
	n, err := parse(value)
	if err != nil {
		return fmt.Errorf("limit %s=%s: expected a number such as 5000, 512MiB or 8GiB", name, value)
	}
	all[i].value.Store(n)
	return nil
}

func parse(text string) (int64, error) {
	text = strings.ReplaceAll(strings.ReplaceAll(strings.TrimSpace(text), ",", ""), " ", "")
	factor := int64(1)
	for _, u := range units {
		if rest, ok := strings.CutSuffix(text, u.name); ok {
			text, factor = rest, u.size
		}
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err == nil && (n < 1 || n > (1<<62)/factor) {
		err = strconv.ErrRange
	}
	return n * factor, err
}
