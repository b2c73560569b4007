package store

import (
	"fmt"
	"strings"
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

// listed finishes a list: where it goes on, in what order, and how much of it.
func (c *clause) listed(p Page, own, label string, numbered bool) (query string, args []any, err error) {
	order, after, err := p.order(own, label, numbered, len(c.args)+1)
	if err != nil {
		return "", nil, err
	}
	args = append(append([]any{}, c.args...), after...)
	return fmt.Sprintf("%s%s LIMIT %d", c.text, order, p.limit()+1), args, nil
}
