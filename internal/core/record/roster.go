package record

import (
	"encoding/hex"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"unsafe"
)

// Column holds one attribute of every record over one shared text: cell i is
// data[ends[i-1]:ends[i]]. Lists are joined by ListSep.
type Column struct {
	data []byte
	ends []uint32
}

// Cell returns the raw text of row i, "" when absent. The string shares the
// column's storage.
func (c *Column) Cell(i int) string {
	if c == nil {
		return ""
	}
	start := uint32(0)
	if i > 0 {
		start = c.ends[i-1]
	}
	b := c.data[start:c.ends[i]]
	return unsafe.String(unsafe.SliceData(b), len(b)) // the builder never writes to a finished cell
}

// Values splits row i into its values, none when absent.
func (c *Column) Values(i int) []string { return SplitList(c.Cell(i)) }

// SplitList splits a cell into its values.
func SplitList(cell string) []string {
	if cell == "" {
		return nil
	}
	return strings.Split(cell, string(ListSep))
}

// EachValue visits the values of a cell, but for blank ones, without a slice.
func EachValue(cell string, yield func(v string)) {
	for cell != "" {
		v, rest, _ := strings.Cut(cell, string(ListSep))
		if v != "" {
			yield(v)
		}
		cell = rest
	}
}

// JoinList makes one cell of several values, dropping blank ones.
func JoinList(values []string) string {
	if len(values) == 1 {
		return values[0]
	}
	kept := make([]string, 0, len(values))
	for _, v := range values {
		if v != "" {
			kept = append(kept, v)
		}
	}
	return strings.Join(kept, string(ListSep))
}

func (c *Column) push(cell string) error {
	if len(c.data)+len(cell) > math.MaxUint32 {
		return fmt.Errorf("one attribute of this roster holds more than 4 GiB of text")
	}
	c.data = append(c.data, cell...)
	c.ends = append(c.ends, uint32(len(c.data))) // bounded above
	return nil
}

// measured is how many cells tell how long a column will be.
const measured = 512

// NewColumn builds a column of n cells from a function, for derived values.
func NewColumn(n int, cell func(i int, dst []byte) []byte) *Column {
	c := &Column{ends: make([]uint32, n)}
	for i := range n {
		if i == measured { // by then it is known how long the rest will be, nearly
			c.data = slices.Grow(c.data, len(c.data)/measured*(n-measured)*9/8)
		}
		c.data = cell(i, c.data)
		c.ends[i] = uint32(len(c.data)) // derived from columns that are bounded already
	}
	return c
}

// Rejection is one record that could not be read. ID is set when the record
// could still be told apart: it then stands for "present, unreadable".
type Rejection struct {
	Line   int    `json:"line"`             // 1-based line of the source, 0 where it has none
	Column string `json:"column,omitempty"` // native name or number of the offending column
	ID     string `json:"id,omitempty"`
	Reason string `json:"reason"`
	// Swallows: the fault may have eaten other rows beside this one, so that
	// even when its id is known, others may be missing with it.
	Swallows bool `json:"swallows,omitempty"`
	// Names are the logins and addresses that it may hold. Named says that these
	// are all of them, as far as anybody knows.
	Names []string `json:"names,omitempty"`
	Named bool     `json:"named,omitempty"`
}

// Row is the place of a record in its roster, from 0; -1 is none. A roster has
// no more rows than fit (Builder.Append refuses), so that a number of rows may
// be turned into one without a look.
type Row int32

// Roster is one immutable reading: records as rows, attributes as columns.
// Rows are in the order in which they came; Order visits them by id.
type Roster struct {
	names    []string
	columns  map[string]*Column
	ids      *Column
	n        int
	unread   map[int]Rejection // rows that stand for "present, unreadable"
	left     map[int]Gap       // rows that stand for "present, not ours"
	gaps     []Gap
	versions *Column
	Rejected []Rejection // everything rejected, with or without id
	order    []Row
	broken   []Broken
	several  map[Row]map[string][]string
}

