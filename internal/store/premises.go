package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"twinning/internal/core/planning"
)

// Ground is where premises are looked at: a lane with its systems, and the roster
// of the people that was reconciled.
type Ground struct {
	Lane, Authority, Downstream int64
	PeopleRoster                int64
}

// Standing is what stands around a change at this moment, beside its premises.
type Standing struct {
	PeopleRoster, AccountsRoster int64  // newest taken
	SharedRoster                 int64  // newest taken of the systems that share the downstream's names, 0 where none does
	Frozen                       string // by whom; "" when writing is not frozen
	Observing                    bool   // the lane only observes
	Writable                     bool   // the downstream is open
	SystemVersion                int64
	Halt                         bool // somebody asked the task to stop
	Ours                         bool // the task is ours, and its lease runs
	Turn                         bool // it is the one that writes to the system
}

// factQuery says how every kind of premise stands now. The digest of a person is
// of their newest version; what the newest roster could not read is not known. Ids that could
// not be read may be of any length, and are found by their beginning. What there is none of in
// the whole lane is not looked for change by change.
const factQuery = `WITH asked AS (SELECT * FROM unnest($1::text[], $2::text[]) AS a(kind, key)),
	newest AS MATERIALIZED (SELECT n.*, EXISTS (SELECT FROM rejections x WHERE x.roster_id = n.people) AS rejected, EXISTS (SELECT FROM left_out x WHERE x.roster_id = n.people) AS left_out,
		EXISTS (SELECT FROM rulings u WHERE u.lane_id = $3 AND u.cleared IS NULL) AS ruled, EXISTS (SELECT FROM lanes l WHERE l.downstream = $5 AND l.id <> $3) AS shared
		FROM (SELECT (SELECT max(id) FROM rosters WHERE system_id = $4 AND state = 'taken') AS people, (SELECT max(id) FROM rosters WHERE system_id = $5 AND state = 'taken') AS accounts) n)
	SELECT a.kind, a.key, CASE a.kind
	WHEN 'person' THEN CASE
		WHEN n.rejected AND EXISTS (SELECT FROM rejections x WHERE x.roster_id = n.people AND left(x.native_id, 200) = left(a.key, 200) AND x.native_id = a.key) OR n.left_out AND EXISTS (SELECT FROM left_out x WHERE x.roster_id = n.people AND left(x.native_id, 200) = left(a.key, 200) AND x.native_id = a.key) THEN 'unreadable'
		ELSE coalesce((SELECT encode(c.digest, 'hex') FROM records c WHERE c.system_id = $4 AND c.native_id = a.key AND c.until IS NULL), '') END
	WHEN 'absent' THEN CASE
		WHEN EXISTS (SELECT FROM records c WHERE c.system_id = $4 AND c.native_id = a.key AND c.until IS NULL) OR EXISTS (SELECT FROM rejections x WHERE x.roster_id = n.people AND left(x.native_id, 200) = left(a.key, 200) AND x.native_id = a.key)
			OR EXISTS (SELECT FROM left_out x WHERE x.roster_id = n.people AND left(x.native_id, 200) = left(a.key, 200) AND x.native_id = a.key) THEN 'present' ELSE '' END
	WHEN 'absence' THEN (SELECT CASE WHEN count(*) = 0 THEN '' ELSE 'records that could not be read or do not show: ' || count(*) END FROM (
		SELECT FROM rejections x WHERE x.roster_id = n.people AND (x.native_id = '' OR x.swallows OR NOT EXISTS (SELECT FROM bonds b WHERE b.lane_id = $3 AND b.person = x.native_id))
		UNION ALL SELECT FROM rejections x WHERE x.roster_id = n.accounts AND (x.native_id = '' OR x.swallows)
		UNION ALL SELECT FROM left_out x WHERE x.roster_id = n.people AND x.kind IN ('left-out', 'hidden', 'elsewhere') AND NOT EXISTS (SELECT FROM bonds b WHERE b.lane_id = $3 AND b.person = x.native_id)
		UNION ALL SELECT FROM left_out x WHERE x.roster_id = n.accounts AND x.kind IN ('left-out', 'hidden', 'elsewhere') AND x.native_id = '') q)
	WHEN 'hidden' THEN (SELECT CASE WHEN count(*) = 0 THEN '' ELSE 'records that could not be read or do not show: ' || count(*) END FROM (
		SELECT FROM rejections x WHERE x.roster_id = n.accounts AND (x.native_id = '' OR x.swallows OR NOT EXISTS (SELECT FROM bonds b WHERE b.lane_id = $3 AND b.account = x.native_id))
		UNION ALL SELECT FROM rejections x WHERE x.roster_id = n.people AND (x.native_id = '' OR x.swallows)
		UNION ALL SELECT FROM left_out x WHERE x.roster_id = n.accounts AND x.kind IN ('left-out', 'hidden', 'elsewhere') AND NOT EXISTS (SELECT FROM bonds b WHERE b.lane_id = $3 AND b.account = x.native_id)
		UNION ALL SELECT FROM left_out x WHERE x.roster_id = n.people AND x.kind IN ('left-out', 'hidden', 'elsewhere') AND x.native_id = '') q)
	WHEN 'names' THEN (SELECT CASE WHEN count(*) = 0 THEN '' ELSE a.key || ' that could not be read or do not show: ' || count(*) END FROM (
		SELECT FROM rejections x WHERE x.roster_id = CASE a.key WHEN 'people' THEN n.people ELSE n.accounts END AND (x.native_id = '' OR x.swallows OR NOT x.named)
		UNION ALL SELECT FROM left_out x WHERE x.roster_id = CASE a.key WHEN 'people' THEN n.people ELSE n.accounts END AND x.kind IN ('left-out', 'hidden', 'elsewhere')) q)
	WHEN 'newcomers' THEN (SELECT CASE WHEN coalesce(sum(r.came + r.changed), 0) = 0 THEN ($6::bigint)::text ELSE 'people who came or changed since: ' || sum(r.came + r.changed) END FROM rosters r WHERE r.system_id = $4 AND r.state = 'taken' AND r.id > $6::bigint)
	WHEN 'intention' THEN coalesce((SELECT i.cancelled FROM intentions i WHERE i.lane_id = $3 AND i.intention = a.key), '')
	WHEN 'bond' THEN coalesce((SELECT b.person FROM bonds b WHERE b.lane_id = $3 AND b.account = a.key), '')
	WHEN 'bonded' THEN coalesce((SELECT b.account FROM bonds b WHERE b.lane_id = $3 AND b.person = a.key), '')
	WHEN 'rulings' THEN CASE WHEN n.ruled THEN coalesce((SELECT string_agg(id::text, ',' ORDER BY id) FROM (
		SELECT u.id FROM rulings u WHERE u.lane_id = $3 AND u.cleared IS NULL AND u.person = split_part(a.key, E'\x1f', 1) AND u.person <> ''
		UNION SELECT u.id FROM rulings u WHERE u.lane_id = $3 AND u.cleared IS NULL AND u.account = split_part(a.key, E'\x1f', 2) AND u.account <> '') q), '') ELSE '' END
	WHEN 'claims' THEN CASE WHEN n.shared THEN coalesce((SELECT string_agg(l.name, ' and ' ORDER BY l.name) FROM lanes l WHERE l.downstream = $5 AND l.id <> $3 AND (EXISTS (SELECT FROM bonds b WHERE b.lane_id = l.id AND b.account = a.key)
		OR NOT EXISTS (SELECT FROM bonds b WHERE b.lane_id = $3 AND b.account = a.key) AND NOT EXISTS (SELECT FROM rulings u WHERE u.lane_id = $3 AND u.cleared IS NULL AND u.kind = 'same' AND u.account = a.key)
			AND EXISTS (SELECT FROM verdicts v WHERE v.reconciliation_id = (SELECT max(r.id) FROM reconciliations r WHERE r.lane_id = l.id) AND v.side = 'accounts' AND v.native_id = a.key AND v.state IN ('twinned', 'contested')
				AND NOT (l.authority = $4 AND v.state = 'twinned' AND v.twin = (SELECT o.twin FROM verdicts o WHERE o.reconciliation_id = (SELECT max(r.id) FROM reconciliations r WHERE r.lane_id = $3) AND o.side = 'accounts' AND o.native_id = a.key))))), '') ELSE '' END
	WHEN 'elsewhere' THEN CASE WHEN n.shared THEN coalesce((SELECT string_agg(q.why, '; ' ORDER BY q.why) FROM (SELECT 'lane ' || l.name || ' ' || coalesce(
			(SELECT CASE v.state WHEN 'twinned' THEN 'twins it' ELSE 'contests it' END FROM verdicts v WHERE v.reconciliation_id = (SELECT max(r.id) FROM reconciliations r WHERE r.lane_id = l.id) AND v.side = 'accounts' AND v.native_id = a.key AND v.state IN ('twinned', 'contested')),
			(SELECT 'was not reconciled since its people changed' FROM rosters o WHERE o.system_id = l.authority AND o.state = 'taken' AND o.came + o.changed > 0
				AND o.id > coalesce((SELECT r.people_roster FROM reconciliations r WHERE r.lane_id = l.id ORDER BY r.id DESC LIMIT 1), 0) AND o.id > $6 LIMIT 1)) AS why
		FROM lanes l WHERE l.downstream = $5 AND l.id <> $3) q), '') ELSE '' END
	WHEN 'name' THEN coalesce((SELECT v.plan_id::text FROM reservations v WHERE v.system_id = $5 AND v.name = a.key), '')
	WHEN 'suspension' THEN coalesce((SELECT u.receipt FROM suspensions u WHERE u.lane_id = $3 AND u.account = a.key), '')
	WHEN 'weights' THEN coalesce((SELECT max(version)::text FROM weights WHERE lane_id = $3), '')
	WHEN 'charter' THEN coalesce((SELECT max(version)::text FROM charters WHERE lane_id = $3), '')
	END AS version FROM asked a, newest n`

