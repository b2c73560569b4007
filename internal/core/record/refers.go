package record

import (
	"maps"
	"slices"
)

// References of a shape: attributes whose values are not an id but some other
// attribute of the record that is meant, the DN of a manager, say.
type References struct {
	Shape Shape             // with a column for each attribute that is referred to
	Keys  []string          // these columns
	by    map[string]string // canonical attribute -> its key
}

// References finds those among the wanted canonical attributes.
func (s Shape) References(wanted []string) References {
	r := References{Shape: s, by: map[string]string{}}
	for _, name := range wanted {
		native := s.Attributes[name].Refers
		if native == "" {
			continue
		}
		key := "\x00" + native // no name that a shape can give
		if r.by[name] = key; slices.Contains(r.Keys, key) {
			continue
		}
		if len(r.Keys) == 0 { // the shape stays as it is for everybody else
			r.Shape.Attributes = maps.Clone(s.Attributes)
		}
		r.Keys, r.Shape.Attributes[key] = append(r.Keys, key), Source{Native: native}
	}
	return r
}

// Resolve puts ids in the place of what refers to them. A reference to nobody
// in the roster becomes blank: there is no id to give.
func (r *Roster) Resolve(refs References) {
	ids := map[string]map[string]string{}
	for _, key := range refs.Keys {
		column := r.columns[key]
		ids[key] = make(map[string]string, r.n)
		for i := range r.n {
			if v := column.Cell(i); v != "" {
				ids[key][Normal(Text, v)] = r.ID(i)
			}
		}
		delete(r.columns, key)
		r.names = slices.DeleteFunc(r.names, func(n string) bool { return n == key })
	}
	for name, key := range refs.by {
		old := r.columns[name]
		r.columns[name] = NewColumn(r.n, func(i int, dst []byte) []byte {
			var found []string
			for _, v := range old.Values(i) {
				if id := ids[key][Normal(Text, v)]; id != "" {
					found = append(found, id)
				}
			}
			return append(dst, JoinList(found)...)
		})
	}
}
