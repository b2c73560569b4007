package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"twinning/internal/core/finding"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
)

// Reconciliation is one result, with its totals.
type Reconciliation struct {
	ID             int64           `db:"id" json:"id"`
	LaneID         int64           `db:"lane_id" json:"-"`
	At             time.Time       `db:"at" json:"at"`
	CharterVersion int64           `db:"charter_version" json:"charterVersion"`
	PeopleRoster   int64           `db:"people_roster" json:"peopleRoster"`
	AccountsRoster int64           `db:"accounts_roster" json:"accountsRoster"`
	Inputs         []byte          `db:"inputs" json:"-"`
	Balance        json.RawMessage `db:"balance" json:"balance"`
	Findings       json.RawMessage `db:"findings" json:"findings"`
	Changes        json.RawMessage `db:"changes" json:"changes"`
	Withheld       json.RawMessage `db:"withheld" json:"withheld"`
	Guards         json.RawMessage `db:"guards" json:"guards"`
	Notes          json.RawMessage `db:"notes" json:"notes"`
	WeightsVersion *int64          `db:"weights_version" json:"weightsVersion,omitempty"` // nil: keys alone
	Prior          float64         `db:"prior" json:"-"`                                  // odds of a pair about which nothing is known
	PartingsSeen   int64           `db:"partings_seen" json:"-"`
}

// Verdict is where one record stands.
type Verdict struct {
	Side        string  `db:"side" json:"side"`
	ID          string  `db:"native_id" json:"id"`
	State       string  `db:"state" json:"state"`
	Label       string  `db:"label" json:"label"`
	Login       string  `db:"login" json:"login,omitempty"`
	Basis       string  `db:"basis" json:"basis,omitempty"`
	Twin        string  `db:"twin" json:"twin,omitempty"`
	TwinLabel   string  `db:"twin_label" json:"twinLabel,omitempty"`
	Note        string  `db:"note" json:"note,omitempty"`
	Probability float32 `db:"probability" json:"probability,omitempty"` // of a twin by evidence
}

// Proposal is a pair that a human should judge.
type Proposal struct {
	Person      string          `db:"person" json:"person"`
	Account     string          `db:"account" json:"account"`
	Reason      string          `db:"reason" json:"reason"`
	Brief       string          `db:"brief" json:"brief,omitempty"`
	Code        string          `db:"code" json:"code"`
	Probability float32         `db:"probability" json:"probability,omitempty"`
	Bits        float32         `db:"bits" json:"bits,omitempty"`
	Said        json.RawMessage `db:"said" json:"said"` // what speaks for and against, by comparator

	PersonLabel  string `db:"person_label" json:"personLabel"`
	AccountLabel string `db:"account_label" json:"accountLabel"`
}

// Finding is one finding of a reconciliation.
type Finding struct {
	Number int `db:"number" json:"-"`
	Told
	Remedy     string    `db:"-" json:"remedy"`
	Accepted   bool      `db:"accepted" json:"accepted"`
	Since      time.Time `db:"since" json:"since"`
	AssignedTo string    `db:"assigned_to" json:"assignedTo,omitempty"`
}

// Told is what a finding says, and of whom.
type Told struct {
	ID           string `db:"finding" json:"id"`
	Code         string `db:"code" json:"code"`
	Severity     string `db:"severity" json:"severity"`
	Person       string `db:"person" json:"person,omitempty"`
	Account      string `db:"account" json:"account,omitempty"`
	PersonLabel  string `db:"person_label" json:"personLabel,omitempty"`
	AccountLabel string `db:"account_label" json:"accountLabel,omitempty"`
	Detail       string `db:"detail" json:"detail"`
}

