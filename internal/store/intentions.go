package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"twinning/internal/core/calendar"
	"twinning/internal/core/planning"
)

// Intention is something that is to be done on its day, as the newest reconciliation of its
// lane found it, with what a human said of it.
type Intention struct {
	ID          string         `db:"intention" json:"id"`
	Verb        string         `db:"verb" json:"verb"`
	Person      string         `db:"person" json:"person"`
	Account     string         `db:"account" json:"account"`
	Label       string         `db:"label" json:"label"`
	Due         string         `db:"due" json:"due"`
	First       string         `db:"first" json:"first"`
	Told        time.Time      `db:"told" json:"-"`
	Waits       string         `db:"waits" json:"waits,omitempty"`
	Comes       bool           `db:"-" json:"comes"` // its day has come, and nothing else is waited for
	Reason      string         `db:"reason" json:"reason"`
	Attribute   string         `db:"attribute" json:"attribute,omitempty"` // that is kept as it is
	Kept        JSON[[]string] `db:"kept" json:"kept,omitempty"`           // of a list: which values
	Cancelled   string         `db:"cancelled" json:"cancelled,omitempty"`
	CancelledBy string         `db:"cancelled_by" json:"cancelledBy,omitempty"`
	CancelledAt *time.Time     `db:"cancelled_at" json:"cancelledAt,omitempty"`
}

const intentionColumns = `SELECT intention, verb, person, account, label, to_char(due, 'YYYY-MM-DD') AS due, to_char(first, 'YYYY-MM-DD') AS first, told, waits, reason, attribute, kept, cancelled, cancelled_by, cancelled_at FROM intentions`

// Intended are a lane's intentions as its next reconciliation knows them.
func (s *Store) Intended(ctx context.Context, lane int64) (list []planning.Intention, err error) {
	var rows []Intention
	err = s.list(ctx, &rows, intentionColumns+` WHERE lane_id = $1 ORDER BY due, intention`, lane)
	for _, r := range rows {
		list = append(list, planning.Intention{ID: r.ID, Verb: r.Verb, Person: r.Person, Account: r.Account, Due: r.Due, First: r.First, Told: r.Told, Waits: r.Waits, Reason: r.Reason, Attribute: r.Attribute, Values: r.Kept.V, Cancelled: r.Cancelled})
	}
	return list, err
}

// keepIntentions makes the lane's intentions those that a reconciliation found; what a human
// said of one of them stays, and so does what receipts keep as it is, until it is over.
func keepIntentions(ctx context.Context, tx bare, lane int64, list []Intention) error {
	if _, err := tx.Exec(ctx, `CREATE TEMP TABLE found_intentions (LIKE intentions INCLUDING DEFAULTS) ON COMMIT DROP`); err != nil {
		return err
	}
	var failed error
	list = slices.DeleteFunc(slices.Clone(list), func(i Intention) bool { return (planning.Intention{Verb: i.Verb}).OfReceipts() })
	err := copyInto(ctx, tx, "found_intentions", []string{"lane_id", "intention", "verb", "person", "account", "label", "due", "first", "told", "waits", "reason"}, list, func(_ int, i Intention) []any {
		due, bad := calendar.Begin(i.Due, nil)
		first, worse := calendar.Begin(i.First, nil)
		failed = errors.Join(failed, bad, worse)
		return []any{lane, i.ID, i.Verb, i.Person, i.Account, i.Label, due, first, i.Told, i.Waits, i.Reason}
	})
	if err := errors.Join(err, failed); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `DELETE FROM intentions i WHERE lane_id = $1 AND NOT EXISTS (SELECT FROM found_intentions f WHERE f.intention = i.intention)
		AND verb <> $3 AND (verb <> $2 OR due < (SELECT (now() AT TIME ZONE zone)::date FROM lanes WHERE id = $1))`, lane, planning.Keep, planning.Reissue); err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `INSERT INTO intentions SELECT * FROM found_intentions ON CONFLICT (lane_id, intention) DO UPDATE SET label = excluded.label, due = excluded.due, first = excluded.first, waits = excluded.waits, reason = excluded.reason`)
	return err
}

// inOrder is the place of an intention in its list: by day, verb and account.
const inOrder = `(to_char(due, 'YYYY-MM-DD') || ' ' || verb || ' ' || account || ' ' || intention) COLLATE "C"`

// Intentions lists a lane's by their day.
func (s *Store) Intentions(ctx context.Context, lane int64, verb, due string, p Page) (list []Intention, next string, total int, err error) {
	var c clause
	c.and("lane_id = ?", lane)
	c.is("verb", verb)
	c.is("to_char(due, 'YYYY-MM-DD')", due)
	c.finds(p, joined("person", "account", "label", "reason", "cancelled"))
	if total, err = s.total(ctx, p, `SELECT count(*) FROM intentions WHERE `+c.text, c.args...); err != nil {
		return nil, "", 0, err
	}
	c.and(inOrder+" > ?", p.afterText())
	err = s.list(ctx, &list, fmt.Sprintf(intentionColumns+` WHERE %s ORDER BY %s LIMIT %d`, c.text, inOrder, p.limit()+1), c.args...)
	list, next = cut(p, list, func(i Intention) string { return strings.Join([]string{i.Due, i.Verb, i.Account, i.ID}, " ") })
	return list, next, total, err
}

// IntentionDay is how many intentions of a verb are due on a day.
type IntentionDay struct {
	Due   string `db:"due" json:"due"`
	Verb  string `db:"verb" json:"verb"`
	Count int    `db:"count" json:"count"`
}

// IntentionDays counts a lane's by day and verb, without those that were cancelled, from a day
// to another, both included; "" is no bound.
func (s *Store) IntentionDays(ctx context.Context, lane int64, from, to string) (list []IntentionDay, err error) {
	return list, s.list(ctx, &list, `SELECT to_char(due, 'YYYY-MM-DD') AS due, verb, count(*) AS count FROM intentions
		WHERE lane_id = $1 AND cancelled = '' AND due >= coalesce(nullif($2::text, '')::date, '-infinity') AND due <= coalesce(nullif($3::text, '')::date, 'infinity') GROUP BY 1, 2 ORDER BY 1, 2`, lane, from, to)
}

// IntentionSpan is the first and the last day on which anything is to be done, "" where nothing is.
func (s *Store) IntentionSpan(ctx context.Context, lane int64) (first, last string, err error) {
	var span struct{ First, Last string }
	err = s.get(ctx, &span, `SELECT coalesce(to_char(min(due), 'YYYY-MM-DD'), '') AS first, coalesce(to_char(max(due), 'YYYY-MM-DD'), '') AS last FROM intentions WHERE lane_id = $1 AND cancelled = ''`, lane)
	return span.First, span.Last, err
}

// CancelIntention drops one; an empty reason takes that back. ErrNotFound when the lane has
// none of that id.
func (s *Store) CancelIntention(ctx context.Context, lane int64, id, reason, by string) error {
	return s.must(ctx, `UPDATE intentions SET cancelled = $3, cancelled_by = $4, cancelled_at = CASE WHEN $3 = '' THEN NULL ELSE now() END WHERE lane_id = $1 AND intention = $2`, lane, id, reason, by)
}
