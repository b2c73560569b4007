package store

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever is read at once is what a general reader reads.
func FuzzNatives(f *testing.F) {
	for _, s := range []string{`{}`, `{"a": ["1"]}`, `{"a": [], "b": ["x", "y, z"], "ñ": ["Zoë", ""]}`, `{"a": ["\"", "\u0001"]}`, `{"a":["1"]}`, `{"a": ["1"], }`, `{"a": ["1"]`, `{"a": [1]}`, `{"a": null}`, `[]`, ``, `{"a": ["1"], "a": ["2"]}`, `{"a": ["1" "2"]}`, "{\"a\": [\"\n\"]}"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		var want map[string][]string
		failed := json.Unmarshal(src, &want)
		if got, plain := plainNatives(src); plain && failed == nil {
			require.Equal(t, want, got)
		}
		if failed == nil {
			got, err := parseNatives(src)
			require.NoError(t, err)
			require.Equal(t, want, got)
		}
	})
}