// Change is one change of a plan, or of a reconciliation that has none yet.
type Change struct {
	Number  int                   `db:"number"`
	ID      string                `db:"change"`
	Wave    string                `db:"wave"`
	Verb    string                `db:"verb"`
	Person  string                `db:"person"`
	Account string                `db:"account"`
	Label   string                `db:"label"`
	Body    JSON[planning.Change] `db:"body"`
	Outcome string                `db:"outcome"`
	Detail  string                `db:"detail"`
	Checked string                `db:"verified"`
	Hinders bool                  `db:"hinders"` // what other changes wait for shows otherwise than it was sent
	// SetAside is why a human has set it aside: it is not carried out; "": it is.
	SetAside   string `db:"set_aside"`
	Class      string `db:"class"`      // of whose it is; "": none
	Department string `db:"department"` // likewise
	digest     []byte // of its body as it is kept; nil: it was not read with many
}

// Digest is the SHA-256 of all that the change says, as it is kept.
func (c *Change) Digest() []byte {
	if c.digest == nil {
		c.digest = digested([]byte(jsonText(c.Body.V)))
	}
	return c.digest
}

func digested(said []byte) []byte {
	sum := sha256.Sum256(said)
	return sum[:]
}

// Outcome of one reconciliation, to be kept in one go.
type Outcome struct {
	Reconciliation
	Verdicts  []Verdict
	Proposals []Proposal
	All       []Finding
	Drafted   []Change
	Kept      []Withheld
	Compared  []Compared
	Carriers  []Carrier
	Words     []CommonWord
	Intended  []Intention // kept with the memory
	// AsidesEnded are the changes that nobody has to set aside any more; Unread are the people and
	// the accounts whose records could not be read: what was accepted of them stays so
	AsidesEnded []string
	Unread      [2][]string
	Memory      *reconcile.Memory // what the lane remembers of its rosters from now on
}

// Withheld is a change that is not drafted, and why.
type Withheld struct {
	Number  int    `db:"number" json:"-"`
	Verb    string `db:"verb" json:"verb"`
	Person  string `db:"person" json:"person,omitempty"`
	Account string `db:"account" json:"account,omitempty"`
	Label   string `db:"label" json:"label"`
	Reason  string `db:"reason" json:"reason"`
}

