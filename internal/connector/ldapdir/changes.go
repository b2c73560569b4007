package ldapdir

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
	"twinning/internal/core/record"
)

// A cursor is either "sync:" with the server's cookie and the time of the reading
// before, or "stamp:" with that time alone. It is good for the base and filter that it
// was made with: a cookie or stamp of another says nothing about this one.
func syncCursor(cookie []byte, at time.Time) string {
	return "sync:" + base64.StdEncoding.EncodeToString(cookie) + ":" + at.UTC().Format(generalized)
}

func stampCursor(at time.Time) string { return "stamp:" + at.UTC().Format(generalized) }

const generalized = "20060102150405Z"

func now() time.Time { return time.Now() }

// overlap is read again before the stamp: clocks differ, and a transaction may
// be stamped before it shows.
const overlap = 5 * time.Minute

// synchronises: the operation of RFC 4533 names deleted entries by entryUUID
// alone, so it serves only where that is the id.
func (d *directory) synchronises(root *rootDSE) bool {
	want := d.set.Text("changes")
	return (want == "sync" || want == "auto") && root.has(contentSync) && strings.EqualFold(d.id.Native, "entryUUID")
}

func (d *directory) changes(ctx context.Context, cursor string, sink connector.Sink) (next string, err error) {
	kind, value, _ := strings.Cut(cursor, ":")
	err = d.with(ctx, "read what changed", false, func(c *ldap.Conn) error {
		root, err := d.discover(c)
		if err != nil {
			return err
		}
		if kind != "sync" && kind != "stamp" {
			return d.expired("there is no reading that it could go on from")
		}
		encoded, stamp := "", value
		if kind == "sync" {
			encoded, stamp, _ = strings.Cut(value, ":")
		}
		cookie, wrong := base64.StdEncoding.DecodeString(encoded)
		since, unknown := time.Parse(generalized, stamp)
		if wrong != nil || unknown != nil {
			return d.expired("the cursor can't be read")
		}
		begun := now()
		handed := map[string]bool{}
		if kind == "sync" {
			if !d.synchronises(root) {
				return d.expired("the directory no longer offers synchronisation")
			}
			if cookie, err = d.follow(ctx, c, cookie, sink, handed); err != nil {
				return err
			}
			next = syncCursor(cookie, begun)
		} else {
			next = stampCursor(begun)
			if err := sink.LeftOut(connector.Left{Kind: record.Deletions, Reason: "a directory read by time stamps does not say what was deleted"}); err != nil {
				return err
			}
		}
		return d.stamped(ctx, c, root, since.Add(-overlap), sink, handed)
	})
	return next, err
}

// stamped reads what was modified since, without what was handed over already. It
// stands beside a synchronisation as well: a server gives nothing there that is newer
// than the last of the writes that it holds to be settled, and of several at once the
// newest may not be for as long as nobody writes anything else.
func (d *directory) stamped(ctx context.Context, c *ldap.Conn, root *rootDSE, since time.Time, sink connector.Sink, handed map[string]bool) error {
	filter := fmt.Sprintf("(&%s(modifyTimestamp>=%s))", d.filter(), since.UTC().Format(generalized))
	return d.eachPage(ctx, c, root, d.set.Text("base"), d.scope, filter, d.attributes, func(res *ldap.SearchResult) error {
		for _, e := range res.Entries {
			if handed[e.GetEqualFoldAttributeValue(d.id.Native)] {
				continue
			}
			if err := d.hand(e, sink); err != nil {
				return err
			}
		}
		return d.referred(res.Referrals, sink)
	})
}

func (d *directory) expired(reason string) error {
	return d.fault(connector.Expired, "read what changed", reason, "take a whole roster")
}

// cookie is where a reading of changes goes on from. The entries that come with it are
// not taken, since the newest may be missing; see stamped.
func (d *directory) cookie(ctx context.Context, c *ldap.Conn) ([]byte, error) {
	ignored := func(string) error { return nil }
	return d.synchronise(ctx, c, nil, []string{"1.1"}, told{entry: func(*ldap.Entry) error { return nil }, gone: ignored, referral: ignored})
}