const standingQuery = `SELECT coalesce((SELECT max(id) FROM rosters WHERE system_id = $2 AND state = 'taken'), 0), coalesce((SELECT max(id) FROM rosters WHERE system_id = $3 AND state = 'taken'), 0),
	coalesce((SELECT max(r.id) FROM rosters r JOIN systems y ON y.id = r.system_id WHERE x.namespace <> '' AND y.namespace = x.namespace AND y.id <> x.id AND r.state = 'taken'), 0),
	coalesce((SELECT changed_by FROM switches WHERE name = 'freeze' AND is_on), ''), coalesce((SELECT observing FROM lanes WHERE id = $1), true), x.writable, x.version,
	coalesce((SELECT halt FROM tasks WHERE id = $4), false), EXISTS (SELECT FROM tasks WHERE id = $4 AND fence = $5 AND state = 'running' AND lease > now()),
	EXISTS (SELECT FROM writers w WHERE w.system_id = $3 AND w.task_id = $4 AND w.fence = $5) FROM systems x WHERE x.id = $3`

// factArgs asks once for what many changes rest on, and not for what only records tell.
func factArgs(g Ground, premises []planning.Premise) []any {
	kinds, keys, asked := make([]string, 0, len(premises)), make([]string, 0, len(premises)), make(map[planning.Fact]bool, len(premises))
	for _, p := range premises {
		fact := planning.Fact{Kind: p.Kind, Key: p.Key}
		if asked[fact] || p.Kind.OfRecords() {
			continue
		}
		asked[fact] = true
		kinds, keys = append(kinds, string(p.Kind)), append(keys, p.Key)
	}
	return []any{kinds, keys, g.Lane, g.Authority, g.Downstream, g.PeopleRoster}
}

