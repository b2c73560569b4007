package store

import (
	"context"
	"errors"
	"strconv"
	"time"
)

// Lane is one authority reconciled with one downstream.
type Lane struct {
	ID           int64  `db:"id"`
	Name         string `db:"name"`
	AuthorityID  int64  `db:"authority"`
	DownstreamID int64  `db:"downstream"`
	Authority    string `db:"authority_name"`
	Downstream   string `db:"downstream_name"`
	Observing    bool   `db:"observing"`
	Zone         string `db:"zone"`  // of its newest charter
	Title        string `db:"title"` // what people call it, by its newest charter
}

// Location is the lane's zone; UTC when this machine does not know it.
func (l Lane) Location() *time.Location {
	zone, err := time.LoadLocation(l.Zone)
	if err != nil {
		return time.UTC
	}
	return zone
}

const laneColumns = `SELECT l.id, l.name, l.authority, l.downstream, l.observing, l.zone, l.title, a.name AS authority_name, d.name AS downstream_name FROM lanes l JOIN systems a ON a.id = l.authority JOIN systems d ON d.id = l.downstream `

// Lanes lists all by name.
func (s *Store) Lanes(ctx context.Context) (list []Lane, err error) {
	return list, s.list(ctx, &list, laneColumns+`ORDER BY l.name`)
}

// LaneByName finds one.
func (s *Store) LaneByName(ctx context.Context, name string) (l Lane, err error) {
	return l, s.get(ctx, &l, laneColumns+`WHERE l.name = $1`, name)
}

// LaneByID finds one.
func (s *Store) LaneByID(ctx context.Context, id int64) (l Lane, err error) {
	return l, s.get(ctx, &l, laneColumns+`WHERE l.id = $1`, id)
}

// AddLane makes a lane; ErrTaken when there is one of that name.
func (s *Store) AddLane(ctx context.Context, name string, authority, downstream int64) error {
	_, err := s.exec(ctx, `INSERT INTO lanes (name, authority, downstream) VALUES ($1, $2, $3)`, name, authority, downstream)
	return err
}

// Bound reports whether bonds or rulings of any lane name records of a system by
// their ids.
func (s *Store) Bound(ctx context.Context, system int64) (lanes []string, err error) {
	return lanes, s.list(ctx, &lanes, `SELECT l.name FROM lanes l WHERE (l.authority = $1 OR l.downstream = $1)
		AND (EXISTS (SELECT FROM bonds b WHERE b.lane_id = l.id) OR EXISTS (SELECT FROM rulings r WHERE r.lane_id = l.id AND r.cleared IS NULL)) ORDER BY 1`, system)
}

// BondedIDs counts the ids of a system's records that bonds name, and how many of
// them it has now.
func (s *Store) BondedIDs(ctx context.Context, system int64) (bonded, there int, err error) {
	var n struct {
		Bonded int `db:"bonded"`
		There  int `db:"there"`
	}
	err = s.get(ctx, &n, `SELECT count(*) AS bonded, count(*) FILTER (WHERE EXISTS (SELECT FROM records r WHERE r.system_id = $1 AND r.native_id = i.id AND r.until IS NULL)) AS there
		FROM (SELECT b.person AS id FROM bonds b JOIN lanes l ON l.id = b.lane_id WHERE l.authority = $1 UNION SELECT b.account FROM bonds b JOIN lanes l ON l.id = b.lane_id WHERE l.downstream = $1) i`, system)
	return n.Bonded, n.There, err
}

// SetCharacter keeps the zone in which a lane counts days, and what people call it.
func (s *Store) SetCharacter(ctx context.Context, lane int64, zone, title string) error {
	return s.must(ctx, `UPDATE lanes SET zone = $2, title = $3 WHERE id = $1`, lane, zone, title)
}

// SetObserving lets a lane only observe.
func (s *Store) SetObserving(ctx context.Context, name string, on bool) error {
	return s.must(ctx, `UPDATE lanes SET observing = $2 WHERE name = $1`, name, on)
}

