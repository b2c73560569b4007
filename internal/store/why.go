package store

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
)

// Compared is a pair that evidence compared, with what it found.
type Compared struct {
	Person  string `db:"person"`
	Account string `db:"account"`
	Pattern []byte `db:"pattern"`
}

// Carrier is a record that carries a key's value.
type Carrier struct {
	Key   int    `db:"key"`
	Value int64  `db:"value"` // as KeyValue makes it
	Side  string `db:"side"`
	ID    string `db:"native_id"`
}

// CommonWord is a word of names, as a hash, with how many records carry it.
type CommonWord struct {
	Word    int64 `db:"word"`
	Records int32 `db:"records"`
}

// KeyValue is a key's normalised value as carriers are found by it.
func KeyValue(value string) int64 {
	sum := sha256.Sum256([]byte(value))
	return int64(binary.BigEndian.Uint64(sum[:8])) // any number will do
}

// addWhy keeps what explains the verdicts.
func (o *Outcome) addWhy(ctx context.Context, tx bare, id int64) error {
	if err := copyInto(ctx, tx, partOf("compared", id), []string{"reconciliation_id", "person", "account", "pattern"}, o.Compared, func(_ int, c Compared) []any {
		return []any{id, c.Person, c.Account, c.Pattern}
	}); err != nil {
		return err
	}
	if err := copyInto(ctx, tx, "carriers", []string{"reconciliation_id", "key", "value", "side", "native_id"}, o.Carriers, func(_ int, c Carrier) []any {
		return []any{id, c.Key, c.Value, c.Side, c.ID}
	}); err != nil {
		return err
	}
	return copyInto(ctx, tx, "common_words", []string{"reconciliation_id", "word", "records"}, o.Words, func(_ int, w CommonWord) []any {
		return []any{id, w.Word, w.Records}
	})
}

// ComparedWith lists the pairs that evidence compared of one of the two records.
func (s *Store) ComparedWith(ctx context.Context, reconciliation int64, person, account string) (list []Compared, err error) {
	return list, s.list(ctx, &list, `SELECT person, account, pattern FROM compared WHERE reconciliation_id = $1 AND person = $2 AND $2 <> ''
		UNION SELECT person, account, pattern FROM compared WHERE reconciliation_id = $1 AND account = $3 AND $3 <> ''`, reconciliation, person, account)
}

// CarriersOf lists who carries one of a key's values, where more than a pair of twins does.
func (s *Store) CarriersOf(ctx context.Context, reconciliation int64, key int, values []int64) (list []Carrier, err error) {
	return list, s.list(ctx, &list, `SELECT DISTINCT key, side, native_id, 0::bigint AS value FROM carriers WHERE reconciliation_id = $1 AND key = $2 AND value = ANY($3) ORDER BY native_id`, reconciliation, key, values)
}

// CommonAmong counts the records that carry these words, of those that more than two do.
func (s *Store) CommonAmong(ctx context.Context, reconciliation int64, words []int64) (list []CommonWord, err error) {
	return list, s.list(ctx, &list, `SELECT word, records FROM common_words WHERE reconciliation_id = $1 AND word = ANY($2)`, reconciliation, words)
}
