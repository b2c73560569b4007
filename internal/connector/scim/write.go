package scim

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"twinning/internal/connector"
)

func (a *app) Write(ctx context.Context, w connector.Write) (connector.Record, error) {
	if w.Record == nil {
		return a.create(ctx, w.Edits)
	}
	if a.put {
		return a.replace(ctx, *w.Record, w.Edits)
	}
	return a.patch(ctx, *w.Record, w.Edits)
}

func (a *app) create(ctx context.Context, edits []connector.Edit) (connector.Record, error) {
	user := map[string]any{"schemas": []string{coreUser}, "active": true}
	if err := merge(user, edits); err != nil {
		return connector.Record{}, a.fault(connector.Refused, "create a user", err.Error(), "")
	}
	doing := "create user"
	if name, ok := user["userName"].(string); ok {
		doing += " " + name
	}
	body, _ := json.Marshal(user)
	answer, header, err := a.do(ctx, doing, http.MethodPost, "/Users", body, "")
	if err != nil {
		return connector.Record{}, err
	}
	if r, err := a.answered(doing, answer, header); err == nil {
		return r, nil
	}
	// created, but the answer does not say what: read it by its address
	location, err := url.Parse(header.Get("Location"))
	if err != nil || !strings.Contains(location.Path, "/Users/") {
		return connector.Record{}, a.fault(connector.Unanswered, doing, "the answer does not name the new user", "")
	}
	return a.One(ctx, location.Path[strings.LastIndex(location.Path, "/")+1:])
}

type operation struct {
	Op    string `json:"op"`
	Path  string `json:"path"`
	Value any    `json:"value,omitempty"`
}

// patch sends one PATCH with an operation an attribute. Addresses are replaced
// as one list made from what was just read: setting a primary by a value
// filter would leave two of them, and a filter without a target is an error.
func (a *app) patch(ctx context.Context, r connector.Record, edits []connector.Edit) (connector.Record, error) {
	var top map[string]any
	if err := json.Unmarshal(r.Raw, &top); err != nil {
		return connector.Record{}, a.fault(connector.Broken, "change user "+r.ID, err.Error(), "")
	}
	if err := merge(top, edits); err != nil {
		return connector.Record{}, a.fault(connector.Refused, "change user "+r.ID, err.Error(), "")
	}
	var ops []operation
	lists := map[string]bool{}
	for _, e := range edits {
		head, sub, _ := strings.Cut(e.Native, ".")
		if slices.Contains(multi, head) {
			if !lists[head] {
				lists[head] = true
				ops = append(ops, replaceOrRemove(head, top[head]))
			}
			continue
		}
		path := e.Native
		value := top[head]
		switch {
		case head == "enterprise":
			path = enterprise + ":" + sub
			value = inside(top[enterprise], sub)
		case sub != "":
			value = inside(top[head], sub)
		}
		ops = append(ops, replaceOrRemove(path, value))
	}
	body, _ := json.Marshal(map[string]any{"schemas": []string{patchOp}, "Operations": ops})
	return a.send(ctx, http.MethodPatch, r, body)
}

func replaceOrRemove(path string, value any) operation {
	if list, ok := value.([]any); value == nil || ok && len(list) == 0 {
		return operation{Op: "remove", Path: path}
	}
	return operation{Op: "replace", Path: path, Value: value}
}

func inside(v any, name string) any {
	m, _ := v.(map[string]any)
	return m[name]
}

