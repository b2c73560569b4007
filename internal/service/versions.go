package service

import (
	"context"
	"fmt"

	"github.com/pmezard/go-difflib/difflib"

	"twinning/internal/fault"
	"twinning/internal/store"
)

// Charters lists the versions of a lane's charter, newest first, with who gave each, and why.
func (s *Service) Charters(ctx context.Context, lane string, p store.Page) (list []CharterView, next string, err error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return nil, "", err
	}
	all, next, err := s.Store.Charters(ctx, l.ID, p.Within(l.ID))
	for _, c := range all {
		list = append(list, charterView(lane, c, nil))
	}
	return list, next, err
}

// CharterDiff is what changed from one version of a charter to another.
type CharterDiff struct {
	From int64  `json:"from"`
	To   int64  `json:"to"`
	Diff string `json:"diff"` // as a unified diff, blank where they are the same
}

// DiffCharters tells what changed from one version to another; 0 is the one before, and the
// newest.
func (s *Service) DiffCharters(ctx context.Context, lane string, from, to int64) (d CharterDiff, err error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return d, err
	}
	after, err := s.Store.Charter(ctx, l.ID, to)
	if err != nil {
		return d, fault.About(err, "charter", fmt.Sprintf("%d of lane %s", to, lane))
	}
	var before store.Charter
	if from == 0 {
		from = after.Version - 1
	}
	if from > 0 {
		if before, err = s.Store.Charter(ctx, l.ID, from); err != nil {
			return d, fault.About(err, "charter", fmt.Sprintf("%d of lane %s", from, lane))
		}
	}
	d.From, d.To = before.Version, after.Version
	d.Diff, err = difflib.GetUnifiedDiffString(difflib.UnifiedDiff{
		A: difflib.SplitLines(before.Source), B: difflib.SplitLines(after.Source), Context: 2,
		FromFile: fmt.Sprintf("%s version %d", lane, before.Version), ToFile: fmt.Sprintf("%s version %d", lane, after.Version),
	})
	return d, err
}
