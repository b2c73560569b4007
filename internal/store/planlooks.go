package store

import (
	"context"
	"fmt"

	"twinning/internal/core/planning"
)

// namingVerbs are those whose changes give names or take them.
var namingVerbs = []string{planning.Rename, planning.Readdress}

// NamingChanges lists the changes of a plan by which accounts that are there are given names or
// give them up, and those that make accounts with names that are given up so; those that are set
// aside are left out.
func (s *Store) NamingChanges(ctx context.Context, plan int64) (list []Change, err error) {
	return s.allChanges(ctx, `WITH moved AS (SELECT * FROM changes WHERE plan_id = $1 AND set_aside = '' AND verb = ANY($2)),
		freed AS (SELECT DISTINCT lower(e->>'old') AS name FROM moved, json_array_elements(body->'edits') e WHERE e->>'old' <> ''),
		made AS (SELECT c.* FROM changes c WHERE c.plan_id = $1 AND c.set_aside = '' AND c.verb = 'create' AND EXISTS (SELECT FROM freed)
			AND EXISTS (SELECT FROM json_array_elements(c.body->'edits') e JOIN freed f ON f.name = lower(e->>'new')))
		SELECT number, change, wave, verb, person, account, label, body, class, department, set_aside, '' AS outcome, '' AS detail, '' AS verified FROM (SELECT * FROM moved UNION ALL SELECT * FROM made) c ORDER BY number`, plan, Array[string](namingVerbs))
}

// Differing is a change in which two plans differ.
type Differing struct {
	Change  string       `db:"change" json:"change"`
	Verb    string       `db:"verb" json:"verb"`
	Person  string       `db:"person" json:"person,omitempty"`
	Account string       `db:"account" json:"account,omitempty"`
	Label   string       `db:"label" json:"label"`
	Here    JSON[Wanted] `db:"here" json:"here"`   // what this plan writes; null: it has no such change
	There   JSON[Wanted] `db:"there" json:"there"` // likewise the other
}

// Wanted is what a change writes, nil where there is none.
type Wanted []planning.Edit

const wantedEdits = `CASE WHEN %s.change IS NULL OR %[1]s.set_aside <> '' THEN 'null'::json ELSE coalesce(%[1]s.body->'edits', '[]'::json) END`

// ComparePlans lists the changes that are in one of two plans alone, or want something else; a
// change that is set aside is not in its plan.
func (s *Store) ComparePlans(ctx context.Context, here, there int64, p Page) (list []Differing, next string, total int, err error) {
	// what is written, not the reasons, which name lines and runs
	news := `(SELECT jsonb_agg(jsonb_build_array(e->>'attribute', e->>'new')) FROM json_array_elements(%s.body->'edits') e)`
	from := fmt.Sprintf(`(SELECT * FROM changes WHERE plan_id = $1 AND set_aside = '') a FULL JOIN (SELECT * FROM changes WHERE plan_id = $2 AND set_aside = '') b ON a.change = b.change
		WHERE (a.change IS NULL OR b.change IS NULL OR `+news+` IS DISTINCT FROM `+news+`)`, "a", "b")
	if total, err = s.total(ctx, p, `SELECT count(*) FROM `+from, here, there); err != nil {
		return nil, "", 0, err
	}
	err = s.list(ctx, &list, fmt.Sprintf(`SELECT coalesce(a.change, b.change) AS change, coalesce(a.verb, b.verb) AS verb, coalesce(a.person, b.person) AS person, coalesce(a.account, b.account) AS account, coalesce(a.label, b.label) AS label,
		`+wantedEdits+` AS here, %[2]s AS there FROM %[3]s AND coalesce(a.change, b.change) > $3 ORDER BY 1 LIMIT $4`, "a", fmt.Sprintf(wantedEdits, "b"), from), here, there, p.afterText(), p.limit()+1)
	list, next = cut(p, list, func(d Differing) string { return d.Change })
	return list, next, total, err
}