// replace sends the whole record back with only our edits merged in: what is
// read-only or never returned is left out, as RFC 7644 section 3.5.1 has it.
func (a *app) replace(ctx context.Context, r connector.Record, edits []connector.Edit) (connector.Record, error) {
	doing := "change user " + r.ID
	if r.Version == "" && !a.blind {
		return connector.Record{}, a.fault(connector.Refused, doing, "the application gives no ETag, so a PUT could undo somebody else's change", "use method patch, or set put-without-etag to yes")
	}
	var top map[string]any
	if err := json.Unmarshal(r.Raw, &top); err != nil {
		return connector.Record{}, a.fault(connector.Broken, doing, err.Error(), "")
	}
	for _, readOnly := range []string{"meta", "groups", "password"} {
		delete(top, readOnly)
	}
	if err := merge(top, edits); err != nil {
		return connector.Record{}, a.fault(connector.Refused, doing, err.Error(), "")
	}
	body, _ := json.Marshal(top)
	return a.send(ctx, http.MethodPut, r, body)
}

func (a *app) send(ctx context.Context, method string, r connector.Record, body []byte) (connector.Record, error) {
	doing := "change user " + r.ID
	answer, header, err := a.do(ctx, doing, method, "/Users/"+url.PathEscape(r.ID), body, r.Version)
	if err != nil {
		return connector.Record{}, err
	}
	if len(answer) == 0 { // 204: done, but how it looks now must be read
		return a.One(ctx, r.ID)
	}
	return a.answered(doing, answer, header)
}

// merge writes edits into a resource.
func merge(top map[string]any, edits []connector.Edit) error {
	for _, e := range edits {
		head, sub, _ := strings.Cut(e.Native, ".")
		switch {
		case e.Native == "id" || head == "meta" || head == "groups":
			return fmt.Errorf("%s is read-only in SCIM", e.Native)
		case head == "emails":
			// both halves together, below
		case slices.Contains(multi, head):
			mergeList(top, head, e.New, "")
		case head == "enterprise":
			mergeInto(top, enterprise, sub, e.New)
			if list, ok := top["schemas"].([]any); ok && !slices.Contains(list, any(enterprise)) {
				top["schemas"] = append(list, enterprise)
			} else if list, ok := top["schemas"].([]string); ok && !slices.Contains(list, enterprise) {
				top["schemas"] = append(list, enterprise)
			}
		case sub != "":
			mergeInto(top, head, sub, e.New)
		default:
			mergeInto(top, "", head, e.New)
		}
	}
	mergeEmails(top, edits)
	return nil
}

func mergeInto(top map[string]any, parent, name string, values []string) {
	into := top
	if parent != "" {
		m, ok := top[parent].(map[string]any)
		if !ok {
			m = map[string]any{}
			top[parent] = m
		}
		into = m
	}
	switch {
	case len(values) == 0:
		delete(into, name)
	case name == "active":
		into[name] = values[0] == "true"
	case name == "manager":
		into[name] = map[string]any{"value": values[0]}
	default:
		into[name] = values[0]
	}
}

func mergeEmails(top map[string]any, edits []connector.Edit) {
	current := connector.Record{Values: map[string][]string{}}
	if list, ok := top["emails"].([]any); ok {
		parseList(&current, "emails", list)
	}
	primary, other, touched := current.Values["emails.primary"], current.Values["emails.other"], false
	for _, e := range edits {
		switch e.Native {
		case "emails.primary":
			primary, touched = e.New, true
		case "emails.other":
			other, touched = e.New, true
		}
	}
	if !touched {
		return
	}
	main := ""
	if len(primary) > 0 {
		main = primary[0]
	}
	rest := slices.DeleteFunc(slices.Clone(other), func(v string) bool { return strings.EqualFold(v, main) })
	mergeList(top, "emails", append(slices.Clone(primary), rest...), main)
}

// mergeList sets a list's values and keeps what else the application says of
// those that stay (type, display).
func mergeList(top map[string]any, name string, values []string, primary string) {
	known := map[string]map[string]any{}
	if list, ok := top[name].([]any); ok {
		for _, item := range list {
			if m, ok := item.(map[string]any); ok {
				known[strings.ToLower(scalar(m["value"]))] = m
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
		if name == "emails" {
			m["primary"] = v == primary
		}
		list = append(list, m)
	}
	top[name] = list
}
