package scimapp

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/elimity-com/scim"
	"github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/optional"
	filter "github.com/scim2/filter-parser/v2"
)

// handler is the application as the SCIM library calls it.
type handler App

func (h *handler) app() *App { return (*App)(h) }

func (h *handler) resource(u *user) scim.Resource {
	modified := u.Created
	r := scim.Resource{ID: u.ID, Attributes: maps.Clone(u.Attributes), Meta: scim.Meta{Created: &u.Created, LastModified: &modified}}
	if u.ExternalID != "" {
		r.ExternalID = optional.NewString(u.ExternalID)
	}
	if !h.wrong.NoETag {
		r.Meta.Version = fmt.Sprintf(`W/"%d"`, u.Version)
	}
	return r
}

// seen is the user as a reader sees it: changes may show late.
func seen(u *user) *user {
	if time.Now().Before(u.Visible) {
		return u.Before
	}
	return u
}

func lower(v any) string { s, _ := v.(string); return strings.ToLower(s) }

func notFound(id string) error { return errors.ScimErrorResourceNotFound(id) }

// check refuses what a real application would: a taken userName or address, or
// whatever the misbehaviour says.
func (h *handler) check(id string, attributes map[string]any) error {
	name := lower(attributes["userName"])
	if h.wrong.RefuseUser != "" && name == strings.ToLower(h.wrong.RefuseUser) {
		return errors.ScimErrorBadRequest("this user may not be changed")
	}
	if h.wrong.TypesRequired && !typed(attributes) {
		return errors.ScimError{ScimType: errors.ScimTypeInvalidValue, Status: http.StatusBadRequest, Detail: "every e-mail address needs a type of its own"}
	}
	mine := addresses(attributes)
	for _, u := range h.users {
		if u.ID == id {
			continue
		}
		if name == lower(u.Attributes["userName"]) {
			return errors.ScimErrorUniqueness
		}
		for _, a := range addresses(u.Attributes) {
			if slices.Contains(mine, a) {
				return errors.ScimErrorUniqueness
			}
		}
	}
	return nil
}

// typed reports whether every address carries a type, and each type is there once.
func typed(attributes map[string]any) bool {
	list, _ := attributes["emails"].([]any)
	met := map[string]bool{}
	for _, item := range list {
		m, _ := item.(map[string]any)
		t := lower(m["type"])
		if t == "" || met[t] {
			return false
		}
		met[t] = true
	}
	return true
}

func addresses(attributes map[string]any) (out []string) {
	list, _ := attributes["emails"].([]any)
	for _, item := range list {
		if m, ok := item.(map[string]any); ok {
			out = append(out, lower(m["value"]))
		}
	}
	return out
}

func (h *handler) alter(attributes map[string]any) {
	if title, ok := attributes["title"].(string); ok && h.wrong.TitleLimit > 0 && len([]rune(title)) > h.wrong.TitleLimit {
		attributes["title"] = string([]rune(title)[:h.wrong.TitleLimit])
	}
}

func (h *handler) show(u *user, before *user) {
	if h.wrong.LagMillis > 0 {
		u.Before, u.Visible = before, time.Now().Add(time.Duration(h.wrong.LagMillis)*time.Millisecond)
	}
}

func (h *handler) Create(_ *http.Request, attributes scim.ResourceAttributes) (scim.Resource, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	external, _ := attributes["externalId"].(string)
	delete(attributes, "externalId")
	if err := h.check("", attributes); err != nil {
		return scim.Resource{}, err
	}
	h.alter(attributes)
	u := &user{ID: h.app().newID(), ExternalID: external, Attributes: attributes, Version: 1, Created: time.Now().UTC()}
	h.show(u, nil)
	h.users[u.ID] = u
	h.effects.Creates++
	h.app().count(lower(attributes["userName"]), "create")
	h.app().save()
	return h.resource(u), nil
}

func (h *handler) Get(_ *http.Request, id string) (scim.Resource, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.effects.Reads++
	u := h.users[id]
	if u == nil || seen(u) == nil {
		return scim.Resource{}, notFound(id)
	}
	return h.resource(seen(u)), nil
}

func (h *handler) GetAll(_ *http.Request, params scim.ListRequestParams) (scim.Page, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.effects.Reads++
	var all []scim.Resource
	for _, u := range h.app().sorted() {
		if u = seen(u); u == nil {
			continue
		}
		if params.FilterValidator != nil {
			m := maps.Clone(u.Attributes)
			m["id"], m["externalId"] = u.ID, u.ExternalID
			if params.FilterValidator.PassesFilter(m) != nil {
				continue
			}
		}
		all = append(all, h.resource(u))
	}
	from := min(max(params.StartIndex-1, 0), len(all))
	return scim.Page{TotalResults: len(all), Resources: all[from:min(from+params.Count, len(all))]}, nil
}

