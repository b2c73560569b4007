package ldif

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"twinning/internal/format"
)

// WriteChange writes one change record, after a blank line; comments are lines that stand
// above it. The line of the version is the caller's, before the first.
func WriteChange(w io.Writer, c Change, comments ...string) error {
	var out bytes.Buffer
	out.WriteByte('\n')
	err := Comment(&out, comments...)
	put := func(name string, values ...string) {
		if err == nil && !described.MatchString(name) {
			err = fmt.Errorf("%q can't be the name of an attribute in LDIF", name)
		}
		for _, v := range values {
			if err == nil {
				err = WriteLine(&out, name, v)
			}
		}
	}
	put("dn", c.DN)
	put("changetype", c.Type)
	switch c.Type {
	case "add":
		put("objectClass", c.Attributes["objectClass"]...)
		for _, name := range slices.Sorted(maps.Keys(c.Attributes)) {
			if name != "objectClass" {
				put(name, c.Attributes[name]...)
			}
		}
	case "modify":
		for _, m := range c.Mods {
			put(m.Op, m.Attribute)
			put(m.Attribute, m.Values...)
			out.WriteString("-\n")
		}
	case "modrdn":
		put("newrdn", c.NewRDN)
		put("deleteoldrdn", map[bool]string{false: "0", true: "1"}[c.DeleteOld])
		if c.NewParent != "" {
			put("newsuperior", c.NewParent)
		}
	}
	if err != nil {
		return err
	}
	_, err = w.Write(out.Bytes())
	return err
}

// Comment writes lines that stand for people alone, each broken at blanks where it is long.
func Comment(w io.Writer, lines ...string) error {
	for _, line := range lines {
		line = strings.Map(func(r rune) rune {
			if unicode.IsControl(r) { // nothing ends a comment but we
				return ' '
			}
			return r
		}, line)
		row := "#"
		for word := range strings.FieldsSeq(line) {
			if row != "#" && len(row)+1+len(word) > width {
				if _, err := io.WriteString(w, row+"\n"); err != nil {
					return err
				}
				row = "#"
			}
			row += " " + word
		}
		if _, err := io.WriteString(w, row+"\n"); err != nil {
			return err
		}
	}
	return nil
}

type writer struct {
	w       *bufio.Writer
	columns []string
	begun   bool
}

// NewWriter writes content records; each needs a "dn".
func NewWriter(w io.Writer, columns []string) format.Writer {
	return &writer{w: bufio.NewWriter(w), columns: columns}
}

// ErrNoDN is a record that has no name in a directory.
var ErrNoDN = errors.New("LDIF needs a dn for every record, and this one has none; choose another format")

func (w *writer) Write(values map[string][]string) error {
	if len(values["dn"]) != 1 {
		return ErrNoDN
	}
	if !w.begun {
		w.begun = true
		if _, err := w.w.WriteString("version: 1\n"); err != nil {
			return err
		}
	}
	if err := w.w.WriteByte('\n'); err != nil {
		return err
	}
	if err := WriteLine(w.w, "dn", values["dn"][0]); err != nil {
		return err
	}
	columns := w.columns
	if columns == nil {
		columns = slices.Sorted(maps.Keys(values))
	}
	for _, c := range columns {
		if c == "dn" || c == "parent" {
			continue
		}
		if len(values[c]) > 0 && !described.MatchString(c) {
			return fmt.Errorf("%q can't be the name of an attribute in LDIF; choose the columns, or another format", c)
		}
		for _, v := range values[c] {
			if err := WriteLine(w.w, c, v); err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *writer) Close() error { return w.w.Flush() }

// described is an attribute description (RFC 4512 section 2.5).
var described = regexp.MustCompile(`^([A-Za-z][A-Za-z0-9-]*|[0-9]+(\.[0-9]+)*)(;[A-Za-z0-9-]+)*$`)

// width is where lines are folded (RFC 2849 note 2 leaves it open).
const width = 76

// WriteLine writes one value, in Base64 where it is not SAFE, folded.
func WriteLine(w io.Writer, name, value string) error {
	line := name + ": " + value
	if !safe(value) {
		line = name + ":: " + base64.StdEncoding.EncodeToString([]byte(value))
	}
	for first := true; len(line) > 0; first = false {
		room := width
		if !first {
			if _, err := io.WriteString(w, " "); err != nil {
				return err
			}
			room--
		}
		n := min(room, len(line))
		if _, err := io.WriteString(w, line[:n]+"\n"); err != nil {
			return err
		}
		line = line[n:]
	}
	return nil
}

// safe is SAFE-STRING of RFC 2849, which neither begins nor ends in a space.
func safe(v string) bool {
	if v == "" {
		return true
	}
	if v[0] == ' ' || v[0] == ':' || v[0] == '<' || v[len(v)-1] == ' ' {
		return false
	}
	for i := 0; i < len(v); i++ {
		if v[i] >= 0x80 || v[i] == 0 || v[i] == '\n' || v[i] == '\r' {
			return false
		}
	}
	return true
}
