package service

import (
	"context"
	"encoding/json"
	"time"

	"twinning/internal/store"
)

// Event is something that changed: an act, under its number, or a task as it now is.
type Event struct {
	Number int64 // of an act; 0 of a task
	Kind   string
	Body   any
}

// Events tells what changed since it was last asked; it belongs to one listener.
type Events struct {
	service *Service
	after   int64
	told    map[int64]string // of tasks, as they were told
}

const (
	actsAtOnce  = 200
	tasksAstir  = 200
	endedLately = 10 * time.Second
)

// told are the kinds of acts that whoever may look may know; users are no part of it.
var toldActs = []string{"system", "roster", "lane", "charter", "ruling", "finding", "plan", "run", "task", "freeze"}

// Listen begins after an act, or with what happens from now on (-1).
func (s *Service) Listen(ctx context.Context, after int64) (*Events, error) {
	e := &Events{service: s, after: after, told: map[int64]string{}}
	if after < 0 {
		head, err := s.Store.AuditHead(ctx)
		if err != nil {
			return nil, err
		}
		e.after = head.Seq
	}
	return e, nil
}

// Next is what changed since.
func (e *Events) Next(ctx context.Context) (list []Event, err error) {
	acts, err := e.service.Store.ActsAfter(ctx, e.after, toldActs, actsAtOnce)
	if err != nil {
		return nil, err
	}
	for _, a := range acts {
		e.after = a.Seq
		list = append(list, Event{a.Seq, "act", a})
	}
	tasks, err := e.service.Store.Astir(ctx, endedLately, tasksAstir)
	if err != nil {
		return nil, err
	}
	now := make(map[int64]string, len(tasks))
	for i := len(tasks) - 1; i >= 0; i-- {
		text, err := json.Marshal(tasks[i])
		if err != nil {
			return nil, err
		}
		now[tasks[i].ID] = string(text)
		if e.told[tasks[i].ID] != string(text) {
			list = append(list, Event{0, "task", store.Task(tasks[i])})
		}
	}
	e.told = now
	return list, nil
}
