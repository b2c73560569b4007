package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// Plan is ordered changes in waves, with the state of their approval.
type Plan struct {
	ID             int64           `db:"id" json:"id"`
	LaneID         int64           `db:"lane_id" json:"-"`
	Reconciliation int64           `db:"reconciliation_id" json:"reconciliation"`
	State          string          `db:"state" json:"state"`
	Created        time.Time       `db:"created" json:"created"`
	By             string          `db:"created_by" json:"by"`
	Hash           string          `db:"hash" json:"hash"`
	Verbs          json.RawMessage `db:"verbs" json:"verbs"`
	Waves          json.RawMessage `db:"waves" json:"waves"`
	Guards         json.RawMessage `db:"guards" json:"guards"`
	SealedBy       string          `db:"sealed_by" json:"sealedBy,omitempty"`
	SealedAt       *time.Time      `db:"sealed_at" json:"sealedAt,omitempty"`
	Expires        *time.Time      `db:"expires" json:"sealExpires,omitempty"`
	Overruled      string          `db:"overruled" json:"overruled,omitempty"`
}

// AddPlan keeps a draft with its changes; older drafts of the lane become void.
func (s *Store) AddPlan(ctx context.Context, p Plan, changes []Change) (id int64, err error) {
	return id, s.withCopy(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `UPDATE plans SET state = 'void' WHERE lane_id = $1 AND state = 'draft'`, p.LaneID); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, `INSERT INTO plans (lane_id, reconciliation_id, state, created_by, hash, verbs, waves, guards) VALUES ($1, $2, 'draft', $3, $4, $5, $6, $7) RETURNING id`,
			p.LaneID, p.Reconciliation, p.By, p.Hash, p.Verbs, p.Waves, p.Guards).Scan(&id); err != nil {
			return err
		}
		return copyInto(ctx, tx, "changes", changeColumns("plan_id"), changes, func(i int, c Change) []any { return c.row(id, i) })
	})
}

// Plan finds one.
func (s *Store) Plan(ctx context.Context, id int64) (p Plan, err error) {
	return p, s.get(ctx, &p, `SELECT * FROM plans WHERE id = $1`, id)
}

// LatestPlan finds a lane's newest that is not void.
func (s *Store) LatestPlan(ctx context.Context, lane int64) (p Plan, err error) {
	return p, s.get(ctx, &p, `SELECT * FROM plans WHERE lane_id = $1 AND state <> 'void' ORDER BY id DESC LIMIT 1`, lane)
}

// Plans lists a lane's, newest first.
func (s *Store) Plans(ctx context.Context, lane int64, p Page) (list []Plan, next string, err error) {
	err = s.list(ctx, &list, `SELECT * FROM plans WHERE lane_id = $1 AND id < $2 ORDER BY id DESC LIMIT $3`, lane, p.afterNumber(maxNumber), p.limit()+1)
	list, next = cut(p, list, func(x Plan) string { return number(x.ID) })
	return list, next, err
}

// Name is a name that a plan reserves.
type Name struct{ Name, Person string }

// SealPlan approves a draft and reserves its names; ErrTaken when another
// sealed plan holds one of them, ErrChanged when it is no longer a draft.
func (s *Store) SealPlan(ctx context.Context, id, system int64, by, overruled string, expires time.Time, names []Name) error {
	return s.InTx(ctx, func(tx *Store) error {
		if _, err := tx.exec(ctx, `DELETE FROM reservations r USING plans p WHERE p.id = r.plan_id AND (p.state IN ('void', 'finished') OR p.state = 'sealed' AND p.expires < now())`); err != nil {
			return err
		}
		err := tx.must(ctx, `UPDATE plans SET state = 'sealed', sealed_by = $2, sealed_at = now(), expires = $3, overruled = $4 WHERE id = $1 AND state = 'draft'`, id, by, expires, overruled)
		if errors.Is(err, ErrNotFound) {
			return ErrChanged
		}
		if err != nil {
			return err
		}
		for _, n := range names {
			if _, err := tx.exec(ctx, `INSERT INTO reservations (system_id, name, plan_id, person) VALUES ($1, $2, $3, $4)`, system, n.Name, id, n.Person); err != nil {
				return err
			}
		}
		return nil
	})
}

// MovePlan changes a plan's state from one of some to another.
func (s *Store) MovePlan(ctx context.Context, id int64, from []string, to string) error {
	n, err := s.exec(ctx, `UPDATE plans SET state = $3 WHERE id = $1 AND state = ANY($2)`, id, from, to)
	if err == nil && n == 0 {
		err = ErrChanged
	}
	return err
}

