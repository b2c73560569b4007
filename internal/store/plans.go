package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"twinning/internal/core/lifecycle"
	"twinning/internal/core/parallel"
	"twinning/internal/core/planning"
)

// Plan is ordered changes in waves, with the state of their approval.
type Plan struct {
	ID             int64                  `db:"id" json:"id"`
	LaneID         int64                  `db:"lane_id" json:"-"`
	Reconciliation int64                  `db:"reconciliation_id" json:"reconciliation"`
	State          lifecycle.State        `db:"state" json:"state"`
	Created        time.Time              `db:"created" json:"created"`
	By             string                 `db:"created_by" json:"by"`
	Hash           string                 `db:"hash" json:"hash"`
	Verbs          json.RawMessage        `db:"verbs" json:"verbs"`
	Waves          json.RawMessage        `db:"waves" json:"waves"`
	Guards         json.RawMessage        `db:"guards" json:"guards"`
	SealedBy       string                 `db:"sealed_by" json:"sealedBy,omitempty"`
	SealedAt       *time.Time             `db:"sealed_at" json:"sealedAt,omitempty"`
	Expires        *time.Time             `db:"expires" json:"sealExpires,omitempty"`
	Overruled      string                 `db:"overruled" json:"overruled,omitempty"`
	Parts          JSON[[]Part]           `db:"parts" json:"-"`
	Lowered        JSON[[]string]         `db:"lowered" json:"lowered"` // guards that allow more than those of the last sealed plan
	Origin         JSON[Origin]           `db:"origin" json:"origin"`
	Ordinary       bool                   `db:"ordinary" json:"ordinary"`                  // sealed by the charter, without a human
	PausedAfter    string                 `db:"paused_after" json:"pausedAfter,omitempty"` // the wave after which a go-ahead is waited for, or was given
	SetAside       int                    `db:"set_aside" json:"setAside"`                 // changes that a human set aside
	Summary        JSON[planning.Summary] `db:"summary" json:"summary"`
	EditedBy       JSON[[]string]         `db:"edited_by" json:"-"` // who else decided what stands in it
}

// Origin is what asked for a plan's changes; its zero value is the newest result of the lane.
type Origin struct {
	Kind   OriginKind `json:"kind"`
	Verb   string     `json:"verb,omitempty"`   // of an action
	Run    int64      `json:"run,omitempty"`    // that is undone
	Sheet  string     `json:"sheet,omitempty"`  // the name of its file
	Reason string     `json:"reason,omitempty"` // of whoever asked
	Until  string     `json:"until,omitempty"`  // day until which the charter leaves what comes of it
}

// OriginKind is what asked for a plan.
type OriginKind string

// What asks for a plan.
const (
	OfResult    OriginKind = ""          // the lane's newest result, as the charter wants it
	OfSelection OriginKind = "selection" // some of that
	OfAction    OriginKind = "action"    // an action on accounts
	OfSheet     OriginKind = "sheet"     // new values of a sheet
	OfUndo      OriginKind = "undo"      // what gives back the state before a run
)

// Own reports whether its changes are its own, and none of the result's.
func (o Origin) Own() bool { return o.Kind != OfResult && o.Kind != OfSelection }

// Refusal is something that was asked for and is not in the plan.
type Refusal struct {
	Number    int    `db:"number" json:"-"`
	Place     string `db:"place" json:"place,omitempty"` // where it was asked for: a row of a sheet, say
	Person    string `db:"person" json:"person,omitempty"`
	Account   string `db:"account" json:"account,omitempty"`
	Label     string `db:"label" json:"label"`
	Attribute string `db:"attribute" json:"attribute,omitempty"`
	Reason    string `db:"reason" json:"reason"`
}

// Part is one thing that a plan's hash is made of, with its digest.
type Part struct {
	What   string `json:"what"`
	Digest string `json:"digest"`
}

