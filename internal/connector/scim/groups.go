package scim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"

	"twinning/internal/connector"
	"twinning/internal/format/scimjson"
)

// Groups lists the groups, without their members.
func (a *app) Groups(ctx context.Context, each func(connector.Group) error) error {
	const doing = "read the list of groups"
	for got, total := 0, -1; total < 0 || got < total; {
		q := url.Values{"startIndex": {strconv.Itoa(got + 1)}, "count": {strconv.Itoa(a.page)}, "attributes": {"displayName"}}
		body, _, err := a.patient(ctx, doing, "/Groups?"+q.Encode())
		if err != nil {
			return err
		}
		page, resources, err := scimjson.Decode(body)
		if err != nil {
			return a.fault(connector.Broken, doing, "the answer is not a SCIM list: "+err.Error(), "does the application have groups? ask its owner")
		}
		if total = page.Total; len(resources) == 0 && got < total {
			return a.fault(connector.Stale, doing, fmt.Sprintf("the application says it has %d groups and gave %d", total, got), "a partial list is never used: try again")
		}
		got += len(resources)
		for _, resource := range resources {
			x, err := flatten(resource)
			if err != nil {
				return a.fault(connector.Broken, doing, "a group can't be read: "+err.Error(), "")
			}
			g := connector.Group{ID: x.ID, Name: x.ID}
			if name := x.Values["displayName"]; len(name) > 0 {
				g.Name = name[0]
			}
			if err := each(g); err != nil {
				return err
			}
		}
	}
	return nil
}

// members reads who is in a group: ids, and whether each is a user.
func (a *app) members(ctx context.Context, group string) (ids []string, left []connector.Left, err error) {
	doing := "read the members of group " + group
	body, _, err := a.patient(ctx, doing, "/Groups/"+url.PathEscape(group))
	if err != nil {
		return nil, nil, err
	}
	var told struct {
		Members []struct{ Value, Type string }
	}
	if err := json.Unmarshal(body, &told); err != nil {
		return nil, nil, a.fault(connector.Broken, doing, "the answer is no group: "+err.Error(), "")
	}
	for _, m := range told.Members {
		if m.Type != "" && m.Type != "User" {
			l := connector.Left{Reason: "a member that is a " + m.Type, What: m.Value}
			if m.Type == "Group" {
				l.ID = m.Value
			}
			left = append(left, l)
			continue
		}
		ids = append(ids, m.Value)
	}
	return ids, left, nil
}

// Members gives a group's members, however many there are.
func (a *app) Members(ctx context.Context, group string, each func(string) error, left func(connector.Left) error) error {
	ids, others, err := a.members(ctx, group)
	if err != nil {
		return err
	}
	for _, id := range ids {
		if err := each(id); err != nil {
			return err
		}
	}
	for _, l := range others {
		if err := left(l); err != nil {
			return err
		}
	}
	return nil
}

// inOneGo is how many members one PATCH changes.
const inOneGo = 100

// Enrol changes a group by deltas: members that are not named are not sent.
func (a *app) Enrol(ctx context.Context, group string, add, withdraw []string) error {
	if put, err := a.puts(ctx); err != nil || put {
		if err == nil {
			err = a.putGroup(ctx, group, add, withdraw)
		}
		return err
	}
	for len(add) > 0 {
		n := min(len(add), inOneGo)
		members := make([]any, n)
		for i, id := range add[:n] {
			members[i] = map[string]any{"value": id}
		}
		if err := a.patchGroup(ctx, group, []operation{{Op: "add", Path: "members", Value: members}}); err != nil {
			return err
		}
		add = add[n:]
	}
	for len(withdraw) > 0 {
		n := min(len(withdraw), inOneGo)
		ops := make([]operation, n)
		for i, id := range withdraw[:n] {
			ops[i] = operation{Op: "remove", Path: "members[value eq " + quoted(id) + "]"}
		}
		err := a.patchGroup(ctx, group, ops)
		var refused *refusal
		if errors.As(err, &refused) && refused.scimType == "noTarget" {
			err = a.withdrawThose(ctx, group, withdraw[:n]) // one of them was out already, and nothing was done
		}
		if err != nil {
			return err
		}
		withdraw = withdraw[n:]
	}
	return nil
}

// MakeGroup makes one.
func (a *app) MakeGroup(ctx context.Context, name, first string) (id string, err error) {
	doing := "make the group " + name
	body, err := json.Marshal(map[string]any{"schemas": []string{scimjson.Group}, "displayName": name, "members": []any{map[string]any{"value": first}}})
	if err != nil {
		return "", err
	}
	answer, _, err := a.do(ctx, doing, http.MethodPost, "/Groups", body, "")
	if err != nil {
		return "", err
	}
	var made struct{ ID string }
	if err := json.Unmarshal(answer, &made); err != nil || made.ID == "" {
		return "", a.fault(connector.Unanswered, doing, "the answer does not name the new group", "")
	}
	return made.ID, nil
}

// withdrawThose sends only those who are in.
func (a *app) withdrawThose(ctx context.Context, group string, ids []string) error {
	in, _, err := a.members(ctx, group)
	if err != nil {
		return err
	}
	known := make(map[string]bool, len(in))
	for _, id := range in {
		known[id] = true
	}
	var ops []operation
	for _, id := range ids {
		if known[id] {
			ops = append(ops, operation{Op: "remove", Path: "members[value eq " + quoted(id) + "]"})
		}
	}
	if len(ops) == 0 {
		return nil
	}
	return a.patchGroup(ctx, group, ops)
}

func (a *app) patchGroup(ctx context.Context, group string, ops []operation) error {
	d := a.dialects[a.dialect.Load()]
	d.noPath = false // a member is named by a path
	body, err := patchBody(d.say(ops))
	if err != nil {
		return err
	}
	_, _, err = a.do(ctx, "change the members of group "+group, http.MethodPatch, "/Groups/"+url.PathEscape(group), body, "")
	return err
}

// putGroup sends the whole group back with only our members changed, for an
// application without PATCH.
func (a *app) putGroup(ctx context.Context, group string, add, withdraw []string) error {
	doing, path := "change the members of group "+group, "/Groups/"+url.PathEscape(group)
	body, header, err := a.patient(ctx, doing, path)
	if err != nil {
		return err
	}
	var top map[string]any
	if err := json.Unmarshal(body, &top); err != nil {
		return a.fault(connector.Broken, doing, "the answer is no group: "+err.Error(), "")
	}
	version := header.Get("ETag")
	if meta, ok := top["meta"].(map[string]any); ok && version == "" {
		version, _ = meta["version"].(string)
	}
	if version == "" && a.set.Text("put-without-etag") == "no" {
		return a.fault(connector.Refused, doing, "the application gives no ETag, so a PUT could undo somebody else's change", "set put-without-etag to yes, or ask the application's owner for PATCH")
	}
	delete(top, "meta")
	members, _ := top["members"].([]any)
	has := func(id string) func(any) bool {
		return func(m any) bool { x, _ := m.(map[string]any); return x["value"] == id }
	}
	for _, id := range add {
		if !slices.ContainsFunc(members, has(id)) {
			members = append(members, map[string]any{"value": id})
		}
	}
	for _, id := range withdraw {
		members = slices.DeleteFunc(members, has(id))
	}
	top["members"] = members
	if body, err = json.Marshal(top); err != nil {
		return err
	}
	_, _, err = a.do(ctx, doing, http.MethodPut, path, body, version)
	return err
}
