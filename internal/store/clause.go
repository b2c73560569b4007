package store

import (
	"context"
	"fmt"
	"strings"
	"unicode"

	"twinning/internal/core/filter"
	"twinning/internal/core/record"
)

// clause is a condition with its arguments, put together of what a list is asked for: a
// query that says only what is asked finds the index for it.
type clause struct {
	text string
	args []any
}

// and adds a condition; each ? in it stands for the next argument.
func (c *clause) and(condition string, args ...any) {
	for _, a := range args {
		c.args = append(c.args, a)
		condition = strings.Replace(condition, "?", fmt.Sprintf("$%d", len(c.args)), 1)
	}
	if c.text != "" {
		c.text += " AND "
	}
	c.text += condition
}

// is adds that a column has a value, where one is asked for.
func (c *clause) is(column, value string) {
	if value != "" {
		c.and(column+" = ?", value)
	}
}

// finds adds that the page's text stands in an expression, where one is searched for.
func (c *clause) finds(p Page, expression string) {
	if p.Text != "" {
		c.and(expression+" ILIKE ?", p.like())
	}
}

// field is a column that a list can be narrowed by.
type field struct {
	column string
	words  bool // a closed list of words: compared as they stand, so that an index finds them
}

// narrow adds the terms of the page's text that name fields of the list; the words that are
// left are what is searched for.
func (c *clause) narrow(p Page, fields map[string]field) Page {
	terms, words := filter.Parse(p.Text, func(name string) bool { return fields[name].column != "" })
	p.Text = words
	for _, t := range terms {
		f := fields[t.Field]
		column, value, is := f.column, "?", "="
		if !f.words {
			column, value = `lower(`+column+` COLLATE "default")`, "lower(?)"
		}
		if t.Begin {
			is, t.Value = "LIKE", likely.Replace(t.Value)+"%"
		}
		condition := column + " " + is + " " + value
		if t.Not {
			condition = "NOT (" + condition + ")"
		}
		c.and(condition, t.Value)
	}
	return p
}

// nearby is how many rows of a list are looked at one by one for a text, before the index is
// asked: a text that is common is among them. (A variable for the tests.)
var nearby = 4000

// source is one way to find the rows of a page.
type source struct {
	query string
	args  []any
}

// pages are the ways to find a page of a table, to be tried until one fills it. A text is
// first looked for nearby, where common ones are; then by its index, whatever PostgreSQL
// thinks of how common it is: it takes short ones for common, and would read the whole list
// for one that is not. A text without three letters in a row has no index.
func (c *clause) pages(p Page, table, searched, own, label string, numbered bool) (ways []source, err error) {
	after, more, err := p.after(own, label, numbered, len(c.args)+1)
	if err != nil {
		return nil, err
	}
	args := append(append([]any{}, c.args...), more...)
	rows, sorted := fmt.Sprintf(`SELECT * FROM %s WHERE %s%s`, table, c.text, after), p.sorted(own, label)
	most := fmt.Sprintf(`%s LIMIT %d`, sorted, p.limit()+1)
	if p.Text == "" {
		return []source{{rows + most, args}}, nil
	}
	text := fmt.Sprintf(`%s ILIKE $%d`, searched, len(args)+1)
	args = append(args, p.like())
	if !indexed(p.Text) {
		return []source{{rows + ` AND ` + text + most, args}}, nil
	}
	near := text
	if searched == searchedRecords && record.IsASCII(p.Text) { // taking each apart costs more than a look at the whole
		near = fmt.Sprintf(`(native_id || ' ' || native::text) COLLATE "C" ILIKE $%d AND %s`, len(args), text)
	}
	return []source{
		{fmt.Sprintf(`SELECT * FROM (%s%s LIMIT %d) near WHERE %s%s`, rows, sorted, nearby, near, most), args},
		{fmt.Sprintf(`SELECT * FROM (WITH hits AS MATERIALIZED (%s AND %s) SELECT * FROM hits) hits%s`, rows, text, most), args},
	}, nil
}

// indexed: the text has three letters or digits in a row, by which the index finds it.
func indexed(text string) bool {
	run := 0
	for _, r := range text {
		if run++; !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			run = 0
		}
		if run == 3 {
			return true
		}
	}
	return false
}

// filled tries the ways until one fills the page.
func filled[T any](ctx context.Context, s *Store, p Page, ways []source, whole func(page string) string) (list []T, err error) {
	for _, way := range ways {
		list = nil
		if err = s.list(ctx, &list, whole(way.query), way.args...); err != nil || len(list) > p.limit() {
			break
		}
	}
	return list, err
}
