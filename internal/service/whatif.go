package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"twinning/internal/access"
	"twinning/internal/core/charter"
	"twinning/internal/core/reconcile"
	"twinning/internal/explain"
	"twinning/internal/fault"
	"twinning/internal/store"
	"twinning/internal/work"
)

// comparing is what a task compares.
type comparing struct {
	Lane   int64  `json:"lane"`
	Source string `json:"source"`
}

// CompareCharter reconciles the newest rosters by the charter in force and by one that is not
// kept, and says how the two differ. Where there are so many records that nobody would wait
// for it, a task does, and Comparison tells what came of it.
func (s *Service) CompareCharter(ctx context.Context, who access.Caller, lane, source string) (w *reconcile.WhatIf, later *store.Task, err error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return nil, nil, err
	}
	rules, err := s.comparable(ctx, l, source)
	if err != nil {
		return nil, nil, err
	}
	n := 0
	for _, system := range []int64{l.AuthorityID, l.DownstreamID} { // before any is read
		r, err := s.Store.NewestRoster(ctx, system)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, nil, err
		}
		n += r.Records
	}
	if n <= s.MostCompared {
		w, err = s.compare(ctx, l.ID, rules)
		return w, nil, err
	}
	later = &store.Task{}
	err = s.act(ctx, who, "compare charters", lane, nil, func(tx *store.Store) (err error) {
		*later, err = queue(ctx, tx, "compare", "compare charters of "+lane, who, comparing{l.ID, source})
		return err
	})
	s.nudge()
	return nil, later, err
}

// comparable reads a charter that is to be held against the lane's own.
func (s *Service) comparable(ctx context.Context, l store.Lane, source string) (*charter.Charter, error) {
	rules, err := s.parse(ctx, source)
	if err != nil {
		return nil, err
	}
	return rules, explain.OfLane(rules, l)
}

func (s *Service) compare(ctx context.Context, lane int64, rules *charter.Charter) (*reconcile.WhatIf, error) {
	now, err := s.laneInput(ctx, lane, rules)
	if err != nil {
		return nil, err
	}
	then := now
	then.Charter = rules
	if err := s.resting(ctx, &then); err != nil {
		return nil, err
	}
	for _, in := range []*laneInput{&now, &then} {
		in.Tell, in.Premises = false, false
	}
	return computed(ctx, s, now.Input, "comparing charters", func(in reconcile.Input) (*reconcile.WhatIf, error) { return reconcile.Compare(in, then.Input), nil })
}

// compareLater is the task.
func (s *Service) compareLater(ctx context.Context, w *work.Work) error {
	var p comparing
	if err := json.Unmarshal(w.Params, &p); err != nil {
		return err
	}
	computing, cancel := w.Until(ctx)
	defer cancel()
	l, err := s.Store.LaneByID(computing, p.Lane)
	if err != nil {
		return err
	}
	rules, err := s.comparable(computing, l, p.Source)
	if err != nil {
		return err
	}
	found, err := s.compare(computing, l.ID, rules)
	if err != nil && w.Halted() {
		w.Say("halted as asked; nothing of it was kept")
		return work.ErrHalted
	}
	if err != nil {
		return err
	}
	w.Say("changes that differ: %d", found.Differ)
	return s.Store.KeepComparison(ctx, w.Task, l.ID, asJSON(found))
}

// Comparison is what a task that compared charters has found.
func (s *Service) Comparison(ctx context.Context, lane string, task int64) (w *reconcile.WhatIf, err error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return nil, err
	}
	report, err := s.Store.Comparison(ctx, l.ID, task)
	if errors.Is(err, store.ErrNotFound) {
		return nil, fault.New(fault.NotFound, fmt.Sprintf("task %d has compared no charters of lane %q, or not yet, or longer than a day ago", task, lane), "", fmt.Sprintf("look at the task: twinning task list; compare anew: twinning charter compare %s", lane))
	}
	if err != nil {
		return nil, err
	}
	return w, json.Unmarshal(report, &w)
}