func scanFacts(rows pgx.Rows, err error) (planning.Facts, error) {
	if err != nil {
		return nil, err
	}
	facts := planning.Facts{}
	var kind, key, version string
	_, err = pgx.ForEachRow(rows, []any{&kind, &key, &version}, func() error {
		facts[planning.Fact{Kind: planning.PremiseKind(kind), Key: key}] = version
		return nil
	})
	return facts, err
}

func scanStanding(row pgx.Row) (w Standing, err error) {
	err = row.Scan(&w.PeopleRoster, &w.AccountsRoster, &w.SharedRoster, &w.Frozen, &w.Observing, &w.Writable, &w.SystemVersion, &w.Halt, &w.Ours, &w.Turn)
	return w, translate(err)
}

// Facts gathers how premises stand, in one query. Those about keys, and about names
// elsewhere, are not: they want the records themselves.
func (s *Store) Facts(ctx context.Context, g Ground, premises []planning.Premise) (facts planning.Facts, err error) {
	err = s.withCopy(ctx, func(tx bare) error {
		if _, err := tx.Exec(ctx, planOnce); err != nil {
			return err
		}
		facts, err = scanFacts(tx.Query(ctx, factQuery, factArgs(g, premises)...))
		return err
	})
	return facts, err
}

// planOnce has a transaction's queries planned once for each connection: planning the one about
// premises takes ten times as long as carrying it out, and is the same whatever it is asked.
const planOnce = `SET LOCAL plan_cache_mode = force_generic_plan`

