package ldapdir

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
)

// groupClasses are the usual ones: class -> attribute of its members.
var groupClasses = []struct{ class, members string }{
	{"groupOfNames", "member"}, {"groupOfUniqueNames", "uniqueMember"}, {"groupOfMembers", "member"}, {"group", "member"}, {"posixGroup", "memberUid"},
}

func (d *directory) groupFilter() string {
	if f := d.set.Text("group-filter"); f != "" {
		return f
	}
	var b strings.Builder
	for _, g := range groupClasses {
		b.WriteString("(objectClass=" + g.class + ")")
	}
	return "(|" + b.String() + ")"
}

// ownedBy is where groups name their owners (RFC 4519).
const ownedBy = "owner"

// Groups lists the groups; a group's id is its DN.
func (d *directory) Groups(ctx context.Context, each func(connector.Group) error) error {
	return d.with(ctx, "read the groups", true, func(c *ldap.Conn) error {
		root, err := d.discover(c)
		if err != nil {
			return err
		}
		ask := []string{"cn"}
		if d.shape.Asks(connector.Owned) {
			ask = append(ask, ownedBy)
		}
		return d.eachPage(ctx, c, root, cmp.Or(d.set.Text("group-base"), d.set.Text("base")), ldap.ScopeWholeSubtree, d.groupFilter(), ask, func(res *ldap.SearchResult) error {
			for _, e := range res.Entries {
				name := e.GetAttributeValue("cn")
				if name == "" {
					name = e.DN
				}
				d.mu.Lock()
				if d.dns == nil {
					d.dns = map[string]string{}
				}
				d.dns[fold(e.DN, false)] = e.DN
				d.mu.Unlock()
				group := connector.Group{ID: e.DN, Name: name}
				for _, owner := range e.GetAttributeValues(ownedBy) {
					id, err := d.idOf(c, owner, false)
					if err != nil {
						return err
					}
					if id != "" {
						group.Owners = append(group.Owners, id)
					}
				}
				if err := each(group); err != nil {
					return err
				}
			}
			return nil
		})
	})
}

// memberAttribute tells by the group's classes where its members stand.
func (d *directory) memberAttribute(c *ldap.Conn, group string) (string, error) {
	res, err := c.Search(ldap.NewSearchRequest(group, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, d.time, false, "(objectClass=*)", []string{"objectClass"}, nil))
	if err != nil {
		return "", err
	}
	for _, e := range res.Entries {
		if members := membersOf(e.GetAttributeValues("objectClass")...); members != "" {
			return members, nil
		}
	}
	return "", d.fault(connector.Refused, "read group "+group, "it has none of the usual group classes", "set group-filter to entries that are groups")
}

// Members gives a group's members, by its list or by the entries that name it.
func (d *directory) Members(ctx context.Context, group string, each func(string) error, left func(connector.Left) error) error {
	doing := "read the members of " + group
	return d.with(ctx, doing, true, func(c *ldap.Conn) error {
		root, err := d.discover(c)
		if err != nil {
			return err
		}
		if d.set.Text("membership") == "reverse" {
			return d.named(ctx, c, root, "(memberOf="+ldap.EscapeFilter(group)+")", func(_, id string) error { return each(id) })
		}
		attribute, err := d.memberAttribute(c, group)
		if err != nil {
			return err
		}
		names, err := d.memberNames(ctx, c, group, attribute)
		if err != nil {
			return err
		}
		return d.resolve(ctx, c, root, attribute, names, each, left)
	})
}

// memberNames reads the member list, which servers may give in ranges
// ("member;range=0-1499").
func (d *directory) memberNames(ctx context.Context, c *ldap.Conn, group, attribute string) (names []string, err error) {
	for ask := attribute; ask != ""; {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		res, err := c.Search(ldap.NewSearchRequest(group, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, d.time, false, "(objectClass=*)", []string{ask}, nil))
		if err != nil {
			return nil, err
		}
		ask = ""
		for _, e := range res.Entries {
			for _, a := range e.Attributes {
				name, option, _ := strings.Cut(a.Name, ";")
				if !strings.EqualFold(name, attribute) {
					continue
				}
				names = append(names, a.Values...)
				if bounds, ok := strings.CutPrefix(strings.ToLower(option), "range="); ok && !strings.HasSuffix(bounds, "*") {
					_, last, _ := strings.Cut(bounds, "-")
					n, err := strconv.Atoi(last)
					if err != nil {
						return nil, d.fault(connector.Broken, "read the members of "+group, fmt.Sprintf("the range %q can't be understood", a.Name), "")
					}
					ask = fmt.Sprintf("%s;range=%d-*", attribute, n+1)
				}
			}
		}
	}
	return names, nil
}

