package service

import (
	"slices"
	"time"

	"twinning/internal/core/charter"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/store"
)

// rememberDays is how long a guard may look back: nobody allows a number of
// suspensions a year.
const rememberDays = 100

// remember updates a lane's memory from a run's receipts; called exactly once,
// in the transaction that ends the run.
func remember(m *reconcile.Memory, receipts []store.Receipt, changes map[int]store.Change, today string) {
	tally := map[string]int{}
	if m.Written == nil {
		m.Written = map[string]map[string]reconcile.Sent{}
	}
	if m.Suspended == nil {
		m.Suspended = map[string]bool{}
	}
	for _, r := range receipts {
		c := changes[r.Number]
		if r.Outcome != "done" || r.Account == "" {
			continue
		}
		tally[c.Verb]++
		switch c.Verb {
		case planning.Suspend:
			m.Suspended[r.Account] = true
		case planning.Reinstate:
			delete(m.Suspended, r.Account)
		}
		for _, e := range c.Body.V.Edits {
			if e.Attribute == "active" || e.Attribute == "aliases" {
				continue
			}
			if m.Written[r.Account] == nil {
				m.Written[r.Account] = map[string]reconcile.Sent{}
			}
			sent := m.Written[r.Account][e.Attribute]
			if sent.Value != e.New {
				sent = reconcile.Sent{Value: e.New}
			}
			sent.Rounds++
			m.Written[r.Account][e.Attribute] = sent
		}
	}
	oldest := today
	if day, err := time.Parse(time.DateOnly, today); err == nil {
		oldest = day.AddDate(0, 0, -rememberDays).Format(time.DateOnly)
	}
	m.Done = slices.DeleteFunc(m.Done, func(t reconcile.Tally) bool { return t.Day < oldest })
	for _, verb := range charter.Verbs {
		if tally[verb] > 0 {
			m.Done = append(m.Done, reconcile.Tally{Day: today, Verb: verb, Count: tally[verb]})
		}
	}
}
