package record

import (
	"slices"
	"strconv"
	"strings"
)

// identities are the attributes by which somebody could be recognised.
var identities = []string{"userName", "email", "emails", "aliases", "givenName", "familyName", "displayName"}

// Judge says which native records become records: the one place for it, for
// files, readings and the store alike. It is not safe for concurrent use.
type Judge struct {
	shape  Shape
	reader *Reader
	naming []int // attributes that say who somebody is
	more   []more
}

// more are the values that a record has for an attribute beside the first.
type more struct {
	attribute string
	values    []string
}

// NewJudge judges by these canonical attributes, id first.
func (s Shape) NewJudge(names []string) *Judge {
	j := &Judge{shape: s, reader: s.NewReader(names)}
	for _, name := range identities {
		if i := slices.Index(names, name); i >= 0 {
			j.naming = append(j.naming, i)
		}
	}
	return j
}

// Row computes the cells of one record, values being those of each attribute's
// native. What is not taken is either a rejection or a gap.
func (j *Judge) Row(line int, values func(i int) []string, into []string) (*Rejection, *Gap) {
	j.more = j.more[:0]
	for i := range into {
		v := values(i)
		if len(v) > 1 {
			if others := j.reader.others(i, v); len(others) > 0 {
				j.more = append(j.more, more{j.reader.names[i], others})
			}
		}
		cell, err := j.reader.Cell(i, v)
		if err != nil {
			bad := err.(*ValueError) // Cell returns no other
			rej := &Rejection{Line: line, Column: bad.Native, Reason: bad.Reason}
			if i > 0 {
				rej.ID = strings.Clone(into[0])
				rej.Names, rej.Named = j.names(values)
			}
			return rej, nil
		}
		into[i] = cell
	}
	if j.shape.LeaveUnnamed && !slices.ContainsFunc(j.naming, func(i int) bool { return into[i] != "" }) {
		if name := j.identified(into); into[0] != "" && name != "" { // it stands for somebody, and not for a total
			return &Rejection{Line: line, Column: j.shape.Attributes[name].Native, ID: strings.Clone(into[0]), Reason: "it carries an id and " + name + ", and neither login, address nor name: whose it is can't be said"}, nil
		}
		return nil, &Gap{Kind: NoRecord, ID: strings.Clone(into[0]), Reason: "it carries neither login, address nor name", What: place(line)}
	}
	if into[0] == "" {
		return &Rejection{Line: line, Column: j.shape.Attributes["id"].Native, Reason: "the id is blank"}, nil
	}
	return nil, nil
}

// telling are attributes by which a record without a name is somebody's all the same.
var telling = []string{"externalId", "employeeNumber", "personalEmail", "phoneNumbers", "manager", "startsOn", "endsOn", "created", "lastSignIn", "groups", "roles", "entitlements"}

// identified names an attribute by which a record stands for somebody: one that keys or marks are
// made of, or one of the house's own; "" where there is none.
func (j *Judge) identified(cells []string) string {
	for i, name := range j.reader.names {
		_, canonical := Canonical(name)
		if i > 0 && cells[i] != "" && !strings.HasPrefix(name, "\x00") && (slices.Contains(telling, name) || name == j.shape.Mark || !canonical) {
			return name
		}
	}
	return ""
}

// names are the logins and addresses of a record that can't be understood as a
// whole; known is false when one of those attributes is itself at fault.
func (j *Judge) names(values func(i int) []string) (names []string, known bool) {
	known = true
	for i, name := range j.reader.names {
		if !slices.Contains(namespaces, name) {
			continue
		}
		cell, err := j.reader.Cell(i, values(i))
		known = known && err == nil
		EachValue(cell, func(v string) { names = append(names, strings.Clone(v)) })
	}
	return names, known && len(names) > 0
}

// Names are the logins and addresses of a record, as far as they can be read.
func (j *Judge) Names(native map[string][]string) []string {
	names, _ := j.names(func(i int) []string { return native[j.reader.sources[i].Native] })
	return names
}