// named searches our scope and gives DN and id of what it finds.
func (d *directory) named(ctx context.Context, c *ldap.Conn, root *rootDSE, filter string, each func(dn, id string) error) error {
	return d.eachPage(ctx, c, root, d.set.Text("base"), ldap.ScopeWholeSubtree, filter, []string{d.id.Native, "uid"}, func(res *ldap.SearchResult) error {
		for _, e := range res.Entries {
			r, bad := d.record(e)
			if bad != nil {
				continue // who can't be told apart is no member that we know
			}
			if err := each(e.DN, r.ID); err != nil {
				return err
			}
		}
		return nil
	})
}

// many members are found by reading all names once instead of one by one.
const many = 200

// resolve turns member names into ids.
func (d *directory) resolve(ctx context.Context, c *ldap.Conn, root *rootDSE, attribute string, names []string, each func(string) error, left func(connector.Left) error) error {
	known := map[string]string{}
	byUID := attribute == "memberUid"
	if len(names) > many {
		want := make(map[string]bool, len(names))
		for _, n := range names {
			want[fold(n, byUID)] = true
		}
		err := d.eachPage(ctx, c, root, d.set.Text("base"), ldap.ScopeWholeSubtree, "(objectClass=*)", []string{d.id.Native, "uid"}, func(res *ldap.SearchResult) error {
			for _, e := range res.Entries {
				name := e.DN
				if byUID {
					name = e.GetAttributeValue("uid")
				}
				if r, bad := d.record(e); bad == nil && want[fold(name, byUID)] {
					known[fold(name, byUID)] = r.ID
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	stay := fold(d.set.Text("group-must-have"), false)
	for _, n := range names {
		if !byUID && fold(n, false) == stay {
			continue // only there since the group may not be empty
		}
		if group := d.listed(n); group != "" && !byUID {
			if err := left(connector.Left{Reason: "a member that is a group", What: n, ID: group}); err != nil {
				return err
			}
			continue
		}
		id := known[fold(n, byUID)]
		if id == "" && len(names) <= many {
			var err error
			if id, err = d.idOf(c, n, byUID); err != nil {
				return err
			}
		}
		if id == "" {
			if err := left(connector.Left{Reason: "a member that is no entry here", What: n}); err != nil {
				return err
			}
			continue
		}
		if err := each(id); err != nil {
			return err
		}
	}
	return nil
}

// listed is the DN of a group that was listed, "" of anything else.
func (d *directory) listed(dn string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.dns[fold(dn, false)]
}

// fold makes two spellings of one DN equal.
func fold(name string, uid bool) string {
	if uid {
		return strings.ToLower(name)
	}
	if dn, err := ldap.ParseDN(name); err == nil {
		name = dn.String()
	}
	return strings.ToLower(name)
}

func (d *directory) idOf(c *ldap.Conn, name string, byUID bool) (string, error) {
	req := ldap.NewSearchRequest(name, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 2, d.time, false, "(objectClass=*)", []string{d.id.Native, "uid"}, nil)
	if byUID {
		req.BaseDN, req.Scope, req.Filter = d.set.Text("base"), ldap.ScopeWholeSubtree, "(uid="+ldap.EscapeFilter(name)+")"
	}
	res, err := c.Search(req)
	switch {
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) || ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidDNSyntax):
		return "", nil
	case err != nil:
		return "", err
	case len(res.Entries) != 1:
		return "", nil
	}
	r, bad := d.record(res.Entries[0])
	if bad != nil {
		return "", nil
	}
	return r.ID, nil
}

// inOneGo is how many members one modification changes.
const inOneGo = 500

// Enrol changes a group by deltas.
func (d *directory) Enrol(ctx context.Context, group string, add, withdraw []string) error {
	doing := "change the members of " + group
	return d.with(ctx, doing, false, func(c *ldap.Conn) error {
		attribute, err := d.memberAttribute(c, group)
		if err != nil {
			return err
		}
		come, err := d.memberDeltas(c, group, attribute, add, false)
		if err != nil {
			return err
		}
		gone, err := d.memberDeltas(c, group, attribute, withdraw, true)
		if err != nil {
			return err
		}
		for len(come)+len(gone) > 0 {
			req := ldap.NewModifyRequest(group, nil)
			if n := min(len(come), inOneGo); n > 0 {
				req.Add(attribute, come[:n])
				come = come[n:]
			}
			if n := min(len(gone), inOneGo); n > 0 {
				req.Delete(attribute, gone[:n])
				gone = gone[n:]
			}
			if err := c.Modify(req); err != nil {
				if err = d.emptied(c, group, attribute, req, err); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// MakeGroup makes one below group-base.
func (d *directory) MakeGroup(ctx context.Context, name, first string) (dn string, err error) {
	err = d.with(ctx, "make the group "+name, false, func(c *ldap.Conn) error {
		e, err := d.entry(c, first, []string{"uid"})
		if err != nil {
			return err
		}
		req, err := d.newGroup(name, e.DN)
		if err != nil {
			return err
		}
		if err := c.Add(req); err != nil {
			return err
		}
		dn = req.DN
		res, err := c.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, d.time, false, "(objectClass=*)", []string{"1.1"}, nil))
		if err == nil && len(res.Entries) == 1 {
			dn = res.Entries[0].DN // as the directory spells it
		}
		return nil
	})
	return dn, err
}

// newGroup is the request that makes a group with its first member, by their DN.
func (d *directory) newGroup(name, first string) (*ldap.AddRequest, error) {
	base := d.set.Text("group-base")
	if base == "" {
		return nil, d.fault(connector.Refused, "make the group "+name, "it is not said where groups are", "set group-base")
	}
	class := d.groupClass()
	req := ldap.NewAddRequest("cn="+ldap.EscapeDN(name)+","+base, nil)
	req.Attribute("objectClass", []string{"top", class})
	req.Attribute("cn", []string{name})
	if members := membersOf(class); members != "" {
		req.Attribute(members, []string{first})
	}
	return req, nil
}

// groupClass is that of the groups we make.
func (d *directory) groupClass() string {
	return cmp.Or(d.set.Text("group-class"), groupClasses[0].class)
}

// membersOf is where the groups of such classes name their members, "" where it isn't known.
func membersOf(classes ...string) string {
	for _, g := range groupClasses {
		if slices.ContainsFunc(classes, func(class string) bool { return strings.EqualFold(class, g.class) }) {
			return g.members
		}
	}
	return ""
}

// Own changes the owners of a group by deltas.
func (d *directory) Own(ctx context.Context, group string, add, withdraw []string) error {
	return d.with(ctx, "change the owners of "+group, false, func(c *ldap.Conn) error {
		come, err := d.memberDeltas(c, group, ownedBy, add, false)
		if err != nil {
			return err
		}
		gone, err := d.memberDeltas(c, group, ownedBy, withdraw, true)
		if err != nil || len(come)+len(gone) == 0 {
			return err
		}
		req := ldap.NewModifyRequest(group, nil)
		if len(come) > 0 {
			req.Add(ownedBy, come)
		}
		if len(gone) > 0 {
			req.Delete(ownedBy, gone)
		}
		return c.Modify(req)
	})
}

// memberDeltas names those of the ids that are not yet in, or still in.
func (d *directory) memberDeltas(c *ldap.Conn, group, attribute string, ids []string, in bool) (names []string, err error) {
	for _, id := range ids {
		e, err := d.entry(c, id, []string{"uid"})
		if in && connector.KindOf(err) == connector.NotFound {
			continue // who is gone is out
		}
		if err != nil {
			return nil, err
		}
		name := e.DN
		if attribute == "memberUid" {
			name = e.GetAttributeValue("uid")
		}
		has, err := c.Compare(group, attribute, name)
		if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchAttribute) { // nobody is in it
			has, err = false, nil
		}
		if err != nil {
			return nil, err
		}
		if has == in {
			names = append(names, name)
		}
	}
	return names, nil
}

// emptied: some group classes must have a member. Where the settings name one
// for that, it goes in as the last one leaves.
func (d *directory) emptied(c *ldap.Conn, group, attribute string, req *ldap.ModifyRequest, err error) error {
	if !ldap.IsErrorWithCode(err, ldap.LDAPResultObjectClassViolation) {
		return err
	}
	stay := d.set.Text("group-must-have")
	if stay == "" {
		return d.fault(connector.Refused, "change the members of "+group, "its class may not be empty, and its last member would leave", "set group-must-have to a DN that stays in such groups")
	}
	req.Add(attribute, []string{stay})
	return c.Modify(req)
}