// Refusals lists what was asked for and is not in a plan.
func (s *Store) Refusals(ctx context.Context, plan int64, p Page) (list []Refusal, next string, total int, err error) {
	var c clause
	c.and("plan_id = ?", plan)
	c.finds(p, joined("place", "person", "account", "label", "reason"))
	if total, err = s.total(ctx, p, `SELECT count(*) FROM plan_refusals WHERE `+c.text, c.args...); err != nil {
		return nil, "", 0, err
	}
	c.and("number > ?", p.afterNumber(-1))
	err = s.list(ctx, &list, fmt.Sprintf(`SELECT number, place, person, account, label, attribute, reason FROM plan_refusals WHERE %s ORDER BY number LIMIT %d`, c.text, p.limit()+1), c.args...)
	list, next = cut(p, list, func(r Refusal) string { return number(int64(r.Number)) })
	return list, next, total, err
}

// RefusalCount counts them.
func (s *Store) RefusalCount(ctx context.Context, plan int64) (n int, err error) {
	return n, s.get(ctx, &n, `SELECT count(*) FROM plan_refusals WHERE plan_id = $1`, plan)
}

// Plan finds one.
func (s *Store) Plan(ctx context.Context, id int64) (p Plan, err error) {
	return p, s.get(ctx, &p, `SELECT * FROM plans WHERE id = $1`, id)
}

// LatestPlan finds a lane's newest that is not void.
func (s *Store) LatestPlan(ctx context.Context, lane int64) (p Plan, err error) {
	return p, s.get(ctx, &p, `SELECT * FROM plans WHERE lane_id = $1 AND state <> 'void' ORDER BY id DESC LIMIT 1`, lane)
}

// RunningPlan finds one of a lane that is being run.
func (s *Store) RunningPlan(ctx context.Context, lane int64) (p Plan, err error) {
	return p, s.get(ctx, &p, `SELECT * FROM plans WHERE lane_id = $1 AND state = 'running' ORDER BY id DESC LIMIT 1`, lane)
}

// Plans lists a lane's, newest first.
func (s *Store) Plans(ctx context.Context, lane int64, p Page) (list []Plan, next string, err error) {
	err = s.list(ctx, &list, `SELECT * FROM plans WHERE lane_id = $1 AND id < $2 ORDER BY id DESC LIMIT $3`, lane, p.afterNumber(maxNumber), p.limit()+1)
	list, next = cut(p, list, func(x Plan) string { return number(x.ID) })
	return list, next, err
}

// Name is a name that a plan reserves.
type Name struct{ Name, Person string }

// Reservation is a name that a plan has reserved.
type Reservation struct {
	Name string `db:"name"`
	Plan int64  `db:"plan"`
	Lane string `db:"lane"`
}

// ReservedBy finds a plan that has reserved one of the names: in the system itself, or for
// somebody else in one that shares its names.
func (s *Store) ReservedBy(ctx context.Context, system, authority int64, names []Name) (r Reservation, err error) {
	list, people := columnsOf(names)
	return r, s.get(ctx, &r, `SELECT v.name, v.plan_id AS plan, l.name AS lane FROM reservations v JOIN plans p ON p.id = v.plan_id JOIN lanes l ON l.id = p.lane_id JOIN systems y ON y.id = v.system_id
		JOIN unnest($2::text[], $3::text[]) AS n(name, person) ON n.name = v.name
		WHERE v.system_id = $1 OR y.namespace <> '' AND y.namespace = (SELECT namespace FROM systems WHERE id = $1) AND (l.authority <> $4 OR n.person = '' OR v.person <> n.person)
		ORDER BY v.name LIMIT 1`, system, list, people, authority)
}

func columnsOf(names []Name) (list, people []string) {
	list, people = make([]string, len(names)), make([]string, len(names))
	for i, n := range names {
		list[i], people[i] = n.Name, n.Person
	}
	return list, people
}

// Seal is who approves a plan, and how.
type Seal struct {
	By        string
	Ordinary  bool   // by the charter, without a human who has looked
	Overruled string // why a guard is; "": none is
	Expires   time.Time
}

