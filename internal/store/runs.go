package store

import (
	"context"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"twinning/internal/core/lifecycle"
	"twinning/internal/core/planning"
)

// Run is one execution of a sealed plan.
type Run struct {
	ID      int64           `db:"id" json:"id"`
	Plan    int64           `db:"plan_id" json:"plan"`
	Task    int64           `db:"task_id" json:"task"`
	Wave    string          `db:"wave" json:"wave,omitempty"`
	Started time.Time       `db:"started" json:"started"`
	By      string          `db:"created_by" json:"by"`
	State   lifecycle.State `db:"state" json:"state"`
	Ended   *time.Time      `db:"ended" json:"ended,omitempty"`
	Message string          `db:"message" json:"message,omitempty"`
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

// Runs lists those of a plan, newest first.
func (s *Store) Runs(ctx context.Context, plan int64) (list []Run, err error) {
	return list, s.list(ctx, &list, runColumns+`WHERE r.plan_id = $1 ORDER BY r.id DESC`, plan)
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
	DoneBy   *int64                    `db:"done_by" json:"-"`
	Verified string                    `db:"verified" json:"verified,omitempty"`
	Delivery *Delivery                 `db:"-" json:"-"`       // what goes with its intent; nil: nothing
	Differs  JSON[map[string]string]   `db:"differs" json:"-"` // attributes that show otherwise than they were sent, and what they show
	LookedUp bool                      `db:"-" json:"-"`       // an earlier run of the plan meant to send it, and what became of that was looked up
}

const receiptColumns = `SELECT x.*, c.verb, c.person, c.label FROM receipts x JOIN runs r ON r.id = x.run_id JOIN changes c ON c.plan_id = r.plan_id AND c.number = x.number `

// Receipts lists a run's in order: of all changes, or of the one with a number.
func (s *Store) Receipts(ctx context.Context, run int64, outcome string, only *int, p Page) (list []Receipt, next string, err error) {
	err = s.list(ctx, &list, receiptColumns+`WHERE x.run_id = $1 AND ($2 = '' OR x.outcome = $2) AND ($5::int IS NULL OR x.number = $5) AND x.number > $3 ORDER BY x.number LIMIT $4`, run, outcome, p.afterNumber(-1), p.limit()+1, only)
	list, next = cut(p, list, func(r Receipt) string { return number(int64(r.Number)) })
	return list, next, err
}

// AllReceipts lists every one of a run.
func (s *Store) AllReceipts(ctx context.Context, run int64) (list []Receipt, err error) {
	return list, s.list(ctx, &list, receiptColumns+`WHERE x.run_id = $1 ORDER BY x.number`, run)
}

// StandingReceipts lists of each change of a plan the receipt by which it stands, over all runs.
func (s *Store) StandingReceipts(ctx context.Context, plan int64) (list []Receipt, err error) {
	query := strings.Replace(receiptColumns, "SELECT ", "SELECT DISTINCT ON (x.number) ", 1)
	return list, s.list(ctx, &list, query+`WHERE r.plan_id = $1 ORDER BY x.number, `+standingFirst, plan)
}

// openIntent is an intent of plan $1 of which nothing is known: where a later run has a receipt of
// the change, it has looked the intent up.
const openIntent = `x.outcome = '' AND NOT EXISTS (SELECT FROM receipts n JOIN runs l ON l.id = n.run_id WHERE l.plan_id = $1 AND n.number = x.number AND n.run_id > x.run_id)`

// OpenIntents lists the changes of a plan that some run of it meant to send and about which
// nothing is known, the newest intent of each: they are looked up before anything is sent.
func (s *Store) OpenIntents(ctx context.Context, plan int64) (list []Receipt, err error) {
	return list, s.list(ctx, &list, receiptColumns+`WHERE r.plan_id = $1 AND `+openIntent+` ORDER BY x.number`, plan)
}

// DoubtIntents says of what was meant to be sent, and never heard of, that nobody
// knows whether it was done.
func (s *Store) DoubtIntents(ctx context.Context, plan int64, why string) error {
	if _, err := s.exec(ctx, `UPDATE deliveries d SET secret = NULL, state = 'in-doubt' FROM runs r WHERE r.id = d.run_id AND r.plan_id = $1 AND d.state = 'meant'`, plan); err != nil {
		return err
	}
	_, err := s.exec(ctx, `UPDATE receipts x SET outcome = 'in-doubt', detail = $2, ended = now() FROM runs r WHERE r.id = x.run_id AND r.plan_id = $1 AND `+openIntent, plan, why)
	return err
}

// OpenChange is a change that was sent, and of which it is not known whether it came about.
type OpenChange struct {
	Receipt
	Lane int64                 `db:"lane_id"`
	Body JSON[planning.Change] `db:"body"`
}

const openColumns = `SELECT x.*, c.verb, c.person, c.label, c.body, p.lane_id FROM receipts x JOIN runs r ON r.id = x.run_id JOIN plans p ON p.id = r.plan_id JOIN changes c ON c.plan_id = p.id AND c.number = x.number
	WHERE x.outcome IN ('waiting', 'in-doubt') `

// Opened lists a lane's, oldest first.
func (s *Store) Opened(ctx context.Context, lane int64) (list []OpenChange, err error) {
	return list, s.list(ctx, &list, openColumns+`AND p.lane_id = $1 ORDER BY x.run_id, x.number`, lane)
}

// OpenOne finds one; ErrNotFound when that change of the run is not open.
func (s *Store) OpenOne(ctx context.Context, run int64, number int) (o OpenChange, err error) {
	return o, s.get(ctx, &o, openColumns+`AND x.run_id = $1 AND x.number = $2`, run, number)
}

// Unsettled lists the receipts of changes to a system that a later roster may show:
// those that wait for it, and those in doubt, oldest first.
func (s *Store) Unsettled(ctx context.Context, system int64) (list []Receipt, err error) {
	return list, s.list(ctx, &list, receiptColumns+`JOIN plans p ON p.id = r.plan_id JOIN lanes l ON l.id = p.lane_id
		WHERE l.downstream = $1 AND x.outcome IN ('waiting', 'in-doubt') ORDER BY x.run_id, x.number`, system)
}

// counts is of changes that guards count: a first secret takes nothing from anybody.
const counts = `NOT (c.verb = 'reissue' AND c.account = '')`

// DoneSince counts what was done to a system from an instant on, or may have been,
// or waits in an upload file, by verb and day in a zone.
func (s *Store) DoneSince(ctx context.Context, system int64, since time.Time, zone string) (list []Tally, err error) {
	// the verb is looked up of each: a plan of which the planner knows nothing yet may be large
	return list, s.list(ctx, &list, `SELECT verb, day, count(*) AS count FROM (
		SELECT (SELECT c.verb FROM changes c WHERE c.plan_id = r.plan_id AND c.number = x.number AND `+counts+`) AS verb, to_char(x.ended AT TIME ZONE $3, 'YYYY-MM-DD') AS day
		FROM receipts x JOIN runs r ON r.id = x.run_id JOIN plans p ON p.id = r.plan_id JOIN lanes l ON l.id = p.lane_id
		WHERE l.downstream = $1 AND x.outcome IN ('done', 'different', 'in-doubt', 'waiting') AND x.ended >= $2) q WHERE verb IS NOT NULL GROUP BY 1, 2 ORDER BY 2, 1`, system, since, zone)
}

// Tally is how many changes of a verb were done on a day.
type Tally struct {
	Verb  string `db:"verb"`
	Day   string `db:"day"`
	Count int    `db:"count"`
}

// Pending counts what other plans for a system may still do, by verb: sealed and
// not expired, running, or halted and not given up.
func (s *Store) Pending(ctx context.Context, system, except int64) (map[string]int, error) {
	var rows []struct {
		Verb  string `db:"verb"`
		Count int    `db:"count"`
	}
	err := s.list(ctx, &rows, `SELECT c.verb, count(*) AS count FROM plans p JOIN lanes l ON l.id = p.lane_id JOIN changes c ON c.plan_id = p.id AND c.set_aside = '' AND `+counts+`
		WHERE l.downstream = $1 AND p.id <> $2 AND (p.state = 'running' OR p.state IN ('sealed', 'halted') AND p.expires > now())
		AND NOT EXISTS (SELECT FROM receipts x JOIN runs r ON r.id = x.run_id WHERE r.plan_id = p.id AND x.number = c.number AND x.outcome IN ('done', 'unchanged', 'different', 'in-doubt', 'waiting')) GROUP BY 1`, system, except)
	counts := map[string]int{}
	for _, r := range rows {
		counts[r.Verb] = r.Count
	}
	return counts, err
}

// KnownAccount says by what an account of a system is known that a change has just made, as its
// system says: by a roster from before an instant, a bond, or a receipt of another change; "" when
// it is not. One whose deletion was confirmed since is not known any more.
func (s *Store) KnownAccount(ctx context.Context, system int64, account, change string, before time.Time) (why string, err error) {
	return why, s.get(ctx, &why, `WITH gone AS (SELECT max(x.ended) AS at FROM receipts x JOIN runs r ON r.id = x.run_id JOIN plans p ON p.id = r.plan_id JOIN lanes l ON l.id = p.lane_id JOIN changes c ON c.plan_id = p.id AND c.number = x.number
			WHERE l.downstream = $1 AND x.account = $2 AND c.verb = 'delete' AND x.outcome = 'done')
		SELECT CASE
		WHEN EXISTS (SELECT FROM records v JOIN rosters o ON o.id = v.since WHERE v.system_id = $1 AND v.native_id = $2 AND v.until IS NULL AND o.started < $4
			AND NOT EXISTS (SELECT FROM gone g, rosters n WHERE n.id = (SELECT max(id) FROM rosters WHERE system_id = $1 AND state = 'taken') AND g.at > n.started)) THEN 'a roster has shown it'
		WHEN EXISTS (SELECT FROM bonds b JOIN lanes l ON l.id = b.lane_id WHERE l.downstream = $1 AND b.account = $2) THEN 'it is bonded'
		WHEN EXISTS (SELECT FROM receipts x JOIN runs r ON r.id = x.run_id JOIN plans p ON p.id = r.plan_id JOIN lanes l ON l.id = p.lane_id
			WHERE l.downstream = $1 AND x.account = $2 AND x.change <> $3 AND x.outcome IN ('done', 'unchanged', 'different', 'waiting', 'in-doubt') AND x.intended > coalesce((SELECT at FROM gone), '-infinity')
			AND NOT EXISTS (SELECT FROM records v WHERE v.system_id = $1 AND v.native_id = $2 AND v.until IS NOT NULL AND NOT EXISTS (SELECT FROM records w WHERE w.system_id = $1 AND w.native_id = $2 AND w.until IS NULL))) THEN 'another change was about it'
		ELSE '' END`, system, account, change, before)
}

// EachDone calls fn for what was done to a system since an instant, and for what may have been,
// in the order in which it was; the account is also that of one that was made.
func (s *Store) EachDone(ctx context.Context, system int64, since time.Time, fn func(plan int64, c Change)) error {
	return s.eachChange(ctx, fn, `SELECT c.plan_id, c.number, c.change, c.verb, c.person, coalesce(nullif(x.account, ''), c.account), c.body FROM receipts x JOIN runs r ON r.id = x.run_id JOIN plans p ON p.id = r.plan_id JOIN lanes l ON l.id = p.lane_id
		JOIN changes c ON c.plan_id = p.id AND c.number = x.number WHERE l.downstream = $1 AND x.outcome IN ('done', 'different', 'in-doubt', 'waiting') AND x.ended >= $2 ORDER BY x.ended, x.run_id, x.number`, system, since)
}

// EachPending calls fn for what other plans for a system may still do, see Pending.
func (s *Store) EachPending(ctx context.Context, system, except int64, fn func(plan int64, c Change)) error {
	return s.eachChange(ctx, fn, `SELECT c.plan_id, c.number, c.change, c.verb, c.person, c.account, c.body FROM plans p JOIN lanes l ON l.id = p.lane_id JOIN changes c ON c.plan_id = p.id AND c.set_aside = ''
		WHERE l.downstream = $1 AND p.id <> $2 AND (p.state = 'running' OR p.state IN ('sealed', 'halted') AND p.expires > now())
		AND NOT EXISTS (SELECT FROM receipts x JOIN runs r ON r.id = x.run_id WHERE r.plan_id = p.id AND x.number = c.number AND x.outcome IN ('done', 'unchanged', 'different', 'in-doubt', 'waiting')) ORDER BY p.id, c.number`, system, except)
}

func (s *Store) eachChange(ctx context.Context, fn func(plan int64, c Change), query string, args ...any) error {
	rows, err := s.pool.Query(ctx, query, args...)
	if err != nil {
		return translate(err)
	}
	var plan int64
	var c Change
	_, err = pgx.ForEachRow(rows, []any{&plan, &c.Number, &c.ID, &c.Verb, &c.Person, &c.Account, &c.Body.V}, func() error {
		fn(plan, c)
		c = Change{}
		return nil
	})
	return translate(err)
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
