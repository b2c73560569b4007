package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Weights are what a lane's evidence is worth, from one learning to the next.
type Weights struct {
	Version    int64           `db:"version" json:"version"`
	Digest     string          `db:"digest" json:"digest"`
	Weights    json.RawMessage `db:"weights" json:"weights"`
	LearntFrom int64           `db:"learnt_from" json:"learntFrom"` // people paired by other means then
	At         time.Time       `db:"at" json:"at"`
	By         string          `db:"by" json:"by"`
}

// NewestWeights finds those in force.
func (s *Store) NewestWeights(ctx context.Context, lane int64) (w Weights, err error) {
	return w, s.get(ctx, &w, `SELECT version, digest, weights, learnt_from, at, by FROM weights WHERE lane_id = $1 ORDER BY version DESC LIMIT 1`, lane)
}

// WeightsOf finds one version.
func (s *Store) WeightsOf(ctx context.Context, lane, version int64) (w Weights, err error) {
	return w, s.get(ctx, &w, `SELECT version, digest, weights, learnt_from, at, by FROM weights WHERE lane_id = $1 AND version = $2`, lane, version)
}

// AddWeights keeps a new version; weights that are in force already stay as
// they are.
func (s *Store) AddWeights(ctx context.Context, lane int64, w Weights) (Weights, error) {
	newest, err := s.NewestWeights(ctx, lane)
	if err == nil && newest.Digest == w.Digest {
		return newest, nil
	}
	if err != nil && !errors.Is(err, ErrNotFound) {
		return w, err
	}
	return w, s.get(ctx, &w, `INSERT INTO weights (lane_id, version, digest, weights, learnt_from, by) VALUES ($1, $2, $3, $4, $5, $6)
		RETURNING version, digest, weights, learnt_from, at, by`, lane, newest.Version+1, w.Digest, w.Weights, w.LearntFrom, w.By)
}

// Trial is what came of having evidence find twins that are known.
type Trial struct {
	ID             int64           `db:"id" json:"id"`
	LaneID         int64           `db:"lane_id" json:"-"`
	CharterVersion int64           `db:"charter_version" json:"charterVersion"`
	PeopleRoster   int64           `db:"people_roster" json:"peopleRoster"`
	AccountsRoster int64           `db:"accounts_roster" json:"accountsRoster"`
	Report         json.RawMessage `db:"report" json:"report"`
	Digest         string          `db:"digest" json:"-"` // of the weights that it would have kept
	Weights        json.RawMessage `db:"weights" json:"-"`
	LearntFrom     int64           `db:"learnt_from" json:"-"`
	Kept           *int64          `db:"kept" json:"kept,omitempty"` // the version that the weights were kept as
	At             time.Time       `db:"at" json:"at"`
	By             string          `db:"by" json:"by"`
}

// AddTrial keeps what a trial found. That its weights are gone by is another act.
func (s *Store) AddTrial(ctx context.Context, t Trial) (Trial, error) {
	return t, s.get(ctx, &t, `INSERT INTO trials (lane_id, charter_version, people_roster, accounts_roster, report, digest, weights, learnt_from, by)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) RETURNING *`, t.LaneID, t.CharterVersion, t.PeopleRoster, t.AccountsRoster, t.Report, t.Digest, t.Weights, t.LearntFrom, t.By)
}

// LastTrial finds the newest of a lane.
func (s *Store) LastTrial(ctx context.Context, lane int64) (t Trial, err error) {
	return t, s.get(ctx, &t, `SELECT * FROM trials WHERE lane_id = $1 ORDER BY id DESC LIMIT 1`, lane)
}

// KeepTrial puts a trial's weights in force.
func (s *Store) KeepTrial(ctx context.Context, t Trial, by string) (Trial, error) {
	w, err := s.AddWeights(ctx, t.LaneID, Weights{Digest: t.Digest, Weights: t.Weights, LearntFrom: t.LearntFrom, By: by})
	if err != nil {
		return t, err
	}
	return t, s.get(ctx, &t, `UPDATE trials SET kept = $2 WHERE id = $1 RETURNING *`, t.ID, w.Version)
}

// KeepComparison keeps what a task found that compared charters, and forgets older ones.
func (s *Store) KeepComparison(ctx context.Context, t Task, lane int64, report []byte) error {
	return s.InTx(ctx, func(tx *Store) error {
		if _, err := tx.exec(ctx, `DELETE FROM comparisons WHERE at < now() - interval '1 day'`); err != nil {
			return err
		}
		_, err := tx.exec(ctx, `INSERT INTO comparisons (task_id, lane_id, report) VALUES ($1, $2, $3) ON CONFLICT (task_id) DO UPDATE SET report = $3, at = now()`, t.ID, lane, report)
		return err
	})
}

