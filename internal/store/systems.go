package store

import "context"

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
	AtOnce    int                     `db:"at_once" json:"atOnce"`       // requests at a time; 0 no limit
	PerSecond float64                 `db:"per_second" json:"perSecond"` // requests a second; 0 no limit
	KeepDays  int                     `db:"keep_days" json:"keepDays"`   // how long rosters are kept; 0 for ever
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

// AddSystem makes one, read-only.
func (s *Store) AddSystem(ctx context.Context, x System) (out System, err error) {
	return out, s.get(ctx, &out, `INSERT INTO systems (name, kind, settings, shape, secret, at_once, per_second, keep_days) VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING *`,
		x.Name, x.Kind, jsonText(x.Settings.V), x.Shape, x.Secret, x.AtOnce, x.PerSecond, x.KeepDays)
}

// ChangeSystem replaces one whose version is still the given one; a nil secret
// stays. ErrChanged when somebody else was faster.
func (s *Store) ChangeSystem(ctx context.Context, x System, version int64) (out System, err error) {
	err = s.get(ctx, &out, `UPDATE systems SET kind = $2, settings = $3, shape = $4, secret = coalesce($5, secret), at_once = $7, per_second = $8, keep_days = $9, version = version + 1 WHERE name = $1 AND version = $6 RETURNING *`,
		x.Name, x.Kind, jsonText(x.Settings.V), x.Shape, x.Secret, version, x.AtOnce, x.PerSecond, x.KeepDays)
	if err == ErrNotFound { // our own sentinel, just made
		err = ErrChanged
	}
	return out, err
}

// SetWritable opens a system for writing, or closes it.
func (s *Store) SetWritable(ctx context.Context, name string, on bool) error {
	return s.must(ctx, `UPDATE systems SET writable = $2, version = version + 1 WHERE name = $1`, name, on)
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
