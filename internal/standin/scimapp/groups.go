package scimapp

import (
	"cmp"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/elimity-com/scim"
	"github.com/elimity-com/scim/errors"
	filter "github.com/scim2/filter-parser/v2"
)

// group is a named set of users.
type group struct {
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	Members []string `json:"members"`
	Version int      `json:"version"`
}

// PutGroup seeds a group behind everybody's back.
func (a *App) PutGroup(id, name string, members ...string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.groups[id] = &group{ID: id, Name: name, Members: members}
	a.save()
}

// Members tells who is in a group.
func (a *App) Members(id string) []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	if g := a.groups[id]; g != nil {
		return slices.Clone(g.Members)
	}
	return nil
}

// groupHandler is the application's groups as the SCIM library calls them.
type groupHandler App

func (h *groupHandler) resource(g *group) scim.Resource {
	members := make([]any, len(g.Members))
	for i, id := range g.Members {
		kind := "User"
		if h.groups[id] != nil {
			kind = "Group"
		}
		members[i] = map[string]any{"value": id, "type": kind}
		if h.wrong.RefMembers {
			members[i] = map[string]any{"$ref": cmp.Or(h.wrong.Gateway, "..") + "/" + kind + "s/" + id}
		}
	}
	x := scim.Resource{ID: g.ID, Attributes: scim.ResourceAttributes{"displayName": g.Name, "members": members}}
	if !h.wrong.NoETag {
		x.Meta.Version = fmt.Sprintf(`W/"%d"`, g.Version)
	}
	return x
}

func (h *groupHandler) Create(_ *http.Request, attributes scim.ResourceAttributes) (scim.Resource, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	name, _ := attributes["displayName"].(string)
	g := &group{ID: fmt.Sprintf("g%03d", len(h.groups)+1), Name: name, Members: membersOf(attributes)}
	if h.wrong.EmptyGroups {
		g.Members = nil
	}
	h.groups[g.ID] = g
	h.effects.Changes++
	(*App)(h).save()
	return h.resource(g), nil
}

func (h *groupHandler) Get(_ *http.Request, id string) (scim.Resource, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	g := h.groups[id]
	if g == nil {
		return scim.Resource{}, notFound(id)
	}
	return h.resource(g), nil
}

func (h *groupHandler) GetAll(_ *http.Request, params scim.ListRequestParams) (scim.Page, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	ids := slices.Sorted(maps.Keys(h.groups))
	from := min(max(params.StartIndex-1, 0), len(ids))
	p := scim.Page{TotalResults: len(ids)}
	for _, id := range ids[from:min(from+params.Count, len(ids))] {
		p.Resources = append(p.Resources, h.resource(h.groups[id]))
	}
	return p, nil
}

func (h *groupHandler) Replace(r *http.Request, id string, attributes scim.ResourceAttributes) (scim.Resource, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	g := h.groups[id]
	if g == nil {
		return scim.Resource{}, notFound(id)
	}
	if want := r.Header.Get("If-Match"); want != "" && want != fmt.Sprintf(`W/"%d"`, g.Version) {
		return scim.Resource{}, errors.ScimError{Status: http.StatusPreconditionFailed, Detail: "the group has changed"}
	}
	g.Members = membersOf(attributes)
	g.Version++
	h.effects.Changes++
	(*App)(h).save()
	return h.resource(g), nil
}

func membersOf(attributes scim.ResourceAttributes) (ids []string) {
	list, _ := attributes["members"].([]any)
	for _, item := range list {
		m, _ := item.(map[string]any)
		who, _ := m["value"].(string)
		if ref, _ := m["$ref"].(string); who == "" {
			who = ref[strings.LastIndex(ref, "/")+1:]
		}
		ids = append(ids, who)
	}
	return ids
}

func (h *groupHandler) Delete(_ *http.Request, id string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.groups[id] == nil {
		return notFound(id)
	}
	delete(h.groups, id)
	return nil
}

func (h *groupHandler) Patch(_ *http.Request, id string, operations []scim.PatchOperation) (scim.Resource, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	g := h.groups[id]
	if g == nil {
		return scim.Resource{}, notFound(id)
	}
	members := slices.Clone(g.Members)
	for _, op := range operations {
		if op.Path == nil || !strings.EqualFold(op.Path.AttributePath.AttributeName, "members") {
			return scim.Resource{}, errors.ScimErrorInvalidPath
		}
		switch {
		case op.Op == scim.PatchOperationAdd:
			list, _ := op.Value.([]any)
			for _, item := range list {
				m, _ := item.(map[string]any)
				who, _ := m["value"].(string)
				if h.users[who] == nil {
					return scim.Resource{}, errors.ScimErrorInvalidValue
				}
				if !slices.Contains(members, who) {
					members = append(members, who)
				}
			}
		case op.Op == scim.PatchOperationRemove && op.Path.ValueExpression != nil:
			cond, ok := op.Path.ValueExpression.(*filter.AttributeExpression)
			at := -1
			if ok {
				at = slices.Index(members, fmt.Sprint(cond.CompareValue))
			}
			if at < 0 {
				return scim.Resource{}, errors.ScimErrorNoTarget
			}
			members = slices.Delete(members, at, at+1)
		default:
			return scim.Resource{}, errors.ScimErrorInvalidPath
		}
	}
	g.Members = members
	g.Version++
	h.effects.Changes++
	(*App)(h).save()
	return h.resource(g), nil
}
