package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"twinning/internal/access"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// Rosters lists a system's, newest first.
func (s *Service) Rosters(ctx context.Context, system string, p store.Page) ([]store.Roster, string, error) {
	x, err := s.system(ctx, system)
	if err != nil {
		return nil, "", fault.About(err, "system", system)
	}
	return s.Store.Rosters(ctx, x.ID, p)
}

// Roster finds one.
func (s *Service) Roster(ctx context.Context, id int64) (store.Roster, error) {
	r, err := s.Store.Roster(ctx, id)
	return r, fault.About(err, "roster", fmt.Sprint(id))
}

// Records lists a roster's records with their native values.
func (s *Service) Records(ctx context.Context, roster int64, p store.Page) ([]store.Record, string, int, error) {
	r, err := s.Roster(ctx, roster)
	if err != nil {
		return nil, "", 0, err
	}
	list, next, err := s.Store.Records(ctx, r, p)
	if p.Text != "" { // how many hold a text nobody has kept
		return list, next, -1, err
	}
	return list, next, r.Records, err
}

// Rejections lists a roster's unreadable records.
func (s *Service) Rejections(ctx context.Context, roster int64, p store.Page) ([]store.Rejection, string, error) {
	if _, err := s.Roster(ctx, roster); err != nil {
		return nil, "", err
	}
	return s.Store.Rejections(ctx, roster, p)
}

// LeftOut lists what a reading left out, and counts it by reason.
func (s *Service) LeftOut(ctx context.Context, roster int64, p store.Page) ([]store.Left, []store.Reason, string, error) {
	if _, err := s.Roster(ctx, roster); err != nil {
		return nil, nil, "", err
	}
	reasons, err := s.Store.LeftReasons(ctx, roster)
	if err != nil {
		return nil, nil, "", err
	}
	list, next, err := s.Store.LeftOut(ctx, roster, p)
	return list, append([]store.Reason{}, reasons...), next, err
}

// Tasks lists background work, newest first.
func (s *Service) Tasks(ctx context.Context, p store.Page) ([]store.Task, string, error) {
	return s.Store.Tasks(ctx, p)
}

// Task finds one.
func (s *Service) Task(ctx context.Context, id int64) (store.Task, error) {
	t, err := s.Store.Task(ctx, id)
	return t, fault.About(err, "task", fmt.Sprint(id))
}

// TaskLog lists what a task said.
func (s *Service) TaskLog(ctx context.Context, id int64, level string, p store.Page) ([]store.LogLine, string, error) {
	if _, err := s.Task(ctx, id); err != nil {
		return nil, "", err
	}
	return s.Store.TaskLog(ctx, id, level, p)
}

// Freeze tells whether all writing is frozen.
func (s *Service) Freeze(ctx context.Context) (store.Switch, error) { return s.Store.Freeze(ctx) }

// SetFreeze freezes all writing; thawing needs the right overrule.
func (s *Service) SetFreeze(ctx context.Context, who access.Caller, on bool, reason string) (store.Switch, error) {
	if !on && !who.May(access.Overrule) {
		return store.Switch{}, fault.New(fault.Denied, "thawing needs the right overrule", "", "ask somebody who has it").Because("right-missing")
	}
	err := s.act(ctx, who, map[bool]string{true: "freeze", false: "thaw"}[on], "all systems", map[string]string{"reason": reason}, func(tx *store.Store) error {
		return tx.SetFreeze(ctx, on, who.Name, reason)
	})
	if err != nil {
		return store.Switch{}, err
	}
	return s.Store.Freeze(ctx)
}

// AuditTrail lists acts, newest first.
func (s *Service) AuditTrail(ctx context.Context, p store.Page) ([]store.AuditEntry, string, error) {
	return s.Store.AuditTrail(ctx, p)
}

// AuditCheck is the verdict on the audit chain.
type AuditCheck struct {
	Entries  int64  `json:"entries"`
	Intact   bool   `json:"intact"`
	BrokenAt *int64 `json:"brokenAt,omitempty"`
	HasHead  *bool  `json:"hasHead,omitempty"` // whether the head that was given stands in it
	Head     string `json:"head"`              // its end as it is now
}

// headText is a head as people keep it: the number of the last entry and its hash.
func headText(h store.Head) string { return fmt.Sprintf("%d:%s", h.Seq, hex.EncodeToString(h.Hash)) }

func parseHead(text string) (h store.Head, err error) {
	seq, hash, _ := strings.Cut(strings.TrimSpace(text), ":")
	if h.Seq, err = strconv.ParseInt(seq, 10, 64); err == nil {
		h.Hash, err = hex.DecodeString(hash)
	}
	if err != nil || h.Seq < 1 || len(h.Hash) != sha256.Size {
		err = &fault.Error{Kind: fault.Invalid, Title: "that is no head of an audit trail", Detail: "expected what `twinning audit head` printed", Field: "head"}
	}
	return h, err
}

// AuditHead is the end of the trail, to be kept where nobody who can write the
// database can reach it.
func (s *Service) AuditHead(ctx context.Context) (string, error) {
	h, err := s.Store.AuditHead(ctx)
	return headText(h), err
}

// CheckAudit walks the audit chain, and holds it against a head that was kept ("":
// none).
func (s *Service) CheckAudit(ctx context.Context, head string) (v AuditCheck, err error) {
	kept := store.Head{}
	if head != "" {
		if kept, err = parseHead(head); err != nil {
			return v, err
		}
	}
	c, err := s.Store.CheckAudit(ctx, kept)
	if err != nil {
		return v, err
	}
	v.Entries, v.Intact = c.Entries, c.Broken == 0 && c.Head
	if c.Broken > 0 {
		v.BrokenAt = &c.Broken
	}
	if head != "" {
		v.HasHead = &c.Head
	}
	v.Head, err = s.AuditHead(ctx)
	return v, err
}
