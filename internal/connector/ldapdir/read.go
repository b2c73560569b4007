package ldapdir

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
	"twinning/internal/connector/outbound"
	"twinning/internal/core/parallel"
	"twinning/internal/core/record"
)

const reading = "read the entries"

// errEnough ends a sample.
var errEnough = errors.New("enough")

// Read gives the entries of the scope. See the package comment.
func (d *directory) Read(ctx context.Context, what connector.Reading, sink connector.Sink) (cursor string, err error) {
	sink = connector.Clearing(sink, d.cfg.Secret)
	switch what.Extent {
	case connector.Changes:
		return d.changes(ctx, what.Cursor, sink)
	case connector.Sample:
		return "", d.sample(ctx, what, sink)
	}
	for attempt := 1; ; attempt++ {
		cursor, err = d.readAll(ctx, sink)
		switch {
		case connector.KindOf(err) == connector.NotFound:
			return "", d.noBase(reading, err)
		case err == nil || ctx.Err() != nil || attempt == readings || !d.mayReadAgain(err):
			return cursor, err
		}
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-time.After(time.Duration(attempt) * time.Second):
		}
		if err := sink.Restart(); err != nil {
			return "", err
		}
	}
}

// readings is how often a list is begun anew when a page of it did not come: a cut
// or a busy moment should not cost a night's roster.
const readings = 4

// forgotten is that the server no longer knows the page that it gave last.
type forgotten struct{ error }

func (f forgotten) Unwrap() error { return f.error }

// tooLarge is that the server gives no pages of that size.
type tooLarge struct{ error }

func (t tooLarge) Unwrap() error { return t.error }

// mayReadAgain reports whether a list that broke off may come as a whole next time,
// and asks for less where the pages were too large.
func (d *directory) mayReadAgain(err error) bool {
	var again forgotten
	var large tooLarge
	var told *connector.Error
	switch {
	case errors.As(err, &large):
		d.mu.Lock()
		defer d.mu.Unlock()
		d.page = max(smallestPage, d.page/2)
		return true
	case errors.As(err, &again):
		return true
	}
	return errors.As(err, &told) && (told.Kind == connector.Throttled || told.Kind == connector.Unanswered && !told.Answered)
}

// smallestPage is not made smaller.
const smallestPage = 10

// pageSize is how many entries a page has; a server may have made us ask for less.
func (d *directory) pageSize() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.page
}

func (d *directory) readAll(ctx context.Context, sink connector.Sink) (cursor string, err error) {
	err = d.with(ctx, reading, false, func(c *ldap.Conn) error {
		root, err := d.discover(c)
		if err != nil {
			return err
		}
		stamp := now()
		if d.set.Text("changes") != "off" {
			cursor = stampCursor(stamp)
		}
		if d.synchronises(root) {
			cookie, err := d.cookie(ctx, c)
			switch {
			case err == nil:
				cursor = syncCursor(cookie, stamp)
			case !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) || d.pageSize() == 0 || d.size > 0:
				return err // a server that limits how much it gives at once may still page
			}
		}
		return d.pages(ctx, c, root, d.filter(), sink)
	})
	return cursor, err
}

// shown remembers which containers showed an entry, by a hash of the DN.
type shown struct {
	seed    maphash.Seed
	parents map[uint64]struct{}
}

func newShown() *shown { return &shown{maphash.MakeSeed(), map[uint64]struct{}{}} }

func (s *shown) hash(dn string) uint64 { return maphash.String(s.seed, strings.ToLower(dn)) }
func (s *shown) add(dn string)         { s.parents[s.hash(dn)] = struct{}{} }
func (s *shown) has(dn string) bool    { _, ok := s.parents[s.hash(dn)]; return ok }

// pages reads page by page and gives each entry to the sink at once.
func (d *directory) pages(ctx context.Context, c *ldap.Conn, root *rootDSE, filter string, sink connector.Sink) error {
	seen := newShown()
	err := d.eachPage(ctx, c, root, d.set.Text("base"), d.scope, filter, d.attributes, func(res *ldap.SearchResult) error {
		for _, e := range res.Entries {
			seen.add(parent(e.DN))
			if err := d.hand(e, sink); err != nil {
				return err
			}
		}
		return d.referred(res.Referrals, sink)
	})
	if err != nil {
		return err
	}
	return d.suspects(c, seen, sink)
}

func (d *directory) hand(e *ldap.Entry, sink connector.Sink) error {
	r, rejection := d.record(e)
	if rejection != nil {
		return sink.Reject(*rejection)
	}
	return sink.Record(r)
}

