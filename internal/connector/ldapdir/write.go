package ldapdir

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
	"twinning/internal/core/record"
)

// Write adds an entry, or changes one by exact deltas; see the package comment.
func (d *directory) Write(ctx context.Context, w connector.Write) (connector.Record, error) {
	if w.Record == nil {
		return d.add(ctx, w.Edits)
	}
	return d.change(ctx, *w.Record, w.Edits)
}

// raw turns the values of an edit into what the directory keeps: coded bytes.
func (d *directory) raw(native string, values []string) ([]string, error) {
	out := make([]string, len(values))
	for i, v := range values {
		text, err := record.EncodeBytes(d.codings[strings.ToLower(native)], v)
		if err != nil {
			return nil, err
		}
		out[i] = text
	}
	return out, nil
}

func (d *directory) add(ctx context.Context, edits []connector.Edit) (r connector.Record, err error) {
	req, classes, err := d.addition(edits)
	if err != nil {
		return r, err
	}
	doing := "create " + req.DN
	err = d.with(ctx, doing, false, func(c *ldap.Conn) error {
		if err := d.complete(c, doing, classes, req); err != nil {
			return err
		}
		if err := c.Add(req); err != nil {
			if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
				return d.fault(connector.Refused, doing, "the container "+parent(req.DN)+" does not exist", "make it first, or set create-in")
			}
			return err
		}
		r, err = d.at(c, doing, req.DN)
		return err
	})
	return r, err
}

// addition is the request that makes an entry, and its classes.
func (d *directory) addition(edits []connector.Edit) (req *ldap.AddRequest, classes []string, err error) {
	rdn, container, name := d.set.Text("rdn"), cmp.Or(d.set.Text("create-in"), d.set.Text("base")), ""
	for _, e := range edits {
		switch {
		case e.Native == "parent" && len(e.New) == 1:
			container = e.New[0]
		case strings.EqualFold(e.Native, rdn) && len(e.New) > 0:
			name = e.New[0]
		}
	}
	if name == "" {
		return nil, nil, d.fault(connector.Refused, "create an entry", fmt.Sprintf("nothing is given for %s, which names new entries", rdn), "give it a value in the charter, or set rdn to another attribute")
	}
	req = ldap.NewAddRequest(rdn+"="+ldap.EscapeDN(name)+","+container, nil)
	classes = d.shape.Classes
	if len(classes) == 0 {
		classes = Shape.Classes
	}
	req.Attribute("objectClass", classes)
	for _, e := range edits {
		if pseudo(e.Native) || len(e.New) == 0 {
			continue
		}
		if strings.EqualFold(e.Native, "objectClass") {
			return nil, nil, d.fault(connector.Refused, "create "+req.DN, "objectClass is not given by attributes", "name the classes in the shape: classes: [...]")
		}
		values, err := d.raw(e.Native, e.New)
		if err != nil {
			return nil, nil, err
		}
		req.Attribute(e.Native, values)
	}
	return req, classes, nil
}

// at reads the entry of a DN that was just written.
func (d *directory) at(c *ldap.Conn, doing, dn string) (connector.Record, error) {
	res, err := c.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, d.time, false, "(objectClass=*)", d.attributes, nil))
	if err == nil && len(res.Entries) == 1 {
		return d.whole(doing, res.Entries[0])
	}
	return connector.Record{}, d.fault(connector.Unanswered, doing, "it was written and can't be read back", "may "+d.who()+" read what it writes?")
}