// AddReconciliation keeps a result with what the lane remembers from now on;
// older results of the lane without a plan lose their details, as Forget drops their
// parts, so that the nightly pass does not fill the disk. ErrFenced when the task is no longer ours:
// an older pass is never the latest.
func (s *Store) AddReconciliation(ctx context.Context, t Task, o *Outcome) (id int64, err error) {
	err = s.withCopy(ctx, func(tx bare) error {
		r := &o.Reconciliation
		if err := stillOurs(ctx, tx, t); err != nil {
			return err
		}
		if o.Memory != nil {
			if err := remember(ctx, tx, r.LaneID, r.AccountsRoster, o.Memory); err != nil {
				return err
			}
			if err := keepIntentions(ctx, tx, r.LaneID, o.Intended); err != nil {
				return err
			}
			if err := endSetAsides(ctx, tx, r.LaneID, o.AsidesEnded); err != nil {
				return err
			}
		}
		if err := tx.QueryRow(ctx, `INSERT INTO reconciliations (lane_id, at, charter_version, people_roster, accounts_roster, inputs, balance, findings, changes, withheld, guards, notes, weights_version, prior, partings_seen)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15) RETURNING id`, r.LaneID, r.At, r.CharterVersion, r.PeopleRoster, r.AccountsRoster, r.Inputs, r.Balance, r.Findings, r.Changes, r.Withheld, r.Guards, r.Notes, r.WeightsVersion, r.Prior, r.PartingsSeen).Scan(&id); err != nil {
			return err
		}
		for _, table := range parted {
			if err := openPart(ctx, tx, table, id); err != nil {
				return err
			}
		}
		if err := copyInto(ctx, tx, partOf("verdicts", id), []string{"reconciliation_id", "side", "native_id", "state", "label", "login", "basis", "twin", "twin_label", "note", "probability"}, o.Verdicts, func(_ int, v Verdict) []any {
			return []any{id, v.Side, v.ID, v.State, v.Label, v.Login, v.Basis, v.Twin, v.TwinLabel, v.Note, v.Probability}
		}); err != nil {
			return err
		}
		if err := copyInto(ctx, tx, "proposals", []string{"reconciliation_id", "number", "person", "account", "reason", "brief", "code", "probability", "bits", "said", "person_label", "account_label"}, o.Proposals, func(i int, p Proposal) []any {
			return []any{id, i, p.Person, p.Account, p.Reason, p.Brief, p.Code, p.Probability, p.Bits, p.Said, p.PersonLabel, p.AccountLabel}
		}); err != nil {
			return err
		}
		if err := copyInto(ctx, tx, partOf("findings", id), []string{"reconciliation_id", "number", "finding", "code", "severity", "person", "account", "person_label", "account_label", "detail"}, o.All, func(i int, f Finding) []any {
			return []any{id, i, f.ID, f.Code, f.Severity, f.Person, f.Account, f.PersonLabel, f.AccountLabel, f.Detail}
		}); err != nil {
			return err
		}
		if err := copyInto(ctx, tx, "changes", []string{"reconciliation_id", "number", "change", "wave", "verb", "person", "account", "label", "body", "words", "class", "department"}, o.Drafted, func(i int, c Change) []any {
			return []any{id, i, c.ID, c.Wave, c.Verb, c.Person, c.Account, c.Label, jsonText(c.Body.V), c.words(), c.Class, c.Department}
		}); err != nil {
			return err
		}
		if err := copyInto(ctx, tx, "withheld", []string{"reconciliation_id", "number", "verb", "person", "account", "label", "reason"}, o.Kept, func(i int, w Withheld) []any {
			return []any{id, i, w.Verb, w.Person, w.Account, w.Label, w.Reason}
		}); err != nil {
			return err
		}
		if err := o.addWhy(ctx, tx, id); err != nil {
			return err
		}
		for _, table := range parted {
			if err := attachPart(ctx, tx, table, id); err != nil {
				return err
			}
		}
		if err := dateFindings(ctx, tx, r.LaneID, id); err != nil {
			return err
		}
		if err := endAcceptances(ctx, tx, r.LaneID, id, o.Unread); err != nil {
			return err
		}
		old := `(SELECT id FROM reconciliations WHERE lane_id = $1 AND id < $2 AND id NOT IN (SELECT reconciliation_id FROM plans WHERE lane_id = $1 AND state IN ('draft', 'sealed', 'running', 'halted')))`
		for _, table := range []string{"proposals", "changes", "withheld", "carriers", "common_words"} {
			if _, err := tx.Exec(ctx, `DELETE FROM `+table+` WHERE reconciliation_id IN `+old, r.LaneID, id); err != nil {
				return err
			}
		}
		return nil
	})
	return id, err
}

// words are what a change is searched by: whose it is and what it writes.
func (c *Change) words() string {
	var b strings.Builder
	b.WriteString(c.Person)
	for _, word := range []string{c.Account, c.Label} {
		b.WriteByte(' ')
		b.WriteString(word)
	}
	for _, e := range c.Body.V.Edits {
		b.WriteByte(' ')
		b.WriteString(e.New)
		b.WriteByte(' ')
		b.WriteString(e.Old)
	}
	return strings.ToValidUTF8(searchable.Replace(b.String()), "")
}

// searchable parts the values of lists, and takes out what no text column takes.
var searchable = strings.NewReplacer(string(record.ListSep), " ", "\x00", "")

func copyInto[T any](ctx context.Context, tx bare, table string, columns []string, rows []T, row func(i int, v T) []any) error {
	if len(rows) == 0 {
		return nil
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{table}, columns, pgx.CopyFromSlice(len(rows), func(i int) ([]any, error) { return row(i, rows[i]), nil }))
	return err
}

// LatestReconciliation finds a lane's newest.
func (s *Store) LatestReconciliation(ctx context.Context, lane int64) (r Reconciliation, err error) {
	return r, s.get(ctx, &r, `SELECT * FROM reconciliations WHERE lane_id = $1 ORDER BY id DESC LIMIT 1`, lane)
}

