// Package ldif reads and writes LDIF (RFC 2849): content records, and change
// records, which say what is done to entries.
//
// An entry's natives are its attributes as they are spelt at their first use,
// with their options, besides "dn" and "parent" (the DN above). Values that are
// no text come as their bytes. Values that stand in other files (":<") are
// never fetched.
package ldif

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"twinning/internal/core/budget"
	"twinning/internal/format"
)

// File is an open content file.
type File struct {
	body    []byte
	natives []string
}

// Open takes the text of a file of content records. A file of changes is
// refused: it says what to do, not what there is.
func Open(body []byte) (*File, error) {
	f := &File{body: bytes.TrimPrefix(body, []byte("\xef\xbb\xbf"))}
	if len(bytes.TrimSpace(f.body)) == 0 {
		return nil, errors.New("the file is empty; expected entries, each beginning with a line `dn: …`")
	}
	const sampled = 200
	known, n := map[string]bool{}, 0
	err := f.Each(func(r format.Row) error {
		for native := range r.Values {
			known[native] = known[native] || r.LeftOut == ""
		}
		if n++; n == sampled {
			return io.EOF
		}
		return nil
	})
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	maps.DeleteFunc(known, func(_ string, ours bool) bool { return !ours })
	f.natives = slices.Sorted(maps.Keys(known))
	return f, nil
}

// About as format.File has it.
func (f *File) About() format.About { return format.About{Format: "ldif", Encoding: "utf-8"} }

// Natives are the attributes met in the first entries.
func (f *File) Natives() []string { return f.natives }

// Expected counts what begins an entry.
func (f *File) Expected() int {
	n := bytes.Count(f.body, []byte("\ndn:"))
	if bytes.HasPrefix(f.body, []byte("dn:")) {
		n++
	}
	return n
}

// Each calls fn for every entry.
func (f *File) Each(fn func(format.Row) error) error {
	return scan(f.body, func(r rawRecord) error {
		if r.changeType != "" && r.changeType != "add" {
			return fmt.Errorf("line %d: the file holds changes (changetype: %s), which say what to do and not what there is; send a file of entries", r.line, r.changeType)
		}
		row := format.Row{Line: r.line, Values: map[string][]string{}, Fault: r.fault, At: r.at, Swallows: r.swallows}
		if r.dn != "" {
			row.Values["dn"] = []string{r.dn}
			if _, up := SplitDN(r.dn); up != "" {
				row.Values["parent"] = []string{up}
			}
		}
		if r.fault == "" {
			for _, a := range r.lines {
				if len(row.Values) > budget.Columns.Int() {
					break // told by whoever counts them
				}
				name := spelt(row.Values, a.name)
				row.Values[name] = append(row.Values[name], a.value)
			}
		}
		if classes := row.Values[spelt(row.Values, "objectClass")]; r.fault == "" && areAny(classes, branches) && !areAny(classes, persons) {
			row.LeftOut = "a group or a branch of the directory"
		}
		return fn(row)
	})
}

// Object classes (RFC 4519, RFC 2798, RFC 2307) of what stands for nobody, and of who
// stands for somebody whatever else they are.
var (
	branches = []string{"organizationalUnit", "organization", "domain", "country", "locality", "container", "groupOfNames", "groupOfUniqueNames", "groupOfURLs", "posixGroup", "group"}
	persons  = []string{"person", "organizationalPerson", "inetOrgPerson", "account", "posixAccount", "user"}
)

func areAny(classes, of []string) bool {
	return slices.ContainsFunc(classes, func(c string) bool {
		return slices.ContainsFunc(of, func(o string) bool { return strings.EqualFold(c, o) })
	})
}

// spelt finds the name under which an attribute was met first in this entry.
func spelt(values map[string][]string, name string) string {
	if _, ok := values[name]; ok {
		return name
	}
	for have := range values {
		if strings.EqualFold(have, name) {
			return have
		}
	}
	return name
}

// SplitDN cuts a DN at the first comma that is not escaped: into the entry's
// own name and the DN above, "" at the top.
func SplitDN(dn string) (rdn, parent string) {
	for i := 0; i < len(dn); i++ {
		switch dn[i] {
		case '\\':
			i++
		case ',':
			rdn, parent = dn[:i], strings.TrimLeft(dn[i+1:], " ")
			for strings.HasSuffix(rdn, " ") && !strings.HasSuffix(rdn, `\ `) {
				rdn = rdn[:len(rdn)-1]
			}
			return rdn, parent
		}
	}
	return dn, ""
}