const changeMatch = ` FROM changes c LEFT JOIN LATERAL (SELECT x.outcome, x.detail, x.verified FROM receipts x JOIN runs r ON r.id = x.run_id WHERE r.plan_id = c.plan_id AND x.number = c.number ORDER BY x.run_id DESC LIMIT 1) t ON true
	WHERE c.plan_id = $1 AND ($2 = '' OR c.verb = $2) AND ($3 = '' OR t.outcome = $3) AND ($4 = '%%' OR c.person ILIKE $4 OR c.account ILIKE $4 OR c.label ILIKE $4 OR c.body::text ILIKE $4)`

const changeSelect = `SELECT c.number, c.change, c.wave, c.verb, c.person, c.account, c.label, c.body, coalesce(t.outcome, '') AS outcome, coalesce(t.detail, '') AS detail, coalesce(t.verified, '') AS verified`

// Changes lists a plan's in order, with the newest outcome of each.
func (s *Store) Changes(ctx context.Context, plan int64, verb, outcome string, p Page) (list []Change, next string, total int, err error) {
	if err := s.get(ctx, &total, `SELECT count(*)`+changeMatch, plan, verb, outcome, p.like()); err != nil {
		return nil, "", 0, err
	}
	err = s.list(ctx, &list, changeSelect+changeMatch+` AND c.number > $5 ORDER BY c.number LIMIT $6`, plan, verb, outcome, p.like(), p.afterNumber(-1), p.limit()+1)
	list, next = cut(p, list, func(c Change) string { return number(int64(c.Number)) })
	return list, next, total, err
}

// AllChanges lists every change of a plan with its newest outcome.
func (s *Store) AllChanges(ctx context.Context, plan int64) (list []Change, err error) {
	return list, s.list(ctx, &list, changeSelect+changeMatch+` ORDER BY c.number`, plan, "", "", "%%")
}

// Run is one execution of a sealed plan.
type Run struct {
	ID      int64      `db:"id" json:"id"`
	Plan    int64      `db:"plan_id" json:"plan"`
	Task    int64      `db:"task_id" json:"task"`
	Wave    string     `db:"wave" json:"-"`
	Started time.Time  `db:"started" json:"started"`
	By      string     `db:"created_by" json:"by"`
	State   string     `db:"state" json:"state"`
	Ended   *time.Time `db:"ended" json:"ended,omitempty"`
	Message string     `db:"message" json:"message,omitempty"`
}

const runColumns = `SELECT r.*, t.state, t.ended, t.message FROM runs r JOIN tasks t ON t.id = r.task_id `

// AddRun notes that a plan is being run by a task.
func (s *Store) AddRun(ctx context.Context, plan, task int64, wave, by string) (id int64, err error) {
	return id, s.get(ctx, &id, `INSERT INTO runs (plan_id, task_id, wave, created_by) VALUES ($1, $2, $3, $4) RETURNING id`, plan, task, wave, by)
}

// Run finds one.
func (s *Store) Run(ctx context.Context, id int64) (r Run, err error) {
	return r, s.get(ctx, &r, runColumns+`WHERE r.id = $1`, id)
}

// LatestRun finds a plan's newest.
func (s *Store) LatestRun(ctx context.Context, plan int64) (r Run, err error) {
	return r, s.get(ctx, &r, runColumns+`WHERE r.plan_id = $1 ORDER BY r.id DESC LIMIT 1`, plan)
}

// Receipt tells of one change: what was read, sent and answered.
type Receipt struct {
	RunID    int64                     `db:"run_id" json:"-"`
	Number   int                       `db:"number" json:"number"`
	Change   string                    `db:"change" json:"change"`
	Verb     string                    `db:"verb" json:"verb"`
	Person   string                    `db:"person" json:"person,omitempty"`
	Label    string                    `db:"label" json:"label"`
	Account  string                    `db:"account" json:"account,omitempty"`
	Outcome  string                    `db:"outcome" json:"outcome,omitempty"`
	Detail   string                    `db:"detail" json:"detail,omitempty"`
	Intended time.Time                 `db:"intended" json:"intended"`
	Ended    *time.Time                `db:"ended" json:"ended,omitempty"`
	Before   JSON[map[string][]string] `db:"before" json:"before"`
	Sent     JSON[map[string][]string] `db:"sent" json:"sent"`
	After    JSON[map[string][]string] `db:"after" json:"after"`
	Trace    JSON[[]string]            `db:"trace" json:"trace"`
	Attempts int                       `db:"attempts" json:"attempts"`
	Verified string                    `db:"verified" json:"verified,omitempty"`
}