// Reconciliation finds one.
func (s *Store) Reconciliation(ctx context.Context, id int64) (r Reconciliation, err error) {
	return r, s.get(ctx, &r, `SELECT * FROM reconciliations WHERE id = $1`, id)
}

// Reconciliations lists a lane's, newest first.
func (s *Store) Reconciliations(ctx context.Context, lane int64, p Page) (list []Reconciliation, next string, err error) {
	err = s.list(ctx, &list, `SELECT * FROM reconciliations WHERE lane_id = $1 AND id < $2 ORDER BY id DESC LIMIT $3`, lane, p.afterNumber(maxNumber), p.limit()+1)
	list, next = cut(p, list, func(r Reconciliation) string { return number(r.ID) })
	return list, next, err
}

var verdictFields = map[string]field{"state": {"state", true}, "basis": {"basis", true}, "login": {"login", false}, "id": {"native_id", false}}

const verdictColumns = `SELECT side, native_id, state, label, login, basis, twin, twin_label, note, probability FROM `

// Verdicts lists the records of one side by id, or as the page wants them sorted.
func (s *Store) Verdicts(ctx context.Context, reconciliation int64, side, state string, p Page) (list []Verdict, next string, total int, err error) {
	var c clause
	c.and("reconciliation_id = ?", reconciliation)
	c.and("side = ?", side)
	c.is("state", state)
	p = c.narrow(p, verdictFields)
	if total, err = s.counted(ctx, p, c, "verdicts", searched["verdicts"]); err != nil {
		return nil, "", 0, err
	}
	ways, err := c.pages(p, "verdicts", searched["verdicts"], "native_id", byName["verdicts"], false)
	if err != nil {
		return nil, "", 0, err
	}
	list, err = filled[Verdict](ctx, s, p, ways, func(page string) string {
		return verdictColumns + `(` + page + `) page` + p.sorted("native_id", byName["verdicts"])
	})
	list, next = cut(p, list, func(v Verdict) string { return p.key(v.ID, v.Label) })
	return list, next, total, err
}

// EachTwin calls fn for the twins of a lane's newest reconciliation that are not of evidence
// alone.
func (s *Store) EachTwin(ctx context.Context, lane int64, fn func(account, person string)) error {
	rows, err := s.pool.Query(ctx, `SELECT native_id, twin FROM verdicts WHERE reconciliation_id = (SELECT max(id) FROM reconciliations WHERE lane_id = $1) AND side = 'accounts' AND state = 'twinned' AND basis <> 'weighed' AND twin <> ''`, lane)
	if err != nil {
		return translate(err)
	}
	var account, person string
	_, err = pgx.ForEachRow(rows, []any{&account, &person}, func() error { fn(account, person); return nil })
	return err
}

// EachVerdict calls fn for the accounts that a reconciliation found in some states.
func (s *Store) EachVerdict(ctx context.Context, reconciliation int64, states []string, fn func(account, state, twin string)) error {
	rows, err := s.pool.Query(ctx, `SELECT native_id, state, twin FROM verdicts WHERE reconciliation_id = $1 AND side = 'accounts' AND state = ANY($2)`, reconciliation, states)
	if err != nil {
		return translate(err)
	}
	var account, state, twin string
	_, err = pgx.ForEachRow(rows, []any{&account, &state, &twin}, func() error { fn(account, state, twin); return nil })
	return translate(err)
}

// VerdictOf finds one record's.
func (s *Store) VerdictOf(ctx context.Context, reconciliation int64, side, id string) (v Verdict, err error) {
	return v, s.get(ctx, &v, verdictColumns+`verdicts WHERE reconciliation_id = $1 AND side = $2 AND native_id = $3`, reconciliation, side, id)
}

// ProposalsFor lists the pairs to judge that name one of the two.
func (s *Store) ProposalsFor(ctx context.Context, reconciliation int64, person, account string) (list []Proposal, err error) {
	return list, s.list(ctx, &list, `SELECT person, account, reason, brief, code, probability, bits, said, person_label, account_label FROM proposals WHERE reconciliation_id = $1 AND (person = $2 AND $2 <> '' OR account = $3 AND $3 <> '') ORDER BY number`, reconciliation, person, account)
}

