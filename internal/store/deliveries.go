package store

import (
	"context"
	"fmt"
	"time"
)

// States of a delivery. Meant is before anything is sent; sending is that a letter may be on
// its way, and nothing of it is sent again. A secret is kept in none but meant and kept.
const (
	DeliveryMeant     = "meant"
	DeliverySending   = "sending"
	DeliverySent      = "sent"
	DeliveryNotSent   = "not-sent"  // certainly not
	DeliveryInDoubt   = "in-doubt"  // whether the account has the new secret is not known
	DeliveryKept      = "kept"      // until somebody takes the file
	DeliveryCollected = "collected" // somebody took it
	DeliveryGone      = "gone"      // nobody took it in time
	DeliveryAccepted  = "accepted"  // of an invitation: its holder has signed in
	DeliveryStale     = "stale"     // of an invitation: they have not, in time; worked out when it is listed
)

// Delivery is what the holder of an account was sent.
type Delivery struct {
	Run     int64      `db:"run_id" json:"run"`
	Number  int        `db:"number" json:"number"`
	Lane    int64      `db:"lane_id" json:"-"`
	Verb    string     `db:"verb" json:"verb"`
	Person  string     `db:"person" json:"person"`
	Account string     `db:"account" json:"account"`
	Label   string     `db:"label" json:"label"`
	Login   string     `db:"login" json:"login"`
	By      string     `db:"by_way" json:"by"`
	To      string     `db:"address" json:"to,omitempty"`
	Sponsor string     `db:"sponsor" json:"sponsor,omitempty"`
	State   string     `db:"state" json:"state"`
	Secret  []byte     `db:"secret" json:"-"` // encrypted
	At      time.Time  `db:"at" json:"at"`
	Until   *time.Time `db:"until" json:"until,omitempty"`
	ByWhom  string     `db:"by_whom" json:"collectedBy,omitempty"`
	Times   int        `db:"times" json:"times"` // that the account was sent the same, this one included
}

// meantDelivery notes what goes with an intent. What was sent before is not meant again.
const meantDelivery = `INSERT INTO deliveries (lane_id, run_id, number, verb, person, account, label, login, by_way, address, sponsor, secret) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)
	ON CONFLICT (run_id, number) DO UPDATE SET account = $6, login = $8, secret = $12, state = 'meant', at = now() WHERE deliveries.state IN ('meant', 'not-sent')`

// endedDelivery lets go of a secret that was not set, or of which nobody knows, whichever run
// of the plan meant it.
const endedDelivery = `UPDATE deliveries SET secret = NULL, state = CASE WHEN $3 = 'in-doubt' THEN 'in-doubt' ELSE 'not-sent' END 
	WHERE number = $2 AND state = 'meant' AND run_id IN (SELECT id FROM runs WHERE plan_id = (SELECT plan_id FROM runs WHERE id = $1))`

const deliveryColumns = `SELECT d.run_id, d.number, d.lane_id, d.verb, d.person, d.account, d.label, d.login, d.by_way, d.address, d.sponsor, d.secret, d.at, d.until, d.by_whom,
	CASE WHEN d.verb = 'invite' AND d.state = 'sent' AND d.until < now() THEN 'stale' WHEN d.state = 'kept' AND d.until < now() THEN 'gone' ELSE d.state END AS state,
	(SELECT count(*) FROM deliveries o WHERE o.lane_id = d.lane_id AND o.account = d.account AND o.verb = d.verb AND o.at <= d.at AND o.state NOT IN ('meant', 'not-sent')) AS times FROM deliveries d`

// DeliveryOf finds the newest of a plan's change; ErrNotFound when nothing was meant.
func (s *Store) DeliveryOf(ctx context.Context, plan int64, number int) (d Delivery, err error) {
	return d, s.get(ctx, &d, deliveryColumns+` JOIN runs r ON r.id = d.run_id WHERE r.plan_id = $1 AND d.number = $2 ORDER BY d.run_id DESC LIMIT 1`, plan, number)
}

