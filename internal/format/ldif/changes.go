package ldif

import (
	"bytes"
	"fmt"
	"strings"
)

// Change is one change record.
type Change struct {
	Line       int
	DN         string
	Type       string // add, delete, modify, modrdn
	Attributes map[string][]string
	Mods       []Mod
	NewRDN     string
	DeleteOld  bool
	NewParent  string
}

// Mod is one part of a modify.
type Mod struct {
	Op        string // add, delete, replace
	Attribute string
	Values    []string
}

// Changes reads a file of change records.
func Changes(body []byte) (list []Change, err error) {
	err = scan(bytes.TrimPrefix(body, []byte("\xef\xbb\xbf")), func(r rawRecord) error {
		if r.fault != "" {
			return fmt.Errorf("line %d: %s", r.line, r.fault)
		}
		c := Change{Line: r.line, DN: r.dn, Type: r.changeType, Attributes: map[string][]string{}}
		switch r.changeType {
		case "add":
			for _, a := range r.lines {
				c.Attributes[a.name] = append(c.Attributes[a.name], a.value)
			}
		case "delete":
		case "modify":
			if c.Mods, err = mods(r); err != nil {
				return err
			}
		case "modrdn", "moddn":
			c.Type = "modrdn"
			for _, a := range r.lines {
				switch strings.ToLower(a.name) {
				case "newrdn":
					c.NewRDN = a.value
				case "deleteoldrdn":
					c.DeleteOld = a.value == "1"
				case "newsuperior":
					c.NewParent = a.value
				}
			}
		default:
			return fmt.Errorf("line %d: %q is no changetype; expected add, delete, modify or modrdn", r.line, r.changeType)
		}
		list = append(list, c)
		return nil
	})
	return list, err
}

func mods(r rawRecord) (list []Mod, err error) {
	var current *Mod
	for _, a := range r.lines {
		op := strings.ToLower(a.name)
		switch {
		case a.dash:
			current = nil
		case current == nil && (op == "add" || op == "delete" || op == "replace"):
			list = append(list, Mod{Op: op, Attribute: a.value})
			current = &list[len(list)-1]
		case current != nil && strings.EqualFold(a.name, current.Attribute):
			current.Values = append(current.Values, a.value)
		default:
			return nil, fmt.Errorf("line %d: %q does not belong here; expected add:, delete:, replace:, a value of it, or a line with -", a.line, a.name)
		}
	}
	return list, nil
}