// Standing tells what stands around a task's changes now.
func (s *Store) Standing(ctx context.Context, g Ground, t Task) (Standing, error) {
	return scanStanding(s.pool.QueryRow(ctx, standingQuery, g.Lane, g.Authority, g.Downstream, t.ID, t.Fence))
}

// Intend records that a change is about to be sent, before it is sent, in the
// transaction that looks at everything it rests on: whoever rules, takes a roster
// or freezes meanwhile is waited for, or waits. What judge refuses is not
// recorded, and its error is returned.
func (s *Store) Intend(ctx context.Context, g Ground, t Task, r Receipt, premises []planning.Premise, judge func(planning.Facts, Standing) error) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release() // in the middle of a transaction it is closed
	facts, standing, err := gather(ctx, conn, g, t, premises)
	if err != nil {
		return err
	}
	if err := judge(facts, standing); err != nil {
		_, _ = conn.Exec(context.WithoutCancel(ctx), `ROLLBACK`) // where that fails the connection is closed
		return err
	}
	var keep pgx.Batch
	keep.Queue(`INSERT INTO receipts (run_id, number, change, account, before, sent, trace, attempts) VALUES ($1, $2, $3, $4, $5, $6, $7, 1)
		ON CONFLICT (run_id, number) DO UPDATE SET before = $5, sent = $6, trace = $7, attempts = receipts.attempts + 1, intended = now()`,
		r.RunID, r.Number, r.Change, r.Account, jsonText(r.Before.V), jsonText(r.Sent.V), jsonText(r.Trace.V))
	if d := r.Delivery; d != nil {
		keep.Queue(meantDelivery, g.Lane, r.RunID, r.Number, d.Verb, d.Person, r.Account, d.Label, d.Login, d.By, d.To, d.Sponsor, d.Secret)
	}
	keep.Queue(`COMMIT`)
	return conn.SendBatch(ctx, &keep).Close()
}

// gather begins a transaction, and gathers in it what stands around a change and its premises:
// all that is asked goes to the database at once.
func gather(ctx context.Context, conn *pgxpool.Conn, g Ground, t Task, premises []planning.Premise) (facts planning.Facts, standing Standing, err error) {
	var ask pgx.Batch
	ask.Queue(`BEGIN`)
	ask.Queue(planOnce)
	ask.Queue(`SELECT pg_advisory_xact_lock_shared(7003, $1::int), pg_advisory_xact_lock_shared(7004, $2::int), pg_advisory_xact_lock_shared(7004, $3::int), pg_advisory_xact_lock_shared(7005, $3::int)`, g.Lane, g.Authority, g.Downstream)
	ask.Queue(standingQuery, g.Lane, g.Authority, g.Downstream, t.ID, t.Fence)
	ask.Queue(factQuery, factArgs(g, premises)...)
	answers := conn.SendBatch(ctx, &ask)
	for range ask.Len() - 2 {
		if err == nil {
			_, err = answers.Exec()
		}
	}
	if err == nil {
		standing, err = scanStanding(answers.QueryRow())
	}
	if err == nil {
		facts, err = scanFacts(answers.Query())
	}
	return facts, standing, errors.Join(err, answers.Close())
}

