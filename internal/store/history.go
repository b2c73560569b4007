package store

import (
	"context"
	"encoding/json"
	"time"
)

// Difference is one record that two rosters of a system show differently.
type Difference struct {
	ID  string                    `db:"native_id"`
	Old JSON[map[string][]string] `db:"old"` // nil: it came
	New JSON[map[string][]string] `db:"new"` // nil: it went
}

// differences are versions that end or begin between two rosters ($2 the older,
// $3 the newer); what changed and was changed back is none.
const differences = `WITH a AS (SELECT native_id, native, digest FROM records WHERE system_id = $1 AND since <= $2 AND until > $2 AND until <= $3),
	b AS (SELECT native_id, native, digest FROM records WHERE system_id = $1 AND since > $2 AND since <= $3 AND (until IS NULL OR until > $3)),
	d AS (SELECT coalesce(a.native_id, b.native_id) AS native_id, a.native AS old, b.native AS new FROM a FULL JOIN b USING (native_id) WHERE a.digest IS DISTINCT FROM b.digest) `

// Difference counts.
type DifferenceCounts struct {
	Came    int `db:"came"`
	Went    int `db:"went"`
	Changed int `db:"changed"`
}

// CountDifferences counts who came, went and changed from one roster of a
// system to a newer one.
func (s *Store) CountDifferences(ctx context.Context, system, older, newer int64) (c DifferenceCounts, err error) {
	return c, s.get(ctx, &c, differences+`SELECT count(*) FILTER (WHERE old IS NULL) AS came, count(*) FILTER (WHERE new IS NULL) AS went, count(*) FILTER (WHERE old IS NOT NULL AND new IS NOT NULL) AS changed FROM d`, system, older, newer)
}

// ChangedNatives counts, by native attribute, the records in which it changed.
func (s *Store) ChangedNatives(ctx context.Context, system, older, newer int64) (map[string]int, error) {
	var rows []struct {
		Native string `db:"native"`
		N      int    `db:"n"`
	}
	err := s.list(ctx, &rows, differences+`SELECT k AS native, count(*) AS n FROM d, LATERAL (SELECT jsonb_object_keys(old || new) AS k) x
		WHERE old IS NOT NULL AND new IS NOT NULL AND old->k IS DISTINCT FROM new->k GROUP BY 1`, system, older, newer)
	counts := map[string]int{}
	for _, r := range rows {
		counts[r.Native] = r.N
	}
	return counts, err
}

// Differences lists them by id: of one kind (came, went, changed) or all, of
// those that changed only where one of the natives did, when any is given.
func (s *Store) Differences(ctx context.Context, system, older, newer int64, kind string, natives []string, p Page) (list []Difference, next string, err error) {
	err = s.list(ctx, &list, differences+`SELECT * FROM d WHERE native_id > $4
		AND ($5 = '' OR $5 = CASE WHEN old IS NULL THEN 'came' WHEN new IS NULL THEN 'went' ELSE 'changed' END)
		AND (cardinality($6::text[]) = 0 OR old IS NOT NULL AND new IS NOT NULL AND EXISTS (SELECT FROM unnest($6::text[]) k WHERE old->k IS DISTINCT FROM new->k))
		AND ($7 = '%%' OR native_id ILIKE $7 OR old::text ILIKE $7 OR new::text ILIKE $7) ORDER BY native_id LIMIT $8`,
		system, older, newer, p.afterText(), kind, append([]string{}, natives...), p.like(), p.limit()+1)
	list, next = cut(p, list, func(d Difference) string { return d.ID })
	return list, next, err
}

// Before finds the roster of a system that was taken before another one.
func (s *Store) Before(ctx context.Context, r Roster) (b Roster, err error) {
	return b, s.get(ctx, &b, rosterColumns+`WHERE r.system_id = $1 AND r.state = 'taken' AND r.id < $2 ORDER BY r.id DESC LIMIT 1`, r.SystemID, r.ID)
}

// Version is a record from one roster to another.
type Version struct {
	Since       time.Time                 `db:"since_at" json:"since"`
	SinceRoster int64                     `db:"since" json:"sinceRoster"`
	Until       *time.Time                `db:"until_at" json:"until,omitempty"`
	UntilRoster *int64                    `db:"until" json:"untilRoster,omitempty"`
	Values      JSON[map[string][]string] `db:"native" json:"values"`
}

// Versions lists a record through time, newest first. Where the roster in which
// a version began or ended is no longer kept, the next one stands for it.
func (s *Store) Versions(ctx context.Context, system int64, id string) (list []Version, err error) {
	const when = `(SELECT min(coalesce(r.ended, r.started)) FROM rosters r WHERE r.system_id = $1 AND r.state = 'taken' AND r.id >= `
	return list, s.list(ctx, &list, `SELECT v.since, `+when+`v.since) AS since_at, v.until, `+when+`v.until) AS until_at, v.native
		FROM records v WHERE v.system_id = $1 AND v.native_id = $2 ORDER BY v.since DESC LIMIT 500`, system, id)
}

// Statistics of a roster as they were counted, nil when nobody did yet.
func (s *Store) Statistics(ctx context.Context, roster int64) (json.RawMessage, error) {
	var raw []byte
	err := s.get(ctx, &raw, `SELECT statistics FROM rosters WHERE id = $1`, roster)
	return raw, err
}

// KeepStatistics keeps what was counted.
func (s *Store) KeepStatistics(ctx context.Context, roster int64, counted any) error {
	return s.must(ctx, `UPDATE rosters SET statistics = $2 WHERE id = $1`, roster, jsonText(counted))
}
