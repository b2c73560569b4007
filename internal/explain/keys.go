package explain

import (
	"context"
	"slices"

	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/record"
	"twinning/internal/store"
)

// KeyEvidence is one key on both records, and who else carries the value.
type KeyEvidence struct {
	Key            string   `json:"key"`
	Person         string   `json:"person"`
	Account        string   `json:"account"`
	Verdict        string   `json:"verdict"`
	SharedPeople   []string `json:"sharedPeople"`
	SharedAccounts []string `json:"sharedAccounts"`
}

// few of those who carry a value as well are told.
const few = 5

// keys holds the two against each other by every key.
func (x *facingEachOther) keys(ctx context.Context) ([]KeyEvidence, error) {
	list := []KeyEvidence{}
	for i, k := range x.rules.Keys {
		e, err := x.key(ctx, i, k)
		if err != nil {
			return nil, err
		}
		list = append(list, e)
	}
	return list, nil
}

func (x *facingEachOther) key(ctx context.Context, at int, k charter.Key) (e KeyEvidence, err error) {
	e = KeyEvidence{Key: k.Name, SharedPeople: []string{}, SharedAccounts: []string{}}
	left, right := x.cell(k.Person, "people", x.people), x.cell(k.Account, "accounts", x.accounts)
	e.Person, e.Account = record.PlainList(left), record.PlainList(right)
	switch {
	case left == "" && right == "":
		e.Verdict = "both-blank"
		return e, nil
	case left == "":
		e.Verdict = "person-blank"
	case right == "":
		e.Verdict = "account-blank"
	case overlap(k.Kind, left, right):
		e.Verdict = "agree"
	default:
		e.Verdict = "differ"
	}
	var values []int64
	for _, cell := range []string{left, right} {
		record.EachValue(cell, func(v string) { values = append(values, store.KeyValue(record.Normal(k.Kind, v))) })
	}
	carriers, err := x.Store.CarriersOf(ctx, x.of.ID, at, values)
	if err != nil {
		return e, err
	}
	for _, c := range carriers {
		e.add(c.Side, c.ID, x.people.id, x.accounts.id)
	}
	// twins of their own carry it as well, and nobody else
	for _, t := range x.twins {
		expression := map[string]*charter.Expr{"people": k.Person, "accounts": k.Account}[t.side]
		if cell := x.cell(expression, t.side, t.one); overlap(k.Kind, cell, left) || overlap(k.Kind, cell, right) {
			e.add(t.side, t.one.id, x.people.id, x.accounts.id)
		}
	}
	return e, nil
}

// add tells of one more who carries a value, but for the two themselves.
func (e *KeyEvidence) add(side, id, person, account string) {
	into, self := &e.SharedAccounts, account
	if side == "people" {
		into, self = &e.SharedPeople, person
	}
	if id != self && len(*into) < few && !slices.Contains(*into, id) {
		*into = append(*into, id)
	}
}

// cell is what an expression gives for one record.
func (x *facingEachOther) cell(e *charter.Expr, side string, one loneRecord) string {
	if one.row < 0 {
		return ""
	}
	scope := charter.Scope{Today: calendar.Day(x.of.At, x.rules.Zone)}
	if side == "people" {
		scope.People, scope.Accounts = one.roster, x.accounts.roster
		return e.Bind(scope).Eval(one.row, -1).Cell()
	}
	scope.People, scope.Accounts = x.people.roster, one.roster
	return e.Bind(scope).Eval(-1, one.row).Cell()
}

func overlap(kind record.Kind, x, y string) bool {
	values := record.SplitList(y)
	for i := range values {
		values[i] = record.Normal(kind, values[i])
	}
	for _, v := range record.SplitList(x) {
		if n := record.Normal(kind, v); n != "" && slices.Contains(values, n) {
			return true
		}
	}
	return false
}