// RemoveLane removes a lane with its history. It stays while a plan of it may
// still write; open then says which.
func (s *Store) RemoveLane(ctx context.Context, lane int64) (open []string, err error) {
	err = s.InTx(ctx, func(tx *Store) error {
		if err := tx.HoldLane(ctx, lane); err != nil {
			return err
		}
		err := tx.list(ctx, &open, `SELECT 'plan ' || id || ' is ' || state FROM plans WHERE lane_id = $1 AND state IN ('sealed', 'running', 'halted')
			UNION ALL SELECT 'task ' || id || ' (' || name || ') is ' || state FROM tasks WHERE state IN ('queued', 'running') AND (lane_id = $1 OR kind = 'verify' AND plan_id IN (SELECT id FROM plans WHERE lane_id = $1)) ORDER BY 1`, lane)
		if err != nil || len(open) > 0 {
			return err
		}
		// another lane of this name must not inherit who might do what in it
		if _, err := tx.exec(ctx, `UPDATE users SET lanes = lanes - (SELECT name FROM lanes WHERE id = $1)`, lane); err != nil {
			return err
		}
		return tx.must(ctx, `DELETE FROM lanes WHERE id = $1`, lane)
	})
	return open, err
}

// Charter is one version of a lane's rules.
type Charter struct {
	LaneID  int64     `db:"lane_id"`
	Version int64     `db:"version"`
	Source  string    `db:"source"`
	By      string    `db:"created_by"`
	At      time.Time `db:"at"`
	Note    string    `db:"note"`
}

// Charters lists the versions of a lane's charter, newest first.
func (s *Store) Charters(ctx context.Context, lane int64, p Page) (list []Charter, next string, err error) {
	err = s.list(ctx, &list, `SELECT * FROM charters WHERE lane_id = $1 AND version < $2 ORDER BY version DESC LIMIT $3`, lane, p.afterNumber(maxNumber), p.limit()+1)
	list, next = cut(p, list, func(c Charter) string { return number(c.Version) })
	return list, next, err
}

// Charter finds a version; 0 means the newest.
func (s *Store) Charter(ctx context.Context, lane, version int64) (c Charter, err error) {
	return c, s.get(ctx, &c, `SELECT * FROM charters WHERE lane_id = $1 AND ($2 = 0 OR version = $2) ORDER BY version DESC LIMIT 1`, lane, version)
}

// ChartersBetween lists the versions from one to another, the newest first.
func (s *Store) ChartersBetween(ctx context.Context, lane, from, to int64) (list []Charter, err error) {
	return list, s.list(ctx, &list, `SELECT * FROM charters WHERE lane_id = $1 AND version BETWEEN $2 AND $3 ORDER BY version DESC`, lane, from, to)
}

// AddCharter adds the version after the given one; ErrTaken when somebody else
// was faster.
func (s *Store) AddCharter(ctx context.Context, lane, after int64, source, by, note string) (c Charter, err error) {
	return c, s.get(ctx, &c, `INSERT INTO charters (lane_id, version, source, created_by, note) VALUES ($1, $2, $3, $4, $5) RETURNING *`, lane, after+1, source, by, note)
}

// Ruling is a human decision that outlives rosters.
type Ruling struct {
	ID      int64      `db:"id" json:"id"`
	LaneID  int64      `db:"lane_id" json:"-"`
	Kind    string     `db:"kind" json:"kind"`
	Person  string     `db:"person" json:"person,omitempty"`
	Account string     `db:"account" json:"account,omitempty"`
	Reason  string     `db:"reason" json:"reason"`
	Until   *string    `db:"until" json:"until,omitempty"`
	By      string     `db:"created_by" json:"by"`
	At      time.Time  `db:"at" json:"at"`
	Cleared *time.Time `db:"cleared" json:"-"`
}

const rulingColumns = `id, lane_id, kind, person, account, reason, to_char(until, 'YYYY-MM-DD') AS until, created_by, at, cleared`

