package connector

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"twinning/internal/core/document"
)

// Setting declares one setting of a kind of system: its check, its messages and its
// entry in the reference come from here.
type Setting struct {
	Name    string   `json:"name"`
	What    string   `json:"what"`
	Words   []string `json:"words,omitempty"`     // of which it is one; the first counts where it is not given
	Default string   `json:"otherwise,omitempty"` // of others, what counts where it is not given
	Number  bool     `json:"number,omitempty"`    // a whole number from Lowest to Highest
	Lowest  int      `json:"lowest,omitempty"`
	Highest int      `json:"highest,omitempty"`
	Example string   `json:"example"`
}

// Settings are all that a kind of system has.
type Settings struct {
	Of   string // such as "a directory"
	List []Setting
}

// Given are settings that hold to their declaration.
type Given struct {
	declared map[string]Setting
	values   map[string]string
}

// Read holds what was given to what is declared, and tells all mistakes at once.
func (s Settings) Read(given map[string]string) (Given, error) {
	g := Given{map[string]Setting{}, given}
	known := make([]string, len(s.List))
	var wrong []string
	for i, x := range s.List {
		known[i], g.declared[x.Name] = x.Name, x
		v := given[x.Name]
		if v == "" {
			continue
		}
		switch {
		case x.Words != nil && !slices.Contains(x.Words, v):
			wrong = append(wrong, fmt.Sprintf("setting %s is %q%s; expected %s", x.Name, v, document.Suggest(v, x.Words), strings.Join(x.Words, " or ")))
		case x.Number:
			if n, err := strconv.Atoi(v); err != nil || n < x.Lowest || n > x.Highest {
				wrong = append(wrong, fmt.Sprintf("setting %s is %q; expected a whole number from %d to %d", x.Name, v, x.Lowest, x.Highest))
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(given)) {
		if _, ok := g.declared[name]; !ok {
			wrong = append(wrong, fmt.Sprintf("setting %q is not known for %s%s; known are %s", name, s.Of, document.Suggest(name, known), strings.Join(known, ", ")))
		}
	}
	if len(wrong) > 0 {
		return g, errors.New(strings.Join(wrong, "; "))
	}
	return g, nil
}

// declaration of a setting; a name that is not declared is a mistake of ours.
func (g Given) declaration(name string) Setting {
	x, ok := g.declared[name]
	if !ok {
		panic("setting " + name + " is not declared")
	}
	return x
}

// Text is the value as it was given, or what counts where none was.
func (g Given) Text(name string) string {
	x := g.declaration(name)
	if len(x.Words) > 0 {
		return cmp.Or(g.values[name], x.Words[0])
	}
	return cmp.Or(g.values[name], x.Default)
}

// Number is the value of a setting that is one.
func (g Given) Number(name string) int {
	n, _ := strconv.Atoi(g.Text(name)) // held to its declaration by Read
	return n
}
