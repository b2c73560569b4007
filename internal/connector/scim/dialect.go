package scim

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"twinning/internal/connector"
	"twinning/internal/format/scimjson"
)

// dialect is how an application wants its PATCH, where it does not take what
// RFC 7644 section 3.5.2 says.
type dialect struct {
	titleCase    bool // "Replace" for "replace"
	noPath       bool // one operation without a path, its value an object
	textBooleans bool // "True" for true
}

// dialects are tried in this order when an application refuses the form of a
// change (nothing was done then), until one is taken.
var dialects = []dialect{{}, {titleCase: true}, {noPath: true}, {titleCase: true, noPath: true}, {titleCase: true, textBooleans: true}, {titleCase: true, noPath: true, textBooleans: true}}

// parseDialect reads the setting: words, or auto.
func parseDialect(text string) (list []dialect, err error) {
	if text == "" || text == "auto" {
		return dialects, nil
	}
	var d dialect
	for _, word := range strings.Split(text, ",") {
		switch strings.TrimSpace(word) {
		case "standard":
		case "title-case":
			d.titleCase = true
		case "no-path":
			d.noPath = true
		case "text-booleans":
			d.textBooleans = true
		default:
			return nil, fmt.Errorf("setting dialect is %q; expected auto, standard, or some of title-case, no-path, text-booleans", text)
		}
	}
	return []dialect{d}, nil
}

type operation struct {
	Op    string `json:"op"`
	Path  string `json:"path,omitempty"`
	Value any    `json:"value,omitempty"`
}

// operations says what takes a record to its edited form: an operation an
// attribute. Addresses are replaced as one list made from what was just read:
// setting a primary by a value filter would leave two of them, and a filter
// without a target is an error.
func operations(top map[string]any, edits []connector.Edit) []operation {
	var ops []operation
	lists := map[string]bool{}
	for _, e := range edits {
		object, name := scimjson.Split(e.Native)
		if object == "emails" {
			object, name = "", object
		}
		if object == "" && slices.Contains(scimjson.Multi, name) {
			if !lists[name] {
				lists[name] = true
				ops = append(ops, replaceOrRemove(name, top[name]))
			}
			continue
		}
		path, value := e.Native, top[name]
		if object != "" {
			m, _ := top[object].(map[string]any)
			value = m[name]
			if strings.HasPrefix(object, "urn:") {
				path = object + ":" + name
			}
		}
		ops = append(ops, replaceOrRemove(path, value))
	}
	return ops
}

func replaceOrRemove(path string, value any) operation {
	if list, ok := value.([]any); value == nil || ok && len(list) == 0 {
		return operation{Op: "remove", Path: path}
	}
	return operation{Op: "replace", Path: path, Value: value}
}

// say puts operations into the dialect's words.
func (d dialect) say(ops []operation) []operation {
	out := make([]operation, 0, len(ops))
	whole := map[string]any{}
	for _, op := range ops {
		if b, ok := op.Value.(bool); ok && d.textBooleans {
			op.Value = map[bool]string{true: "True", false: "False"}[b]
		}
		if d.noPath && op.Op == "replace" { // what is removed can only be named by a path
			put(whole, op.Path, op.Value)
			continue
		}
		out = append(out, op)
	}
	if len(whole) > 0 {
		out = append(out, operation{Op: "replace", Value: whole})
	}
	if d.titleCase {
		for i := range out {
			out[i].Op = strings.ToUpper(out[i].Op[:1]) + out[i].Op[1:]
		}
	}
	return out
}

// put places a value by its path in an object without paths.
func put(into map[string]any, path string, value any) {
	object, name := scimjson.Split(path)
	if object == "" {
		into[name] = value
		return
	}
	m, ok := into[object].(map[string]any)
	if !ok {
		m = map[string]any{}
		into[object] = m
	}
	m[name] = value
}

// formRefused reports whether an application refused how a change was said, not
// what it says: a refusal that speaks of a value is about the value, unless that is
// true or false, which some want as text.
func formRefused(err error, ops []operation) bool {
	var told *connector.Error
	var form *refusal
	if !errors.As(err, &told) || told.Kind != connector.Refused || !errors.As(err, &form) || form.status != http.StatusBadRequest {
		return false
	}
	switch form.scimType {
	case "invalidPath", "invalidSyntax", "noTarget":
		return true
	case "invalidValue":
		return slices.ContainsFunc(ops, func(op operation) bool { _, truth := op.Value.(bool); return truth })
	case "":
		return !slices.ContainsFunc(ops, func(op operation) bool {
			text, ok := op.Value.(string)
			return ok && len(text) > 2 && strings.Contains(told.Reason, text)
		})
	}
	return false
}

func patchBody(ops []operation) ([]byte, error) {
	return json.Marshal(map[string]any{"schemas": []string{scimjson.PatchOp}, "Operations": ops})
}