// Several tells which values, beside the one that the cell holds, a record has for
// an attribute that should have one.
func (r *Roster) Several(row int, attribute string) []string {
	if len(r.several) == 0 {
		return nil
	}
	return r.several[Row(row)][attribute]
}

// All are the values that a record has for an attribute: the one that its cell holds, or those of
// its list, and any beside where one is wanted.
func (r *Roster) All(row int, attribute string) []string {
	values := r.Column(attribute).Values(row)
	if others := r.Several(row, attribute); len(others) > 0 {
		return append(values[:len(values):len(values)], others...)
	}
	return values
}

// noteSeveral keeps the values that a row has beside those in its cells, by attribute.
func (r *Roster) noteSeveral(row int, others map[string][]string) {
	if len(others) == 0 {
		return
	}
	if r.several == nil {
		r.several = map[Row]map[string][]string{}
	}
	r.several[Row(row)] = others
}

// EachSeveral visits the records that have several values where one is wanted.
func (r *Roster) EachSeveral(yield func(row int, attribute string, others []string)) {
	for _, row := range slices.Sorted(maps.Keys(r.several)) {
		for _, name := range slices.Sorted(maps.Keys(r.several[row])) {
			yield(int(row), name, r.several[row][name])
		}
	}
}

// Len is the number of records, unreadable ones with an id included.
func (r *Roster) Len() int { return r.n }

// Names lists the attributes that the roster carries.
func (r *Roster) Names() []string { return r.names }

// Column returns the named attribute, or nil when the roster lacks it; a nil
// column reads as absent everywhere.
func (r *Roster) Column(name string) *Column { return r.columns[name] }

// ID returns the id of row i.
func (r *Roster) ID(i int) string { return r.ids.Cell(i) }

// Version is the digest of row i as the store has it, in hex; "" where it has
// none.
func (r *Roster) Version(i int) string {
	if r.versions == nil || i >= len(r.versions.ends) {
		return ""
	}
	return hex.EncodeToString([]byte(r.versions.Cell(i)))
}

// SetVersions gives each row the digest that the store has of it.
func (r *Roster) SetVersions(digest func(i int) []byte) {
	r.versions = NewColumn(r.n, func(i int, dst []byte) []byte { return append(dst, digest(i)...) })
}

// Unread reports whether row i is present but could not be understood.
func (r *Roster) Unread(i int) (Rejection, bool) {
	if len(r.unread) == 0 {
		return Rejection{}, false
	}
	rej, ok := r.unread[i]
	return rej, ok
}

// NameUnread tells which names the records that could not be read are known to
// have held before; where some are known, they are taken for all.
func (r *Roster) NameUnread(names map[string][]string) {
	for row, rej := range r.unread {
		if known := names[rej.ID]; len(known) > 0 && !rej.Swallows {
			rej.Names, rej.Named = append(slices.Clone(rej.Names), known...), true
			r.unread[row] = rej
		}
	}
}

// EachUnread visits the rows that stand for "present, unreadable".
func (r *Roster) EachUnread(yield func(row int, rej Rejection)) {
	for _, row := range slices.Sorted(maps.Keys(r.unread)) {
		yield(row, r.unread[row])
	}
}

// Faceless counts the rejected records that may be anybody's: their id could
// not be read either, or they may have swallowed others.
func (r *Roster) Faceless() int {
	n := 0
	for _, rej := range r.Rejected {
		if rej.ID == "" || rej.Swallows {
			n++
		}
	}
	return n
}

// Order lists the rows by ascending id, whatever order they were read in.
func (r *Roster) Order() []Row { return r.order }

// Find returns the row of the id by binary search.
func (r *Roster) Find(id string) (int, bool) {
	at, ok := slices.BinarySearchFunc(r.order, id, func(row Row, id string) int { return strings.Compare(r.ID(int(row)), id) })
	if !ok {
		return 0, false
	}
	return int(r.order[at]), true
}

// Builder collects records into a roster.
type Builder struct {
	r        *Roster
	cols     []*Column
	expected int
	lines    []int32 // per record, where the source has lines
}

