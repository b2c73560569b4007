package charter

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/record"
)

// Expressions made to cost much end with a reason, for the record at hand alone;
// what is only unusual is computed.
func TestHostile(t *testing.T) {
	b := record.NewBuilder([]string{"id", "title", "roles"})
	require.NoError(t, b.Append([]string{"1", strings.Repeat("a", 1000), record.JoinList([]string{"x", "y"})}))
	people, err := b.Roster()
	require.NoError(t, err)
	nested := func(n int, call string) string { return "person.title" + strings.Repeat(call, n) }
	all := func(n int) string {
		return strings.Repeat("person.roles.all(x, ", n) + "true" + strings.Repeat(")", n) + " ? 'a' : 'b'"
	}
	text, cost := "a text that the expression makes is over the limit of 64 KiB", "the work of this expression for one record is over the limit of 100,000"
	logins := func(n int) error {
		_, err := Parse([]byte(head+"attributes: {userName: {candidates: ["+strings.Repeat("person.title, ", n)+"], rule: once}}\n"), Vocabulary{})
		return err
	}
	require.NoError(t, logins(900))
	require.ErrorContains(t, logins(1100), "is over the limit of 1,000")
	many := "shape:\n  id: id\n"
	for i := range 2001 {
		many += fmt.Sprintf("  a%d: b\n", i)
	}
	_, err = record.ParseShape([]byte(many))
	require.ErrorContains(t, err, "is over the limit of 2,000")
	wrong := ""
	for i := range 5000 {
		wrong += fmt.Sprintf("k%d: 1\n", i)
	}
	_, err = Parse([]byte(wrong), Vocabulary{})
	require.ErrorContains(t, err, "more after this")
	require.Less(t, len(err.Error()), 40_000)
	for name, c := range map[string]struct{ expression, want string }{
		"nested replace":    {nested(9, ".replace('a', 'aaaaaaaaaaaaaaaa')"), text},
		"replace nothing":   {nested(9, ".replace('', 'aaaaaaaaaaaaaaaa')"), text},
		"replace, counted":  {nested(9, ".replace('a', 'aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa', 10000)"), text},
		"nested rewrite":    {strings.Repeat("rewrite(", 9) + "person.title" + strings.Repeat(", 'a', 'aaaaaaaaaaaaaaaa')", 9), text},
		"rewrite, at once":  {"rewrite(person.title, 'a', person.title)", text},
		"rewrite, computed": {"rewrite(person.title, person.title.substring(0, 1), person.title)", "ERROR must be written in quotes"},
		"matches, computed": {"person.title.matches(person.id) ? 'a' : 'b'", "ERROR must be written in quotes"},
		"a large pattern":   {"person.title.matches('" + strings.Repeat("a{1000}", 20) + "') ? 'a' : 'b'", "ERROR is over the limit of 10,000"},
		"no pattern":        {"person.title.matches('(') ? 'a' : 'b'", "ERROR can't read the pattern"},
		"a pattern":         {"person.title.matches('" + strings.Repeat("a{1000}", 9) + "') ? 'a' : 'b'", ""},
		"sum":               {"person.title" + strings.Repeat(" + person.title", 80), text},
		"join":              {"person.title.split('').join(person.title)", text},
		"nested all":        {all(40), "ERROR"},
		"nested all, 14":    {all(20), cost},
		"nested map":        {"person.title.split('').map(x, person.title.split('').map(y, x + y).join()).join()", cost},
		"sum of a map":      {"person.title.split('').map(x, person.title).join()", text},
		"long":              {"'" + strings.Repeat("x", 9000) + "'", "ERROR the expression is over the limit of 8 KiB"},
		"brackets":          {strings.Repeat("(", 60) + "person.title" + strings.Repeat(")", 60), ""},
		"join in order":     {"person.roles.join('-')", ""},
		"join nothing":      {"['']" + ".join()", ""},
		"replace some":      {"person.title.replace('a', 'b', 2)", ""},
	} {
		t.Run(name, func(t *testing.T) {
			parsed, err := Parse([]byte(head+"attributes: {title: \""+c.expression+"\"}\n"), Vocabulary{})
			if want, refused := strings.CutPrefix(c.want, "ERROR"); refused && err != nil {
				require.ErrorContains(t, err, strings.TrimSpace(want))
				return
			}
			require.NoError(t, err)
			v := parsed.Rules[0].Candidates[0].Bind(Scope{People: people, Accounts: people}).Eval(0, 0)
			if c.want == "" {
				require.Empty(t, v.Fault())
				return
			}
			require.Contains(t, v.Fault(), strings.TrimPrefix(c.want, "ERROR"))
		})
	}
}
