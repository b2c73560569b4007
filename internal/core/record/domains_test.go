package record

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestRevealed(t *testing.T) {
	for text, want := range map[string]string{
		"ana.soto@larkspur.example":                        "ana.soto@larkspur.example",
		"mail ana.soto@l\u0430rkspur.example, now":         "mail ana.soto@l\u0430rkspur.example (xn--lrkspur-2fg.example), now",
		"ana@\u0430\u0440\u0440\u04cf\u0435.example":       "ana@\u0430\u0440\u0440\u04cf\u0435.example (xn--80ak6aa92e.example)",
		"<jörg@münchen.example>":                           "<jörg@münchen.example>",
		"ana@пример.рф hana@日本の天文台.東京":                     "ana@пример.рф hana@日本の天文台.東京",
		"L\u0430rkspur, without an address":                "L\u0430rkspur, without an address",
		"a@l\u0430\ufffdrk.example":                        "a@l\u0430\ufffdrk.example (no valid domain)",
		"old a@larkspur.example → a@l\u0430rkspur.example": "old a@larkspur.example → a@l\u0430rkspur.example (xn--lrkspur-2fg.example)",
	} {
		require.Equal(t, want, Revealed(text), text)
	}
}