// NewBuilder starts a roster with the given attributes; "id" is always added.
func NewBuilder(names []string) *Builder {
	r := &Roster{columns: map[string]*Column{}, unread: map[int]Rejection{}, left: map[int]Gap{}}
	b := &Builder{r: r}
	add := func(name string) {
		if r.columns[name] == nil {
			c := &Column{}
			r.columns[name], r.names, b.cols = c, append(r.names, name), append(b.cols, c)
		}
	}
	add("id")
	for _, n := range names {
		add(n)
	}
	r.ids = r.columns["id"]
	return b
}

// Names lists the attributes in the order in which Append wants their cells.
func (b *Builder) Names() []string { return b.r.names }

// AppendLine is Append for a source that has lines.
func (b *Builder) AppendLine(line int, cells []string) error {
	for len(b.lines) < b.r.n {
		b.lines = append(b.lines, 0)
	}
	b.lines = append(b.lines, int32(min(line, math.MaxInt32))) // bounded
	return b.Append(cells)
}

// Expect says how many records will come, so that the columns are laid out
// once: after the first few thousand their size is extrapolated.
func (b *Builder) Expect(records int) { b.expected = records }

// sampled is the number of records from which column sizes are extrapolated.
const sampled = 4096

func (b *Builder) layOut() {
	for _, c := range b.cols {
		if want := float64(len(c.data)) / sampled * float64(b.expected) * 1.02; want < math.MaxUint32 {
			c.data = slices.Grow(c.data, max(0, int(want)-len(c.data)))
		}
		c.ends = slices.Grow(c.ends, b.expected-len(c.ends)+16)
	}
}

// Append adds one record: a cell for each of Names, id first.
func (b *Builder) Append(cells []string) error {
	if b.r.n == math.MaxInt32 {
		return fmt.Errorf("a roster holds %d records at most", math.MaxInt32)
	}
	if b.r.n == sampled && b.expected > 2*sampled {
		b.layOut()
	}
	for i, c := range b.cols {
		if err := c.push(cells[i]); err != nil {
			return err
		}
	}
	b.r.n++
	return nil
}

// Reject notes a record that could not be read. With an id it stays in the
// roster as a row without values.
func (b *Builder) Reject(rej Rejection) error {
	b.r.Rejected = append(b.r.Rejected, rej)
	if rej.ID == "" {
		return nil
	}
	b.r.unread[b.r.n] = rej
	return b.appendBlank(rej.Line, rej.ID)
}

// appendBlank adds a row of which the id alone is known.
func (b *Builder) appendBlank(line int, id string) error {
	cells := make([]string, len(b.cols))
	cells[0] = id
	return b.AppendLine(line, cells)
}

// Roster finishes the reading. Records that share an id cannot be told apart:
// they become one unreadable record.
func (b *Builder) Roster() (*Roster, error) {
	r := b.r
	r.order = r.sortedRows()
	repeated := map[string]int{}
	for i := 1; i < r.n; i++ {
		if id := r.ID(int(r.order[i])); id == r.ID(int(r.order[i-1])) {
			repeated[strings.Clone(id)]++
		}
	}
	if len(repeated) > 0 {
		return b.withoutRepeats(repeated)
	}
	r.completeEmails()
	return r, nil
}

// completeEmails derives whichever of email, aliases and emails was not read
// from the others: emails is the primary followed by the aliases.
func (r *Roster) completeEmails() {
	email, aliases, emails := r.columns["email"], r.columns["aliases"], r.columns["emails"]
	set := func(name string, cell func(i int, dst []byte) []byte) *Column {
		c := NewColumn(r.n, cell)
		r.columns[name], r.names = c, append(r.names, name)
		return c
	}
	if emails != nil && email == nil {
		email = set("email", func(i int, dst []byte) []byte {
			first, _, _ := strings.Cut(emails.Cell(i), string(ListSep))
			return append(dst, first...)
		})
	}
	if emails != nil && aliases == nil {
		set("aliases", func(i int, dst []byte) []byte {
			rest := slices.DeleteFunc(emails.Values(i), func(v string) bool { return Normal(Email, v) == Normal(Email, email.Cell(i)) })
			return append(dst, JoinList(rest)...)
		})
	}
	if emails == nil && (email != nil || aliases != nil) {
		set("emails", func(i int, dst []byte) []byte {
			primary, rest := email.Cell(i), aliases.Cell(i)
			dst = append(dst, primary...)
			for _, more := range r.Several(i, "email") {
				dst = append(append(dst, ListSep), more...)
			}
			if primary != "" && rest != "" {
				dst = append(dst, ListSep)
			}
			return append(dst, rest...)
		})
	}
}

