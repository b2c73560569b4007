package service

import (
	"context"
	"fmt"

	"twinning/internal/access"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// Rosters lists a system's, newest first.
func (s *Service) Rosters(ctx context.Context, system string, p store.Page) ([]store.Roster, string, error) {
	x, err := s.Store.SystemByName(ctx, system)
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
		return store.Switch{}, fault.New(fault.Denied, "thawing needs the right overrule", "", "ask somebody who has it")
	}
	if err := s.Store.SetFreeze(ctx, on, who.Name, reason); err != nil {
		return store.Switch{}, err
	}
	if err := s.audit(ctx, who, map[bool]string{true: "freeze", false: "thaw"}[on], "all systems", map[string]string{"reason": reason}); err != nil {
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
}

// CheckAudit walks the audit chain.
func (s *Service) CheckAudit(ctx context.Context) (AuditCheck, error) {
	entries, broken, err := s.Store.CheckAudit(ctx)
	v := AuditCheck{Entries: entries, Intact: broken == 0}
	if broken > 0 {
		v.BrokenAt = &broken
	}
	return v, err
}