// SealPlan approves a draft and reserves its names; ErrTaken when another plan
// holds one of them, ErrChanged when it is no longer a draft. What was parted
// before the plan's reconciliation is released: the plan shows it.
func (s *Store) SealPlan(ctx context.Context, p Plan, l Lane, seal Seal, names []Name) error {
	return s.InTx(ctx, func(tx *Store) error {
		// names of plans that can no longer be run are free
		if _, err := tx.exec(ctx, `DELETE FROM reservations r USING plans p WHERE p.id = r.plan_id AND (p.state IN ('void', 'finished') OR p.state IN ('sealed', 'halted') AND p.expires < now())`); err != nil {
			return err
		}
		if err := tx.MovePlan(ctx, p.ID, lifecycle.Seal); err != nil {
			return err
		}
		if err := tx.must(ctx, `UPDATE plans SET sealed_by = $2, sealed_at = now(), expires = $3, overruled = $4, ordinary = $5 WHERE id = $1`, p.ID, seal.By, seal.Expires, seal.Overruled, seal.Ordinary); err != nil {
			return err
		}
		// of the systems that share their names, one plan is sealed at a time
		if _, err := tx.exec(ctx, `SELECT pg_advisory_xact_lock(7009, hashtext(namespace)) FROM systems WHERE id = $1 AND namespace <> ''`, l.DownstreamID); err != nil {
			return err
		}
		if _, err := tx.ReservedBy(ctx, l.DownstreamID, l.AuthorityID, names); err == nil {
			return ErrTaken
		} else if !errors.Is(err, ErrNotFound) {
			return err
		}
		list, people := columnsOf(names)
		if _, err := tx.exec(ctx, `INSERT INTO reservations (system_id, name, plan_id, person) SELECT $1, n.name, $2, n.person FROM unnest($3::text[], $4::text[]) AS n(name, person)`, l.DownstreamID, p.ID, list, people); err != nil {
			return err
		}
		if p.Origin.V.Own() { // it shows nothing of them
			return nil
		}
		_, err := tx.exec(ctx, `DELETE FROM partings WHERE lane_id = $1 AND id <= (SELECT partings_seen FROM reconciliations WHERE id = $2)`, p.LaneID, p.Reconciliation)
		return err
	})
}

// MovePlan lets an event happen to a plan; ErrChanged when it can't in the state
// that the plan is in.
func (s *Store) MovePlan(ctx context.Context, id int64, event lifecycle.Event) error {
	from, to := lifecycle.Plans.From(event)
	n, err := s.exec(ctx, `UPDATE plans SET state = $3 WHERE id = $1 AND state = ANY($2)`, id, from, to)
	if err == nil && n == 0 {
		err = ErrChanged
	}
	return err
}

// standing is the order of the receipts of a change, that one first by which it stands: what is
// open stands until something settles it, and then the newest.
const standing = `ORDER BY ` + standingFirst + ` LIMIT 1`

const standingFirst = `x.outcome IN ('waiting', 'in-doubt') DESC, x.run_id DESC`

// came adds to some changes of a plan the newest outcome of each.
func came(changes, order string) string {
	return `SELECT c.number, c.change, c.wave, c.verb, c.person, c.account, c.label, c.body, c.class, c.department, c.set_aside, coalesce(t.outcome, '') AS outcome, coalesce(t.detail, '') AS detail, coalesce(t.verified, '') AS verified, coalesce(t.hinders, false) AS hinders
		FROM ` + changes + ` c LEFT JOIN LATERAL (SELECT x.outcome, x.detail, x.verified, jsonb_exists_any(x.differs, '{` + strings.Join(planning.AwaitedAttributes, ",") + `}') AS hinders FROM receipts x JOIN runs r ON r.id = x.run_id WHERE r.plan_id = c.plan_id AND x.number = c.number ` + standing + `) t ON true` + order
}

// newestOutcome is that of a change of a plan.
const newestOutcome = `coalesce((SELECT x.outcome FROM receipts x JOIN runs r ON r.id = x.run_id WHERE r.plan_id = changes.plan_id AND x.number = changes.number ` + standing + `), '')`

