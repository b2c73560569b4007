package store

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// AuditEntry is one act. The chain covers Digest, a salted digest of the rest,
// so that the text can be erased later and the chain stays valid.
type AuditEntry struct {
	Seq     int64                   `db:"seq" json:"seq"`
	At      time.Time               `db:"at" json:"at"`
	By      string                  `db:"actor" json:"by"`
	Action  string                  `db:"action" json:"action"`
	Subject string                  `db:"subject" json:"subject"`
	Salt    []byte                  `db:"salt" json:"-"`
	Digest  []byte                  `db:"digest" json:"-"`
	Hash    []byte                  `db:"hash" json:"-"`
	Detail  JSON[map[string]string] `db:"detail" json:"detail"`
	Keyed   bool                    `db:"keyed" json:"-"`
}

func (e AuditEntry) digest() []byte {
	body, _ := json.Marshal([]any{e.At.UTC().Format(time.RFC3339Nano), e.By, e.Action, e.Subject, e.Detail.V})
	sum := sha256.Sum256(append(bytes.Clone(e.Salt), body...))
	return sum[:]
}

// link chains an entry to the one before, under the trail's key: whoever can
// write the database but has not the master key can't make a chain.
func (s *Store) link(previous []byte, seq int64, digest []byte) []byte {
	mac := hmac.New(sha256.New, s.trail)
	mac.Write(append(binary.BigEndian.AppendUint64(bytes.Clone(previous), uint64(seq)), digest...)) // sequence numbers are positive
	return mac.Sum(nil)
}

// plainLink is how entries were chained before the trail had a key.
func plainLink(previous []byte, seq int64, digest []byte) []byte {
	sum := sha256.Sum256(append(binary.BigEndian.AppendUint64(bytes.Clone(previous), uint64(seq)), digest...)) // as above
	return sum[:]
}

// ErrUnkeyed is a trail of a release that did not key it, or whose keys somebody
// took away to alter it unseen.
var ErrUnkeyed = errors.New("the audit trail is not keyed; if this is the first start of this release over a database of an older one, start once with --adopt-trail; if not, somebody altered the trail: put the database back from a backup")

// KeyTrail gives the key of the trail. A trail of a release that had none is
// keyed now when adopt says so and it is whole; one that has any keyed entry never
// is again.
func (s *Store) KeyTrail(ctx context.Context, key []byte, adopt bool) error {
	s.trail = key
	return s.InTx(ctx, func(tx *Store) error {
		if err := tx.lockTrail(ctx); err != nil {
			return err
		}
		if err := tx.sameKey(ctx); err != nil {
			return err
		}
		var keyed, plain bool
		if err := tx.get(ctx, &keyed, `SELECT EXISTS (SELECT FROM audit WHERE keyed)`); err != nil {
			return err
		}
		if err := tx.get(ctx, &plain, `SELECT EXISTS (SELECT FROM audit WHERE NOT keyed)`); err != nil || keyed || !plain {
			return err
		}
		if !adopt {
			return ErrUnkeyed
		}
		var old, now []byte
		_, err := tx.eachEntry(ctx, func(e AuditEntry) error {
			if !bytes.Equal(e.Hash, plainLink(old, e.Seq, e.Digest)) {
				return fmt.Errorf("entry %d of the audit trail was altered before the trail had a key; put the database back from a backup, or remove the trail on purpose", e.Seq)
			}
			old, now = e.Hash, tx.link(now, e.Seq, e.Digest)
			_, err := tx.exec(ctx, `UPDATE audit SET hash = $2, keyed = true WHERE seq = $1`, e.Seq, now)
			return err
		})
		return err
	})
}

// ErrOtherKey is a master key that is not the one that the house is kept under.
var ErrOtherKey = errors.New("this is not the master key that this database was made with: its secrets could not be read, nor its trail gone on with; put the right key back (master.key in the data folder, or TWINNING_MASTER_KEY); all nodes of one database share it")

