package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgtype"
)

// FindingFilter says which findings of a reconciliation are meant; its zero value means all.
type FindingFilter struct {
	Code, Severity string
	AssignedTo     string
	New            bool // since this reconciliation
}

// Known reports whether the counts that a reconciliation keeps tell how many are meant.
func (f FindingFilter) Known() bool { return f.AssignedTo == "" && !f.New }

func (f FindingFilter) clause(reconciliation int64) (c clause) {
	c.and("reconciliation_id = ?", reconciliation)
	c.is("code", f.Code)
	c.is("severity", f.Severity)
	const lane = "(SELECT lane_id FROM reconciliations WHERE id = ?)"
	if f.AssignedTo != "" {
		c.and("finding IN (SELECT finding FROM finding_assignments WHERE lane_id = "+lane+" AND assigned_to = ?)", reconciliation, f.AssignedTo)
	}
	if f.New {
		c.and("finding IN (SELECT d.finding FROM finding_dates d JOIN reconciliations r ON r.lane_id = d.lane_id AND d.since >= r.at WHERE r.id = ?)", reconciliation)
	}
	return c
}

var findingFields = map[string]field{"code": {"code", true}, "severity": {"severity", true}, "person": {"person", false}, "account": {"account", false}}

// FoundOf lists the findings of some codes.
func (s *Store) FoundOf(ctx context.Context, reconciliation int64, codes []string) (list []Finding, err error) {
	return list, s.list(ctx, &list, toldOf(`SELECT * FROM findings WHERE reconciliation_id = $1 AND code = ANY($2::text[])`, ` ORDER BY number`), reconciliation, pgtype.FlatArray[string](codes))
}

// FoundByIDs lists the findings of some ids.
func (s *Store) FoundByIDs(ctx context.Context, reconciliation int64, ids []string) (list []Finding, err error) {
	return list, s.list(ctx, &list, toldOf(`SELECT * FROM findings WHERE reconciliation_id = $1 AND finding = ANY($2::text[])`, ` ORDER BY number`), reconciliation, pgtype.FlatArray[string](ids))
}

// Meant names the findings of a reconciliation that a filter, a text and ids mean.
func (s *Store) Meant(ctx context.Context, reconciliation int64, which FindingFilter, text string, ids []string) (list []string, err error) {
	c := which.clause(reconciliation)
	if len(ids) > 0 {
		c.and("finding = ANY(?::text[])", pgtype.FlatArray[string](ids))
	}
	c.finds(c.narrow(Page{Text: text}, findingFields), searched["findings"])
	return list, s.list(ctx, &list, `SELECT DISTINCT finding FROM findings WHERE `+c.text+` ORDER BY 1`, c.args...)
}

// FindingSnapshot is a digest of the findings that a filter and a text select, and of what the
// lane has accepted and assigned: another one when any of it has changed. It costs a count.
func (s *Store) FindingSnapshot(ctx context.Context, reconciliation int64, which FindingFilter, text string) (v string, err error) {
	selected := "''"
	var args []any
	if which != (FindingFilter{}) || text != "" {
		c := which.clause(reconciliation)
		c.finds(c.narrow(Page{Text: text}, findingFields), searched["findings"])
		selected, args = `(SELECT count(*) || ' ' || coalesce(sum(hashtextextended(finding, 0)::numeric), 0) FROM findings WHERE `+c.text+`)`, c.args
	}
	const moved = `(SELECT count(*) || ' ' || coalesce(max(x.at)::text, '') FROM %s x WHERE x.lane_id = r.lane_id)`
	return v, s.get(ctx, &v, fmt.Sprintf(`SELECT md5(concat_ws('|', r.id, %s, `+moved+`, `+moved+`)) FROM reconciliations r WHERE r.id = $%d`, selected, "acceptances", "finding_assignments", len(args)+1), append(args, reconciliation)...)
}

// AcceptAll accepts findings of a lane.
func (s *Store) AcceptAll(ctx context.Context, lane int64, findings []string, until *string, reason, by string) error {
	_, err := s.exec(ctx, `INSERT INTO acceptances (lane_id, finding, until, reason, created_by) SELECT $1, f, $3::date, $4, $5 FROM unnest($2::text[]) AS f
		ON CONFLICT (lane_id, finding) DO UPDATE SET until = $3::date, reason = $4, created_by = $5, at = now()`, lane, findings, until, reason, by)
	return err
}

// UnacceptAll takes acceptances back.
func (s *Store) UnacceptAll(ctx context.Context, lane int64, findings []string) error {
	_, err := s.exec(ctx, `DELETE FROM acceptances WHERE lane_id = $1 AND finding = ANY($2::text[])`, lane, findings)
	return err
}

