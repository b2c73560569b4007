package document

import (
	"regexp"
	"slices"
	"strings"
)

// Forms of a key's value.
const (
	FormText       = "text"
	FormWord       = "word" // one of the key's words
	FormYesNo      = "true or false"
	FormNumber     = "number"
	FormShare      = "share"   // 0 to 1
	FormPercent    = "percent" // 5%
	FormDays       = "days"    // 7d
	FormExpression = "expression"
	FormCondition  = "condition"
	FormTexts      = "texts"
	FormOneOrMore  = "text, or texts" // expressions as well
	FormMapping    = "mapping"
	FormList       = "list"
	FormAny        = "value or mapping" // what may be said in short
)

// Key declares one key of a kind of document: from it come the check, what is
// expected in its messages, the JSON Schema and the reference.
type Key struct {
	Path    string // from the top, dotted; * is a name of the writer's own, [] an item of a list
	Form    string
	Words   []string // for FormWord; the first counts where the key is absent
	What    string
	Example string // the value, as it stands in a document
}

// NewKey declares one.
func NewKey(path, form, what, example string, words ...string) Key {
	return Key{path, form, words, what, example}
}

// Keys are all keys of a kind of document.
type Keys []Key

var index = regexp.MustCompile(`\[\d+\]`)

// parts of a path of a document, as declarations have them: items without their number.
func parts(path string) []string { return strings.Split(index.ReplaceAllString(path, "[]"), ".") }

// covers: a path of a document, in parts, is one that the declared path means.
func covers(declared string, path []string) bool {
	i := 0
	for part := range strings.SplitSeq(declared, ".") {
		if i == len(path) || part != path[i] && part != "*" {
			return false
		}
		i++
	}
	return i == len(path)
}

// find is the key that stands at a path, one with its own name before one for any.
func (k Keys) find(path string) *Key {
	var any *Key
	at := parts(path)
	for i := range k {
		if covers(k[i].Path, at) {
			if !strings.HasSuffix(k[i].Path, "*") {
				return &k[i]
			}
			any = &k[i]
		}
	}
	return any
}

// below lists the names that may stand directly below a path.
func (k Keys) below(path string) (names []string) {
	above := parts(path)
	for _, key := range k {
		parent, name := "", key.Path
		if at := strings.LastIndex(key.Path, "."); at >= 0 {
			parent, name = key.Path[:at], key.Path[at+1:]
		}
		if name != "*" && !strings.HasSuffix(name, "]") && (parent == "" && path == "" || parent != "" && covers(parent, above)) && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// Declared reads a mapping by the keys declared for where it stands.
func (n Node) Declared(keys Keys) map[string]Node { return n.Fields(keys.below(n.path)...) }

// Word reads a scalar that must be one of the words declared for its path, which an
// absent node does not know.
func (n Node) Word(keys Keys, path string) string { return n.OneOf(keys.find(path).Words...) }

// Schema is the JSON Schema (draft 2020-12) of documents with these keys.
func (k Keys) Schema(title string) map[string]any {
	s := k.schema("", FormMapping, nil)
	s["$schema"], s["title"] = "https://json-schema.org/draft/2020-12/schema", title
	return s
}

func (k Keys) schema(path, form string, words []string) map[string]any {
	scalar := map[string]any{"type": []string{"string", "number", "boolean"}}
	switch form {
	case FormWord:
		return map[string]any{"enum": words}
	case FormYesNo:
		return map[string]any{"type": "boolean"}
	case FormNumber:
		return map[string]any{"type": "integer"}
	case FormShare:
		return map[string]any{"type": "number", "minimum": 0, "maximum": 1}
	case FormPercent:
		return map[string]any{"type": "string", "pattern": `^\s*[0-9]+(\.[0-9]+)?\s*%\s*$`}
	case FormDays:
		return map[string]any{"type": "string", "pattern": `^[0-9]+d$`}
	case FormTexts:
		return map[string]any{"type": "array", "items": scalar}
	case FormOneOrMore:
		return map[string]any{"anyOf": []any{scalar, map[string]any{"type": "array", "items": scalar}}}
	case FormList:
		items := map[string]any{}
		if item := k.find(path + "[]"); item != nil {
			items = k.schema(item.Path, item.Form, item.Words)
		}
		return map[string]any{"type": "array", "items": items}
	case FormMapping:
		properties := map[string]any{}
		m := map[string]any{"type": []string{"object", "null"}, "properties": properties, "additionalProperties": false}
		for _, key := range k {
			name, under := strings.CutPrefix(key.Path, path+".")
			if path == "" {
				name, under = key.Path, true
			}
			if !under || strings.Contains(name, ".") || strings.HasSuffix(name, "]") {
				continue
			}
			value := k.schema(key.Path, key.Form, key.Words)
			value["description"] = key.What
			if name == "*" {
				m["additionalProperties"] = value
				continue
			}
			properties[name] = value
		}
		return m
	case FormAny:
		return map[string]any{"anyOf": []any{scalar, k.schema(path, FormMapping, nil)}}
	}
	return scalar
}
