package ldapdir

import (
	"context"
	"encoding/base64"
	"fmt"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
	"twinning/internal/core/record"
)

// A cursor is either "sync:" with the server's cookie, or "stamp:" with the
// time of the reading before. It names the scope it is good for, since a
// cookie or stamp of another base or filter says nothing about this one.
func (d *directory) syncCursor(cookie []byte) string {
	return "sync:" + base64.StdEncoding.EncodeToString(cookie)
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
		switch kind {
		case "sync":
			if !d.synchronises(root) {
				return d.expired("the directory no longer offers synchronisation")
			}
			next, err = d.refresh(ctx, c, value, sink)
			return err
		case "stamp":
			since, err := time.Parse(generalized, value)
			if err != nil {
				return d.expired("the cursor can't be read")
			}
			begun := now()
			filter := fmt.Sprintf("(&%s(modifyTimestamp>=%s))", d.filter(), since.Add(-overlap).Format(generalized))
			next = stampCursor(begun)
			if err := sink.LeftOut(connector.Left{Kind: record.Deletions, Reason: "a directory read by time stamps does not say what was deleted"}); err != nil {
				return err
			}
			return d.eachPage(ctx, c, root, d.set.Text("base"), d.scope, filter, d.attributes, func(res *ldap.SearchResult) error {
				for _, e := range res.Entries {
					if err := d.hand(e, sink); err != nil {
						return err
					}
				}
				return d.referred(res.Referrals, sink)
			})
		}
		return d.expired("there is no reading that it could go on from")
	})
	return next, err
}

func (d *directory) expired(reason string) error {
	return d.fault(connector.Expired, "read what changed", reason, "take a whole roster")
}

// refresh follows a content synchronisation in refreshOnly mode. Without a
// cookie it gives everything. With one, the server either names what was
// deleted, or lists what is still present: absence is never concluded from
// that list here, a whole reading does it better.
func (d *directory) refresh(ctx context.Context, c *ldap.Conn, cursor string, sink connector.Sink) (string, error) {
	next, err := d.follow(ctx, c, cursor, sink)
	if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
		_ = c.Close() // what is still under way on it would be in the way
	}
	return next, err
}

func (d *directory) follow(ctx context.Context, c *ldap.Conn, cursor string, sink connector.Sink) (string, error) {
	cookie, err := base64.StdEncoding.DecodeString(cursor)
	if err != nil {
		return "", d.expired("the cursor can't be read")
	}
	seen := newShown()
	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	req := ldap.NewSearchRequest(d.set.Text("base"), d.scope, ldap.NeverDerefAliases, d.size, d.time, false, d.filter(), d.attributes, nil)
	res := c.Syncrepl(inner, req, 64, ldap.SyncRequestModeRefreshOnly, cookie, false)
	next, deletes := "", false
	for res.Next() {
		if ref := res.Referral(); ref != "" {
			if err := d.referred([]string{ref}, sink); err != nil {
				return "", err
			}
			continue
		}
		e := res.Entry()
		for _, control := range res.Controls() {
			switch x := control.(type) {
			case *ldap.ControlSyncState:
				if x.Cookie != nil {
					next = d.syncCursor(x.Cookie)
				}
				switch x.State {
				case ldap.SyncStateDelete:
					if err := sink.Gone(x.EntryUUID.String()); err != nil {
						return "", err
					}
					e = nil
				case ldap.SyncStatePresent:
					return "", d.expired("the server lists what is still there instead of what was deleted")
				}
			case *ldap.ControlSyncInfo:
				cookie, err := d.info(x, cursor != "", sink)
				if err != nil {
					return "", err
				}
				if cookie != nil {
					next = d.syncCursor(cookie)
				}
			case *ldap.ControlSyncDone:
				if x.Cookie != nil {
					next = d.syncCursor(x.Cookie)
				}
				deletes = x.RefreshDeletes
			}
		}
		if e != nil {
			seen.add(parent(e.DN))
			if err := d.hand(e, sink); err != nil {
				return "", err
			}
		}
	}
	if err := res.Err(); err != nil {
		return "", err
	}
	if err := ctx.Err(); err != nil {
		return "", err
	}
	if next == "" {
		return "", d.fault(connector.Broken, reading, "the synchronisation ended without the server's word that it is complete", "set changes to stamp, and tell the directory's team")
	}
	if cursor == "" {
		return next, d.suspects(c, seen, sink)
	}
	if !deletes && next != "sync:"+cursor {
		return "", d.expired("the server does not say what was deleted")
	}
	return next, nil
}

// info reads what the server says between the entries.
func (d *directory) info(x *ldap.ControlSyncInfo, incremental bool, sink connector.Sink) (cookie []byte, err error) {
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
			if err := sink.Gone(id.String()); err != nil {
				return nil, err
			}
		}
		return x.SyncIdSet.Cookie, nil
	}
	return nil, nil
}