// Assign has somebody look after findings of a lane; "" nobody in particular.
func (s *Store) Assign(ctx context.Context, lane int64, findings []string, to, by string) error {
	if _, err := s.exec(ctx, `DELETE FROM finding_assignments WHERE lane_id = $1 AND finding = ANY($2::text[])`, lane, findings); err != nil || to == "" {
		return err
	}
	_, err := s.exec(ctx, `INSERT INTO finding_assignments (lane_id, finding, assigned_to, assigned_by) SELECT $1, f, $3, $4 FROM unnest($2::text[]) AS f`, lane, findings, to, by)
	return err
}

// keepGone is for how long it is known which findings are gone.
const keepGone = 365 * 24 * time.Hour

// dateFindings remembers since when each finding of a reconciliation is there, and what the
// reconciliation before it had found and is gone. Who looked after that looks after it no more.
func dateFindings(ctx context.Context, tx bare, lane, reconciliation int64) error {
	for _, query := range []string{
		`WITH gone AS (DELETE FROM finding_dates d WHERE lane_id = $1 AND NOT EXISTS (SELECT FROM findings f WHERE f.reconciliation_id = $2 AND f.finding = d.finding) RETURNING finding, since)
			INSERT INTO gone_findings (lane_id, finding, code, severity, person, account, person_label, account_label, detail, since)
			SELECT DISTINCT ON (f.number) $1, f.finding, f.code, f.severity, f.person, f.account, f.person_label, f.account_label, f.detail, g.since FROM gone g JOIN findings f ON f.finding = g.finding
			WHERE f.reconciliation_id = (SELECT max(id) FROM reconciliations WHERE lane_id = $1 AND id < $2) ORDER BY f.number`,
		`INSERT INTO finding_dates (lane_id, finding, since) SELECT $1, finding, now() FROM findings WHERE reconciliation_id = $2 ON CONFLICT DO NOTHING`,
		`DELETE FROM finding_assignments w WHERE lane_id = $1 AND NOT EXISTS (SELECT FROM findings f WHERE f.reconciliation_id = $2 AND f.finding = w.finding)`,
	} {
		if _, err := tx.Exec(ctx, query, lane, reconciliation); err != nil {
			return err
		}
	}
	_, err := tx.Exec(ctx, `DELETE FROM gone_findings WHERE lane_id = $1 AND gone < now() - $2::interval`, lane, fmt.Sprintf("%d hours", int(keepGone.Hours())))
	return err
}

// endAcceptances forgets that findings were accepted which are not found any more: should they
// come again, it is for another reason. Of records that are in doubt, left alone or could not be
// read nothing is known.
func endAcceptances(ctx context.Context, tx bare, lane, reconciliation int64, unread [2][]string) error {
	_, err := tx.Exec(ctx, `DELETE FROM acceptances a WHERE a.lane_id = $1 AND NOT EXISTS (SELECT FROM findings f WHERE f.reconciliation_id = $2 AND f.finding = a.finding)
		AND NOT EXISTS (SELECT FROM gone_findings g WHERE g.lane_id = $1 AND g.finding = a.finding AND (g.person <> '' AND g.person = ANY($3) OR g.account <> '' AND g.account = ANY($4)
			OR EXISTS (SELECT FROM verdicts v WHERE v.reconciliation_id = $2 AND v.side = 'people' AND v.native_id = g.person AND g.person <> '' AND v.state IN ('contested', 'exempt'))
			OR EXISTS (SELECT FROM verdicts v WHERE v.reconciliation_id = $2 AND v.side = 'accounts' AND v.native_id = g.account AND g.account <> '' AND v.state IN ('contested', 'exempt'))))`,
		lane, reconciliation, append([]string{}, unread[0]...), append([]string{}, unread[1]...))
	return err
}

// GoneFinding is a finding that a later reconciliation did not find any more.
type GoneFinding struct {
	Number int64 `db:"id" json:"-"`
	Told
	Since time.Time `db:"since" json:"since"`
	Gone  time.Time `db:"gone" json:"gone"`
}

// GoneFindings lists a lane's, those that went last first.
func (s *Store) GoneFindings(ctx context.Context, lane int64, code string, p Page) (list []GoneFinding, next string, total int, err error) {
	var c clause
	c.and("lane_id = ?", lane)
	c.is("code", code)
	c.finds(p, joined("person", "account", "person_label", "account_label", "detail"))
	if total, err = s.total(ctx, p, `SELECT count(*) FROM gone_findings WHERE `+c.text, c.args...); err != nil {
		return nil, "", 0, err
	}
	c.and("id < ?", p.afterNumber(maxNumber))
	err = s.list(ctx, &list, fmt.Sprintf(`SELECT id, finding, code, severity, person, account, person_label, account_label, detail, since, gone FROM gone_findings WHERE %s ORDER BY id DESC LIMIT %d`, c.text, p.limit()+1), c.args...)
	list, next = cut(p, list, func(f GoneFinding) string { return number(f.Number) })
	return list, next, total, err
}
