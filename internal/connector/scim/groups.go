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
	"strings"
	"time"

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

// member is one of a group's, as the application says it (RFC 7643 section 4.2).
type member struct{ Value, Type string }

// group reads a group: all of it, its version, and its members.
func (a *app) group(ctx context.Context, id string) (top map[string]any, version string, members []member, err error) {
	err = unmixed(func() (err error) {
		top, version, members, err = a.groupOnce(ctx, id)
		return err
	})
	return top, version, members, err
}

func (a *app) groupOnce(ctx context.Context, id string) (top map[string]any, version string, members []member, err error) {
	doing := "read the members of group " + id
	body, header, err := a.patient(ctx, doing, "/Groups/"+url.PathEscape(id))
	if err != nil {
		return nil, "", nil, err
	}
	if err := scimjson.Unmarshal(body, &top); err != nil {
		return nil, "", nil, a.fault(connector.Broken, doing, "the answer is no group: "+err.Error(), "")
	}
	if said := scimjson.ID(top); said != id {
		return nil, "", nil, a.mixedUp(doing, fmt.Sprintf("the answer is about another group, %q", said))
	}
	if _, there := field(top, "members"); there {
		a.unasked.Store(true)
	} else if !a.unasked.Load() { // none are in it, or they come on request alone
		if err := a.withMembers(ctx, doing, id, top); err != nil {
			return nil, "", nil, err
		}
	}
	version = header.Get("ETag")
	if meta, ok := top["meta"].(map[string]any); ok && version == "" {
		version, _ = meta["version"].(string)
	}
	for name, v := range top {
		if name != "members" && strings.EqualFold(name, "members") { // one spelling, also in what is sent back
			top["members"] = v
			delete(top, name)
		}
	}
	list, ok := top["members"].([]any)
	if !ok && top["members"] != nil {
		return nil, "", nil, a.fault(connector.Broken, doing, "its members are no list", "ask the application's owner")
	}
	for _, item := range list {
		m, err := a.memberOf(item)
		if err != nil {
			return nil, "", nil, a.fault(connector.Broken, doing, err.Error(), "who is in the group can't be told, and nothing is concluded from it: ask the application's owner for members with a value, or set also-at if the application has another base address for itself")
		}
		members = append(members, m)
	}
	return top, version, members, nil
}

// withMembers adds the members to a group, if they come to who asks for them.
func (a *app) withMembers(ctx context.Context, doing, id string, top map[string]any) error {
	body, _, err := a.patient(ctx, doing, "/Groups/"+url.PathEscape(id)+"?attributes=displayName%2Cmembers")
	if kind := connector.KindOf(err); kind == connector.Refused || kind == connector.Unsupported {
		return nil // it can't be asked so, and shows all it has
	}
	if err != nil {
		return err
	}
	var more map[string]any
	if err := scimjson.Unmarshal(body, &more); err != nil {
		return a.fault(connector.Broken, doing, "the answer is no group: "+err.Error(), "")
	}
	if said := scimjson.ID(more); said != id {
		return a.mixedUp(doing, fmt.Sprintf("the answer is about another group, %q", said))
	}
	if v, there := field(more, "members"); there {
		top["members"] = v
	}
	return nil
}

// memberOf reads a member. One that is named by its address alone is known by it where the
// address is below the application's own; nothing is fetched from there.
func (a *app) memberOf(item any) (m member, err error) {
	from, _ := item.(map[string]any)
	one := func(name string) string {
		v, _ := field(from, name)
		return strings.Join(scimjson.Scalars(v), "")
	}
	m = member{Value: one("value"), Type: one("type")}
	if m.Value != "" {
		return m, nil
	}
	address := one("$ref")
	if address == "" {
		return m, errors.New("a member has neither a value nor a $ref")
	}
	for _, root := range []string{"/", "/Groups/"} { // relative to the base address, or to the group's own
		ref, err := a.base.Parse(strings.TrimRight(a.base.EscapedPath(), "/") + root)
		if err == nil {
			ref, err = ref.Parse(address)
		}
		if err != nil {
			return m, fmt.Errorf("a member's $ref %q is no address", address)
		}
		if id, kind := a.resourceAt(ref); id != "" {
			if m.Type != "" && m.Type != kind {
				return m, fmt.Errorf("a member's $ref %q is that of a %s, and its type is %s", address, kind, m.Type)
			}
			m.Value, m.Type = id, kind
			return m, nil
		}
	}
	return m, fmt.Errorf("a member's $ref %q is not an address of this application's users or groups", address)
}