// Intend records that a change is about to be sent, before it is sent. A node
// that lost its lease, or may lose it before the answer comes, is refused with
// ErrFenced.
func (s *Store) Intend(ctx context.Context, t Task, r Receipt, answer time.Duration) error {
	n, err := s.exec(ctx, `INSERT INTO receipts (run_id, number, change, account, before, sent, trace, attempts)
		SELECT $3, $4, $5, $6, $7, $8, $9, 1 WHERE EXISTS (SELECT FROM tasks WHERE id = $1 AND fence = $2 AND lease > now() + $10 * interval '1 millisecond')
		ON CONFLICT (run_id, number) DO UPDATE SET before = $7, sent = $8, trace = $9, attempts = receipts.attempts + 1, intended = now()`,
		t.ID, t.Fence, r.RunID, r.Number, r.Change, r.Account, jsonText(r.Before.V), jsonText(r.Sent.V), jsonText(r.Trace.V), answer.Milliseconds())
	if err == nil && n == 0 {
		err = ErrFenced
	}
	return err
}

// Settle records a change's outcome, with or without an intent before it.
func (s *Store) Settle(ctx context.Context, t Task, r Receipt) error {
	n, err := s.exec(ctx, `INSERT INTO receipts (run_id, number, change, account, before, sent, after, trace, attempts, outcome, detail, ended)
		SELECT $3, $4, $5, $6, $7, $8, $9, $10, 0, $11, $12, now() WHERE EXISTS (SELECT FROM tasks WHERE id = $1 AND fence = $2)
		ON CONFLICT (run_id, number) DO UPDATE SET account = $6, before = $7, sent = $8, after = $9, trace = $10, outcome = $11, detail = $12, ended = now()`,
		t.ID, t.Fence, r.RunID, r.Number, r.Change, r.Account, jsonText(r.Before.V), jsonText(r.Sent.V), jsonText(r.After.V), jsonText(r.Trace.V), r.Outcome, r.Detail)
	if err == nil && n == 0 {
		err = ErrFenced
	}
	return err
}

const receiptColumns = `SELECT x.*, c.verb, c.person, c.label FROM receipts x JOIN runs r ON r.id = x.run_id JOIN changes c ON c.plan_id = r.plan_id AND c.number = x.number `

// Receipts lists a run's in order.
func (s *Store) Receipts(ctx context.Context, run int64, outcome string, p Page) (list []Receipt, next string, err error) {
	err = s.list(ctx, &list, receiptColumns+`WHERE x.run_id = $1 AND ($2 = '' OR x.outcome = $2) AND x.number > $3 ORDER BY x.number LIMIT $4`, run, outcome, p.afterNumber(-1), p.limit()+1)
	list, next = cut(p, list, func(r Receipt) string { return number(int64(r.Number)) })
	return list, next, err
}

// AllReceipts lists every one of a run.
func (s *Store) AllReceipts(ctx context.Context, run int64) (list []Receipt, err error) {
	return list, s.list(ctx, &list, receiptColumns+`WHERE x.run_id = $1 ORDER BY x.number`, run)
}

// Waiting lists the receipts of changes to a system that only a later roster
// shows, oldest first.
func (s *Store) Waiting(ctx context.Context, system int64) (list []Receipt, err error) {
	return list, s.list(ctx, &list, receiptColumns+`JOIN plans p ON p.id = r.plan_id JOIN lanes l ON l.id = p.lane_id
		WHERE l.downstream = $1 AND x.outcome = 'waiting' ORDER BY x.run_id, x.number`, system)
}

// Shown settles a waiting receipt that a roster shows now.
func (s *Store) Shown(ctx context.Context, r Receipt) error {
	return s.must(ctx, `UPDATE receipts SET outcome = 'done', account = $3, after = $4, detail = $5, verified = 'confirmed', ended = now() WHERE run_id = $1 AND number = $2 AND outcome = 'waiting'`,
		r.RunID, r.Number, r.Account, jsonText(r.After.V), r.Detail)
}

// SetVerified records what reading again showed.
func (s *Store) SetVerified(ctx context.Context, run int64, number int, verdict string) error {
	return s.must(ctx, `UPDATE receipts SET verified = $3 WHERE run_id = $1 AND number = $2`, run, number, verdict)
}

// Counts counts a run's receipts by outcome or by what verification said.
func (s *Store) Counts(ctx context.Context, run int64, by string) (map[string]int, error) {
	column := map[string]string{"outcome": "outcome", "verified": "verified"}[by]
	var rows []struct {
		Word string `db:"word"`
		N    int    `db:"n"`
	}
	err := s.list(ctx, &rows, `SELECT `+column+` AS word, count(*) AS n FROM receipts WHERE run_id = $1 AND `+column+` <> '' GROUP BY 1`, run)
	counts := map[string]int{}
	for _, r := range rows {
		counts[r.Word] = r.N
	}
	return counts, err
}