var changeFields = map[string]field{
	"verb": {"verb", true}, "wave": {"wave", false}, "class": {"class", false}, "department": {"department", false}, "person": {"person", false}, "account": {"account", false},
	"outcome": {newestOutcome, true}, "aside": {"CASE WHEN set_aside = '' THEN 'no' ELSE 'yes' END", true}, "unit": {"body->>'unit'", true},
	"reason": {"coalesce(body->'edits'->0->>'reason', '')", false}, "attribute": {"coalesce(body->'edits'->0->>'attribute', '')", true},
}

// Grouped is how many changes of a plan have a value of a field.
type Grouped struct {
	Value string `db:"value" json:"value"`
	Count int    `db:"count" json:"count"`
}

// GroupedBy are the fields by which changes are counted, in order.
func GroupedBy() []string { return slices.Sorted(maps.Keys(changeFields)) }

// ChangesBy counts those of a plan's changes that match by a field, the most frequent values
// first, so many of them at most.
func (s *Store) ChangesBy(ctx context.Context, plan int64, by string, p Page) (list []Grouped, err error) {
	var c clause
	c.and("plan_id = ?", plan)
	p = c.narrow(p, changeFields)
	c.finds(p, "words")
	return list, s.list(ctx, &list, fmt.Sprintf(`SELECT coalesce(%s, '') AS value, count(*) AS count FROM changes WHERE %s GROUP BY 1 ORDER BY 2 DESC, 1 LIMIT %d`, changeFields[by].column, c.text, p.limit()), c.args...)
}

// Changes lists a plan's in order, with the newest outcome of each.
func (s *Store) Changes(ctx context.Context, plan int64, verb, outcome string, p Page) (list []Change, next string, total int, err error) {
	var c clause
	c.and("plan_id = ?", plan)
	c.is("verb", verb)
	c.is(newestOutcome, outcome)
	p = c.narrow(p, changeFields)
	if total, err = s.counted(ctx, p, c, "changes", "words"); err != nil {
		return nil, "", 0, err
	}
	ways, err := c.pages(p, "changes", "words", "number", "label", true)
	if err != nil {
		return nil, "", 0, err
	}
	list, err = filled[Change](ctx, s, p, ways, func(page string) string {
		return `WITH page AS MATERIALIZED (` + page + `) ` + came("page", p.sorted("c.number", "c.label"))
	})
	list, next = cut(p, list, func(c Change) string { return p.key(number(int64(c.Number)), c.Label) })
	return list, next, total, err
}

// AllChanges lists every change of a plan that is to be carried out, with its newest outcome.
func (s *Store) AllChanges(ctx context.Context, plan int64) (list []Change, err error) {
	return s.allChanges(ctx, came("changes", ` WHERE c.plan_id = $1 AND c.set_aside = '' ORDER BY c.number`), plan)
}

// WholePlan lists every change of a plan, those too that are set aside.
func (s *Store) WholePlan(ctx context.Context, plan int64) (list []Change, err error) {
	return s.allChanges(ctx, came("changes", ` WHERE c.plan_id = $1 ORDER BY c.number`), plan)
}

// allChanges reads changes, however many. What they say, most of the work, is taken apart
// while the next ones come.
func (s *Store) allChanges(ctx context.Context, query string, args ...any) (list []Change, err error) {
	rows, err := s.q.QueryxContext(ctx, query, args...)
	if err != nil {
		return nil, translate(err)
	}
	defer rows.Close()
	type unread struct {
		Change
		Said []byte `db:"body"`
	}
	const some = 1000
	came := make(chan []unread, 2)
	var reader parallel.Group
	var unreadable error
	var parts [][]Change // put together once, since the whole is large
	reader.Go(func() {
		for part := range came {
			read := make([]Change, len(part))
			for i := range part {
				x := &part[i]
				unreadable = cmp.Or(unreadable, json.Unmarshal(x.Said, &x.Body.V))
				x.digest = digested(x.Said)
				read[i] = x.Change
			}
			parts = append(parts, read)
		}
	})
	part := make([]unread, 0, some)
	for err == nil && rows.Next() {
		part = append(part, unread{})
		err = rows.StructScan(&part[len(part)-1])
		if len(part) == some {
			came <- part
			part = make([]unread, 0, some)
		}
	}
	came <- part
	close(came)
	reader.Wait()
	return slices.Concat(parts...), cmp.Or(translate(err), translate(rows.Err()), unreadable)
}

