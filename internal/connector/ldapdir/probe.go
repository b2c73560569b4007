package ldapdir

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
)

// Probe goes from the name to what may be written, and stops at what fails.
func (d *directory) Probe(ctx context.Context, tell func(connector.Step)) {
	tell = connector.Discreet(tell, func() []string { return []string{d.cfg.Secret} })
	direct := d.tls
	if d.startTLS {
		direct = nil
	}
	if !connector.Reach(ctx, d.cfg.Outbound, d.host, direct, d.timeout, tell) {
		return
	}
	if !d.startTLS && d.tls == nil {
		tell(connector.Step{Name: "tls", State: connector.StepWarning, Said: "the connection is not encrypted", Means: "whoever is between can read what is read, and the secret", Next: "set start-tls to yes, or use ldaps://"})
	}
	var c *ldap.Conn
	step := func(name string, try func() (string, error)) bool {
		said, err := try()
		if err != nil {
			tell(connector.FailedStep(name, d.explained(name, err)))
			return false
		}
		tell(connector.Step{Name: name, State: connector.StepOK, Said: said})
		return true
	}
	signedIn := step("sign in", func() (string, error) {
		var err error
		if c, err = d.dial(ctx, "sign in"); err != nil {
			return "", err
		}
		who, err := c.WhoAmI(nil)
		if err != nil || who.AuthzID == "" {
			return "as " + d.who(), nil
		}
		return "as " + who.AuthzID, nil
	})
	if !signedIn {
		return
	}
	defer func() { _ = c.Close() }() // only looked at
	if state, ok := c.TLSConnectionState(); ok && d.startTLS {
		tell(connector.CertificateStep(state))
	}
	var root *rootDSE
	ok := step("what it offers", func() (string, error) {
		var err error
		if root, err = d.discover(c); err != nil {
			return "", err
		}
		return d.offers(root), nil
	}) && step("base", func() (string, error) { return d.probeBase(c) })
	if !ok {
		return
	}
	if step("read one", func() (string, error) { return d.probeOne(c) }) && step("a page", func() (string, error) { return d.probePage(c, root) }) {
		tell(d.probeWriting())
	}
}

func (d *directory) offers(root *rootDSE) string {
	var has []string
	for _, x := range []struct{ oid, words string }{{pagedResults, "pages"}, {contentSync, "content synchronisation"}, {assertion, "assertions"}, {passwordModif, "the password operation"}} {
		if root.has(x.oid) {
			has = append(has, x.words)
		}
	}
	if len(has) == 0 {
		has = []string{"no extension that we use"}
	}
	return strings.Join(has, ", ") + "; it holds " + strings.Join(root.contexts, " and ")
}

// noBase says that the base is not there, in the same words to whoever probes and
// whoever reads.
func (d *directory) noBase(doing string, err error) error {
	matched := ""
	var told *ldap.Error
	if errors.As(err, &told) && told.MatchedDN != "" {
		matched = "; what exists of it is " + told.MatchedDN
	}
	return d.fault(connector.NotFound, doing, fmt.Sprintf("%s does not exist, or is hidden from %s%s", d.set.Text("base"), d.who(), matched), "check the setting base; ask the directory's team for the right to read below it")
}

func (d *directory) probeBase(c *ldap.Conn) (string, error) {
	base := d.set.Text("base")
	res, err := c.Search(ldap.NewSearchRequest(base, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, d.time, false, "(objectClass=*)", []string{"1.1"}, nil))
	switch {
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) || err == nil && len(res.Entries) == 0:
		return "", d.noBase("look at the base", err)
	case err != nil:
		return "", err
	}
	return base + " can be read", nil
}

// glanced entries tell which attributes are never shown.
const glanced = 20

func (d *directory) probeOne(c *ldap.Conn) (said string, err error) {
	res, err := c.Search(ldap.NewSearchRequest(d.set.Text("base"), d.scope, ldap.NeverDerefAliases, glanced, d.time, false, d.filter(), d.attributes, nil))
	if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
		return "", err
	}
	if len(res.Entries) == 0 {
		return "", d.fault(connector.NotFound, "read one", fmt.Sprintf("nothing below the base fits %s", d.filter()), fmt.Sprintf("check the settings filter and scope, and whether %s may see the entries", d.who()))
	}
	shown := map[string]bool{}
	for _, e := range res.Entries {
		r, bad := d.record(e)
		if bad != nil {
			return "", d.fault(connector.Broken, "read one", bad.Reason, "give the right to read it, or choose another id in the shape")
		}
		for a := range r.Values {
			shown[a] = true
		}
	}
	var lacks []string
	for _, a := range d.attributes {
		if !shown[a] {
			lacks = append(lacks, a)
		}
	}
	said = fmt.Sprintf("entries can be read, with %d attributes of the shape's %d", len(d.attributes)-len(lacks), len(d.attributes))
	if len(lacks) > 0 {
		said += fmt.Sprintf("; the first %d show no %s (empty, or not for us to see)", len(res.Entries), strings.Join(lacks, ", "))
	}
	return said, nil
}

// probePage asks for as many entries as a reading will.
func (d *directory) probePage(c *ldap.Conn, root *rootDSE) (string, error) {
	size := d.pageSize()
	if size == 0 || !root.has(pagedResults) {
		return "everything is asked for at once", nil
	}
	req := ldap.NewSearchRequest(d.set.Text("base"), d.scope, ldap.NeverDerefAliases, d.size, d.time, false, d.filter(), []string{"1.1"}, []ldap.Control{ldap.NewControlPaging(uint32(size))}) // bounded when the settings were read
	res, err := c.Search(req)
	if err := pageFault(err, true, size); err != nil {
		var large tooLarge
		if errors.As(err, &large) {
			return fmt.Sprintf("it gives no pages of %d entries: a reading asks for less, down to %d", size, smallestPage), nil
		}
		return "", err
	}
	return fmt.Sprintf("%d entries at a time", len(res.Entries)), nil
}

// probeWriting says what would have to be allowed: no standard lets a client
// ask for its rights, and a probe never tries a change.
func (d *directory) probeWriting() connector.Step {
	native := slices.DeleteFunc(slices.Clone(d.attributes), func(a string) bool { return slices.Contains(serverOnly, strings.ToLower(a)) })
	return connector.Step{Name: "writing", State: connector.StepOK, Said: "is tried only when a plan is run",
		Means: fmt.Sprintf("for a system that is open for writing, %s needs the right to change %s below %s, and to add entries below %s", d.who(), strings.Join(native, ", "), d.set.Text("base"), cmp.Or(d.set.Text("create-in"), d.set.Text("base")))}
}

// serverOnly are attributes that no client may change (RFC 4512, RFC 4530).
var serverOnly = []string{"entryuuid", "createtimestamp", "modifytimestamp", "creatorsname", "modifiersname", "entrycsn", "memberof", "numsubordinates", "hassubordinates"}
