package store

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
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
}

func (e AuditEntry) digest() []byte {
	body, _ := json.Marshal([]any{e.At.UTC().Format(time.RFC3339Nano), e.By, e.Action, e.Subject, e.Detail.V})
	sum := sha256.Sum256(append(bytes.Clone(e.Salt), body...))
	return sum[:]
}

func link(previous []byte, seq int64, digest []byte) []byte {
	sum := sha256.Sum256(append(binary.BigEndian.AppendUint64(bytes.Clone(previous), uint64(seq)), digest...)) // sequence numbers are positive
	return sum[:]
}

// Audit appends an act to the chain.
func (s *Store) Audit(ctx context.Context, by, action, subject string, detail map[string]string) error {
	return s.InTx(ctx, func(tx *Store) error {
		if _, err := tx.exec(ctx, `SELECT pg_advisory_xact_lock(7002)`); err != nil {
			return err
		}
		var last struct {
			Seq  int64  `db:"seq"`
			Hash []byte `db:"hash"`
		}
		if err := tx.get(ctx, &last, `SELECT seq, hash FROM audit ORDER BY seq DESC LIMIT 1`); err != nil && !errors.Is(err, ErrNotFound) {
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
		_, err := tx.exec(ctx, `INSERT INTO audit (seq, at, actor, action, subject, salt, digest, hash, detail) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
			e.Seq, e.At, by, action, subject, e.Salt, digest, link(last.Hash, e.Seq, digest), jsonText(detail))
		return err
	})
}

// AuditTrail lists acts, newest first.
func (s *Store) AuditTrail(ctx context.Context, p Page) (list []AuditEntry, next string, err error) {
	err = s.list(ctx, &list, `SELECT * FROM audit WHERE seq < $1 ORDER BY seq DESC LIMIT $2`, p.afterNumber(maxNumber), p.limit()+1)
	list, next = cut(p, list, func(e AuditEntry) string { return number(e.Seq) })
	return list, next, err
}

// CheckAudit walks the chain from its start; broken is the first entry that
// does not fit, 0 when all do.
func (s *Store) CheckAudit(ctx context.Context) (entries, broken int64, err error) {
	var previous []byte
	for {
		var list []AuditEntry
		if err := s.list(ctx, &list, `SELECT * FROM audit WHERE seq > $1 ORDER BY seq LIMIT 1000`, entries); err != nil {
			return entries, 0, err
		}
		for _, e := range list {
			if e.Seq != entries+1 || !bytes.Equal(e.Hash, link(previous, e.Seq, e.Digest)) || !bytes.Equal(e.Digest, e.digest()) {
				return entries, entries + 1, nil
			}
			previous, entries = e.Hash, e.Seq
		}
		if len(list) < 1000 {
			return entries, 0, nil
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
