package file

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
	"twinning/internal/connector/connectortest"
)

func TestBehaviour(t *testing.T) {
	path := filepath.Join(t.TempDir(), "people.csv")
	write := func(t *testing.T, text string) { require.NoError(t, os.WriteFile(path, []byte(text), 0o600)) }
	good := "id,name,password\n2,Bo,secret\n1,Ana,secret\n"
	write(t, good)
	connectortest.Run(t, connectortest.Subject{
		IDs: []string{"1", "2"},
		New: func(t *testing.T) connector.Connector {
			c, err := New(connector.Config{Settings: map[string]string{"path": path, "id": "id"}})
			require.NoError(t, err)
			return c
		},
		Spoil: func(t *testing.T) {
			write(t, good+"3,\"cut off")
			t.Cleanup(func() { write(t, good) })
		},
	})
	_, err := New(connector.Config{Settings: map[string]string{"pth": path}})
	require.ErrorContains(t, err, `"pth" is not known`)
}