type rawLine struct {
	name, value string
	line        int
	dash        bool
}

type rawRecord struct {
	line       int
	dn         string
	changeType string
	lines      []rawLine
	fault, at  string
	swallows   bool
}

// scan joins folded lines, drops comments, and calls fn for each record.
func scan(body []byte, fn func(rawRecord) error) error {
	var r rawRecord
	open := false
	end := func() error {
		if !open {
			return nil
		}
		open = false
		done := r
		r = rawRecord{}
		return fn(done)
	}
	logical := func(line int, text []byte) error {
		if len(text) == 0 {
			return end()
		}
		if text[0] == '#' {
			return nil
		}
		a, err := parseLine(line, text)
		switch {
		case !open && err == nil && strings.EqualFold(a.name, "version") && !a.dash:
			if a.value != "1" {
				return fmt.Errorf("line %d: LDIF version %q is not known; expected 1", line, a.value)
			}
			return nil
		case !open && (err != nil || !strings.EqualFold(a.name, "dn")):
			return fmt.Errorf("line %d: expected an entry beginning with dn:, found %.40q", line, text)
		case !open:
			open, r = true, rawRecord{line: line, dn: a.value}
			if !utf8.ValidString(a.value) {
				r.fault, r.at, r.dn = "the dn is no text", "dn", ""
			}
		case err != nil:
			if r.fault == "" {
				r.fault, r.at = fmt.Sprintf("line %d: %v", line, err), a.name
			}
		case strings.EqualFold(a.name, "dn"):
			r.fault, r.at, r.swallows = fmt.Sprintf("line %d: another entry begins before this one has ended; entries are parted by a blank line", line), "dn", true
		case strings.EqualFold(a.name, "changetype") && len(r.lines) == 0:
			r.changeType = strings.ToLower(a.value)
		case strings.EqualFold(a.name, "control") && len(r.lines) == 0 && r.changeType == "":
			// a control asks for a way of changing; what there is stays the same
		default:
			r.lines = append(r.lines, a)
			if err := budget.Values.Over(int64(len(r.lines)/10), "a tenth of the lines of an entry"); err != nil {
				return fmt.Errorf("line %d: %w", line, err)
			}
		}
		return nil
	}
	var held []byte
	heldLine, number, any, size := 0, 0, false, int64(0)
	for len(body) > 0 {
		number++
		text, rest, _ := bytes.Cut(body, []byte{'\n'})
		body = rest
		if size += int64(len(text)); len(text) <= 1 { // a blank line, with or without a carriage return
			size = 0
		}
		if err := budget.Record.Over(size, "an entry"); err != nil {
			return fmt.Errorf("line %d: %w; entries are parted by a blank line", number, err)
		}
		text = bytes.TrimSuffix(text, []byte{'\r'})
		if len(text) > 0 && text[0] == ' ' && any {
			held = append(held, text[1:]...)
			continue
		}
		if any {
			if err := logical(heldLine, held); err != nil {
				return err
			}
		}
		held, heldLine, any = append(held[:0], text...), number, true
	}
	if any {
		if err := logical(heldLine, held); err != nil {
			return err
		}
	}
	return end()
}

func parseLine(number int, text []byte) (a rawLine, err error) {
	a.line = number
	if string(text) == "-" {
		a.dash = true
		return a, nil
	}
	name, value, ok := bytes.Cut(text, []byte{':'})
	a.name = string(name)
	switch {
	case !ok || len(name) == 0 || bytes.ContainsAny(name, " \t"):
		a.name = ""
		return a, fmt.Errorf("expected `attribute: value`, found %.40q", text)
	case bytes.HasPrefix(value, []byte{':'}):
		raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(value[1:])))
		if err != nil {
			return a, fmt.Errorf("the value of %s is not Base64", a.name)
		}
		a.value = string(raw)
	case bytes.HasPrefix(value, []byte{'<'}):
		return a, fmt.Errorf("the value of %s stands in another file, which is never fetched", a.name)
	default:
		a.value = strings.TrimLeft(string(value), " ")
		if strings.IndexByte(a.value, 0) >= 0 {
			return a, fmt.Errorf("the value of %s holds a NUL byte", a.name)
		}
	}
	return a, nil
}
