package format

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What lists end with is told from people whose names look alike; whatever is in doubt
// is asked about, so that neither is quietly taken for the other.
func TestFootOfTable(t *testing.T) {
	for row, foot := range map[string]bool{
		"Summe;12;;;": true, "TOTAL:;;;;12": true, "Subtotal Optics;;;;3": true, "Sous-total;3;;": true, "Grand total;;12;": true, "Page 2 of 3;;;": true, "Seite 3;;": true, "Anzahl: 12;;": true, "Koniec listy;;;": true, "Razem;4": true, "Łącznie;;;4": true,
		"L1;Ana;Soto;1": false, "Suma Rao;1234": false, "Page Robert;1234": false, "Fin Murphy;77": false, "Total;Ana;Soto;x@larkspur.example": false, "Sum;Ting;1": false, ";;;": false, "12;Total;;": false, "Ende Michael;12;;": false, "Totally Ana;1;;": false,
	} {
		require.Equal(t, foot, LooksLikeFoot(strings.Split(row, ";")), row)
	}
}

func TestHeadings(t *testing.T) {
	names, err := Headings([]string{" Name", "Mail", "Name", "", "Name", "Name (2)", "", " "})
	require.NoError(t, err)
	require.Equal(t, []string{"Name", "Mail", "Name (2)", "", "Name (3)", "Name (2) (2)"}, names)
	reads := func(list ...string) func(string) bool { return func(c string) bool { return slices.Contains(list, c) } }
	require.ErrorContains(t, Ambiguous(names, reads("Mail", "Name")), `names column "Name" more than once`)
	require.NoError(t, Ambiguous(names, reads("Mail")), "nothing reads either")
	require.NoError(t, Ambiguous(names, reads("Name", "Name (2)", "Name (3)", "Name (2) (2)")))
	_, err = Headings([]string{"L1", "Ana", "ana@larkspur.example"})
	require.ErrorContains(t, err, "it is a record and not a header")
}