// change sends what differs in one modification, then renames or moves.
func (d *directory) change(ctx context.Context, r connector.Record, edits []connector.Edit) (after connector.Record, err error) {
	req, asserted, next, err := d.modification(r, edits)
	if err != nil {
		return after, err
	}
	dn := req.DN
	doing := "change " + dn
	err = d.with(ctx, doing, false, func(c *ldap.Conn) error {
		root, err := d.discover(c)
		if err != nil {
			return err
		}
		if len(req.Changes) > 0 {
			must := "(&" + strings.Join(asserted, "") + ")"
			if root.has(assertion) && len(asserted) > 0 {
				filter, err := ldap.CompileFilter(must)
				if err != nil {
					return d.fault(connector.Broken, doing, err.Error(), "")
				}
				req.Controls = []ldap.Control{ldap.NewControlString(assertion, true, string(filter.Bytes()))}
			}
			err := c.Modify(req)
			if ldap.IsErrorWithCode(err, ldap.LDAPResultAssertionFailed) {
				// some servers let the assertion loose on searches of their own, for
				// uniqueness say, which it fails; the deltas guard by themselves what
				// they take away
				held, unread := d.holds(c, dn, must)
				if unread != nil {
					return unread // nothing was done, and why is not known
				}
				if held {
					req.Controls = nil
					err = c.Modify(req)
				}
			}
			if err != nil {
				return err
			}
		}
		var dangling error
		if next != dn {
			if dangling, err = d.rename(c, root, dn, next); err != nil {
				return err
			}
		}
		if after, err = d.at(c, doing, next); err != nil {
			return err
		}
		return dangling
	})
	return after, err
}

// nameOf is the DN under which a record was read.
func (d *directory) nameOf(doing string, r connector.Record) (string, error) {
	if len(r.Values["dn"]) != 1 {
		return "", d.fault(connector.Broken, doing, "the record was read without its DN", "let the shape read it (dn: dn), and take a roster")
	}
	return r.Values["dn"][0], nil
}

// modification is the request that changes an entry, what must hold meanwhile, and the DN
// that the entry has in the end.
func (d *directory) modification(r connector.Record, edits []connector.Edit) (req *ldap.ModifyRequest, asserted []string, next string, err error) {
	dn, err := d.nameOf("change entry "+r.ID, r)
	if err != nil {
		return nil, nil, "", err
	}
	doing := "change " + dn
	named, err := ldap.ParseDN(dn)
	if err != nil {
		return nil, nil, "", d.fault(connector.Broken, doing, err.Error(), "")
	}
	req, next = ldap.NewModifyRequest(dn, nil), dn
	for _, e := range edits {
		switch {
		case e.Native == "dn":
			return nil, nil, "", d.fault(connector.Refused, doing, "dn is made of the naming attribute and parent", "write those")
		case e.Native == "parent" || naming(named, e.Native):
			if next, err = renamed(next, e); err != nil {
				return nil, nil, "", d.fault(connector.Refused, doing, err.Error(), "")
			}
			continue
		}
		now := r.Values[d.native(e.Native)]
		if e.Old != nil { // what the plan saw; the deltas are against that
			now = e.Old
		}
		if now, err = d.raw(e.Native, now); err != nil {
			return nil, nil, "", err
		}
		wanted, err := d.raw(e.Native, e.New)
		if err != nil {
			return nil, nil, "", err
		}
		asserted = append(asserted, d.deltas(req, e.Native, now, wanted)...)
	}
	return req, asserted, next, nil
}

// Mend changes what refers to an entry by an old name: a rename whose answer was
// lost is found done, and its references are not.
func (d *directory) Mend(ctx context.Context, before, after connector.Record) error {
	if len(before.Values["dn"]) != 1 || len(after.Values["dn"]) != 1 || sameDN(before.Values["dn"][0], after.Values["dn"][0]) {
		return nil
	}
	from, to := before.Values["dn"][0], after.Values["dn"][0]
	return d.with(ctx, "change the references to "+from, true, func(c *ldap.Conn) error {
		root, err := d.discover(c)
		if err != nil {
			return err
		}
		refs, err := d.references(c, root, from)
		if err != nil {
			return err
		}
		return d.mend(c, refs, from, to)
	})
}

// holds reports whether the entry is as a filter says.
func (d *directory) holds(c *ldap.Conn, dn, filter string) (bool, error) {
	res, err := c.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, d.time, false, filter, []string{"1.1"}, nil))
	if err != nil {
		return false, err
	}
	return len(res.Entries) == 1, nil
}

// opaque: the values of an attribute are bytes that a server mostly can't compare: a certificate, a
// picture. Such values are written as a whole.
func (d *directory) opaque(native string) bool {
	return transferred(native) != native || d.codings[strings.ToLower(native)] == "base64"
}

