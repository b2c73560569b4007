package service

import (
	"context"
	"errors"

	"twinning/internal/core/pairing"
	"twinning/internal/core/record"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// KeySurvey is what the newest rosters of two systems say about which
// attributes identify.
type KeySurvey struct {
	From string `json:"from"`
	In   string `json:"in"`
	pairing.Survey
}

// SurveyKeys holds the attributes of two systems against each other.
func (s *Service) SurveyKeys(ctx context.Context, people, accounts string) (v KeySurvey, err error) {
	left, err := s.surveyed(ctx, people)
	if err != nil {
		return v, err
	}
	right, err := s.surveyed(ctx, accounts)
	if err != nil {
		return v, err
	}
	return KeySurvey{From: people, In: accounts, Survey: pairing.SurveyKeys(left, right)}, nil
}

func (s *Service) surveyed(ctx context.Context, system string) (*record.Roster, error) {
	x, err := s.system(ctx, system)
	if err != nil {
		return nil, fault.About(err, "system", system)
	}
	newest, err := s.Store.NewestRoster(ctx, x.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, fault.New(fault.Conflict, "no roster of "+system+" has been taken yet", "", "twinning roster take "+system).Because("no-roster")
	}
	if err != nil {
		return nil, err
	}
	shape, err := s.reach.ShapeOf(x, newest.Shape)
	if err != nil {
		return nil, err
	}
	roster, _, err := s.intake.Load(ctx, x, newest, shape.Canonical(), nil)
	return roster, err
}