// sameKey holds the key against what the first start left of it.
func (s *Store) sameKey(ctx context.Context) error {
	mac := hmac.New(sha256.New, s.trail)
	mac.Write([]byte("which key"))
	is := mac.Sum(nil)
	if _, err := s.exec(ctx, `INSERT INTO house (name, value) VALUES ('key', $1) ON CONFLICT DO NOTHING`, is); err != nil {
		return err
	}
	var was []byte
	if err := s.get(ctx, &was, `SELECT value FROM house WHERE name = 'key'`); err != nil {
		return err
	}
	if !hmac.Equal(was, is) {
		return ErrOtherKey
	}
	return nil
}

func (s *Store) lockTrail(ctx context.Context) error {
	_, err := s.exec(ctx, `SELECT pg_advisory_xact_lock(7002)`)
	return err
}

// Audit appends an act to the chain, in the transaction of the act itself, and
// notes the request that asked for it.
func (s *Store) Audit(ctx context.Context, by, action, subject string, detail map[string]string) error {
	if len(s.trail) == 0 {
		return errors.New("the audit trail has no key")
	}
	return s.InTx(ctx, func(tx *Store) error {
		if err := tx.claimRequest(ctx); err != nil {
			return err
		}
		if err := tx.lockTrail(ctx); err != nil {
			return err
		}
		last, err := tx.AuditHead(ctx)
		if err != nil {
			return err
		}
		if detail == nil {
			detail = map[string]string{}
		}
		e := AuditEntry{Seq: last.Seq + 1, At: time.Now().UTC().Truncate(time.Microsecond), By: by, Action: action, Subject: subject, Salt: make([]byte, 16)}
		e.Detail.V = detail
		if _, err := rand.Read(e.Salt); err != nil {
			return err
		}
		digest := e.digest()
		_, err = tx.exec(ctx, `INSERT INTO audit (seq, at, actor, action, subject, salt, digest, hash, detail, keyed) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, true)`,
			e.Seq, e.At, by, action, subject, e.Salt, digest, tx.link(last.Hash, e.Seq, digest), jsonText(detail))
		return err
	})
}

// Head is the end of the trail: kept elsewhere, it tells later whether the trail
// was cut, emptied or altered.
type Head struct {
	Seq  int64  `db:"seq"`
	Hash []byte `db:"hash"`
}

// AuditHead is the end of the trail; the zero Head when it is empty.
func (s *Store) AuditHead(ctx context.Context) (h Head, err error) {
	err = s.get(ctx, &h, `SELECT seq, hash FROM audit ORDER BY seq DESC LIMIT 1`)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return h, err
}

// AuditTrail lists acts, newest first.
func (s *Store) AuditTrail(ctx context.Context, p Page) (list []AuditEntry, next string, err error) {
	err = s.list(ctx, &list, `SELECT * FROM audit WHERE seq < $1 ORDER BY seq DESC LIMIT $2`, p.afterNumber(maxNumber), p.limit()+1)
	list, next = cut(p, list, func(e AuditEntry) string { return number(e.Seq) })
	return list, next, err
}

// ActsAfter lists acts in their order, with what of them anybody may know who may look.
func (s *Store) ActsAfter(ctx context.Context, seq int64, kinds []string, most int) (list []Act, err error) {
	return list, s.list(ctx, &list, `SELECT seq, at, actor, action, subject FROM audit WHERE seq > $1 AND split_part(action, '.', 1) = ANY($2) ORDER BY seq LIMIT $3`, seq, kinds, most)
}

// Act is who did what.
type Act struct {
	Seq     int64     `db:"seq" json:"number"`
	At      time.Time `db:"at" json:"at"`
	By      string    `db:"actor" json:"by"`
	Action  string    `db:"action" json:"action"`
	Subject string    `db:"subject" json:"subject"`
}

// Checked is what was found of a trail.
type Checked struct {
	Entries int64
	Broken  int64 // the first entry that does not fit, 0 when all do
	Head    bool  // the head that was held against it stands in it
}