// Rulings lists those in force.
func (s *Store) Rulings(ctx context.Context, lane int64) (list []Ruling, err error) {
	return list, s.list(ctx, &list, `SELECT `+rulingColumns+` FROM rulings WHERE lane_id = $1 AND cleared IS NULL ORDER BY id`, lane)
}

// AddRuling keeps one.
func (s *Store) AddRuling(ctx context.Context, r Ruling) (out Ruling, err error) {
	return out, s.get(ctx, &out, `INSERT INTO rulings (lane_id, kind, person, account, reason, until, created_by) VALUES ($1, $2, $3, $4, $5, $6::date, $7) RETURNING `+rulingColumns, r.LaneID, r.Kind, r.Person, r.Account, r.Reason, r.Until, r.By)
}

// ClearRuling takes one back; it stays on record.
func (s *Store) ClearRuling(ctx context.Context, lane, id int64) error {
	return s.must(ctx, `UPDATE rulings SET cleared = now() WHERE lane_id = $1 AND id = $2 AND cleared IS NULL`, lane, id)
}

// Ruling finds one in force.
func (s *Store) Ruling(ctx context.Context, lane, id int64) (r Ruling, err error) {
	return r, s.get(ctx, &r, `SELECT `+rulingColumns+` FROM rulings WHERE lane_id = $1 AND id = $2 AND cleared IS NULL`, lane, id)
}

// Bond is the lasting record of a twin.
type Bond struct {
	Person  string `db:"person" json:"person"`
	Account string `db:"account" json:"account"`
	Basis   string `db:"basis" json:"basis"` // what first held the two to be one
	By      string `db:"made_by" json:"by"`  // "run 12" or "ruling 3"
}

// Bonds lists a lane's.
func (s *Store) Bonds(ctx context.Context, lane int64) (list []Bond, err error) {
	return list, s.list(ctx, &list, `SELECT person, account, basis, made_by FROM bonds WHERE lane_id = $1 ORDER BY account`, lane)
}

// AddBond keeps one that a human ruled, and gives up whatever else bound the two.
func (s *Store) AddBond(ctx context.Context, lane int64, b Bond) error {
	return s.InTx(ctx, func(tx *Store) error {
		if _, err := tx.exec(ctx, `DELETE FROM bonds WHERE lane_id = $1 AND (person = $2 OR account = $3) AND NOT (person = $2 AND account = $3)`, lane, b.Person, b.Account); err != nil {
			return err
		}
		_, err := tx.exec(ctx, `INSERT INTO bonds (lane_id, person, account, basis, made_by) VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING`, lane, b.Person, b.Account, b.Basis, b.By)
		return err
	})
}

// RemoveBond gives up the bond of exactly these two, if there is one, and says
// what it rested on.
func (s *Store) RemoveBond(ctx context.Context, lane int64, person, account string) (basis string, had bool, err error) {
	err = s.get(ctx, &basis, `DELETE FROM bonds WHERE lane_id = $1 AND person = $2 AND account = $3 RETURNING basis`, lane, person, account)
	if errors.Is(err, ErrNotFound) {
		return "", false, nil
	}
	return basis, err == nil, err
}

// RemoveBondBy gives up the bond that a ruling made, if it still stands.
func (s *Store) RemoveBondBy(ctx context.Context, lane int64, by string) error {
	_, err := s.exec(ctx, `DELETE FROM bonds WHERE lane_id = $1 AND made_by = $2`, lane, by)
	return err
}

// Part holds two records that were bonded and are ruled different.
func (s *Store) Part(ctx context.Context, lane int64, b Bond) error {
	_, err := s.exec(ctx, `INSERT INTO partings (lane_id, person, account, basis) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING`, lane, b.Person, b.Account, b.Basis)
	return err
}