// eachPage searches with the paging control where the server has it.
func (d *directory) eachPage(ctx context.Context, c *ldap.Conn, root *rootDSE, base string, scope int, filter string, attributes []string, fn func(*ldap.SearchResult) error) error {
	req := ldap.NewSearchRequest(base, scope, ldap.NeverDerefAliases, d.size, d.time, false, filter, attributes, nil)
	size := d.pageSize()
	if size == 0 || !root.has(pagedResults) {
		res, err := c.Search(req)
		if err != nil {
			return err
		}
		return fn(res)
	}
	paging := ldap.NewControlPaging(uint32(size)) // bounded when the settings were read
	req.Controls = []ldap.Control{paging}
	next := make(chan page, 1)
	ask := func() {
		var p page
		if err := parallel.Try(func() (err error) { p.res, err = c.Search(req); return err }); err != nil {
			p.err = err
		}
		next <- p
	}
	ask()
	for first, empty := true, 0; ; first = false {
		got := <-next
		if got.err != nil {
			return pageFault(got.err, first, size)
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		answer, ok := ldap.FindControl(got.res.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if !ok {
			return d.fault(connector.Broken, reading, "the server left the paging control out of its answer, so nobody can tell whether more is to come", "set page to 0, or ask the directory's team")
		}
		last := len(answer.Cookie) == 0
		if empty++; len(got.res.Entries)+len(got.res.Referrals) > 0 {
			empty = 0
		}
		if empty > connector.MostEmptyPages {
			return d.fault(connector.Broken, reading, fmt.Sprintf("%d pages came without an entry, and the server says that more are to come", empty), "set page to 0, or ask the directory's team")
		}
		if !last {
			paging.SetCookie(answer.Cookie)
			go ask() // the server works on the next page while this one is taken in
		}
		if err := fn(got.res); err != nil || last {
			if !last {
				<-next // the request is ours until it is answered
			}
			return err
		}
	}
}

// pageFault says what it means that a page did not come.
func pageFault(err error, first bool, size int) error {
	var told *ldap.Error
	if err == nil || !errors.As(err, &told) {
		return err
	}
	switch told.ResultCode {
	case ldap.LDAPResultSizeLimitExceeded, ldap.LDAPResultAdminLimitExceeded:
		if first && size > smallestPage {
			return tooLarge{err}
		}
	case ldap.LDAPResultUnwillingToPerform, ldap.LDAPResultProtocolError, ldap.LDAPResultOperationsError, ldap.LDAPResultUnavailableCriticalExtension:
		if !first {
			return forgotten{err}
		}
	}
	return err
}

// page is one answer to a search.
type page struct {
	res *ldap.SearchResult
	err error
}

func (r *rootDSE) has(control string) bool {
	for _, c := range append(r.controls, r.extensions...) {
		if c == control {
			return true
		}
	}
	return false
}

// referred: a part of the scope lives in another server. It was not read, so
// by default nothing is.
func (d *directory) referred(list []string, sink connector.Sink) error {
	for _, ref := range list {
		if d.set.Text("referrals") == "refuse" {
			return d.fault(connector.Refused, reading, "a part of the tree lives in another server: "+ref, "narrow base to what this server holds, and read the other part as a system of its own; or set referrals to leave-out")
		}
		if err := sink.LeftOut(connector.Left{Kind: record.Elsewhere, Reason: "lives in another server", What: ref}); err != nil {
			return err
		}
	}
	return nil
}

// containers are the classes whose emptiness is looked at.
const containers = "(|(objectClass=organizationalUnit)(objectClass=organization)(objectClass=domain)(objectClass=container)(objectClass=locality))"

// suspects finds containers that say there is something below them while
// nothing below them shows at all: access rules probably hide it. Servers that
// do not tell (RFC 3673 leaves it open) raise no suspicion.
func (d *directory) suspects(c *ldap.Conn, seen *shown, sink connector.Sink) error {
	if d.scope == ldap.ScopeBaseObject {
		return nil
	}
	res, err := c.Search(ldap.NewSearchRequest(d.set.Text("base"), d.scope, ldap.NeverDerefAliases, 0, d.time, false, containers, []string{"hasSubordinates", "numSubordinates"}, nil))
	if err != nil {
		return nil // what is only a suspicion must not fail a reading that is whole
	}
	for _, e := range res.Entries {
		full := strings.EqualFold(e.GetAttributeValue("hasSubordinates"), "TRUE") || e.GetAttributeValue("numSubordinates") > "0"
		if !full || seen.has(e.DN) {
			continue
		}
		below, err := c.Search(ldap.NewSearchRequest(e.DN, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 1, d.time, true, "(objectClass=*)", []string{"1.1"}, nil))
		if err == nil && len(below.Entries) == 0 {
			if err := sink.LeftOut(connector.Left{Kind: record.Hidden, Reason: "says it has entries below, and shows none: hidden by access rules?", What: e.DN}); err != nil {
				return err
			}
		}
	}
	return nil
}

// sample gives a few entries, passing over some.
func (d *directory) sample(ctx context.Context, what connector.Reading, sink connector.Sink) error {
	skip, left := what.Skip, what.Limit
	err := d.with(ctx, reading, true, func(c *ldap.Conn) error {
		root, err := d.discover(c)
		if err != nil {
			return err
		}
		return d.eachPage(ctx, c, root, d.set.Text("base"), d.scope, d.filter(), d.attributes, func(res *ldap.SearchResult) error {
			for _, e := range res.Entries {
				if skip > 0 {
					skip--
					continue
				}
				if left == 0 {
					return errEnough
				}
				left--
				if err := d.hand(e, sink); err != nil {
					return err
				}
			}
			if left == 0 {
				return errEnough
			}
			return nil
		})
	})
	if errors.Is(err, errEnough) {
		return nil
	}
	return err
}

// One reads a single entry.
func (d *directory) One(ctx context.Context, id string) (r connector.Record, err error) {
	doing := "read entry " + id
	err = d.with(ctx, doing, true, func(c *ldap.Conn) error {
		e, err := d.entry(c, id, d.attributes)
		if err != nil {
			return err
		}
		var rejection error
		if r, rejection = d.whole(doing, e); rejection != nil {
			return rejection
		}
		return nil
	})
	return r, err
}

func (d *directory) whole(doing string, e *ldap.Entry) (connector.Record, error) {
	r, bad := d.record(e)
	if bad != nil {
		return r, d.fault(connector.Broken, doing, bad.Reason, "")
	}
	return r.Cleared(outbound.ForValues(d.cfg.Secret)), nil
}

// entry finds the one entry of an id.
func (d *directory) entry(c *ldap.Conn, id string, attributes []string) (*ldap.Entry, error) {
	doing := "read entry " + id
	req := ldap.NewSearchRequest(d.set.Text("base"), ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 2, d.time, false, "", attributes, nil)
	if strings.EqualFold(d.id.Native, "dn") {
		if _, err := ldap.ParseDN(id); err != nil || id == "" {
			return nil, d.fault(connector.NotFound, doing, fmt.Sprintf("%q is no DN", id), "")
		}
		req.BaseDN, req.Scope, req.Filter = id, ldap.ScopeBaseObject, "(objectClass=*)"
	} else {
		filter, err := d.idFilter(id)
		if err != nil {
			return nil, d.fault(connector.NotFound, doing, err.Error(), "")
		}
		req.Filter = filter
	}
	res, err := c.Search(req)
	switch {
	case err != nil:
		return nil, err
	case len(res.Entries) == 0:
		return nil, d.fault(connector.NotFound, doing, fmt.Sprintf("no entry below %s has this %s", req.BaseDN, d.id.Native), "")
	case len(res.Entries) > 1:
		return nil, d.fault(connector.Broken, doing, fmt.Sprintf("several entries have this %s, so it identifies none of them", d.id.Native), "choose another attribute for the id in the shape")
	}
	return res.Entries[0], nil
}

// Holders asks for a login or an address in every attribute that the shape feeds
// them from, whatever kind of entry carries it: groups and contacts hold
// addresses too.
func (d *directory) Holders(ctx context.Context, name string) (holders []string, err error) {
	doing := "ask who holds " + name
	var parts []string
	for _, attribute := range []string{"userName", "email", "aliases", "emails"} {
		src, ok := d.shape.Attributes[attribute]
		if !ok || pseudo(src.Native) {
			continue
		}
		prefixes := []string{src.Prefix}
		if src.Prefix != "" { // the spelling of the prefix marks the primary one: either holds the name
			prefixes = append(prefixes, strings.ToLower(src.Prefix), strings.ToUpper(src.Prefix))
		}
		for _, prefix := range prefixes {
			filter, err := d.equals(src.Native, prefix+name)
			if err != nil {
				return nil, d.fault(connector.Refused, doing, err.Error(), "")
			}
			parts = append(parts, filter)
		}
	}
	if len(parts) == 0 {
		return nil, d.fault(connector.Unsupported, doing, "the shape names no login and no address", "")
	}
	err = d.with(ctx, doing, true, func(c *ldap.Conn) error {
		holders = nil
		res, err := c.Search(ldap.NewSearchRequest(d.set.Text("base"), ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, d.time, false, "(|"+strings.Join(parts, "")+")", d.attributes, nil))
		if err != nil {
			return err
		}
		for _, e := range res.Entries {
			r, _ := d.record(e)
			holders = append(holders, cmp.Or(r.ID, e.DN))
		}
		return nil
	})
	return holders, err
}

// Find reads the entries whose attribute has the value.
func (d *directory) Find(ctx context.Context, native, value string) (found []connector.Record, err error) {
	doing := "look for " + native
	filter, err := d.equals(native, value)
	if err != nil {
		return nil, d.fault(connector.Refused, doing, err.Error(), "")
	}
	err = d.with(ctx, doing, true, func(c *ldap.Conn) error {
		root, err := d.discover(c)
		if err != nil {
			return err
		}
		found = nil
		return d.eachPage(ctx, c, root, d.set.Text("base"), ldap.ScopeWholeSubtree, "(&"+d.filter()+filter+")", d.attributes, func(res *ldap.SearchResult) error {
			for _, e := range res.Entries {
				r, err := d.whole(doing, e)
				if err != nil {
					return err
				}
				found = append(found, r)
			}
			return nil
		})
	})
	return found, err
}