// Comparison is what a task found that compared charters of a lane.
func (s *Store) Comparison(ctx context.Context, lane, task int64) (report []byte, err error) {
	return report, s.get(ctx, &report, `SELECT report FROM comparisons WHERE lane_id = $1 AND task_id = $2`, lane, task)
}

// WeighedTwins lists whom evidence alone joined in a reconciliation.
func (s *Store) WeighedTwins(ctx context.Context, reconciliation int64) (list []Bond, err error) {
	return list, s.list(ctx, &list, `SELECT native_id AS person, twin AS account, basis, '' AS made_by FROM verdicts WHERE reconciliation_id = $1 AND side = 'people' AND state = 'twinned' AND basis = 'weighed' ORDER BY native_id`, reconciliation)
}

// Question is one pair that a human should judge, with the names of both.
type Question struct {
	Number int `db:"number" json:"-"`
	Proposal
	// Version is of both records and of what is decided about them: it is another
	// one when a decision is no longer about what was shown.
	Version string `db:"version" json:"version"`
}

// pairVersion is the version of the pair in the named columns, in a lane that
// stands as l: the newest versions of both records, the rulings that name either,
// and their bonds.
func pairVersion(person, account string) string {
	digest := func(side, id string) string {
		return `(SELECT encode(c.digest, 'hex') FROM records c WHERE c.system_id = l.` + side + ` AND c.native_id = ` + id + ` AND c.until IS NULL)`
	}
	return `md5(concat_ws('|', ` + person + `, ` + account + `, coalesce(` + digest("authority", person) + `, '-'), coalesce(` + digest("downstream", account) + `, '-'),
		(SELECT string_agg(u.id::text, ',' ORDER BY u.id) FROM rulings u WHERE u.lane_id = l.id AND u.cleared IS NULL AND (u.person = ` + person + ` AND u.person <> '' OR u.account = ` + account + ` AND u.account <> '')), ';',
		(SELECT string_agg(b.person || '=' || b.account, ',' ORDER BY b.account) FROM bonds b WHERE b.lane_id = l.id AND (b.person = ` + person + ` OR b.account = ` + account + `))))`
}

// PairVersion is the version of one pair.
func (s *Store) PairVersion(ctx context.Context, lane int64, person, account string) (v string, err error) {
	return v, s.get(ctx, &v, `SELECT `+pairVersion("$2::text", "$3::text")+` FROM lanes l WHERE l.id = $1`, lane, person, account)
}

// manyQuestions are more than are looked at one by one to know whether any has moved on.
const manyQuestions = 200

// Snapshot is the version of all open questions that a filter holds. Of very many, it is
// another one when anything has moved on in the lane.
func (s *Store) Snapshot(ctx context.Context, lane, reconciliation int64, f QuestionFilter, text string) (v string, err error) {
	c := openQuestions(lane, reconciliation, f, Page{Text: text})
	var numbers []int64
	if err := s.list(ctx, &numbers, `SELECT p.number FROM proposals p WHERE `+c.text+fmt.Sprintf(` LIMIT %d`, manyQuestions+1), c.args...); err != nil {
		return "", err
	}
	if len(numbers) > manyQuestions {
		return v, s.get(ctx, &v, `SELECT md5(concat_ws('|', 'all', $2::bigint::text, (SELECT max(id) FROM rosters WHERE system_id = l.authority AND state = 'taken'), (SELECT max(id) FROM rosters WHERE system_id = l.downstream AND state = 'taken'),
			(SELECT count(*) || ' ' || count(cleared) || ' ' || coalesce(max(id), 0) FROM rulings u WHERE u.lane_id = l.id), (SELECT count(*) FROM bonds b WHERE b.lane_id = l.id))) FROM lanes l WHERE l.id = $1`, lane, reconciliation)
	}
	return v, s.get(ctx, &v, `SELECT md5($1::bigint::text || coalesce((SELECT string_agg(`+pairVersion("p.person", "p.account")+`, '' ORDER BY p.number) FROM proposals p WHERE p.reconciliation_id = $1 AND p.number = ANY($3)), '')) FROM lanes l WHERE l.id = $2`, reconciliation, lane, numbers)
}

