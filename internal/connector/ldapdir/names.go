package ldapdir

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
	"twinning/internal/format/ldif"
)

// naming reports whether the attribute is part of the entry's own name.
func naming(dn *ldap.DN, native string) bool {
	return len(dn.RDNs) > 0 && slices.ContainsFunc(dn.RDNs[0].Attributes, func(a *ldap.AttributeTypeAndValue) bool { return strings.EqualFold(a.Type, native) })
}

// renamed is the DN after an edit of its naming attribute or its parent.
func renamed(dn string, e connector.Edit) (string, error) {
	if len(e.New) != 1 || e.New[0] == "" {
		return "", fmt.Errorf("%s needs exactly one value, since it is part of the entry's name", e.Native)
	}
	own, up := ldif.SplitDN(dn)
	if e.Native == "parent" {
		return own + "," + e.New[0], nil
	}
	parsed, err := ldap.ParseDN(own)
	if err != nil {
		return "", err
	}
	parts := make([]string, 0, 1)
	for _, a := range parsed.RDNs[0].Attributes {
		value := a.Value
		if strings.EqualFold(a.Type, e.Native) {
			value = e.New[0]
		}
		parts = append(parts, a.Type+"="+ldap.EscapeDN(value))
	}
	return strings.Join(parts, "+") + "," + up, nil
}

// rename moves the entry and mends every reference to its old name that the
// server did not mend by itself. Once the entry is moved, what is left of its old
// name is dangling, and no reason to say that nothing was done.
func (d *directory) rename(c *ldap.Conn, root *rootDSE, from, to string) (dangling, err error) {
	refs, err := d.references(c, root, from)
	if err != nil {
		return nil, err
	}
	own, up := ldif.SplitDN(to)
	newSuperior := ""
	if !sameDN(up, parent(from)) {
		newSuperior = up
	}
	if err := c.ModifyDN(ldap.NewModifyDNRequest(from, own, true, newSuperior)); err != nil {
		return nil, err
	}
	return d.mend(c, refs, from, to), nil
}

func sameDN(a, b string) bool {
	x, err1 := ldap.ParseDN(a)
	y, err2 := ldap.ParseDN(b)
	return err1 == nil && err2 == nil && x.EqualFold(y)
}

// reference is an attribute of another entry that names an entry.
type reference struct{ dn, attribute string }

func (d *directory) references(c *ldap.Conn, root *rootDSE, dn string) (list []reference, err error) {
	attributes := strings.Split(d.set.Text("references"), ",")
	var filter strings.Builder
	for i, a := range attributes {
		attributes[i] = strings.TrimSpace(a)
		filter.WriteString("(" + attributes[i] + "=" + ldap.EscapeFilter(dn) + ")")
	}
	err = d.eachPage(context.Background(), c, root, d.referenceBase(root), ldap.ScopeWholeSubtree, "(|"+filter.String()+")", []string{"1.1"}, func(res *ldap.SearchResult) error {
		for _, e := range res.Entries {
			for _, a := range attributes {
				has, err := c.Compare(e.DN, a, dn)
				if passing(err) {
					return err // what refers to the entry is known before it is renamed, or it is not renamed
				}
				if err == nil && has {
					list = append(list, reference{e.DN, a})
				}
			}
		}
		return nil
	})
	return list, err
}

// passing: the directory did not answer a question, and may answer it later.
func passing(err error) bool {
	return ldap.IsErrorAnyOf(err, ldap.LDAPResultBusy, ldap.LDAPResultUnavailable, ldap.LDAPResultTimeLimitExceeded, ldap.ErrorNetwork)
}

// referenceBase is where references are looked for: the naming context that
// holds our base.
func (d *directory) referenceBase(root *rootDSE) string {
	if base := d.set.Text("reference-base"); base != "" {
		return base
	}
	base, err := ldap.ParseDN(d.set.Text("base"))
	for _, context := range root.contexts {
		if top, e := ldap.ParseDN(context); err == nil && e == nil && context != "" && (top.EqualFold(base) || top.AncestorOfFold(base)) {
			return context
		}
	}
	return d.set.Text("base")
}

// mend replaces an old name by a new one, or takes it away where to is "".
func (d *directory) mend(c *ldap.Conn, refs []reference, from, to string) error {
	var left []string
	for _, ref := range refs {
		if sameDN(ref.dn, from) { // the entry refers to itself
			if to == "" {
				continue
			}
			ref.dn = to
		}
		has, err := c.Compare(ref.dn, ref.attribute, from)
		switch {
		case passing(err):
			left = append(left, fmt.Sprintf("%s of %s (%v)", ref.attribute, ref.dn, err))
			continue
		case err != nil || !has: // mended by the server
			continue
		}
		req := ldap.NewModifyRequest(ref.dn, nil)
		switch {
		case to != "":
			req.Add(ref.attribute, []string{to})
		case d.set.Text("group-must-have") != "":
			if has, err := c.Compare(ref.dn, ref.attribute, d.set.Text("group-must-have")); err == nil && !has {
				req.Add(ref.attribute, []string{d.set.Text("group-must-have")})
			}
		}
		req.Delete(ref.attribute, []string{from})
		err = c.Modify(req)
		if ldap.IsErrorWithCode(err, ldap.LDAPResultAttributeOrValueExists) { // the server is mending it just now, or somebody did half
			req = ldap.NewModifyRequest(ref.dn, nil)
			req.Delete(ref.attribute, []string{from})
			err = c.Modify(req)
		}
		if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchAttribute) {
			left = append(left, fmt.Sprintf("%s of %s (%v)", ref.attribute, ref.dn, err))
		}
	}
	if len(left) == 0 {
		return nil
	}
	told := fmt.Sprintf("the entry itself is changed, but what follows still names it: %s", strings.Join(left[:min(3, len(left))], "; "))
	if len(left) > 3 {
		told += fmt.Sprintf(" and %d more", len(left)-3)
	}
	return d.fault(connector.Incomplete, "change the references to "+from, told, "give "+d.who()+" the right to change it, or mend it by hand")
}
