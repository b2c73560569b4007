package store

import (
	"context"
	"encoding/json"
	"time"

	"twinning/internal/core/lifecycle"
)

// Task is a piece of background work. Who works on it holds its lease and the
// fence it was given; after a take-over the old fence no longer writes.
type Task struct {
	ID             int64           `db:"id" json:"id"`
	Kind           string          `db:"kind" json:"kind"`
	Name           string          `db:"name" json:"name"`
	State          lifecycle.State `db:"state" json:"state"`
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
	Boot           string          `db:"boot" json:"-"`      // the process that is at it
	Deaths         int             `db:"deaths" json:"-"`    // processes that ended over it since it last got further
	DiedDone       int             `db:"died_done" json:"-"` // how far it was at the last of them
	Lease          *time.Time      `db:"lease" json:"-"`
	Halt           bool            `db:"halt" json:"-"`
	Roster         *int64          `db:"roster_id" json:"roster,omitempty"`
	Reconciliation *int64          `db:"reconciliation_id" json:"reconciliation,omitempty"`
	Plan           *int64          `db:"plan_id" json:"plan,omitempty"`
	Run            *int64          `db:"run_id" json:"run,omitempty"`
	Lane           *int64          `db:"lane_id" json:"-"`   // of a pass over it: one at a time, in order
	System         *int64          `db:"system_id" json:"-"` // that a run writes to
	Size           int             `db:"size" json:"-"`      // changes that a run has left
}

// PassOver notes that a task is a pass over a lane: passes of one lane go one by
// one, in the order in which they were asked for.
func (s *Store) PassOver(ctx context.Context, id, lane int64) error {
	return s.must(ctx, `UPDATE tasks SET lane_id = $2 WHERE id = $1`, id, lane)
}

// AddTask queues work.
func (s *Store) AddTask(ctx context.Context, kind, name, by string, params any) (t Task, err error) {
	return t, s.get(ctx, &t, `INSERT INTO tasks (kind, name, created_by, params) VALUES ($1, $2, $3, $4) RETURNING *`, kind, name, by, jsonText(params))
}

// Waiting counts the tasks of somebody that nobody has begun yet.
func (s *Store) Waiting(ctx context.Context, by string) (n int64, err error) {
	return n, s.get(ctx, &n, `SELECT count(*) FROM tasks WHERE state = 'queued' AND created_by = $1`, by)
}

// Task finds one.
func (s *Store) Task(ctx context.Context, id int64) (t Task, err error) {
	return t, s.get(ctx, &t, `SELECT * FROM tasks WHERE id = $1`, id)
}

// Astir lists the tasks that have not ended, and those that ended lately, at most so
// many.
func (s *Store) Astir(ctx context.Context, lately time.Duration, most int) (list []Task, err error) {
	return list, s.list(ctx, &list, `SELECT * FROM tasks WHERE ended IS NULL OR ended > now() - make_interval(secs => $1) ORDER BY id DESC LIMIT $2`, lately.Seconds(), most)
}

// Tasks lists, newest first.
func (s *Store) Tasks(ctx context.Context, p Page) (list []Task, next string, err error) {
	err = s.list(ctx, &list, `SELECT * FROM tasks WHERE id < $1 ORDER BY id DESC LIMIT $2`, p.afterNumber(maxNumber), p.limit()+1)
	list, next = cut(p, list, func(t Task) string { return number(t.ID) })
	return list, next, err
}

// ClaimTask takes the oldest task that is queued, whose lease has run out, or
// that an earlier process of the same node left behind; ErrNotFound when there
// is none. A pass over a lane waits for those that were asked for before it.
// One that another process neither ended nor left in order has cost that process
// its life, as far as anybody can tell: such deaths are counted until it gets further.
func (s *Store) ClaimTask(ctx context.Context, node, boot string, lease time.Duration, mine []int64) (t Task, err error) {
	_, to := lifecycle.Tasks.From(lifecycle.Claim)
	return t, s.get(ctx, &t, `UPDATE tasks SET state = $4, node = $1, fence = fence + 1, lease = now() + $2 * interval '1 millisecond', started = coalesce(started, now()), boot = $5,
			deaths = CASE WHEN boot IN ('', $5) THEN deaths WHEN done > died_done THEN 1 ELSE deaths + 1 END,
			died_done = CASE WHEN boot IN ('', $5) THEN died_done ELSE done END
		WHERE id = (SELECT id FROM tasks t WHERE (state = 'queued' OR state = 'running' AND (lease < now() OR node = $1) AND NOT (id = ANY(coalesce($3, '{}'::bigint[]))))
			AND NOT EXISTS (SELECT FROM tasks o WHERE o.lane_id = t.lane_id AND o.id < t.id AND o.state IN ('queued', 'running')) ORDER BY id FOR UPDATE SKIP LOCKED LIMIT 1) RETURNING *`,
		node, lease.Milliseconds(), mine, to, boot)
}

