package service

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/record"
	"twinning/internal/core/sheet"
	"twinning/internal/format"
)

// sameOver is a sheet of many rows about one account.
func sameOver(t testing.TB, rows int) (*rowsOf, *record.Roster) {
	b := record.NewBuilder([]string{"id", "userName", "title"})
	require.NoError(t, b.Append([]string{"u1", "asoto", "Cook"}))
	accounts, err := b.Roster()
	require.NoError(t, err)
	layout, problems := sheet.Read([]string{"id" + sheet.Identifies, "title", sheet.Was + "title"}, []string{"id", "userName", "title"})
	require.Empty(t, problems)
	x := &rowsOf{layout: layout, name: "many.csv", by: "ana", intent: "update", lane: "ops"}
	for i := range rows {
		require.NoError(t, x.add(format.Row{Line: i + 2, Values: map[string][]string{"id" + sheet.Identifies: {"u1"}, "title": {fmt.Sprint("Boss ", i)}, sheet.Was + "title": {"Cook"}}}))
	}
	return x, accounts
}

// However many rows are about one account, each refusal names the first of them and counts the
// others.
func TestManyRowsAboutOne(t *testing.T) {
	for rows, want := range map[int]string{2: "rows 2 and 3 are", 3: "rows 2 and 3 and 4 are", 5000: "rows 2, 3, 4 and 4997 more are"} {
		x, accounts := sameOver(t, rows)
		var asked Asked
		x.ask(accounts, &asked)
		require.Empty(t, asked.Intents)
		require.Len(t, asked.Beforehand, rows)
		for _, r := range asked.Beforehand {
			require.True(t, strings.HasPrefix(r.Reason, want), r.Reason)
		}
	}
}

func BenchmarkManyRowsAboutOne(b *testing.B) {
	for _, rows := range []int{70_000, 700_000} {
		b.Run(fmt.Sprint(rows), func(b *testing.B) {
			x, accounts := sameOver(b, rows)
			for b.Loop() {
				var asked Asked
				x.ask(accounts, &asked)
			}
		})
	}
}
