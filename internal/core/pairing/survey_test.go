package pairing

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/record"
)

// table makes a roster: names on top, a record a line, lists joined by +.
func table(t *testing.T, text string) *record.Roster {
	t.Helper()
	lines := strings.Split(strings.TrimSpace(text), "\n")
	names := strings.Split(lines[0], "|")
	b := record.NewBuilder(names[1:])
	for _, l := range lines[1:] {
		cells := strings.Split(l, "|")
		for i := range cells {
			cells[i] = strings.ReplaceAll(strings.TrimSpace(cells[i]), "+", string(record.ListSep))
		}
		require.NoError(t, b.Append(cells))
	}
	r, err := b.Roster()
	require.NoError(t, err)
	return r
}

func surveyed(s Survey) string {
	var b strings.Builder
	for _, k := range s.Keys {
		fmt.Fprintf(&b, "%s = %s: filled %d/%d unique %d/%d overlap %d pairs %d shared %d disagree %d new %d", k.Person, k.Account, k.PersonFilled, k.AccountFilled, k.PersonUnique, k.AccountUnique, k.Overlap, k.Pairs, k.Shared, k.Disagree, k.OnlyHere)
		if k.Mends != "" {
			fmt.Fprintf(&b, " (%s)", k.Mends)
		}
		b.WriteString("\n")
	}
	return b.String() + s.Suggested
}

// Which attribute identifies differs for each pair of systems: what is shared,
// what contradicts, and what a function would mend.
func TestSurvey(t *testing.T) {
	people := table(t, `id|employeeNumber|email|givenName|familyName|phoneNumbers
1|L1001|ana@x.example|Ana|Soto|+56 2 1000
2|L1002|bo@x.example|Bo|Vega|+56 2 1000
3|L1003|cy@x.example|Cy|Vega|+56 2 7777
4|L1004|di@x.example|Di|Luna|
5|L1005|eve@x.example|Eve|Luna|
6|L1006|||Nobody|`)
	accounts := table(t, `id|externalId|email|aliases|userName|phoneNumbers
a|1001|ana@x.example||ana|00562-1000
b|1002|BO@X.example||bo|00562-1000
c|1003.0|cyrus@x.example|cy@x.example|cy|00562-7777
d||eve@x.example||di|
e|L1005|eve2@x.example||eve|`)
	require.Equal(t, `digits(person.employeeNumber) = digits(account.externalId): filled 6/4 unique 6/4 overlap 3 pairs 3 shared 0 disagree 0 new 3 (only the digits)
person.email = account.email: filled 5/5 unique 5/5 overlap 3 pairs 3 shared 0 disagree 1 new 0
local(person.email) = account.userName: filled 5/5 unique 5/5 overlap 5 pairs 5 shared 0 disagree 0 new 2 (the part before the @)
person.givenName = local(account.email): filled 5/5 unique 5/5 overlap 3 pairs 3 shared 0 disagree 1 new 0 (the part before the @)
person.givenName = account.userName: filled 5/5 unique 5/5 overlap 5 pairs 5 shared 0 disagree 0 new 0
person.email = account.aliases: filled 5/1 unique 5/1 overlap 1 pairs 1 shared 0 disagree 0 new 0
person.givenName = local(account.aliases): filled 5/1 unique 5/1 overlap 1 pairs 1 shared 0 disagree 0 new 0 (the part before the @)
person.phoneNumbers = rewrite(account.phoneNumbers, '^0+', ''): filled 3/3 unique 1/1 overlap 2 pairs 1 shared 1 disagree 0 new 0 (without zeros in front)
pairing:
  keys:
    - {name: staff number, person: digits(person.employeeNumber), account: digits(account.externalId)}
  evidence: {accept: 0.95, review: 0.60}
`, surveyed(SurveyKeys(people, accounts)))
	require.Empty(t, SurveyKeys(people, table(t, "id|userName\na|"+strings.Repeat("q", 40))).Keys, "what shares nothing is no key")
}

// The survey does not depend on the order of the records.
func TestSurveyOrder(t *testing.T) {
	make := func(seed uint64) (*record.Roster, *record.Roster) {
		rng := rand.New(rand.NewPCG(seed, 1))
		p, a := record.NewBuilder([]string{"employeeNumber", "email"}), record.NewBuilder([]string{"externalId", "email"})
		for _, i := range rng.Perm(500) {
			require.NoError(t, p.Append([]string{fmt.Sprint("p", i), fmt.Sprintf("L%04d", i), fmt.Sprintf("n%d@x.example", i%400)}))
		}
		for _, i := range rng.Perm(500) {
			require.NoError(t, a.Append([]string{fmt.Sprint("a", i), fmt.Sprintf("%d", i), fmt.Sprintf("n%d@x.example", i%450)}))
		}
		pr, err := p.Roster()
		require.NoError(t, err)
		ar, err := a.Roster()
		require.NoError(t, err)
		return pr, ar
	}
	p, a := make(1)
	q, b := make(2)
	require.Equal(t, surveyed(SurveyKeys(p, a)), surveyed(SurveyKeys(q, b)))
}