func list(lines []int) string {
	if len(lines) == 0 {
		return ""
	}
	return " (lines " + strings.Trim(strings.ReplaceAll(fmt.Sprint(lines), " ", ", "), "[]") + ")"
}

func (b *Builder) withoutRepeats(repeated map[string]int) (*Roster, error) {
	old := b.r
	fresh := NewBuilder(old.names[1:])
	for _, rej := range old.Rejected {
		if rej.ID == "" {
			fresh.r.Rejected = append(fresh.r.Rejected, rej)
		}
	}
	swallowed := map[string]bool{}
	for _, rej := range old.Rejected {
		swallowed[rej.ID] = swallowed[rej.ID] || rej.Swallows
	}
	for _, g := range old.gaps {
		if g.ID == "" || repeated[g.ID] > 0 { // whose row is among the repeated: only the gap is kept
			fresh.r.gaps = append(fresh.r.gaps, g)
		}
	}
	lines := map[string][]int{}
	cells := make([]string, len(old.names))
	for i := range old.n {
		id := old.ID(i)
		if _, again := repeated[id]; again {
			if i < len(b.lines) && b.lines[i] > 0 {
				lines[id] = append(lines[id], int(b.lines[i]))
			}
			continue
		}
		if rej, ok := old.unread[i]; ok {
			if err := fresh.Reject(rej); err != nil {
				return nil, err
			}
			continue
		}
		if g, ok := old.left[i]; ok {
			if err := fresh.LeaveOut(g); err != nil {
				return nil, err
			}
			continue
		}
		for c, col := range b.cols {
			cells[c] = col.Cell(i)
		}
		fresh.r.noteSeveral(fresh.r.n, old.several[Row(i)])
		if err := fresh.Append(cells); err != nil {
			return nil, err
		}
	}
	for _, id := range slices.Sorted(maps.Keys(repeated)) {
		rej := Rejection{Column: "id", ID: id, Reason: fmt.Sprintf("the id %q stands in %d records%s; give each record its own", id, repeated[id]+1, list(lines[id])), Swallows: swallowed[id]}
		if len(lines[id]) > 0 {
			rej.Line = lines[id][0]
		}
		if err := fresh.Reject(rej); err != nil {
			return nil, err
		}
	}
	return fresh.Roster()
}

// sortedRows orders the rows by id. Ids mostly share a prefix, so the eight
// bytes behind the common one decide nearly every comparison as one number,
// without a look at the text: a quarter of the time at a million rows.
func (r *Roster) sortedRows() []Row {
	rows := make([]Row, r.n)
	sorted := true
	for i := range rows {
		rows[i] = Row(i)
		sorted = sorted && (i == 0 || r.ID(i-1) < r.ID(i))
	}
	if sorted {
		return rows
	}
	common := r.ID(0)
	for i := range rows {
		id := r.ID(i)
		n := 0
		for n < len(common) && n < len(id) && common[n] == id[n] {
			n++
		}
		common = common[:n]
	}
	type entry struct {
		head uint64
		row  Row
	}
	entries := make([]entry, r.n)
	for i := range entries {
		var head uint64
		tail := r.ID(i)[len(common):]
		for k := range 8 {
			head <<= 8
			if k < len(tail) {
				head |= uint64(tail[k])
			}
		}
		entries[i] = entry{head, Row(i)}
	}
	slices.SortFunc(entries, func(a, b entry) int {
		switch {
		case a.head < b.head:
			return -1
		case a.head > b.head:
			return 1
		}
		return strings.Compare(r.ID(int(a.row)), r.ID(int(b.row)))
	})
	for i, e := range entries {
		rows[i] = e.row
	}
	return rows
}