// LastSealed finds the newest plan of a lane that was ever sealed.
func (s *Store) LastSealed(ctx context.Context, lane int64) (p Plan, err error) {
	return p, s.get(ctx, &p, `SELECT * FROM plans WHERE lane_id = $1 AND sealed_at IS NOT NULL ORDER BY id DESC LIMIT 1`, lane)
}

// SealedVerbs counts the changes of a lane's last sealed plans by verb, the newest first; those
// that humans asked for beside the charter are no measure.
func (s *Store) SealedVerbs(ctx context.Context, lane, except int64, most int) (list []map[string]int, err error) {
	var rows []JSON[map[string]int]
	err = s.list(ctx, &rows, `SELECT verbs FROM plans WHERE lane_id = $1 AND id <> $2 AND sealed_at IS NOT NULL AND coalesce(origin->>'kind', '') = '' ORDER BY id DESC LIMIT $3`, lane, except, most)
	for _, r := range rows {
		list = append(list, r.V)
	}
	return list, err
}

// StopStray halts a plan that is said to be running while no task of it is: its
// end was lost. It reports whether that was so.
func (s *Store) StopStray(ctx context.Context, id int64) (bool, error) {
	from, to := lifecycle.Plans.From(lifecycle.Stop)
	n, err := s.exec(ctx, `UPDATE plans SET state = $2 WHERE id = $1 AND state = ANY($3)
		AND NOT EXISTS (SELECT FROM runs r JOIN tasks t ON t.id = r.task_id WHERE r.plan_id = $1 AND t.state IN ('queued', 'running'))`, id, to, from)
	return n > 0, err
}

// LastSealedByHuman finds the newest plan of a lane's results that a human has sealed.
func (s *Store) LastSealedByHuman(ctx context.Context, lane int64) (p Plan, err error) {
	return p, s.get(ctx, &p, `SELECT * FROM plans WHERE lane_id = $1 AND sealed_at IS NOT NULL AND NOT ordinary AND coalesce(origin->>'kind', '') IN ('', 'selection') ORDER BY id DESC LIMIT 1`, lane)
}

// WeighedChanges counts the changes of a plan whose twins evidence alone has made.
func (s *Store) WeighedChanges(ctx context.Context, plan int64) (n int, err error) {
	return n, s.get(ctx, &n, `SELECT count(*) FROM changes WHERE plan_id = $1 AND set_aside = '' AND body->>'basis' = 'weighed'`, plan)
}

// PausePlan is MovePlan when a run has come to the end of a wave after which a human says
// whether it goes on.
func (s *Store) PausePlan(ctx context.Context, id int64, event lifecycle.Event, after string) error {
	from, to := lifecycle.Plans.From(event)
	n, err := s.exec(ctx, `UPDATE plans SET state = $3, paused_after = $4 WHERE id = $1 AND state = ANY($2)`, id, from, to, after)
	if err == nil && n == 0 {
		err = ErrChanged
	}
	return err
}

// BondedBefore reports whether a lane has bonds that no run of a plan made.
func (s *Store) BondedBefore(ctx context.Context, lane, plan int64) (bonded bool, err error) {
	return bonded, s.get(ctx, &bonded, `SELECT EXISTS (SELECT FROM bonds WHERE lane_id = $1 AND made_by NOT IN (SELECT 'run ' || id FROM runs WHERE plan_id = $2))`, lane, plan)
}