// change applies a new set of attributes to a user and counts what differs.
func (h *handler) change(r *http.Request, id string, edit func(u *user) error) (scim.Resource, error) {
	u := h.users[id]
	if u == nil {
		return scim.Resource{}, notFound(id)
	}
	if want := r.Header.Get("If-Match"); want != "" && want != fmt.Sprintf(`W/"%d"`, u.Version) {
		return scim.Resource{}, errors.ScimError{Status: http.StatusPreconditionFailed, Detail: "the user has changed"}
	}
	next := *u
	next.Attributes = deepCopy(u.Attributes)
	if err := edit(&next); err != nil {
		return scim.Resource{}, err
	}
	if err := h.check(id, next.Attributes); err != nil {
		return scim.Resource{}, err
	}
	h.alter(next.Attributes)
	name := lower(u.Attributes["userName"])
	changed := false
	for key := range union(u.Attributes, next.Attributes) {
		if !reflect.DeepEqual(u.Attributes[key], next.Attributes[key]) {
			changed = true
			h.app().count(name, "change:"+key)
		}
	}
	if u.ExternalID != next.ExternalID {
		changed = true
		h.app().count(name, "change:externalId")
	}
	if changed {
		h.effects.Changes++
		next.Version++
	}
	before := *u
	*u = next
	h.show(u, &before)
	h.app().save()
	return h.resource(u), nil
}

func union(a, b map[string]any) map[string]bool {
	keys := map[string]bool{}
	for k := range a {
		keys[k] = true
	}
	for k := range b {
		keys[k] = true
	}
	return keys
}

func deepCopy(m map[string]any) map[string]any {
	src, _ := json.Marshal(m)
	var out map[string]any
	_ = json.Unmarshal(src, &out)
	return out
}

func (h *handler) Replace(r *http.Request, id string, attributes scim.ResourceAttributes) (scim.Resource, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.change(r, id, func(u *user) error {
		u.ExternalID, _ = attributes["externalId"].(string)
		delete(attributes, "externalId")
		u.Attributes = attributes
		return nil
	})
}

func (h *handler) Delete(_ *http.Request, id string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	u := h.users[id]
	if u == nil {
		return notFound(id)
	}
	delete(h.users, id)
	h.effects.Deletes++
	h.app().count(lower(u.Attributes["userName"]), "delete")
	h.app().save()
	return nil
}

func (h *handler) Patch(r *http.Request, id string, operations []scim.PatchOperation) (scim.Resource, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	res, err := h.change(r, id, func(u *user) error {
		for _, op := range operations {
			if err := apply(u, op); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil && h.wrong.Silent {
		res.Attributes = nil
	}
	return res, err
}

// apply carries out one operation (RFC 7644 section 3.5.2).
func apply(u *user, op scim.PatchOperation) error {
	if op.Path == nil {
		m, ok := op.Value.(map[string]any)
		if !ok {
			return errors.ScimErrorInvalidValue
		}
		for name, v := range m {
			set(u, u.Attributes, name, op.Op, v)
		}
		return nil
	}
	into, name := u.Attributes, op.Path.AttributePath.AttributeName
	if uri := op.Path.AttributePath.URI(); uri != "" && !strings.HasSuffix(uri, ":core:2.0:User") {
		inner, ok := into[uri].(map[string]any)
		if !ok {
			inner = map[string]any{}
			into[uri] = inner
		}
		into = inner
	}
	if op.Path.ValueExpression != nil {
		return applyFiltered(into, name, op)
	}
	sub := op.Path.AttributePath.SubAttributeName()
	if sub != "" {
		inner, ok := into[name].(map[string]any)
		if !ok {
			inner = map[string]any{}
			into[name] = inner
		}
		into, name = inner, sub
	}
	set(u, into, name, op.Op, op.Value)
	return nil
}

func set(u *user, into map[string]any, name, op string, value any) {
	if strings.EqualFold(name, "externalId") {
		u.ExternalID, _ = value.(string)
		return
	}
	list, isList := into[name].([]any)
	switch more, ok := value.([]any); {
	case op == scim.PatchOperationRemove:
		delete(into, name)
	case op == scim.PatchOperationAdd && isList && ok:
		into[name] = append(list, more...)
	default:
		into[name] = value
	}
}

// applyFiltered handles paths such as emails[type eq "work"].value for plain
// equality, which is all that applications use in practice.
func applyFiltered(into map[string]any, name string, op scim.PatchOperation) error {
	cond, ok := op.Path.ValueExpression.(*filter.AttributeExpression)
	if !ok || cond.Operator != filter.EQ {
		return errors.ScimErrorInvalidFilter
	}
	list, _ := into[name].([]any)
	hit := false
	kept := make([]any, 0, len(list))
	for _, item := range list {
		m, _ := item.(map[string]any)
		if m == nil || !reflect.DeepEqual(m[cond.AttributePath.AttributeName], cond.CompareValue) {
			kept = append(kept, item)
			continue
		}
		hit = true
		if op.Op == scim.PatchOperationRemove {
			continue
		}
		if sub := op.Path.SubAttributeName(); sub != "" {
			m[sub] = op.Value
		} else if v, ok := op.Value.(map[string]any); ok {
			maps.Copy(m, v)
		}
		kept = append(kept, m)
	}
	if !hit {
		return errors.ScimErrorNoTarget
	}
	into[name] = kept
	return nil
}