// Namespaces lists the attributes that hold logins and addresses.
func Namespaces() []string { return slices.Clone(namespaces) }

// namespaces are the attributes that hold names, or the address at which somebody is reached.
var namespaces = []string{"userName", "email", "emails", "aliases", "personalEmail"}

func place(line int) string {
	if line == 0 {
		return ""
	}
	return "line " + strconv.Itoa(line)
}

// Native is Row for values by native name.
func (j *Judge) Native(line int, native map[string][]string, into []string) (*Rejection, *Gap) {
	return j.Row(line, func(i int) []string { return native[j.reader.sources[i].Native] }, into)
}

// Loader collects native records into a roster.
type Loader struct {
	*Builder
	refs  References
	judge *Judge
	cells []string
	// digests by row, as they were added; ids of a store are unique, so that no
	// row moves
	digests [][]byte
}

// NewLoader wants these canonical attributes of the shape; nil wants all it has.
func (s Shape) NewLoader(wanted []string) *Loader {
	if wanted == nil {
		wanted = s.Canonical()
	}
	if s.LeaveUnnamed {
		wanted = append(slices.Clone(wanted), identities...)
	}
	wanted = slices.DeleteFunc(slices.Clone(wanted), func(n string) bool { _, has := s.Attributes[n]; return !has })
	l := &Loader{refs: s.References(wanted)}
	l.Builder = NewBuilder(append(wanted, l.refs.Keys...))
	l.judge = l.refs.Shape.NewJudge(l.Names())
	l.cells = make([]string, len(l.Names()))
	return l
}

// Native names the native attribute that feeds each of Names.
func (l *Loader) Native(i int) string { return l.judge.reader.sources[i].Native }

// Add takes one record, values being those of each attribute's native.
func (l *Loader) Add(line int, values func(i int) []string) error {
	rej, gap := l.judge.Row(line, values, l.cells)
	switch {
	case rej != nil:
		return l.Reject(*rej)
	case gap != nil:
		return l.LeaveOut(*gap)
	}
	l.noteSeveral()
	return l.AppendLine(line, l.cells)
}

// noteSeveral keeps what the record that comes next has beside its cells.
func (l *Loader) noteSeveral() {
	if len(l.judge.more) == 0 {
		return
	}
	others := map[string][]string{}
	for _, m := range l.judge.more {
		others[m.attribute] = m.values
	}
	l.r.noteSeveral(l.r.n, others)
}

// AddNative is Add for values by native name.
func (l *Loader) AddNative(line int, native map[string][]string) error {
	return l.Add(line, func(i int) []string { return native[l.judge.reader.sources[i].Native] })
}

// AddStored takes a record that a store keeps under its id, and the digest that it
// has of it there (nil: none).
func (l *Loader) AddStored(id string, native map[string][]string, digest []byte) error {
	rej, gap := l.judge.Row(0, func(i int) []string {
		if v := native[l.judge.reader.sources[i].Native]; i > 0 || len(v) > 0 {
			return v
		}
		return []string{id}
	}, l.cells)
	if rej != nil {
		rej.ID = id
		return l.Reject(*rej)
	}
	if gap != nil {
		gap.ID = id
		return l.LeaveOut(*gap)
	}
	l.cells[0] = id
	l.noteSeveral()
	if digest != nil {
		for len(l.digests) < l.r.n {
			l.digests = append(l.digests, nil)
		}
		l.digests = append(l.digests, digest)
	}
	return l.AppendLine(0, l.cells)
}

// Roster finishes the reading.
func (l *Loader) Roster() (*Roster, error) {
	r, err := l.Builder.Roster()
	if err != nil {
		return nil, err
	}
	r.Resolve(l.refs)
	if len(l.digests) > 0 {
		r.SetVersions(func(i int) []byte {
			if i < len(l.digests) {
				return l.digests[i]
			}
			return nil
		})
	}
	return r, nil
}
