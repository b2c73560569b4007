package reconcile_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"twinning/internal/core/finding"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
)

// cell is one cell of a lane's rows, by side, row and column.
type cell struct {
	people   bool
	row, col int
}

// with is the lane with other cells.
func (l *lane) with(cells map[cell]string) *lane {
	next := *l
	next.people, next.accounts = slices.Clone(l.people), slices.Clone(l.accounts)
	for c, value := range cells {
		rows := next.accounts
		if c.people {
			rows = next.people
		}
		words := strings.Fields(rows[c.row])
		words[c.col] = value
		rows[c.row] = strings.Join(words, " ")
	}
	return &next
}

// holds reports whether a plan has a change, at least with what it writes. Names go to whoever
// comes first, so that who is held back leaves theirs to others: they are not compared.
func holds(plan []planning.Change, c planning.Change) bool {
	if c.Verb == planning.Rename || c.Verb == planning.Readdress {
		return true
	}
	named := []string{"userName", "email", "aliases"}
	return slices.ContainsFunc(plan, func(x planning.Change) bool {
		return x.Verb == c.Verb && x.Person == c.Person && x.Account == c.Account && !slices.ContainsFunc(c.Edits, func(e planning.Edit) bool {
			return !slices.Contains(named, e.Attribute) && !slices.ContainsFunc(x.Edits, func(y planning.Edit) bool { return y.Attribute == e.Attribute && y.New == e.New })
		})
	})
}

// taken are the findings of who does not get a name, since another does.
var taken = []string{"email-taken", "username-taken", "resting"}

// asksAbout reports whether a human is asked whose the account of a change is.
func asksAbout(in reconcile.Input, out *reconcile.Output, c planning.Change) bool {
	return slices.ContainsFunc(out.Pairing.Proposals, func(p pairing.Proposal) bool {
		return in.Accounts.ID(p.Account) == c.Account || in.People.ID(p.Person) == c.Person
	})
}

// maybe are the values that cells of a column may have.
func maybe(column string) []string {
	switch column {
	case "title", "department":
		return []string{"Cook", "Smith", "-"}
	case "userType":
		return []string{"staff", "service", "-"}
	case "groups":
		return []string{"crew", "news", "crew;news", "-"}
	}
	return []string{"true", "false", "-"} // active, hidden
}

// What is not known decides nothing: whatever a plan holds while a column is not read, or a cell
// has several values where one is wanted, it would hold whatever the true values were.
func TestUnknownDecidesNothing(t *testing.T) {
	withheld, drafted := 0, 0
	rapid.Check(t, func(rt *rapid.T) {
		l := anyLane(rt)
		l.weighed = false // what evidence weighs is learnt from all values
		people := rapid.Bool().Draw(rt, "people")
		names, rows := strings.Fields(accountColumns+l.moreAccounts), l.accounts
		if people {
			names, rows = strings.Fields(peopleColumns+l.morePeople), l.people
		}
		open := []string{"title", "active", "userType", "department", "hidden", "groups"} // names face a key only where both are known
		column := rapid.SampledFrom(slices.DeleteFunc(slices.Clone(names), func(n string) bool { return !slices.Contains(open, n) })).Draw(rt, "column")
		at := slices.Index(names, column)
		var cells []cell
		for i, row := range rows {
			if words := strings.Fields(row); words[0] != "rejected" && len(words) > at {
				cells = append(cells, cell{people, i, at})
			}
		}
		if len(cells) == 0 {
			return
		}
		masked := l.with(nil)
		several := column != "groups" && rapid.Bool().Draw(rt, "several")
		if several || column == "active" { // a list without it is of those who are here, and can sign in
			cells = cells[:1]
			values := maybe(column)
			masked = l.with(map[cell]string{cells[0]: values[0] + ",," + values[1]})
		} else if people {
			masked.noPeople = column
		} else {
			masked.noAccounts = column
		}
		in := masked.input(rt, nil)
		out := reconcile.Run(in)
		withheld += len(out.Withheld)
		drafted += len(out.Changes)
		for n := range 4 {
			truth := map[cell]string{}
			for _, c := range cells {
				values := maybe(column)
				switch n {
				case 0: // what it was
				case 1:
					truth[c] = "-"
				default:
					truth[c] = rapid.SampledFrom(values).Draw(rt, "truth")
				}
			}
			full := l.with(truth)
			whole := reconcile.Run(full.input(rt, nil))
			for _, c := range out.Changes {
				if column == "title" && asksAbout(full.input(rt, nil), whole, c) {
					continue // who resembles somebody by a title does so only where the title is known
				}
				if slices.ContainsFunc(whole.Findings, func(f finding.Finding) bool { return f.Person == c.Person && slices.Contains(taken, f.Code) }) {
					continue // names go to whoever comes first
				}
				require.True(rt, holds(whole.Changes, c), "%s of the %s is not known, and %+v is drafted as if it were; it would not be of\nrules: %v\npeople: %v\naccounts: %v\nmemory: %s\nwhich gives %v", column, map[bool]string{true: "people", false: "accounts"}[people], c, full.rules, full.people, full.accounts, full.memory, tell(full.input(rt, nil), whole))
			}
		}
	})
	require.NotZero(t, withheld)
	require.NotZero(t, drafted)
}