// Effects are what a receipt makes the lane remember.
type Effects struct {
	Lane      int64
	Label     string // whose it is
	Bond      *Bond  // of the twin that was written or confirmed
	Suspended bool
	Opened    bool
	Written   map[string]string // canonical attribute -> value
	// Added and Removed are the values of lists that changed hands, by attribute.
	Added, Removed map[string][]string
	Reserved       []string             // names that are no longer needed
	Intention      string               // that is carried out by it
	Deleted        bool                 // the account is gone for good, and with it all that is remembered of it
	Keeps          []planning.Intention // what is left as it is until a day
	Freed          []string             // ids of intentions by which something was left as it is, or owed, and is no longer
	Delivers       bool                 // its holder is sent something by it
}

// Settle records a change's outcome and all that follows from it, with or without
// an intent before it. ErrFenced when the task is no longer ours.
func (s *Store) Settle(ctx context.Context, t Task, r Receipt, e Effects) error {
	var all pgx.Batch // goes to the database at once, and is one transaction
	all.Queue(`SELECT hold_task($1, $2)`, t.ID, t.Fence)
	all.Queue(`INSERT INTO receipts (run_id, number, change, account, before, sent, after, trace, attempts, outcome, detail, differs, ended, done_by) VALUES ($2, $3, $4, $5, $6, $7, $8, $9, 0, $10, $11, $12, now(), $1)
		ON CONFLICT (run_id, number) DO UPDATE SET account = $5, before = $6, sent = $7, after = $8, trace = $9, outcome = $10, detail = $11, differs = $12, ended = now(), done_by = $1`,
		t.Fence, r.RunID, r.Number, r.Change, r.Account, jsonText(r.Before.V), jsonText(r.Sent.V), jsonText(r.After.V), jsonText(r.Trace.V), r.Outcome, r.Detail, jsonText(r.Differs.V))
	if r.LookedUp {
		all.Queue(`UPDATE receipts o SET outcome = 'stale', detail = $3, ended = now() FROM runs x, runs ours
			WHERE ours.id = $1 AND x.plan_id = ours.plan_id AND o.run_id = x.id AND o.run_id < $1 AND o.number = $2 AND o.outcome = ''`, r.RunID, r.Number, fmt.Sprintf("run %d settled it", r.RunID))
	}
	e.queue(&all, r)
	return translate(s.pool.SendBatch(ctx, &all).Close())
}

