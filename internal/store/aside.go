package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"twinning/internal/core/lifecycle"
	"twinning/internal/core/planning"
)

// SetAside is a change that a human has set aside, or, with a blank Reason, includes again.
type SetAside struct {
	Change  string   `db:"change"`
	Number  int      `db:"-"`
	Verb    string   `db:"verb"`
	Person  string   `db:"person"`
	Account string   `db:"account"`
	Covers  []string `db:"-"`      // what it is about, see planning.Decision
	Reason  string   `db:"reason"` // as it stands in the plan
	Said    string   `db:"-"`      // by the human
	By      string   `db:"created_by"`
	Along   bool     `db:"-"` // it only goes with another
}

// Decision is what a human has said, as the core knows it.
func (x SetAside) Decision() planning.Decision {
	return planning.Decision{Verb: x.Verb, Person: x.Person, Account: x.Account, Covers: x.Covers}
}

// SetAsides are what humans have set aside in a lane.
func (s *Store) SetAsides(ctx context.Context, lane int64) (list []SetAside, err error) {
	rows, err := s.pool.Query(ctx, `SELECT change, verb, person, account, covers, reason, created_by FROM set_asides WHERE lane_id = $1 ORDER BY change`, lane)
	if err != nil {
		return nil, translate(err)
	}
	var x SetAside
	_, err = pgx.ForEachRow(rows, []any{&x.Change, &x.Verb, &x.Person, &x.Account, &x.Covers, &x.Reason, &x.By}, func() error {
		list = append(list, x)
		x.Covers = nil
		return nil
	})
	return list, translate(err)
}

// endSetAsides forgets decisions whose reason is over.
func endSetAsides(ctx context.Context, tx bare, lane int64, changes []string) error {
	if len(changes) == 0 {
		return nil
	}
	_, err := tx.Exec(ctx, `DELETE FROM set_asides WHERE lane_id = $1 AND change = ANY($2)`, lane, changes)
	return err
}

// SetChangesAside keeps what a human has decided about changes of a draft, and what the plan
// comes to by that. ErrChanged when it is no draft any more.
func (s *Store) SetChangesAside(ctx context.Context, p Plan, moved []SetAside) error {
	tag, err := s.exec(ctx, `UPDATE plans SET hash = $2, verbs = $3, waves = $4, guards = $5, parts = $6, set_aside = $7, edited_by = $8, summary = $10 WHERE id = $1 AND state = $9`,
		p.ID, p.Hash, string(p.Verbs), string(p.Waves), string(p.Guards), jsonText(p.Parts.V), p.SetAside, jsonText(append([]string{}, p.EditedBy.V...)), lifecycle.Draft, jsonText(p.Summary.V))
	if err == nil && tag == 0 {
		err = ErrChanged
	}
	if err != nil {
		return err
	}
	for _, m := range moved {
		if err := s.must(ctx, `UPDATE changes SET set_aside = $3 WHERE plan_id = $1 AND number = $2`, p.ID, m.Number, m.Reason); err != nil {
			return err
		}
		if m.Reason == "" {
			_, err = s.exec(ctx, `DELETE FROM set_asides WHERE lane_id = $1 AND change = $2`, p.LaneID, m.Change)
		} else if !m.Along {
			_, err = s.exec(ctx, `INSERT INTO set_asides (lane_id, change, covers, reason, created_by, verb, person, account) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
				ON CONFLICT (lane_id, change) DO UPDATE SET covers = excluded.covers, verb = excluded.verb, person = excluded.person, account = excluded.account, reason = excluded.reason, created_by = excluded.created_by, at = now()`, p.LaneID, m.Change, append([]string{}, m.Covers...), m.Said, m.By, m.Verb, m.Person, m.Account)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// HasChange reports whether a plan has a change of that id.
func (s *Store) HasChange(ctx context.Context, plan int64, change string) (there bool, err error) {
	return there, s.get(ctx, &there, `SELECT EXISTS (SELECT FROM changes WHERE plan_id = $1 AND change = $2)`, plan, change)
}

// Comment is what somebody said about a plan, or about one of its changes.
type Comment struct {
	ID     int64     `db:"id" json:"id"`
	Change string    `db:"change" json:"change,omitempty"`
	Text   string    `db:"text" json:"text"`
	By     string    `db:"created_by" json:"by"`
	At     time.Time `db:"at" json:"at"`
}

// AddComment keeps one.
func (s *Store) AddComment(ctx context.Context, plan int64, change, text, by string) (c Comment, err error) {
	return c, s.get(ctx, &c, `INSERT INTO plan_comments (plan_id, change, text, created_by) VALUES ($1, $2, $3, $4) RETURNING id, change, text, created_by, at`, plan, change, text, by)
}

// Comments lists a plan's, oldest first.
func (s *Store) Comments(ctx context.Context, plan int64, p Page) (list []Comment, next string, err error) {
	err = s.list(ctx, &list, `SELECT id, change, text, created_by, at FROM plan_comments WHERE plan_id = $1 AND id > $2 ORDER BY id LIMIT $3`, plan, p.afterNumber(0), p.limit()+1)
	list, next = cut(p, list, func(c Comment) string { return number(c.ID) })
	return list, next, err
}
