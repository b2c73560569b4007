package record

import (
	"encoding/hex"
	"maps"
	"slices"
	"strings"
)

// References of a shape: attributes whose values are not an id but some other
// native attribute of the record that is meant, a DN say.
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

// Referees knows whose id is meant by what refers to them.
type Referees map[string]string

// Add says that a value means a record; a blank one means nobody.
func (r Referees) Add(value, id string) {
	if value != "" {
		r[normalReference(value)] = id
	}
}

// ID is that of whom a value means, "" when it is nobody.
func (r Referees) ID(value string) string { return r[normalReference(value)] }

// Broken is a reference to nobody: no record of the roster carries the value.
type Broken struct {
	Row       Row // -1: of all, since no record carries the attribute by which they refer
	Attribute string
	Value     string
}

// Broken lists the references to nobody, by attribute and in the order of the rows.
func (r *Roster) Broken() []Broken { return r.broken }

// Resolve puts ids in the place of what refers to them. A reference to nobody
// in the roster becomes blank, since there is no id to give, and is noted.
func (r *Roster) Resolve(refs References) {
	ids := map[string]Referees{}
	for _, key := range refs.Keys {
		column := r.columns[key]
		ids[key] = make(Referees, r.n)
		for i := range r.n {
			ids[key].Add(column.Cell(i), r.ID(i))
		}
		delete(r.columns, key)
		r.names = slices.DeleteFunc(r.names, func(n string) bool { return n == key })
	}
	for _, name := range slices.Sorted(maps.Keys(refs.by)) {
		key, old := refs.by[name], r.columns[name]
		carried := len(ids[key]) > 0
		r.columns[name] = NewColumn(r.n, func(i int, dst []byte) []byte {
			var found []string
			for _, v := range old.Values(i) {
				switch id := ids[key].ID(v); {
				case id != "":
					found = append(found, id)
				case carried:
					r.broken = append(r.broken, Broken{Row(i), name, strings.Clone(v)})
				case len(r.broken) == 0 || r.broken[len(r.broken)-1].Attribute != name:
					r.broken = append(r.broken, Broken{-1, name, strings.TrimPrefix(key, "\x00")})
				}
			}
			return append(dst, JoinList(found)...)
		})
	}
}

// SameReferences compares native references, in any order.
func SameReferences(a, b []string) bool {
	normal := func(list []string) (out []string) {
		for _, v := range list {
			if v != "" {
				out = append(out, normalReference(v))
			}
		}
		slices.Sort(out)
		return slices.Compact(out)
	}
	return slices.Equal(normal(a), normal(b))
}

// normalReference is the form in which references are compared: distinguished names
// as such, everything else as text.
func normalReference(v string) string {
	if dn, ok := normalDN(v); ok {
		return dn
	}
	return Normal(Text, v)
}

// normalDN is a distinguished name in one form of the many that mean the same (RFC
// 4514): types in small letters, values unescaped and compared as text, parts of an
// RDN in order. ok is false for what is no such name.
func normalDN(dn string) (normal string, ok bool) {
	var rdns []string
	for rest := dn; ; {
		var parts []string
		for more := true; more; {
			kind, after, found := strings.Cut(rest, "=")
			if kind = strings.ToLower(strings.TrimSpace(kind)); !found || kind == "" || strings.ContainsAny(kind, `,+"\<>; `) {
				return "", false
			}
			value, end, rest2, ok := dnValue(after)
			if !ok {
				return "", false
			}
			parts = append(parts, strings.TrimPrefix(kind, "oid.")+"\x00"+Normal(Text, value))
			rest, more = rest2, end == '+'
			if !more && end == 0 {
				slices.Sort(parts)
				return strings.Join(append(rdns, strings.Join(parts, "\x01")), "\x02"), true
			}
		}
		slices.Sort(parts)
		rdns = append(rdns, strings.Join(parts, "\x01"))
	}
}

// dnValue reads one value up to what ends it: a comma or semicolon, a plus sign, or
// the end (0).
func dnValue(s string) (value string, end byte, rest string, ok bool) {
	s = strings.TrimLeft(s, " ")
	if strings.HasPrefix(s, `"`) { // RFC 2253 had quoted values
		quoted, after, closed := strings.Cut(s[1:], `"`)
		after = strings.TrimLeft(after, " ")
		if !closed || after != "" && !strings.ContainsRune(",;+", rune(after[0])) {
			return "", 0, "", false
		}
		if after == "" {
			return quoted, 0, "", true
		}
		return quoted, after[0], after[1:], true
	}
	var b strings.Builder
	spaces := 0 // at the end, and not escaped
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == ',' || c == ';' || c == '+':
			return b.String()[:b.Len()-spaces], c, s[i+1:], true
		case c == '\\' && i+2 < len(s) && isHex(s[i+1:i+3]):
			byte, _ := hex.DecodeString(s[i+1 : i+3])
			b.Write(byte)
			spaces = 0
			i += 2
		case c == '\\' && i+1 < len(s):
			i++
			b.WriteByte(s[i])
			spaces = 0
		case c == '\\' || c == '"':
			return "", 0, "", false
		default:
			b.WriteByte(c)
			spaces = map[bool]int{true: spaces + 1}[c == ' ']
		}
	}
	return b.String()[:b.Len()-spaces], 0, "", true
}

func isHex(pair string) bool {
	_, err := hex.DecodeString(pair)
	return err == nil
}
