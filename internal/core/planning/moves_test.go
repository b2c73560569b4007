package planning_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/planning"
)

// A swap by way of a value in between, an address that stays as an alias, one that goes to
// somebody new, and one that nobody has any more.
func TestMoves(t *testing.T) {
	edit := func(attribute, old, now string) planning.Edit {
		return planning.Edit{Attribute: attribute, Old: old, New: now}
	}
	var told []string
	for _, m := range planning.Moves([]*planning.Change{
		{Account: "u1", Between: true, Edits: []planning.Edit{edit("email", "ana@l.example", "between-1@l.example")}},
		{Account: "u2", Edits: []planning.Edit{edit("email", "bo@l.example", "Ana@l.example")}},
		{Account: "u1", Edits: []planning.Edit{edit("email", "between-1@l.example", "bo@l.example")}},
		{Account: "u3", Edits: []planning.Edit{edit("email", "cy@l.example", "cyrus@l.example"), edit("aliases", "", "cy@l.example")}},
		{Account: "u4", Edits: []planning.Edit{edit("userName", "dnoe", "di.noe"), edit("title", "Cook", "Chef")}},
		{Person: "L5", Edits: []planning.Edit{edit("userName", "", "dnoe")}},
		{Account: "u6", Edits: []planning.Edit{edit("aliases", "old@l.example", "")}},
	}) {
		side := func(a *planning.NameAt) string {
			if a == nil {
				return "nobody"
			}
			return strings.TrimSpace(a.Person+a.Account) + "." + a.Attribute
		}
		told = append(told, fmt.Sprintf("%s: %s → %s", m.Name, side(m.From), side(m.To)))
	}
	require.Equal(t, []string{
		"ana@l.example: u1.email → u2.email", "bo@l.example: u2.email → u1.email", "cy@l.example: u3.email → u3.aliases", "cyrus@l.example: nobody → u3.email",
		"di.noe: nobody → u4.userName", "dnoe: u4.userName → L5.userName", "old@l.example: u6.aliases → nobody",
	}, told)
}