// LeaveTask lets another process go on with a task at once: this one stops, and
// not because of it.
func (s *Store) LeaveTask(ctx context.Context, t Task) error {
	_, err := s.exec(ctx, `UPDATE tasks SET boot = '', lease = now() WHERE id = $1 AND fence = $2 AND state = 'running'`, t.ID, t.Fence)
	return err
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
	n, err := s.exec(ctx, `UPDATE tasks SET done = $3, total = $4, good = $5, bad = $6, size = $4::int - $3::int WHERE id = $1 AND fence = $2`, t.ID, t.Fence, done, total, good, bad)
	if err == nil && n == 0 {
		err = ErrFenced
	}
	return err
}

// Tell notes what a task says while it goes on.
func (s *Store) Tell(ctx context.Context, t Task, message string) error {
	n, err := s.exec(ctx, `UPDATE tasks SET message = $3 WHERE id = $1 AND fence = $2`, t.ID, t.Fence, message)
	if err == nil && n == 0 {
		err = ErrFenced
	}
	return err
}

// EndTask closes a task while it is ours, and lets go of what it wrote to.
func (s *Store) EndTask(ctx context.Context, t Task, event lifecycle.Event, message string) error {
	from, to := lifecycle.Tasks.From(event)
	n, err := s.exec(ctx, `WITH free AS (UPDATE writers SET task_id = NULL WHERE task_id = $1 AND fence = $2)
		UPDATE tasks SET state = $3, message = $4, ended = now(), lease = NULL WHERE id = $1 AND fence = $2 AND state = ANY($5)`, t.ID, t.Fence, to, message, from)
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

// LogAll is Log of many at once.
func (s *Store) LogAll(ctx context.Context, task int64, lines []LogLine) error {
	return s.withCopy(ctx, func(tx bare) error {
		return copyInto(ctx, tx, "task_log", []string{"task_id", "level", "subject", "message"}, lines, func(_ int, l LogLine) []any {
			return []any{task, l.Level, l.Subject, l.Message}
		})
	})
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

// Owns reports whether a task is still ours, without changing anything.
func (s *Store) Owns(ctx context.Context, t Task) (bool, error) {
	var ok bool
	err := s.get(ctx, &ok, `SELECT EXISTS (SELECT FROM tasks WHERE id = $1 AND fence = $2 AND state = 'running')`, t.ID, t.Fence)
	return ok, err
}

// Writes notes which system a task will write to, and how much.
func (s *Store) Writes(ctx context.Context, id, system int64, size int) error {
	return s.must(ctx, `UPDATE tasks SET system_id = $2, size = $3 WHERE id = $1`, id, system, size)
}

// Last is the size of a run that waits for something else than its turn: everybody else comes
// before it.
const Last = 1<<30 - 1

// TakeTurn makes a task the one that writes to its system, if nobody else does,
// and nobody who has less to do is waiting. The holder keeps it until its task
// ends, its lease runs out, or it gives it up.
func (s *Store) TakeTurn(ctx context.Context, t Task) (ok bool, err error) {
	err = s.InTx(ctx, func(tx *Store) error {
		if _, err := tx.exec(ctx, `INSERT INTO writers (system_id) SELECT system_id FROM tasks WHERE id = $1 ON CONFLICT DO NOTHING`, t.ID); err != nil {
			return err
		}
		n, err := tx.exec(ctx, `UPDATE writers w SET task_id = t.id, fence = t.fence FROM tasks t WHERE t.id = $1 AND t.fence = $2 AND t.state = 'running' AND t.lease > now() AND w.system_id = t.system_id
			AND (w.task_id IS NULL OR w.task_id = t.id OR NOT EXISTS (SELECT FROM tasks h WHERE h.id = w.task_id AND h.state = 'running' AND h.lease > now()))
			AND (w.task_id = t.id AND w.fence = t.fence OR NOT EXISTS (SELECT FROM tasks o WHERE o.system_id = t.system_id AND o.id <> t.id AND o.state = 'running' AND o.lease > now() AND (o.size, o.id) < (t.size, t.id)))`, t.ID, t.Fence)
		ok = n > 0
		return err
	})
	return ok, err
}

// Wanted reports whether somebody waits for a task's turn who has half as much
// to do at the most: it is let in between two changes.
func (s *Store) Wanted(ctx context.Context, t Task) (wanted bool, err error) {
	return wanted, s.get(ctx, &wanted, `SELECT EXISTS (SELECT FROM tasks t JOIN tasks o ON o.system_id = t.system_id AND o.id <> t.id WHERE t.id = $1 AND o.state = 'running' AND o.lease > now() AND o.size * 2 <= t.size)`, t.ID)
}

// GiveTurn lets the next one write.
func (s *Store) GiveTurn(ctx context.Context, t Task) error {
	_, err := s.exec(ctx, `UPDATE writers SET task_id = NULL WHERE task_id = $1 AND fence = $2`, t.ID, t.Fence)
	return err
}