// follow hands over what a content synchronisation says to have changed since a cookie,
// and notes the ids of the entries.
func (d *directory) follow(ctx context.Context, c *ldap.Conn, cookie []byte, sink connector.Sink, handed map[string]bool) (next []byte, err error) {
	return d.synchronise(ctx, c, cookie, d.attributes, told{
		entry: func(e *ldap.Entry) error {
			handed[e.GetEqualFoldAttributeValue(d.id.Native)] = true
			return d.hand(e, sink)
		},
		gone:     sink.Gone,
		referral: func(to string) error { return d.referred([]string{to}, sink) },
	})
}

// told takes what a synchronisation says, as it comes.
type told struct {
	entry          func(*ldap.Entry) error
	gone, referral func(string) error
}

// synchronise follows a content synchronisation in refreshOnly mode. Without a
// cookie it gives everything. With one, the server either names what was
// deleted, or lists what is still present: absence is never concluded from
// that list here, a whole reading does it better.
func (d *directory) synchronise(ctx context.Context, c *ldap.Conn, cookie []byte, attributes []string, to told) (next []byte, err error) {
	next, err = d.refresh(ctx, c, cookie, attributes, to)
	if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
		_ = c.Close() // what is still under way on it would be in the way
	}
	return next, err
}

func (d *directory) refresh(ctx context.Context, c *ldap.Conn, cookie []byte, attributes []string, to told) (next []byte, err error) {
	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	req := ldap.NewSearchRequest(d.set.Text("base"), d.scope, ldap.NeverDerefAliases, d.size, d.time, false, d.filter(), attributes, nil)
	res := c.Syncrepl(inner, req, 64, ldap.SyncRequestModeRefreshOnly, cookie, false)
	incremental, deletes := len(cookie) > 0, false
	for res.Next() {
		if ref := res.Referral(); ref != "" {
			if err := to.referral(ref); err != nil {
				return nil, err
			}
			continue
		}
		e := res.Entry()
		for _, control := range res.Controls() {
			var at []byte
			switch x := control.(type) {
			case *ldap.ControlSyncState:
				at = x.Cookie
				switch x.State {
				case ldap.SyncStateDelete:
					if err := to.gone(x.EntryUUID.String()); err != nil {
						return nil, err
					}
					e = nil
				case ldap.SyncStatePresent:
					return nil, d.expired("the server lists what is still there instead of what was deleted")
				}
			case *ldap.ControlSyncInfo:
				if at, err = d.info(x, incremental, to.gone); err != nil {
					return nil, err
				}
			case *ldap.ControlSyncDone:
				at, deletes = x.Cookie, x.RefreshDeletes
			}
			if at != nil {
				next = at
			}
		}
		if e != nil {
			if err := to.entry(e); err != nil {
				return nil, err
			}
		}
	}
	switch err := res.Err(); {
	case err != nil:
		return nil, err
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case next == nil:
		return nil, d.fault(connector.Broken, reading, "the synchronisation ended without the server's word that it is complete", "set changes to stamp, and tell the directory's team")
	case incremental && !deletes && !bytes.Equal(next, cookie):
		return nil, d.expired("the server does not say what was deleted")
	}
	return next, nil
}

// info reads what the server says between the entries.
func (d *directory) info(x *ldap.ControlSyncInfo, incremental bool, gone func(string) error) (cookie []byte, err error) {
	switch x.Value {
	case ldap.SyncInfoNewcookie:
		return x.NewCookie.Cookie, nil
	case ldap.SyncInfoRefreshDelete:
		return x.RefreshDelete.Cookie, nil
	case ldap.SyncInfoRefreshPresent:
		if incremental {
			return nil, d.expired("the server lists what is still there instead of what was deleted")
		}
		return x.RefreshPresent.Cookie, nil
	case ldap.SyncInfoSyncIdSet:
		if !x.SyncIdSet.RefreshDeletes {
			if incremental {
				return nil, d.expired("the server lists what is still there instead of what was deleted")
			}
			return x.SyncIdSet.Cookie, nil
		}
		for _, id := range x.SyncIdSet.SyncUUIDs {
			if err := gone(id.String()); err != nil {
				return nil, err
			}
		}
		return x.SyncIdSet.Cookie, nil
	}
	return nil, nil
}
