package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"twinning/internal/access"
	"twinning/internal/connector"
	"twinning/internal/fault"
	"twinning/internal/reach"
	"twinning/internal/store"
)

// ProbeReport says step by step how far a connection comes. Nothing in it is
// secret.
type ProbeReport struct {
	System string           `json:"system"`
	Kind   string           `json:"kind"`
	At     time.Time        `json:"at"`
	OK     bool             `json:"ok"`
	Steps  []connector.Step `json:"steps"`
}

// probeTime bounds a probe as a whole; its steps have limits of their own.
const probeTime = 60 * time.Second

// Probe tries a system step by step.
func (s *Service) Probe(ctx context.Context, who access.Caller, system string) (ProbeReport, error) {
	ctx, cancel := context.WithTimeout(ctx, probeTime)
	defer cancel()
	x, err := s.system(ctx, system)
	if err != nil {
		return ProbeReport{}, fault.About(err, "system", system)
	}
	c, err := s.reach.Connect(x, reach.For{})
	if err != nil {
		return ProbeReport{}, err
	}
	defer reach.Closed(c)
	r := ProbeReport{System: system, Kind: x.Kind, At: s.Now().UTC(), Steps: connector.Probe(ctx, c)}
	r.OK = !slices.ContainsFunc(r.Steps, func(step connector.Step) bool { return step.State == connector.StepFailed })
	return r, s.act(ctx, who, "system.probe", system, nil, onlyTold)
}

// HaltTask asks a task to stop.
func (s *Service) HaltTask(ctx context.Context, who access.Caller, id int64) (t store.Task, err error) {
	if _, err := s.Task(ctx, id); err != nil {
		return t, err
	}
	err = s.act(ctx, who, "task.halt", fmt.Sprintf("task %d", id), nil, func(tx *store.Store) error {
		return ended(tx.AskHalt(ctx, id), "the task has ended")
	})
	if err != nil {
		return t, err
	}
	return s.Task(ctx, id)
}

// ended tells of something that can't be halted any more.
func ended(err error, title string) error {
	if errors.Is(err, store.ErrNotFound) {
		return fault.New(fault.Conflict, title, "", "")
	}
	return err
}
