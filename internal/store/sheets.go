package store

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// EachAccount calls fn for where the accounts stand in a reconciliation, of those that are in
// the lane, in the order of their ids.
func (s *Store) EachAccount(ctx context.Context, reconciliation int64, fn func(id, state string)) error {
	rows, err := s.pool.Query(ctx, `SELECT native_id, state FROM verdicts WHERE reconciliation_id = $1 AND side = 'accounts' AND state <> 'exempt' ORDER BY native_id`, reconciliation)
	if err != nil {
		return translate(err)
	}
	var id, state string
	_, err = pgx.ForEachRow(rows, []any{&id, &state}, func() error { fn(id, state); return nil })
	return translate(err)
}