// CheckAudit walks the chain from its start, and holds it against a head that
// was kept elsewhere (the zero Head: none).
func (s *Store) CheckAudit(ctx context.Context, head Head) (c Checked, err error) {
	var previous []byte
	c.Head = head.Seq == 0
	c.Entries, err = s.eachEntry(ctx, func(e AuditEntry) error {
		next := s.link(previous, e.Seq, e.Digest)
		if !hmac.Equal(e.Hash, next) || !bytes.Equal(e.Digest, e.digest()) {
			c.Broken = e.Seq
			return errBroken
		}
		previous = e.Hash
		c.Head = c.Head || e.Seq == head.Seq && hmac.Equal(e.Hash, head.Hash)
		return nil
	})
	if errors.Is(err, errBroken) {
		err = nil
	}
	return c, err
}

var errBroken = errors.New("the chain is broken")

// eachEntry gives the entries in order; one that is missing ends it as broken.
func (s *Store) eachEntry(ctx context.Context, fn func(AuditEntry) error) (n int64, err error) {
	for {
		var list []AuditEntry
		if err := s.list(ctx, &list, `SELECT * FROM audit WHERE seq > $1 ORDER BY seq LIMIT 1000`, n); err != nil {
			return n, err
		}
		for _, e := range list {
			if e.Seq != n+1 {
				e = AuditEntry{Seq: n + 1} // it is missing: fits nothing
			}
			if err := fn(e); err != nil {
				return n, err
			}
			n++
		}
		if len(list) < 1000 {
			return n, nil
		}
	}
}

// Switch is something that is on or off for the whole house.
type Switch struct {
	Name   string    `db:"name" json:"-"`
	On     bool      `db:"is_on" json:"on"`
	By     string    `db:"changed_by" json:"by,omitempty"`
	At     time.Time `db:"at" json:"at"`
	Reason string    `db:"reason" json:"reason,omitempty"`
}

// Freeze tells whether all writing is frozen.
func (s *Store) Freeze(ctx context.Context) (w Switch, err error) {
	err = s.get(ctx, &w, `SELECT * FROM switches WHERE name = 'freeze'`)
	if errors.Is(err, ErrNotFound) {
		return Switch{Name: "freeze"}, nil
	}
	return w, err
}

// SetFreeze stops all writing everywhere, or lets it go on.
func (s *Store) SetFreeze(ctx context.Context, on bool, by, reason string) error {
	_, err := s.exec(ctx, `INSERT INTO switches (name, is_on, changed_by, reason) VALUES ('freeze', $1, $2, $3) ON CONFLICT (name) DO UPDATE SET is_on = $1, changed_by = $2, reason = $3, at = now()`, on, by, reason)
	return err
}

// Deciders are all who wrote a lane's charter, gave or took back a ruling, or decided what stands
// in a draft of it, and that the plan given does not rest on; 0 is for ever. What is numbered or
// dated by PostgreSQL is told by that, since clocks of nodes differ.
func (s *Store) Deciders(ctx context.Context, lane, plan int64) (names []string, err error) {
	return names, s.list(ctx, &names, `WITH last AS (SELECT coalesce(max(r.charter_version), 0) AS charter, coalesce(max(r.at), '-infinity') AS at,
			coalesce((SELECT max(seq) FROM audit WHERE action = 'plan.draft' AND subject = 'plan ' || $2::bigint), 0) AS seq
		FROM plans p JOIN reconciliations r ON r.id = p.reconciliation_id WHERE p.id = $2)
	SELECT DISTINCT q.name FROM (
		SELECT c.created_by AS name FROM charters c, last WHERE c.lane_id = $1 AND c.version > last.charter
		UNION ALL SELECT u.created_by FROM rulings u, last WHERE u.lane_id = $1 AND u.at >= last.at
		UNION ALL SELECT a.actor FROM audit a, last WHERE a.action = 'ruling.clear' AND a.subject = (SELECT name FROM lanes WHERE id = $1) AND a.seq > last.seq
		UNION ALL SELECT a.actor FROM audit a, last WHERE a.action IN ('plan.set-aside', 'plan.include') AND a.subject IN (SELECT 'plan ' || id FROM plans WHERE lane_id = $1) AND a.seq > last.seq) q ORDER BY q.name`, lane, plan)
}
