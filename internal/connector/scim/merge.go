package scim

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/connector"
	"twinning/internal/format/scimjson"
)

// merge writes edits into a resource.
func merge(top map[string]any, edits []connector.Edit) error {
	for _, e := range edits {
		object, name := scimjson.Split(e.Native)
		switch {
		case e.Native == "id" || object == "meta" || e.Native == "groups":
			return fmt.Errorf("%s is read-only in SCIM%s", e.Native, map[bool]string{true: "; groups are written through the application's own when the shape says `groups: memberships`"}[e.Native == "groups"])
		case e.Native == "emails.primary" || e.Native == "emails.other":
			// both halves together, below
		case object == "" && slices.Contains(scimjson.Multi, name):
			mergeList(top, name, e.New)
		case slices.Contains(scimjson.Multi, object):
			return fmt.Errorf("%s is read by type and not written; write %s", e.Native, object)
		default:
			if strings.HasPrefix(object, "urn:") {
				addSchema(top, object)
			}
			mergeInto(top, object, name, e.New)
		}
	}
	mergeEmails(top, edits)
	return nil
}

// addSchema names an extension among the resource's schemas.
func addSchema(top map[string]any, urn string) {
	switch list := top["schemas"].(type) {
	case []any:
		if !slices.Contains(list, any(urn)) {
			top["schemas"] = append(list, urn)
		}
	case []string:
		if !slices.Contains(list, urn) {
			top["schemas"] = append(list, urn)
		}
	}
}

func mergeInto(top map[string]any, object, name string, values []string) {
	into := top
	if object != "" {
		m, ok := top[object].(map[string]any)
		if !ok {
			m = map[string]any{}
			top[object] = m
		}
		into = m
	}
	switch _, wasBool := into[name].(bool); {
	case len(values) == 0:
		delete(into, name)
	case len(values) > 1:
		into[name] = values
	case name == "active" || wasBool && (values[0] == "true" || values[0] == "false"):
		into[name] = values[0] == "true"
	case name == "manager":
		into[name] = map[string]any{"value": values[0]}
	default:
		into[name] = values[0]
	}
}

// mergeList sets a list's values and keeps what else the application says of
// those that stay (type, display).
func mergeList(top map[string]any, name string, values []string) {
	known := map[string]map[string]any{}
	if list, ok := top[name].([]any); ok {
		for _, item := range list {
			if m, ok := item.(map[string]any); ok {
				known[strings.ToLower(strings.Join(scimjson.Scalars(m["value"]), ""))] = m
			}
		}
	}
	list := make([]any, 0, len(values))
	for _, v := range values {
		m := map[string]any{"value": v}
		for k, x := range known[strings.ToLower(v)] {
			if k != "value" && k != "primary" && k != "$ref" {
				m[k] = x
			}
		}
		list = append(list, m)
	}
	top[name] = list
}
