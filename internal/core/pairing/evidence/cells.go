package evidence

import (
	"slices"

	"twinning/internal/core/parallel"
	"twinning/internal/core/record"
)

// names are those of a roster. Names repeat, so that each distinct cell is taken apart once
// and the rows only say which it is.
type names struct {
	forms                 Forms
	given, middle, family coded
	full                  *record.Column // a display name is nobody else's: taken apart where it is needed
}

// coded is a column that repeats itself.
type coded struct {
	codes []int32 // by row, the place of its cell; nil where there is no such column
	cells []*cellWords
}

func (c *coded) at(row int) *cellWords {
	if c.codes == nil {
		return noWords
	}
	return c.cells[c.codes[row]]
}

// columns are those that repeat themselves.
func (n *names) columns() [3]*coded { return [3]*coded{&n.given, &n.middle, &n.family} }

// parted: the parts of the name are known by themselves.
func (n *names) parted(row int) bool {
	return len(n.given.at(row).plain) > 0 && len(n.family.at(row).plain) > 0
}

func newNames(r *record.Roster, cores int) (n names) {
	n.full = r.Column("displayName")
	var wg parallel.Group
	for name, into := range map[string]*coded{"givenName": &n.given, "middleName": &n.middle, "familyName": &n.family} {
		if column := r.Column(name); column != nil {
			wg.Go(func() { *into = newCoded(column, r.Len(), cores) })
		}
	}
	wg.Wait()
	return n
}

func newCoded(column *record.Column, rows, cores int) coded {
	c := coded{codes: make([]int32, rows)}
	at := map[string]int32{"": 0}
	distinct := []string{""}
	for i := range c.codes {
		cell := column.Cell(i)
		code, known := at[cell]
		if !known {
			code = int32(len(distinct)) // no more than rows
			at[cell] = code
			distinct = append(distinct, cell)
		}
		c.codes[i] = code
	}
	c.cells = make([]*cellWords, len(distinct))
	parallel.InChunks(cores, len(distinct), func() func(from, to int) {
		return func(from, to int) {
			for i := from; i < to; i++ {
				if c.cells[i] = noWords; distinct[i] != "" {
					c.cells[i] = newCellWords(distinct[i], nil)
				}
			}
		}
	})
	return c
}

// knowing has the words that are forms of others known as such.
func (n names) knowing(forms Forms) names {
	n.forms = forms
	for _, c := range n.columns() {
		c.cells = slices.Clone(c.cells)
		for i, cell := range c.cells {
			if slices.ContainsFunc(cell.plain, func(w word) bool { return forms[w.Text] != nil }) {
				c.cells[i] = cell.knowing(forms)
			}
		}
	}
	return n
}

func (c *cellWords) knowing(forms Forms) *cellWords {
	known := *c
	known.plain = slices.Clone(c.plain)
	for i, w := range known.plain {
		if forms[w.Text] != nil {
			x := newWord(w.Text, w.Text, forms)
			x.plain, x.marked = w.plain, w.marked
			known.plain[i] = x
		}
	}
	return &known
}
