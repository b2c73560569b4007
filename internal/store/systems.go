package store

import (
	"context"
	"errors"
	"time"

	"twinning/internal/core/planning"
)

// System is a place that holds identities.
type System struct {
	ID        int64                   `db:"id" json:"-"`
	Name      string                  `db:"name" json:"name"`
	Kind      string                  `db:"kind" json:"kind"`
	Settings  JSON[map[string]string] `db:"settings" json:"settings"`
	Shape     string                  `db:"shape" json:"shape"`
	Secret    []byte                  `db:"secret" json:"-"`
	Writable  bool                    `db:"writable" json:"writable"`
	Version   int64                   `db:"version" json:"version"`
	AtOnce    int                     `db:"at_once" json:"atOnce"`        // requests at a time; 0 no limit
	PerSecond float64                 `db:"per_second" json:"perSecond"`  // requests a second; 0 no limit
	KeepDays  int                     `db:"keep_days" json:"keepDays"`    // how long rosters are kept; 0 for ever
	Namespace string                  `db:"namespace" json:"namespace"`   // systems of the same one share logins and addresses; "" none does
	Title     string                  `db:"title" json:"title,omitempty"` // what people call it
	// SecretUntil is the last day on which the secret is good, "" when that is not known
	SecretUntil string `db:"secret_until" json:"secretUntil,omitempty"`
}

// Systems lists all by name.
func (s *Store) Systems(ctx context.Context) (list []System, err error) {
	return list, s.list(ctx, &list, `SELECT * FROM systems ORDER BY name`)
}

// SystemByName finds one.
func (s *Store) SystemByName(ctx context.Context, name string) (x System, err error) {
	return x, s.get(ctx, &x, `SELECT * FROM systems WHERE name = $1`, name)
}

// SystemByID finds one.
func (s *Store) SystemByID(ctx context.Context, id int64) (x System, err error) {
	return x, s.get(ctx, &x, `SELECT * FROM systems WHERE id = $1`, id)
}

// Sharing lists the other systems that share a system's names.
func (s *Store) Sharing(ctx context.Context, id int64) (list []System, err error) {
	return list, s.list(ctx, &list, `SELECT y.* FROM systems y JOIN systems x ON x.namespace = y.namespace WHERE x.id = $1 AND x.namespace <> '' AND y.id <> x.id ORDER BY y.name`, id)
}

// Whose tells whose the accounts of a system are, of an authority's people: by the bonds of the
// lanes that serve them, or by the twins of their newest reconciliations that a key has made.
func (s *Store) Whose(ctx context.Context, system, authority int64) (map[string]string, error) {
	whose := map[string]string{}
	lanes, err := s.Lanes(ctx)
	if err != nil {
		return nil, err
	}
	for _, l := range lanes {
		if l.DownstreamID != system || l.AuthorityID != authority {
			continue
		}
		if err := s.EachTwin(ctx, l.ID, func(account, person string) { whose[account] = person }); err != nil {
			return nil, err
		}
		bonds, err := s.Bonds(ctx, l.ID)
		if err != nil {
			return nil, err
		}
		for _, b := range bonds {
			whose[b.Account] = b.Person
		}
	}
	return whose, nil
}

// RosterAt is the newest roster of a system that had been taken at an instant, 0 for none.
func (s *Store) RosterAt(ctx context.Context, system int64, at time.Time) (id int64, err error) {
	return id, s.get(ctx, &id, `SELECT coalesce(max(id), 0) FROM rosters WHERE system_id = $1 AND state = 'taken' AND ended <= $2`, system, at)
}

// Given is a change of a system, with whose people its lane serves.
type Given struct {
	Body      JSON[planning.Change] `db:"body"`
	Authority int64                 `db:"authority"`
}

// Names visits the names that it gives, with the person of an authority whom it gives them to,
// "" where they are of another.
func (g Given) Names(authority int64, each func(name, person string)) {
	person := ""
	if g.Authority == authority {
		person = g.Body.V.Person
	}
	for _, e := range g.Body.V.Edits {
		for _, name := range e.NewNames() {
			each(name, person)
		}
	}
}

// GivenSince lists the changes that were carried out in a system since an instant, or may
// have been.
func (s *Store) GivenSince(ctx context.Context, system int64, since time.Time) (list []Given, err error) {
	return list, s.list(ctx, &list, `SELECT c.body, l.authority FROM receipts x JOIN runs r ON r.id = x.run_id JOIN plans p ON p.id = r.plan_id JOIN lanes l ON l.id = p.lane_id
		JOIN changes c ON c.plan_id = p.id AND c.number = x.number WHERE l.downstream = $1 AND coalesce(x.ended, x.intended) >= $2 AND x.outcome IN ('', 'done', 'different', 'waiting', 'in-doubt')`, system, since)
}

// AddSystem makes one, read-only.
func (s *Store) AddSystem(ctx context.Context, x System) (out System, err error) {
	return out, s.get(ctx, &out, `INSERT INTO systems (name, kind, settings, shape, secret, at_once, per_second, keep_days, namespace, secret_until, title) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) RETURNING *`,
		x.Name, x.Kind, jsonText(x.Settings.V), x.Shape, x.Secret, x.AtOnce, x.PerSecond, x.KeepDays, x.Namespace, x.SecretUntil, x.Title)
}

// ChangeSystem replaces one whose version is still the given one; a nil secret
// stays. ErrChanged when somebody else was faster.
func (s *Store) ChangeSystem(ctx context.Context, x System, version int64) (out System, err error) {
	err = s.get(ctx, &out, `UPDATE systems SET kind = $2, settings = $3, shape = $4, secret = coalesce($5, secret), at_once = $7, per_second = $8, keep_days = $9, namespace = $10, secret_until = $11, title = $12, version = version + 1 WHERE name = $1 AND version = $6 RETURNING *`,
		x.Name, x.Kind, jsonText(x.Settings.V), x.Shape, x.Secret, version, x.AtOnce, x.PerSecond, x.KeepDays, x.Namespace, x.SecretUntil, x.Title)
	if err == ErrNotFound { // our own sentinel, just made
		err = ErrChanged
	}
	return out, err
}

// SetWritable opens a system for writing, or closes it; ErrChanged where it no longer has the
// version, 0: any.
func (s *Store) SetWritable(ctx context.Context, name string, on bool, version int64) error {
	err := s.must(ctx, `UPDATE systems SET writable = $2, version = version + 1 WHERE name = $1 AND ($3 = 0 OR version = $3)`, name, on, version)
	if version != 0 && errors.Is(err, ErrNotFound) {
		return ErrChanged
	}
	return err
}

// RemoveSystem removes one that no lane uses, with all its records; else
// ErrInUse.
func (s *Store) RemoveSystem(ctx context.Context, name string) error {
	return s.InTx(ctx, func(tx *Store) error {
		var busy bool
		err := tx.get(ctx, &busy, `SELECT EXISTS (SELECT FROM tasks t JOIN systems x ON x.name = $1 WHERE t.state IN ('queued', 'running') AND (t.system_id = x.id OR t.kind = 'roster' AND t.params->>'system' = x.id::text))`, name)
		if err != nil {
			return err
		}
		if busy {
			return ErrInUse
		}
		var id int64
		if err := tx.get(ctx, &id, `DELETE FROM systems WHERE name = $1 RETURNING id`, name); err != nil {
			return err
		}
		_, err = tx.exec(ctx, `DROP TABLE IF EXISTS `+tableOf(id))
		return err
	})
}
