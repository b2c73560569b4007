package naming

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/record"
)

// A case: who holds which names (login;alias;primary); requests as
// owner:account:candidates[:frees], a second name of one unit after a +, of the
// primary address when it begins with @; and the grants, each the name with what
// must come first, or who is in the way (. when another name of the unit is, ~ until when
// it rests). With turns, names may move in a circle. Rests are name=owner, a1 for the account.
func TestAllocate(t *testing.T) {
	for _, c := range []struct{ name, held, asked, want, rests, turns string }{
		{"free", "", "p1:-:x", "x", "", ""},
		{"own name", "a1=x", "p1:a1:x", "x", "", ""},
		{"another's", "a1=x", "p1:-:x", "!a1", "", ""},
		{"next best", "a1=x", "p1:-:x,y", "y", "", ""},
		{"case and host fold", "a1=X@L.example", "p1:-:x@l.example", "!a1", "", ""},
		{"alias counts", "a1=y;x", "p1:-:x", "!a1", "", ""},
		{"first come", "", "p1:-:x p2:-:x", "x !#0", "", ""},
		{"first come, the second has another", "", "p1:-:x p2:-:x,y", "x y", "", ""},
		{"A takes what B frees", "a1=x a2=y", "p1:a1:y:x p2:a2:z:y", "y<#1 z", "", ""},
		{"a chain of three", "a1=x a2=y a3=z", "p1:a1:y:x p2:a2:z:y p3:a3:w:z", "y<#1 z<#2 w", "", ""},
		{"the freer is refused, so is the taker", "a1=x a2=y a9=z", "p1:a1:y:x p2:a2:z:y", "!a2 !a9", "", ""},
		{"rather wait than take a worse name", "a2=y", "p1:-:y,w p2:a2:z:y", "y<#1 z", "", ""},
		{"a swap is refused", "a1=x a2=y", "p1:a1:y:x p2:a2:x:y", "!a2 !a1", "", ""},
		{"a swap with a way out", "a1=x a2=y", "p1:a1:y,w:x p2:a2:x:y", "w x<#0", "", ""},
		{"a swap, where a value in between may be used", "a1=x a2=y", "p1:a1:y:x p2:a2:x:y", "y<#1 x<#0", "", "turns"},
		{"it is better than a worse name", "a1=x a2=y", "p1:a1:y,w:x p2:a2:x:y", "y<#1 x<#0", "", "turns"},
		{"three in a circle", "a1=x a2=y a3=z", "p1:a1:y:x p2:a2:z:y p3:a3:x:z", "y<#1 z<#2 x<#0", "", "turns"},
		{"login and address at once", "a1=x;;x a2=y;;y", "p1:a1:y:x p1:a1:@y:x p2:a2:x:y p2:a2:@x:y", "y<#2<#3 y<#2<#3 x<#0<#1 x<#0<#1", "", "turns"},
		{"but not the login alone", "a1=x;;x a2=y;;y", "p1:a1:y:x p2:a2:x:y", "!a2 !a1", "", "turns"},
		{"who wants a name of the circle too goes without", "a1=x a2=y a3=z", "p3:a3:y:z p1:a1:y:x p2:a2:x:y", "!a2 y<#2 x<#1", "", "turns"},
		{"nobody is in a circle with who stays", "a1=x a2=y a9=w", "p1:a1:y:x p2:a2:w:y", "!a2 !a9", "", "turns"},
		{"names that move in a circle do not rest", "a1=x a2=y", "p1:a1:y:x p2:a2:x:y", "y<#1 x<#0", "v=p9", "turns"},
		{"one of them keeps it as an alias", "a1=x;x a2=y", "p1:a1:y:x p2:a2:x:y", "!a2 !a1", "", "turns"},
		{"one owner may use a name twice", "", "p1:-:x p1:-:x", "x x", "", ""},
		{"a unit is granted whole", "", "p1:-:x+@x", "x x", "", ""},
		{"or not at all", "a9=y", "p1:-:x+@y", ". !a9", "", ""},
		{"what a refused unit would have taken is another's", "a9=y", "p1:-:x+@y p2:-:x", "!#2 !a9 x", "", ""},
		{"who gives up the login keeps the address", "a1=x;;x", "p1:a1:z:x p2:-:x", "z !a1", "", ""},
		{"who gives up both frees the name", "a1=x;;x", "p1:a1:z:x p1:a1:@z:x p2:-:x", "z z x<#0<#1", "", ""},
		{"an alias is kept though the login goes", "a1=x;x", "p1:a1:z:x p2:-:x", "z !a1", "", ""},
		{"the freer's own unit is refused", "a1=x a9=w", "p1:a1:z+@w:x p2:-:x", ". !a9 !a1", "", ""},
		{"a name that was another's rests", "", "p1:-:x p2:-:x,y", "~2027 y", "x=p9", ""},
		{"but not for whom it was", "", "p9:-:x", "x", "x=p9", ""},
		{"nor for the account that held it", "a1=y", "p1:a1:x:y", "x", "x=a1", ""},
		{"what is given up now rests", "a1=x a2=y", "p1:a1:z:x p2:a2:x:y p3:-:x,w", "z ~2028 w", "v=p9", ""},
		{"what is kept is taken and does not rest", "a1=x", "p2:-:x", "!a1", "v=p9", ""},
		{"whoever is refused gives nothing up", "a1=x a9=z", "p1:a1:z:x p2:-:x", "!a9 !a1", "v=p9", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := record.NewBuilder([]string{"userName", "aliases", "email"})
			for _, h := range strings.Fields(c.held) {
				id, names, _ := strings.Cut(h, "=")
				f := append(strings.Split(names, ";"), "", "")
				require.NoError(t, b.Append([]string{id, f[0], f[1], f[2]}))
			}
			roster, err := b.Roster()
			require.NoError(t, err)
			var requests []Request
			for unit, r := range strings.Fields(c.asked) {
				f := append(strings.Split(r, ":"), "")
				for n, names := range strings.Split(f[2], "+") {
					q := Request{Unit: unit, Owner: f[0], Account: -1, Candidates: strings.Split(strings.TrimPrefix(names, "@"), ",")}
					if strings.HasPrefix(names, "@") {
						q.Attribute = Primary
					}
					if n == 0 {
						q.Frees = f[3]
					}
					if row, ok := roster.Find(f[1]); ok {
						q.Account = row
					}
					requests = append(requests, q)
				}
			}
			var got []string
			ledger := NewLedger(roster, requests, Alike{}, 2)
			if c.turns != "" {
				ledger.MayCircle()
			}
			if c.rests != "" {
				names := map[string]Rest{}
				for _, r := range strings.Fields(c.rests) {
					name, owner, _ := strings.Cut(r, "=")
					if names[name] = (Rest{Owner: owner, Row: -1, Until: "2027"}); owner == "a1" {
						names[name] = Rest{Row: 0, Until: "2027"}
					}
				}
				ledger.LetRest(names, "2028")
			}
			for _, g := range ledger.Allocate(requests) {
				switch {
				case g.Rest != nil:
					got = append(got, "~"+g.Rest.Until)
				case g.Name != "":
					word := g.Name
					for _, i := range g.After {
						word += "<#" + string(rune('0'+i))
					}
					got = append(got, word)
				case g.Holder >= 0:
					got = append(got, "!"+roster.ID(g.Holder))
				case g.Rival < 0:
					got = append(got, ".")
				default:
					got = append(got, "!#"+string(rune('0'+g.Rival)))
				}
			}
			require.Equal(t, c.want, strings.Join(got, " "))
		})
	}
}