func opaqueDelta(req *ldap.ModifyRequest, native string, now, wanted []string) (asserted []string) {
	if slices.Equal(now, wanted) {
		return nil
	}
	req.Replace(native, wanted)
	if len(now) == 0 {
		return []string{"(!(" + native + "=*))"}
	}
	return []string{"(" + native + "=*)"}
}

// deltas adds to the modification what takes an attribute from its values now
// to the wanted ones, and returns what must hold meanwhile.
func (d *directory) deltas(req *ldap.ModifyRequest, native string, now, wanted []string) (asserted []string) {
	if d.opaque(native) {
		return opaqueDelta(req, native, now, wanted)
	}
	gone := slices.DeleteFunc(slices.Clone(now), func(v string) bool { return slices.Contains(wanted, v) })
	come := slices.DeleteFunc(slices.Clone(wanted), func(v string) bool { return slices.Contains(now, v) })
	if len(gone) > 0 {
		req.Delete(native, gone)
	}
	if len(come) > 0 {
		req.Add(native, come)
	}
	switch {
	case len(gone)+len(come) == 0:
	case len(now) == 0:
		asserted = append(asserted, "(!("+native+"=*))")
	default:
		for _, v := range gone {
			asserted = append(asserted, "("+native+"="+ldap.EscapeFilter(v)+")")
		}
	}
	return asserted
}

// Delete removes an entry and the references to it.
func (d *directory) Delete(ctx context.Context, r connector.Record) error {
	dn, err := d.nameOf("delete entry "+r.ID, r)
	if err != nil {
		return err
	}
	return d.with(ctx, "delete "+dn, false, func(c *ldap.Conn) error {
		root, err := d.discover(c)
		if err != nil {
			return err
		}
		e, err := d.entry(c, r.ID, []string{"1.1"})
		if connector.KindOf(err) == connector.NotFound {
			return nil
		}
		if err == nil && !sameDN(e.DN, dn) {
			return d.fault(connector.Stale, "delete "+dn, "the entry is now "+e.DN, "")
		}
		if err != nil {
			return err
		}
		refs, err := d.references(c, root, dn)
		if err != nil {
			return err
		}
		if err := c.Del(ldap.NewDelRequest(dn, nil)); err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
			return err
		}
		return d.mend(c, refs, dn, "")
	})
}

// Reissue sets a new password (RFC 3062), over an encrypted connection only.
func (d *directory) Reissue(ctx context.Context, r connector.Record, secret string) error {
	doing := "set the secret of entry " + r.ID
	dn, err := d.nameOf(doing, r)
	if err != nil {
		return err
	}
	return d.with(ctx, doing, false, func(c *ldap.Conn) error {
		if _, ok := c.TLSConnectionState(); !ok {
			return d.fault(connector.Refused, doing, "the connection is not encrypted", "use ldaps:// or set start-tls to yes: secrets are never sent in the clear")
		}
		root, err := d.discover(c)
		if err != nil {
			return err
		}
		if !root.has(passwordModif) {
			return d.fault(connector.Unsupported, doing, "the directory does not know the password operation of RFC 3062", "")
		}
		_, err = c.PasswordModify(ldap.NewPasswordModifyRequest(dn, "", secret))
		return err
	})
}

// Proves binds as the entry, on a connection of its own, and over an encrypted one only.
func (d *directory) Proves(ctx context.Context, r connector.Record, secret string) (bool, error) {
	doing := "sign in as entry " + r.ID
	dn, err := d.nameOf(doing, r)
	if err != nil {
		return false, err
	}
	if secret == "" { // a bind without one would be anonymous, and prove nothing
		return false, d.fault(connector.Broken, doing, "there is no secret", "")
	}
	leave, err := d.cfg.Pace.Enter(ctx)
	if err != nil {
		return false, err
	}
	defer leave()
	c, err := d.dial(ctx, doing)
	if err != nil {
		return false, err
	}
	defer c.Close() // it is somebody else's by now
	if _, encrypted := c.TLSConnectionState(); !encrypted {
		return false, d.fault(connector.Refused, doing, "the connection is not encrypted", "")
	}
	err = c.Bind(dn, secret)
	if ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials) {
		return false, nil
	}
	return err == nil, d.explained(doing, err)
}