// openQuestions are the proposals of a reconciliation on which nobody has ruled since: no
// ruling on the pair, none that gives either of the two to another, and none
// that leaves one alone. Each is looked for by itself: together, they would be held against
// every ruling.
func openQuestions(lane, reconciliation int64, f QuestionFilter, p Page) (q clause) {
	q.and("p.reconciliation_id = ?", reconciliation)
	const ruled = `NOT EXISTS (SELECT FROM rulings u WHERE u.lane_id = ? AND u.cleared IS NULL AND `
	const alone = `u.kind = 'leave-alone' AND (u.until IS NULL OR u.until >= (SELECT (now() AT TIME ZONE z.zone)::date FROM lanes z WHERE z.id = ?)) AND `
	q.and(ruled+`u.person = p.person AND u.account = p.account)`, lane)
	q.and(ruled+`u.kind = 'same' AND u.person = p.person)`, lane)
	q.and(ruled+`u.kind = 'same' AND u.account = p.account)`, lane)
	q.and(ruled+alone+`u.person = p.person AND u.account = '')`, lane, lane)
	q.and(ruled+alone+`u.account = p.account AND u.person = '')`, lane, lane)
	q.is("p.code", f.Code)
	q.finds(p, searchedQuestions)
	if f.Least > 0 {
		q.and("p.probability >= ?", f.Least)
	}
	if f.Most < 1 {
		q.and("p.probability <= ?", f.Most)
	}
	return q
}

// QuestionFilter narrows questions; zero values narrow nothing, but for Most.
type QuestionFilter struct {
	Code        string
	Least, Most float32 // probability
}

// Narrow reports whether the filter looks at probabilities.
func (f QuestionFilter) Narrow() bool { return f.Least > 0 || f.Most < 1 }

// Questions lists the open ones, with how many there are: of those that are neither narrowed
// nor searched, Proposed and Answered tell it.
func (s *Store) Questions(ctx context.Context, lane, reconciliation int64, f QuestionFilter, p Page) (list []Question, next string, open int, err error) {
	q := openQuestions(lane, reconciliation, f, p)
	if f.Narrow() || p.Text != "" {
		if err := s.get(ctx, &open, `SELECT count(*) FROM proposals p WHERE `+q.text, q.args...); err != nil {
			return nil, "", 0, err
		}
	}
	q.and("p.number > ?", p.afterNumber(-1))
	n := len(q.args)
	err = s.list(ctx, &list, `WITH p AS MATERIALIZED (SELECT p.* FROM proposals p WHERE `+q.text+fmt.Sprintf(` ORDER BY p.number LIMIT %d)`, p.limit()+1)+`
		SELECT p.number, p.person, p.account, p.reason, p.brief, p.code, p.probability, p.bits, p.said, p.person_label, p.account_label, (SELECT `+pairVersion("p.person", "p.account")+fmt.Sprintf(` FROM lanes l WHERE l.id = $%d) AS version FROM p ORDER BY p.number`, n+1), append(q.args, lane)...)
	list, next = cut(p, list, func(q Question) string { return number(int64(q.Number)) })
	return list, next, open, err
}

// byCode counts proposals by what they are asked for.
func (s *Store) byCode(ctx context.Context, query string, args ...any) (map[string]int, error) {
	var rows []struct {
		Code  string `db:"code"`
		Count int    `db:"count"`
	}
	err := s.list(ctx, &rows, `SELECT p.code, count(*) FROM proposals p WHERE p.reconciliation_id = $1`+query+` GROUP BY 1`, args...)
	counts := map[string]int{}
	for _, r := range rows {
		counts[r.Code] = r.Count
	}
	return counts, err
}

// Proposed counts the pairs that a reconciliation asked about, by what they are asked for.
func (s *Store) Proposed(ctx context.Context, reconciliation int64) (map[string]int, error) {
	return s.byCode(ctx, ``, reconciliation)
}

// Answered counts those that rulings have answered since: all that openQuestions leaves
// out. Rulings are few, and each finds its own.
func (s *Store) Answered(ctx context.Context, lane, reconciliation int64) (map[string]int, error) {
	const of = `SELECT q.number FROM rulings u JOIN proposals q ON q.reconciliation_id = $1 AND `
	const ruled = ` WHERE u.lane_id = $2 AND u.cleared IS NULL`
	const same, alone = ruled + ` AND u.kind = 'same'`, ruled + ` AND u.kind = 'leave-alone' AND (u.until IS NULL OR u.until >= (SELECT (now() AT TIME ZONE z.zone)::date FROM lanes z WHERE z.id = $2))`
	return s.byCode(ctx, ` AND p.number IN (`+of+`q.person = u.person AND q.account = u.account`+ruled+
		` UNION `+of+`q.person = u.person`+same+` UNION `+of+`q.account = u.account`+same+
		` UNION `+of+`q.person = u.person AND u.account = ''`+alone+` UNION `+of+`q.account = u.account AND u.person = ''`+alone+`)`, reconciliation, lane)
}

// Unasked counts the contested people for whom no pair is proposed.
func (s *Store) Unasked(ctx context.Context, reconciliation int64) (n int, err error) {
	return n, s.get(ctx, &n, `SELECT count(*) FROM verdicts v WHERE reconciliation_id = $1 AND side = 'people' AND state = 'contested'
		AND NOT EXISTS (SELECT FROM proposals p WHERE p.reconciliation_id = v.reconciliation_id AND p.person = v.native_id)`, reconciliation)
}