func (e Effects) queue(all *pgx.Batch, r Receipt) {
	if r.Outcome == "done" || r.Outcome == "different" || r.Outcome == "waiting" { // what was open of the same is settled by it; what sends nothing settles nothing
		all.Queue(`UPDATE receipts o SET outcome = 'stale', detail = $4, ended = now() FROM runs x JOIN plans p ON p.id = x.plan_id
			WHERE x.id = o.run_id AND p.lane_id = $1 AND o.change = $2 AND o.run_id < $3 AND o.outcome IN ('waiting', 'in-doubt')`, e.Lane, r.Change, r.RunID, fmt.Sprintf("run %d settled it", r.RunID))
	}
	if b := e.Bond; b != nil { // what a human has ruled meanwhile stands
		all.Queue(`INSERT INTO bonds (lane_id, person, account, basis, made_by) SELECT $1, $2, $3, $4, $5
			WHERE NOT EXISTS (SELECT FROM rulings u WHERE u.lane_id = $1 AND u.cleared IS NULL AND u.kind = 'different' AND u.person = $2 AND u.account = $3) ON CONFLICT DO NOTHING`,
			e.Lane, b.Person, b.Account, b.Basis, b.By)
	}
	if e.Delivers {
		all.Queue(endedDelivery, r.RunID, r.Number, r.Outcome)
	}
	if e.Intention != "" {
		all.Queue(`DELETE FROM intentions WHERE lane_id = $1 AND intention = $2`, e.Lane, e.Intention)
	}
	if e.Deleted {
		for _, table := range []string{"bonds", "suspensions", "written", "added", "intentions"} {
			all.Queue(`DELETE FROM `+table+` WHERE lane_id = $1 AND account = $2`, e.Lane, r.Account)
		}
	}
	if e.Suspended {
		all.Queue(`INSERT INTO suspensions (lane_id, account, receipt) VALUES ($1, $2, $3) ON CONFLICT (lane_id, account) DO UPDATE SET receipt = $3, at = now()`, e.Lane, r.Account, ReceiptName(r))
	}
	if e.Opened {
		all.Queue(`DELETE FROM suspensions WHERE lane_id = $1 AND account = $2`, e.Lane, r.Account)
	}
	if len(e.Freed) > 0 {
		all.Queue(`DELETE FROM intentions WHERE lane_id = $1 AND intention = ANY($2)`, e.Lane, e.Freed)
	}
	for _, k := range e.Keeps {
		all.Queue(`INSERT INTO intentions (lane_id, intention, verb, person, account, label, due, first, reason, attribute, kept) SELECT $1, $2, $3, $4, $5, $6, coalesce(nullif($7, '')::date, (now() AT TIME ZONE zone)::date), (now() AT TIME ZONE zone)::date, $8, $9, $10 FROM lanes WHERE id = $1
			ON CONFLICT (lane_id, intention) DO UPDATE SET due = excluded.due, first = excluded.first, reason = excluded.reason, kept = excluded.kept, cancelled = '', cancelled_by = '', cancelled_at = NULL`,
			e.Lane, k.ID, k.Verb, k.Person, k.Account, e.Label, k.Due, k.Reason, k.Attribute, jsonText(append([]string{}, k.Values...)))
	}
	for attribute, values := range e.Added {
		all.Queue(`INSERT INTO added (lane_id, account, attribute, value) SELECT $1, $2, $3, unnest($4::text[]) ON CONFLICT (lane_id, account, attribute, value) DO UPDATE SET at = now()`, e.Lane, r.Account, attribute, values)
	}
	for attribute, values := range e.Removed {
		all.Queue(`DELETE FROM added WHERE lane_id = $1 AND account = $2 AND attribute = $3 AND value = ANY($4)`, e.Lane, r.Account, attribute, values)
	}
	for attribute, value := range e.Written {
		all.Queue(`INSERT INTO written (lane_id, account, attribute, value, rounds) VALUES ($1, $2, $3, $4, 1)
			ON CONFLICT (lane_id, account, attribute) DO UPDATE SET value = $4, at = now(), rounds = CASE WHEN written.value = $4 THEN written.rounds + 1 ELSE 1 END`, e.Lane, r.Account, attribute, value)
	}
}

// TakenBack counts how often changes of a lane were taken back since they were last done, by
// the change and the name that it gave.
func (s *Store) TakenBack(ctx context.Context, lane int64) (map[string]int, error) {
	var some bool // mostly there is none, and no receipt has to be looked at
	if err := s.pool.QueryRow(ctx, `SELECT EXISTS (SELECT FROM receipts WHERE outcome = 'taken-back')`).Scan(&some); err != nil || !some {
		return nil, translate(err)
	}
	rows, err := s.pool.Query(ctx, `SELECT c.body, x.outcome = 'taken-back' FROM receipts x JOIN runs r ON r.id = x.run_id JOIN plans p ON p.id = r.plan_id JOIN changes c ON c.plan_id = p.id AND c.number = x.number
		WHERE p.lane_id = $1 AND x.outcome IN ('taken-back', 'done') AND x.change IN (SELECT o.change FROM receipts o JOIN runs q ON q.id = o.run_id JOIN plans l ON l.id = q.plan_id WHERE l.lane_id = $1 AND o.outcome = 'taken-back')
		ORDER BY x.run_id, x.number`, lane)
	if err != nil {
		return nil, err
	}
	counts := map[string]int{}
	var body planning.Change
	var back bool
	_, err = pgx.ForEachRow(rows, []any{&body, &back}, func() error {
		if key := body.TriedKey(); back {
			counts[key]++
		} else {
			delete(counts, key)
		}
		body = planning.Change{}
		return nil
	})
	return counts, err
}

// Resettled is what came of a change after all, when its unit had come to its end.
type Resettled struct {
	Outcome, Detail string
	Forget          []string // attributes of which nothing that was written stands any more
}