// newestRun is the place of a delivery in its list: by run, the newest first, and change.
const (
	runsMost  = 1_000_000_000_000
	newestRun = `(lpad((1000000000000 - run_id)::text, 13, '0') || ' ' || lpad(number::text, 9, '0')) COLLATE "C"`
)

// Deliveries lists a lane's, the newest first; state and run are filters, "" and 0 for all.
func (s *Store) Deliveries(ctx context.Context, lane, run int64, verb, state string, p Page) (list []Delivery, next string, total int, err error) {
	var c clause
	c.and("lane_id = ?", lane)
	c.is("verb", verb)
	c.is("state", state)
	if run > 0 {
		c.and("run_id = ?", run)
	}
	c.finds(p, joined("person", "account", "label", "login", "address", "sponsor"))
	from := `FROM (` + deliveryColumns + `) q WHERE `
	if total, err = s.total(ctx, p, `SELECT count(*) `+from+c.text, c.args...); err != nil {
		return nil, "", 0, err
	}
	c.and(newestRun+" > ?", p.afterText())
	err = s.list(ctx, &list, fmt.Sprintf(`SELECT * %s ORDER BY %s LIMIT %d`, from+c.text, newestRun, p.limit()+1), c.args...)
	list, next = cut(p, list, func(d Delivery) string { return fmt.Sprintf("%013d %09d", runsMost-d.Run, d.Number) })
	return list, next, total, err
}

// MoveDelivery records how far one has come, where it was in the state before. ErrChanged when
// it was not: whoever goes on looks at it again. Where it is no longer kept, its secret goes.
func (s *Store) MoveDelivery(ctx context.Context, t Task, run int64, number int, before, now string, until *time.Time) error {
	return s.withCopy(ctx, func(tx bare) error {
		if err := stillOurs(ctx, tx, t); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `UPDATE deliveries SET state = $4, until = $5, secret = CASE WHEN $4 = 'kept' THEN secret END WHERE run_id = $1 AND number = $2 AND state = $3`, run, number, before, now, until)
		if err == nil && tag.RowsAffected() == 0 {
			err = ErrChanged
		}
		return translate(err)
	})
}

// Collect takes the secrets of a run that are kept for a file, and lets go of them: nobody
// takes them again.
func (s *Store) Collect(ctx context.Context, run int64, by string) (list []Delivery, err error) {
	return list, s.list(ctx, &list, `WITH taken AS (SELECT run_id, number, secret FROM deliveries WHERE run_id = $1 AND state = 'kept' AND until >= now() FOR UPDATE),
		moved AS (UPDATE deliveries d SET state = 'collected', secret = NULL, by_whom = $2 FROM taken t WHERE d.run_id = t.run_id AND d.number = t.number RETURNING d.*)
		SELECT m.run_id, m.number, m.lane_id, m.verb, m.person, m.account, m.label, m.login, m.by_way, m.address, m.sponsor, m.state, t.secret, m.at, m.until, m.by_whom, 1 AS times FROM moved m JOIN taken t USING (run_id, number) ORDER BY m.number`, run, by)
}

// ForgetSecrets lets go of those that nobody took in time.
func (s *Store) ForgetSecrets(ctx context.Context) error {
	_, err := s.exec(ctx, `UPDATE deliveries SET state = 'gone', secret = NULL WHERE state = 'kept' AND until < now()`)
	return err
}

// OpenInvitations are the accounts of a lane whose holders were invited, and have not signed
// in as far as is known.
func (s *Store) OpenInvitations(ctx context.Context, lane int64) (accounts []string, err error) {
	return accounts, s.list(ctx, &accounts, `SELECT DISTINCT account FROM deliveries WHERE lane_id = $1 AND verb = 'invite' AND state IN ('sent', 'sending') ORDER BY 1`, lane)
}

// AcceptInvitations records that their holders have.
func (s *Store) AcceptInvitations(ctx context.Context, lane int64, accounts []string) error {
	_, err := s.exec(ctx, `UPDATE deliveries SET state = 'accepted' WHERE lane_id = $1 AND account = ANY($2) AND verb = 'invite' AND state IN ('sent', 'sending')`, lane, accounts)
	return err
}
