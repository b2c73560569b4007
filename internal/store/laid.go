package store

import (
	"cmp"
	"context"

	"twinning/internal/core/lifecycle"
	"twinning/internal/core/parallel"
)

// Laid is a plan whose rows are being written while it is found out what of them stands.
type Laid struct {
	writing parallel.Group
	stop    context.CancelFunc
	id      int64
	rows    int64
	err     error
}

// LayPlan begins to write all changes of a result down as a plan. It is called in the
// transaction that ends with AddPlan, and which does nothing else meanwhile; Drop goes before
// the transaction does.
func (s *Store) LayPlan(ctx context.Context, lane, reconciliation int64, by string) *Laid {
	l := &Laid{}
	ctx, l.stop = context.WithCancel(ctx)
	l.writing.Go(func() {
		l.err = s.withCopy(ctx, func(tx bare) error {
			var err error
			if l.id, err = newPlan(ctx, tx, lane, reconciliation, by); err != nil {
				return err
			}
			added, err := tx.Exec(ctx, `INSERT INTO changes (plan_id, number, change, wave, verb, person, account, label, body, words, class, department)
				SELECT $1, number, change, wave, verb, person, account, label, body, words, class, department FROM changes WHERE reconciliation_id = $2 ORDER BY number`, l.id, reconciliation)
			l.rows = added.RowsAffected()
			return err
		})
	})
	return l
}

// Drop waits until nothing is written any more.
func (l *Laid) Drop() {
	l.stop()
	l.writing.Wait()
}

// AddPlan keeps a draft with its changes in their order, and what was asked for and is not
// among them. Those of a result are the reconciliation's: ErrChanged when it no longer has them
// all, or a newer one has taken its place; older drafts of results become void. What is laid
// already, nil for nothing, is taken as it is where nothing has fallen.
func (s *Store) AddPlan(ctx context.Context, laid *Laid, p Plan, changes []Change, refused []Refusal) (id int64, err error) {
	if laid != nil {
		if laid.writing.Wait(); laid.err != nil {
			return 0, laid.err
		}
		id = laid.id
	}
	return id, s.withCopy(ctx, func(tx bare) error {
		own := p.Origin.V.Own()
		if !own {
			var newer bool
			if err := tx.QueryRow(ctx, `SELECT EXISTS (SELECT FROM reconciliations WHERE lane_id = $1 AND id > $2)`, p.LaneID, p.Reconciliation).Scan(&newer); err != nil || newer {
				return cmp.Or(err, ErrChanged)
			}
			from, to := lifecycle.Plans.From(lifecycle.Supersede)
			if _, err := tx.Exec(ctx, `UPDATE plans SET state = $2 WHERE lane_id = $1 AND state = ANY($3) AND coalesce(origin->>'kind', '') IN ('', 'selection') AND id <> $4`, p.LaneID, to, from, id); err != nil {
				return err
			}
		}
		if laid == nil {
			if id, err = newPlan(ctx, tx, p.LaneID, p.Reconciliation, p.By); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, `UPDATE plans SET hash = $2, verbs = $3, waves = $4, guards = $5, parts = $6, lowered = $7, origin = $8, set_aside = $9, summary = $10 WHERE id = $1`,
			id, p.Hash, p.Verbs, p.Waves, p.Guards, jsonText(p.Parts.V), jsonText(append([]string{}, p.Lowered.V...)), jsonText(p.Origin.V), p.SetAside, jsonText(p.Summary.V)); err != nil {
			return err
		}
		if err := copyInto(ctx, tx, "plan_refusals", []string{"plan_id", "number", "place", "person", "account", "label", "attribute", "reason"}, refused, func(i int, r Refusal) []any {
			return []any{id, i, r.Place, r.Person, r.Account, r.Label, r.Attribute, r.Reason}
		}); err != nil {
			return err
		}
		if own {
			return copyInto(ctx, tx, "changes", []string{"plan_id", "number", "change", "wave", "verb", "person", "account", "label", "body", "words", "class", "department"}, changes, func(i int, c Change) []any {
				return []any{id, i, c.ID, c.Wave, c.Verb, c.Person, c.Account, c.Label, jsonText(c.Body.V), c.words(), c.Class, c.Department}
			})
		}
		if laid != nil && laid.rows == int64(len(changes)) {
			return setAsides(ctx, tx, id, changes)
		}
		if _, err := tx.Exec(ctx, `DELETE FROM changes WHERE plan_id = $1`, id); err != nil { // what was laid, and does not all stand
			return err
		}
		numbers := make([]int, len(changes))
		for i, c := range changes {
			numbers[i] = c.Number
		}
		added, err := tx.Exec(ctx, `INSERT INTO changes (plan_id, number, change, wave, verb, person, account, label, body, words, class, department)
			SELECT $1, n.place - 1, c.change, c.wave, c.verb, c.person, c.account, c.label, c.body, c.words, c.class, c.department FROM unnest($3::int[]) WITH ORDINALITY AS n(number, place) JOIN changes c ON c.reconciliation_id = $2 AND c.number = n.number ORDER BY n.place`, id, p.Reconciliation, numbers)
		if err != nil {
			return err
		}
		if added.RowsAffected() != int64(len(changes)) {
			return ErrChanged
		}
		return setAsides(ctx, tx, id, changes)
	})
}

// newPlan begins a draft, of which nothing is known yet.
func newPlan(ctx context.Context, tx bare, lane, reconciliation int64, by string) (id int64, err error) {
	return id, tx.QueryRow(ctx, `INSERT INTO plans (lane_id, reconciliation_id, state, created_by, hash, verbs, waves, guards) VALUES ($1, $2, $3, $4, '', '{}', '[]', '[]') RETURNING id`,
		lane, reconciliation, lifecycle.Draft, by).Scan(&id)
}

// setAsides notes which changes of a plan humans have set aside; they are in its order.
func setAsides(ctx context.Context, tx bare, plan int64, changes []Change) error {
	var numbers []int
	var why []string
	for i, c := range changes {
		if c.SetAside != "" {
			numbers, why = append(numbers, i), append(why, c.SetAside)
		}
	}
	if len(numbers) == 0 {
		return nil
	}
	_, err := tx.Exec(ctx, `UPDATE changes c SET set_aside = n.why FROM unnest($2::int[], $3::text[]) AS n(number, why) WHERE c.plan_id = $1 AND c.number = n.number`, plan, numbers, why)
	return err
}