// toldOf adds to some findings what their lane knows of them.
func toldOf(findings, order string) string {
	return `WITH f AS MATERIALIZED (` + findings + `) SELECT f.number, f.finding, f.code, f.severity, f.person, f.account, f.person_label, f.account_label, f.detail,
	EXISTS (SELECT FROM acceptances a WHERE a.lane_id = r.lane_id AND a.finding = f.finding AND (a.until IS NULL OR a.until >= (now() AT TIME ZONE l.zone)::date)) AS accepted, coalesce(d.since, r.at) AS since, coalesce(w.assigned_to, '') AS assigned_to
	FROM f JOIN reconciliations r ON r.id = f.reconciliation_id JOIN lanes l ON l.id = r.lane_id LEFT JOIN finding_dates d ON d.lane_id = r.lane_id AND d.finding = f.finding
	LEFT JOIN finding_assignments w ON w.lane_id = r.lane_id AND w.finding = f.finding` + order
}

// Findings lists those of a reconciliation, gravest first.
func (s *Store) Findings(ctx context.Context, reconciliation int64, which FindingFilter, p Page) (list []Finding, next string, total int, err error) {
	c := which.clause(reconciliation)
	p = c.narrow(p, findingFields)
	if total, err = s.counted(ctx, p, c, "findings", searched["findings"]); err != nil {
		return nil, "", 0, err
	}
	ways, err := c.pages(p, "findings", searched["findings"], "number", byName["findings"], true)
	if err != nil {
		return nil, "", 0, err
	}
	list, err = filled[Finding](ctx, s, p, ways, func(page string) string { return toldOf(page, p.sorted("number", byName["findings"])) })
	list, next = cut(p, list, func(f Finding) string { return p.key(number(int64(f.Number)), cmp.Or(f.PersonLabel, f.AccountLabel)) })
	return remedied(list), next, total, err
}

// FindingsAbout lists those that name one of the two records.
func (s *Store) FindingsAbout(ctx context.Context, reconciliation int64, person, account string) (list []Finding, err error) {
	err = s.list(ctx, &list, toldOf(`SELECT * FROM findings WHERE reconciliation_id = $1 AND person = $2 AND $2 <> '' UNION SELECT * FROM findings WHERE reconciliation_id = $1 AND account = $3 AND $3 <> ''`, ` ORDER BY number`), reconciliation, person, account)
	return remedied(list), err
}

func remedied(list []Finding) []Finding {
	for i := range list {
		if c, ok := finding.Lookup(list[i].Code); ok {
			list[i].Remedy = c.Remedy
		}
	}
	return list
}

// DraftedChanges lists all changes of a reconciliation in order.
func (s *Store) DraftedChanges(ctx context.Context, reconciliation int64) (list []Change, err error) {
	return s.allChanges(ctx, `SELECT number, change, wave, verb, person, account, label, body, class, department, '' AS outcome, '' AS detail, '' AS verified FROM changes WHERE reconciliation_id = $1 ORDER BY number`, reconciliation)
}

// WithheldOf lists what a reconciliation did not draft, by verb and reason.
func (s *Store) WithheldOf(ctx context.Context, reconciliation int64, verb string, p Page) (list []Withheld, next string, total int, err error) {
	var c clause
	c.and("reconciliation_id = ?", reconciliation)
	c.is("verb", verb)
	c.finds(p, joined("person", "account", "label", "reason"))
	if total, err = s.total(ctx, p, `SELECT count(*) FROM withheld WHERE `+c.text, c.args...); err != nil {
		return nil, "", 0, err
	}
	c.and("number > ?", p.afterNumber(-1))
	err = s.list(ctx, &list, fmt.Sprintf(`SELECT number, verb, person, account, label, reason FROM withheld WHERE %s ORDER BY number LIMIT %d`, c.text, p.limit()+1), c.args...)
	list, next = cut(p, list, func(w Withheld) string { return number(int64(w.Number)) })
	return list, next, total, err
}
