package ldapdir

import (
	"context"
	"maps"

	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
	"twinning/internal/format/ldif"
)

// Script puts down what Write would send.
func (d *directory) Script(w connector.Write) (list []connector.ChangeRecord, after connector.Record, err error) {
	after.Values = map[string][]string{}
	next := ""
	if w.Record == nil {
		req, _, err := d.addition(w.Edits)
		if err != nil {
			return nil, after, err
		}
		list, next = []connector.ChangeRecord{added(req)}, req.DN
	} else {
		req, _, to, err := d.modification(*w.Record, w.Edits)
		if err != nil {
			return nil, after, err
		}
		after.ID, after.Values, next = w.Record.ID, maps.Clone(w.Record.Values), to
		if len(req.Changes) > 0 {
			list = append(list, modified(req))
		}
		if own, up := ldif.SplitDN(to); to != req.DN {
			c := connector.ChangeRecord{DN: req.DN, Type: "modrdn", NewRDN: own, DeleteOld: true}
			if !sameDN(up, parent(req.DN)) {
				c.NewParent = up
			}
			list = append(list, c)
		}
	}
	for _, e := range w.Edits {
		after.Values[d.native(e.Native)] = e.New
	}
	after.Values["dn"], after.Values["parent"] = []string{next}, []string{parent(next)}
	return list, after, nil
}

// ScriptDelete puts down that an entry is removed.
func (d *directory) ScriptDelete(r connector.Record) (connector.ChangeRecord, error) {
	dn, err := d.nameOf("delete entry "+r.ID, r)
	return connector.ChangeRecord{DN: dn, Type: "delete"}, err
}

// ScriptMember puts a way into a group down; the directory is asked where its members stand.
func (d *directory) ScriptMember(ctx context.Context, who connector.Record, way connector.Passage) (c connector.ChangeRecord, err error) {
	doing := "change the members of " + way.Group
	name, err := d.nameOf(doing, who)
	if err != nil {
		return c, err
	}
	attribute := ownedBy
	switch {
	case way.Owns:
	case way.Made:
		attribute = membersOf(d.groupClass())
	default:
		if err := d.with(ctx, doing, true, func(c *ldap.Conn) error {
			attribute, err = d.memberAttribute(c, way.Group)
			return err
		}); err != nil {
			return c, err
		}
	}
	if attribute == "memberUid" {
		uid := who.Values[d.native("uid")]
		if len(uid) != 1 {
			return c, d.fault(connector.Broken, doing, "its members are named by uid, and the record was read without one", "let the shape read it")
		}
		name = uid[0]
	}
	op := map[bool]string{true: "add", false: "delete"}[way.In]
	return connector.ChangeRecord{DN: way.Group, Type: "modify", Mods: []ldif.Mod{{Op: op, Attribute: attribute, Values: []string{name}}}}, nil
}

// ScriptGroup puts down that a group is made.
func (d *directory) ScriptGroup(name string, first connector.Record) (id string, made connector.ChangeRecord, err error) {
	dn, err := d.nameOf("make the group "+name, first)
	if err != nil {
		return "", made, err
	}
	req, err := d.newGroup(name, dn)
	if err != nil {
		return "", made, err
	}
	return req.DN, added(req), nil
}

func added(req *ldap.AddRequest) connector.ChangeRecord {
	c := connector.ChangeRecord{DN: req.DN, Type: "add", Attributes: map[string][]string{}}
	for _, a := range req.Attributes {
		c.Attributes[a.Type] = append(c.Attributes[a.Type], a.Vals...)
	}
	return c
}

var operations = map[uint]string{ldap.AddAttribute: "add", ldap.DeleteAttribute: "delete", ldap.ReplaceAttribute: "replace"}

func modified(req *ldap.ModifyRequest) connector.ChangeRecord {
	c := connector.ChangeRecord{DN: req.DN, Type: "modify"}
	for _, m := range req.Changes {
		c.Mods = append(c.Mods, ldif.Mod{Op: operations[m.Operation], Attribute: m.Modification.Type, Values: m.Modification.Vals})
	}
	return c
}
