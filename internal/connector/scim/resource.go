package scim

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"twinning/internal/connector"
)

const (
	coreUser   = "urn:ietf:params:scim:schemas:core:2.0:User"
	enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	patchOp    = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
)

// multi are the core attributes that hold several values (RFC 7643 section 4.1.2).
var multi = []string{"emails", "phoneNumbers", "roles", "entitlements", "groups", "ims", "photos", "addresses", "x509Certificates"}

// parse flattens a resource: "name.givenName", "emails.primary",
// "emails.other", "enterprise.department". The password is never returned by a
// proper server, and never kept from another.
func parse(raw []byte) (connector.Record, error) {
	r := connector.Record{Raw: raw, Values: map[string][]string{}}
	var top map[string]any
	if err := json.Unmarshal(raw, &top); err != nil {
		return r, fmt.Errorf("not a JSON object: %w", err)
	}
	r.ID, _ = top["id"].(string)
	if r.ID == "" {
		return r, errors.New("the user has no id")
	}
	for name, v := range top {
		switch x := v.(type) {
		case map[string]any:
			prefix := name
			switch name {
			case enterprise:
				prefix = "enterprise"
			case "meta":
				r.Version, _ = x["version"].(string)
			}
			for sub, w := range x {
				if m, ok := w.(map[string]any); ok { // manager
					w = m["value"]
				}
				set(&r, prefix+"."+sub, scalar(w))
			}
		case []any:
			if name != "schemas" {
				parseList(&r, name, x)
			}
		default:
			if name != "password" {
				set(&r, name, scalar(v))
			}
		}
	}
	return r, nil
}

func parseList(r *connector.Record, name string, items []any) {
	var all, other []string
	primary := ""
	for _, item := range items {
		v, isPrimary := "", false
		switch x := item.(type) {
		case map[string]any:
			v = scalar(x["value"])
			isPrimary, _ = x["primary"].(bool)
		default:
			v = scalar(x)
		}
		if v == "" {
			continue
		}
		all = append(all, v)
		if isPrimary && primary == "" {
			primary = v
		} else {
			other = append(other, v)
		}
	}
	if len(all) == 0 {
		return
	}
	if name != "emails" {
		r.Values[name] = all
		return
	}
	if primary == "" { // none is marked: the first is what a mail program would take
		primary, other = all[0], all[1:]
	}
	r.Values["emails.primary"] = []string{primary}
	if len(other) > 0 {
		r.Values["emails.other"] = slices.Clone(other)
	}
}

func set(r *connector.Record, name, value string) {
	if value != "" {
		r.Values[name] = []string{value}
	}
}

func scalar(v any) string {
	switch x := v.(type) {
	case string:
		return x
	case bool:
		return map[bool]string{true: "true", false: "false"}[x]
	case float64:
		return strings.TrimSuffix(fmt.Sprintf("%g", x), ".0")
	}
	return ""
}