// resourceAt is the id of the application's user or group that an address is of; "" where it is
// of neither.
func (a *app) resourceAt(ref *url.URL) (id, kind string) {
	for _, at := range []*url.URL{a.base, a.alsoAt} {
		if at == nil || ref.Scheme != at.Scheme || !strings.EqualFold(ref.Host, at.Host) || ref.RawQuery != "" || ref.User != nil {
			continue
		}
		base := strings.TrimRight(at.EscapedPath(), "/")
		for kind, below := range map[string]string{"User": "/Users/", "Group": "/Groups/"} {
			if rest, is := strings.CutPrefix(ref.EscapedPath(), base+below); is && !strings.Contains(rest, "/") {
				if id, err := url.PathUnescape(rest); err == nil {
					return id, kind
				}
			}
		}
	}
	return "", ""
}

// members tells who is in a group: ids, and what is no user.
func (a *app) members(ctx context.Context, group string) (ids []string, left []connector.Left, err error) {
	_, _, members, err := a.group(ctx, group)
	for _, m := range members {
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
	return ids, left, err
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
	put, err := a.puts(ctx)
	if err != nil {
		return err
	}
	if !put {
		if err = a.enrolByPatch(ctx, group, add, withdraw); !a.patchless(err) {
			return a.orPut(err, func() error { return a.putGroup(ctx, group, add, withdraw) })
		}
	}
	return a.putGroup(ctx, group, add, withdraw)
}

func (a *app) enrolByPatch(ctx context.Context, group string, add, withdraw []string) error {
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
	var made map[string]any
	if err := scimjson.Unmarshal(answer, &made); err != nil || scimjson.ID(made) == "" {
		return "", a.fault(connector.Unanswered, doing, "the answer does not name the new group", "")
	}
	if said, _ := made["displayName"].(string); said != "" && !strings.EqualFold(said, name) {
		return "", a.mixedUp(doing, fmt.Sprintf("the answer is about another group, %q", said))
	}
	return scimjson.ID(made), nil
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

// groupTries is how often a group is written as a whole until it shows what was written.
const groupTries = 4

// putGroup changes a group's members where the application has no PATCH. Only one worker does at a
// time, and what was written is read back: whoever writes the group at the same time, and is not
// held off by an ETag, would take our members out again.
func (a *app) putGroup(ctx context.Context, group string, add, withdraw []string) error {
	a.putting.Lock()
	defer a.putting.Unlock()
	doing := "change the members of group " + group
	for attempt := 1; ; attempt++ {
		sent, err := a.putOnce(ctx, doing, group, add, withdraw)
		switch stale := connector.KindOf(err) == connector.Stale; {
		case err == nil && !sent:
			return nil
		case err == nil:
			if isSo, err := a.groupShows(ctx, group, add, withdraw); err != nil || isSo {
				if err != nil { // written, and nobody knows what became of it
					return a.fault(connector.Unanswered, doing, "it was written, and could not be read back: "+err.Error(), "")
				}
				return nil
			}
			err = a.fault(connector.Stale, doing, "it was written, and shows otherwise", "somebody else writes the group at the same time: start the run again when they have ended")
		case !stale:
			return err
		}
		if attempt == groupTries {
			return err
		}
	}
}

// groupShows reads whether a group holds what it should, until it must show.
func (a *app) groupShows(ctx context.Context, group string, add, withdraw []string) (isSo bool, err error) {
	for until := time.Now().Add(a.lag); ; {
		ids, _, err := a.members(ctx, group)
		if err != nil {
			return false, err
		}
		out := func(id string) bool { return !slices.Contains(ids, id) }
		if isSo = !slices.ContainsFunc(add, out) && !slices.ContainsFunc(withdraw, func(id string) bool { return !out(id) }); isSo || !time.Now().Before(until) {
			return isSo, nil
		}
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// putOnce sends the whole group back with only our members changed; sent is false where it is as it should be.
func (a *app) putOnce(ctx context.Context, doing, group string, add, withdraw []string) (sent bool, err error) {
	top, version, read, err := a.group(ctx, group)
	if err != nil {
		return false, err
	}
	if version == "" && a.set.Text("put-without-etag") == "no" {
		return false, a.fault(connector.Refused, doing, "the application gives no ETag, so a PUT could undo somebody else's change", "set put-without-etag to yes, or ask the application's owner for PATCH")
	}
	delete(top, "meta")
	before, _ := top["members"].([]any) // as many as were read
	members := []any{}
	in := map[string]bool{}
	for i, m := range read {
		if slices.Contains(withdraw, m.Value) && m.Type != "Group" {
			continue
		}
		members, in[m.Value] = append(members, before[i]), true
	}
	for _, id := range add {
		if !in[id] {
			members = append(members, map[string]any{"value": id})
			sent = true
		}
	}
	if sent = sent || len(members) != len(before); !sent {
		return false, nil
	}
	top["members"] = members
	body, err := json.Marshal(top)
	if err != nil {
		return false, err
	}
	_, _, err = a.do(ctx, doing, http.MethodPut, "/Groups/"+url.PathEscape(group), body, version)
	return true, err
}
