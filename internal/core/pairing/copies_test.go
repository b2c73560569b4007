package pairing

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Words are found without making texts of them just where they are found with.
func TestMarks(t *testing.T) {
	shown := marks{"jubilado": true, strings.Repeat("x", 70): true}
	piece := rapid.OneOf(rapid.SampledFrom([]string{"test", "Formación", "EĞITIM", "prueba", " ", "-", "7", "é", "jubilado", strings.Repeat("x", 64), strings.Repeat("x", 70), "svc", "@", "(", ")"}), rapid.StringN(0, 6, -1))
	found := 0
	rapid.Check(t, func(t *rapid.T) {
		cell := strings.Join(rapid.SliceOfN(piece, 0, 5).Draw(t, "cell"), rapid.SampledFrom([]string{"", " ", "."}).Draw(t, "between"))
		want := slices.ContainsFunc(tokens(cell), func(w string) bool { return forTests[w] || forWork[w] || shown[w] })
		require.Equal(t, want, shown.in(cell), "%q", cell)
		if want {
			found++
		}
	})
	require.Positive(t, found)
}