// Unpart takes that back, and says whether there was one and what its bond had
// rested on.
func (s *Store) Unpart(ctx context.Context, lane int64, person, account string) (basis string, had bool, err error) {
	err = s.get(ctx, &basis, `DELETE FROM partings WHERE lane_id = $1 AND person = $2 AND account = $3 RETURNING basis`, lane, person, account)
	if errors.Is(err, ErrNotFound) {
		return "", false, nil
	}
	return basis, err == nil, err
}

// HoldLane makes whoever is about to send something for a lane wait until this
// transaction is through: what it changes is what their sending rests on.
func (s *Store) HoldLane(ctx context.Context, lane int64) error {
	_, err := s.exec(ctx, `SELECT pg_advisory_xact_lock(7003, $1::int)`, lane)
	return err
}

// Claims lists the accounts of a downstream that other lanes hold.
func (s *Store) Claims(ctx context.Context, lane, downstream int64) (map[string][]string, error) {
	var rows []struct {
		Account string `db:"account"`
		Lane    string `db:"name"`
	}
	err := s.list(ctx, &rows, `SELECT b.account, l.name FROM bonds b JOIN lanes l ON l.id = b.lane_id WHERE l.downstream = $2 AND l.id <> $1 ORDER BY 1, 2`, lane, downstream)
	claims := map[string][]string{}
	for _, r := range rows {
		claims[r.Account] = append(claims[r.Account], r.Lane)
	}
	return claims, err
}

// Acceptance says that a finding is known and accepted.
type Acceptance struct {
	Finding string  `db:"finding"`
	Until   *string `db:"until"`
}

// Acceptances lists a lane's.
func (s *Store) Acceptances(ctx context.Context, lane int64) (list []Acceptance, err error) {
	return list, s.list(ctx, &list, `SELECT finding, to_char(until, 'YYYY-MM-DD') AS until FROM acceptances WHERE lane_id = $1`, lane)
}

// Accept keeps an acceptance of a finding of the newest reconciliation; ErrNotFound
// when it has none of that id.
func (s *Store) Accept(ctx context.Context, lane int64, finding string, until *string, reason, by string) error {
	return s.must(ctx, `INSERT INTO acceptances (lane_id, finding, until, reason, created_by)
		SELECT $1, $2, $3::date, $4, $5 WHERE EXISTS (SELECT FROM findings WHERE finding = $2 AND reconciliation_id = (SELECT max(id) FROM reconciliations WHERE lane_id = $1))
		ON CONFLICT (lane_id, finding) DO UPDATE SET until = $3::date, reason = $4, created_by = $5, at = now()`, lane, finding, until, reason, by)
}

// Unaccept takes one back.
func (s *Store) Unaccept(ctx context.Context, lane int64, finding string) error {
	return s.must(ctx, `DELETE FROM acceptances WHERE lane_id = $1 AND finding = $2`, lane, finding)
}

// LaneOf names the lane that a plan, a run or a task is about; ErrNotFound when it
// is about none.
func (s *Store) LaneOf(ctx context.Context, kind, id string) (name string, err error) {
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return "", ErrNotFound
	}
	query := map[string]string{
		"plan": `SELECT l.name FROM plans p JOIN lanes l ON l.id = p.lane_id WHERE p.id = $1`,
		"run":  `SELECT l.name FROM runs r JOIN plans p ON p.id = r.plan_id JOIN lanes l ON l.id = p.lane_id WHERE r.id = $1`,
		"task": `SELECT l.name FROM tasks t LEFT JOIN plans p ON p.id = t.plan_id JOIN lanes l ON l.id = coalesce(t.lane_id, p.lane_id) WHERE t.id = $1`,
	}[kind]
	return name, s.get(ctx, &name, query, n)
}

// PeopleMoved reports whether anybody came or changed in a system after a roster.
func (s *Store) PeopleMoved(ctx context.Context, system, roster int64) (moved bool, err error) {
	return moved, s.get(ctx, &moved, `SELECT EXISTS (SELECT FROM rosters WHERE system_id = $1 AND state = 'taken' AND id > $2 AND came + changed > 0)`, system, roster)
}
