package record

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What a roster does not know, what is said of it, and whom it may hide.
func TestDoubt(t *testing.T) {
	for _, c := range []struct {
		name string
		gaps []any
		tied bool // whose row is known by its id is known
		want string
	}{
		{"nothing", nil, false, ""},
		{"unreadable, known and nobody's", []any{Rejection{ID: "a", Reason: "broken"}}, false, "a person could not be read"},
		{"unreadable, known and somebody's", []any{Rejection{ID: "a", Reason: "broken"}}, true, ""},
		{"unreadable, whose is not known", []any{Rejection{Reason: "broken"}}, true, "a row of the people could not be read, nor whose it is"},
		{"two of them", []any{Rejection{Reason: "broken"}, Rejection{Reason: "again"}}, true, "2 rows of the people could not be read, nor whose they are"},
		{"one that may have eaten others", []any{Rejection{ID: "a", Reason: "a quote", Swallows: true}}, true, "a row of the people could not be read, nor whose it is"},
		{"left out by its id", []any{Gap{Kind: LeftOut, ID: "a", Reason: "not taken"}}, false, "a person was left out"},
		{"left out, and somebody's", []any{Gap{Kind: LeftOut, ID: "a", Reason: "not taken"}}, true, ""},
		{"hidden", []any{Gap{Kind: Hidden, What: "ou=x", Reason: "can't be read"}}, true, "people: ou=x can't be read"},
		{"hidden twice for one reason is said once", []any{Gap{Kind: Hidden, What: "ou=x", Reason: "can't be read"}, Gap{Kind: Hidden, What: "ou=y", Reason: "can't be read"}}, true, "people: ou=x can't be read"},
		{"another server's", []any{Gap{Kind: Elsewhere, What: "ldap://b", Reason: "lives in another server"}}, true, "people: ldap://b lives in another server"},
		{"a total stands for nobody", []any{Gap{Kind: NoRecord, Reason: "the header stands here once more"}}, true, ""},
		{"deletions are asked about elsewhere", []any{Gap{Kind: Deletions, What: "2026-11-20", Reason: "deletions do not show"}}, true, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := NewBuilder([]string{"userName"})
			require.NoError(t, b.Append([]string{"z", "zoe"}))
			for _, g := range c.gaps {
				switch g := g.(type) {
				case Rejection:
					require.NoError(t, b.Reject(g))
				case Gap:
					require.NoError(t, b.LeaveOut(g))
				}
			}
			r, err := b.Roster()
			require.NoError(t, err)
			require.Equal(t, c.want, r.Doubt("people", func(int) bool { return c.tied }))
			z, ok := r.Find("z")
			require.True(t, ok)
			_, unknown := r.Present(z)
			require.False(t, unknown)
			if a, ok := r.Find("a"); ok { // present, and its values are not
				_, unknown := r.Present(a)
				require.True(t, unknown)
				require.Empty(t, r.Column("userName").Cell(a))
			}
		})
	}
}

// A wanted value that is the present one with something lost is told; another
// value, or a better one, is none.
func TestDamaged(t *testing.T) {
	for _, c := range []struct{ want, now, says string }{
		{"Zaj?c", "Zając", "question marks"},
		{"Zaj??c", "Zając", "question marks"},
		{"?????", "Зайцев", ""}, // not as many as letters
		{"??????", "Зайцев", "question marks"},
		{"Zaj\ufffdc", "Zając", "letters are lost"},
		{"YÃ¡Ã±ez", "Yáñez", "wrong encoding"},
		{"Zajac", "Zając", "marks over its letters"},
		{"Zajc", "Zając", "letters are lost"},
		{"Mueller", "Müller", ""}, // a spelling of its own
		{"7", "0007", "zeros"},
		{"56123", "+0056123", ""}, // the sign is no zero
		{"Computational Scienc", "Computational Science", "cut off"},
		{"Head of", "Head of Operations", ""}, // short, and a whole word
		{"Directorate of Oper", "Directorate of Operations", "cut off"},
		{"Zając", "Zajac", ""}, // better than what is there
		{"Quint", "Zając", ""},
		{"Is it?", "Is it!", ""},
		{"", "Zając", ""},
		{"Zając", "", ""},
		{"Zając", "Zając", ""},
	} {
		said := Damaged(c.want, c.now)
		if c.says == "" {
			require.Empty(t, said, "%q for %q", c.want, c.now)
		} else {
			require.Contains(t, said, c.says, "%q for %q", c.want, c.now)
		}
	}
}
