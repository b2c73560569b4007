package store

import (
	"context"
	"encoding/json"
	"time"
)

// Task is a piece of background work. Who works on it holds its lease and the
// fence it was given; after a take-over the old fence no longer writes.
type Task struct {
	ID             int64           `db:"id" json:"id"`
	Kind           string          `db:"kind" json:"kind"`
	Name           string          `db:"name" json:"name"`
	State          string          `db:"state" json:"state"`
	Params         json.RawMessage `db:"params" json:"-"`
	Created        time.Time       `db:"created" json:"created"`
	Started        *time.Time      `db:"started" json:"started,omitempty"`
	Ended          *time.Time      `db:"ended" json:"ended,omitempty"`
	By             string          `db:"created_by" json:"by"`
	Done           int             `db:"done" json:"done"`
	Total          int             `db:"total" json:"total"`
	Good           int             `db:"good" json:"good"`
	Bad            int             `db:"bad" json:"bad"`
	Message        string          `db:"message" json:"message,omitempty"`
	Node           string          `db:"node" json:"-"`
	Fence          int64           `db:"fence" json:"-"`
	Lease          *time.Time      `db:"lease" json:"-"`
	Halt           bool            `db:"halt" json:"-"`
	Roster         *int64          `db:"roster_id" json:"roster,omitempty"`
	Reconciliation *int64          `db:"reconciliation_id" json:"reconciliation,omitempty"`
	Plan           *int64          `db:"plan_id" json:"plan,omitempty"`
	Run            *int64          `db:"run_id" json:"run,omitempty"`
}

// AddTask queues work.
func (s *Store) AddTask(ctx context.Context, kind, name, by string, params any) (t Task, err error) {
	return t, s.get(ctx, &t, `INSERT INTO tasks (kind, name, created_by, params) VALUES ($1, $2, $3, $4) RETURNING *`, kind, name, by, jsonText(params))
}

// Task finds one.
func (s *Store) Task(ctx context.Context, id int64) (t Task, err error) {
	return t, s.get(ctx, &t, `SELECT * FROM tasks WHERE id = $1`, id)
}

// Tasks lists, newest first.
func (s *Store) Tasks(ctx context.Context, p Page) (list []Task, next string, err error) {
	err = s.list(ctx, &list, `SELECT * FROM tasks WHERE id < $1 ORDER BY id DESC LIMIT $2`, p.afterNumber(maxNumber), p.limit()+1)
	list, next = cut(p, list, func(t Task) string { return number(t.ID) })
	return list, next, err
}

// ClaimTask takes the oldest task that is queued, whose lease has run out, or
// that an earlier process of the same node left behind; ErrNotFound when there
// is none.
func (s *Store) ClaimTask(ctx context.Context, node string, lease time.Duration, mine []int64) (t Task, err error) {
	return t, s.get(ctx, &t, `UPDATE tasks SET state = 'running', node = $1, fence = fence + 1, lease = now() + $2 * interval '1 millisecond', started = coalesce(started, now())
		WHERE id = (SELECT id FROM tasks WHERE state = 'queued' OR state = 'running' AND (lease < now() OR node = $1) AND NOT (id = ANY(coalesce($3, '{}'::bigint[]))) ORDER BY id FOR UPDATE SKIP LOCKED LIMIT 1) RETURNING *`,
		node, lease.Milliseconds(), mine)
}

// RenewLease keeps a task ours; ErrFenced when another node has it.
func (s *Store) RenewLease(ctx context.Context, t Task, lease time.Duration) (halt bool, err error) {
	err = s.get(ctx, &halt, `UPDATE tasks SET lease = now() + $3 * interval '1 millisecond' WHERE id = $1 AND fence = $2 AND state = 'running' RETURNING halt`, t.ID, t.Fence, lease.Milliseconds())
	if err == ErrNotFound { // our own sentinel
		err = ErrFenced
	}
	return halt, err
}

// Progress updates a task's counts while it is ours.
func (s *Store) Progress(ctx context.Context, t Task, done, total, good, bad int) error {
	n, err := s.exec(ctx, `UPDATE tasks SET done = $3, total = $4, good = $5, bad = $6 WHERE id = $1 AND fence = $2`, t.ID, t.Fence, done, total, good, bad)
	if err == nil && n == 0 {
		err = ErrFenced
	}
	return err
}

// EndTask closes a task while it is ours.
func (s *Store) EndTask(ctx context.Context, t Task, state, message string) error {
	n, err := s.exec(ctx, `UPDATE tasks SET state = $3, message = $4, ended = now(), lease = NULL WHERE id = $1 AND fence = $2 AND state = 'running'`, t.ID, t.Fence, state, message)
	if err == nil && n == 0 {
		err = ErrFenced
	}
	return err
}

// LinkTask names what the task works on: roster, reconciliation, plan or run.
func (s *Store) LinkTask(ctx context.Context, id int64, roster, reconciliation, plan, run int64) error {
	_, err := s.exec(ctx, `UPDATE tasks SET roster_id = coalesce(nullif($2, 0), roster_id), reconciliation_id = coalesce(nullif($3, 0), reconciliation_id),
		plan_id = coalesce(nullif($4, 0), plan_id), run_id = coalesce(nullif($5, 0), run_id) WHERE id = $1`, id, roster, reconciliation, plan, run)
	return err
}

// AskHalt asks whoever works on the task to stop after the change it is at.
func (s *Store) AskHalt(ctx context.Context, id int64) error {
	return s.must(ctx, `UPDATE tasks SET halt = true WHERE id = $1 AND state IN ('queued', 'running')`, id)
}

// LogLine is what a task says about one record.
type LogLine struct {
	Number  int64     `db:"number" json:"number"`
	At      time.Time `db:"at" json:"at"`
	Level   string    `db:"level" json:"level"`
	Subject string    `db:"subject" json:"subject"`
	Message string    `db:"message" json:"message"`
}

// Log adds a line.
func (s *Store) Log(ctx context.Context, task int64, level, subject, message string) error {
	_, err := s.exec(ctx, `INSERT INTO task_log (task_id, level, subject, message) VALUES ($1, $2, $3, $4)`, task, level, subject, message)
	return err
}

// TaskLog lists a task's lines in order.
func (s *Store) TaskLog(ctx context.Context, task int64, level string, p Page) (list []LogLine, next string, err error) {
	err = s.list(ctx, &list, `SELECT number, at, level, subject, message FROM task_log WHERE task_id = $1 AND number > $2 AND ($3 = '' OR level = $3) ORDER BY number LIMIT $4`, task, p.afterNumber(0), level, p.limit()+1)
	list, next = cut(p, list, func(l LogLine) string { return number(l.Number) })
	return list, next, err
}

// SetTaskParams gives a task its parameters, for those that name what was made
// after the task.
func (s *Store) SetTaskParams(ctx context.Context, id int64, params any) error {
	return s.must(ctx, `UPDATE tasks SET params = $2 WHERE id = $1`, id, jsonText(params))
}