// Resettle records it in the newest receipt of the change. ErrFenced when the task is no
// longer ours.
func (s *Store) Resettle(ctx context.Context, t Task, plan, lane int64, c Change, to Resettled) error {
	return s.withCopy(ctx, func(tx bare) error {
		if err := stillOurs(ctx, tx, t); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `UPDATE receipts SET outcome = $3, detail = $4, verified = '' WHERE number = $2 AND run_id = (SELECT max(x.run_id) FROM receipts x JOIN runs r ON r.id = x.run_id WHERE r.plan_id = $1 AND x.number = $2)`, plan, c.Number, to.Outcome, to.Detail); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `DELETE FROM written WHERE lane_id = $1 AND account = $2 AND attribute = ANY($3)`, lane, c.Account, to.Forget); err != nil || c.Body.V.Kept == nil {
			return err
		}
		_, err := tx.Exec(ctx, `DELETE FROM intentions WHERE lane_id = $1 AND account = $2 AND verb = $4 AND attribute = ANY($3)`, lane, c.Account, to.Forget, planning.Keep)
		return err
	})
}

// ReceiptName is how a receipt is referred to.
func ReceiptName(r Receipt) string { return fmt.Sprintf("run %d, %d", r.RunID, r.Number) }

// Decided settles an open receipt, by what a roster shows or a human says, with what
// follows. ErrNotFound when it is not open any more.
func (s *Store) Decided(ctx context.Context, r Receipt, e Effects) error {
	return s.withCopy(ctx, func(tx bare) error {
		return decided(ctx, tx, r, e)
	})
}

func decided(ctx context.Context, tx bare, r Receipt, e Effects) error {
	tag, err := tx.Exec(ctx, `UPDATE receipts SET outcome = $6, account = $3, after = $4, detail = $5, verified = $7, ended = now() WHERE run_id = $1 AND number = $2 AND outcome IN ('waiting', 'in-doubt')`,
		r.RunID, r.Number, r.Account, jsonText(r.After.V), r.Detail, r.Outcome, r.Verified)
	if err != nil {
		return translate(err)
	}
	if tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	var all pgx.Batch
	e.queue(&all, r)
	return tx.SendBatch(ctx, &all).Close()
}

// StillOurs is ErrFenced when a task is no longer this node's; until the transaction ends,
// nobody can take it.
func (s *Store) StillOurs(ctx context.Context, t Task) error {
	return s.withCopy(ctx, func(tx bare) error { return stillOurs(ctx, tx, t) })
}

// stillOurs holds the task's row until the transaction ends.
func stillOurs(ctx context.Context, tx bare, t Task) error {
	if t.ID == 0 {
		return nil
	}
	var ok bool
	err := tx.QueryRow(ctx, `SELECT true FROM tasks WHERE id = $1 AND fence = $2 AND state = 'running' FOR SHARE`, t.ID, t.Fence).Scan(&ok)
	if errors.Is(translate(err), ErrNotFound) {
		return ErrFenced
	}
	return err
}

// HoldSystem makes whoever is about to send something to a downstream wait until
// this transaction is through: bonds of one lane are claims to the others.
func (s *Store) HoldSystem(ctx context.Context, downstream int64) error {
	_, err := s.exec(ctx, `SELECT pg_advisory_xact_lock(7005, $1::int)`, downstream)
	return err
}

// RulingsBy lists the ids of the rulings in force that name a person or an
// account, as a Rulings premise has them.
func RulingsBy(rulings []Ruling) func(person, account string) string {
	byPerson, byAccount := map[string][]int64{}, map[string][]int64{}
	for _, r := range rulings { // by id
		if r.Person != "" {
			byPerson[r.Person] = append(byPerson[r.Person], r.ID)
		}
		if r.Account != "" {
			byAccount[r.Account] = append(byAccount[r.Account], r.ID)
		}
	}
	return func(person, account string) string {
		a, b := byPerson[person], byAccount[account]
		var words []string
		for len(a)+len(b) > 0 {
			switch {
			case len(b) == 0 || len(a) > 0 && a[0] < b[0]:
				words, a = append(words, number(a[0])), a[1:]
			case len(a) == 0 || b[0] < a[0]:
				words, b = append(words, number(b[0])), b[1:]
			default:
				words, a, b = append(words, number(a[0])), a[1:], b[1:]
			}
		}
		return strings.Join(words, ",")
	}
}

// SettledAt is when a receipt was settled; the zero time while it is open.
func (r Receipt) SettledAt() time.Time {
	if r.Ended == nil {
		return time.Time{}
	}
	return *r.Ended
}
