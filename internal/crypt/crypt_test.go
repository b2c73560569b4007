package crypt

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestSecrets(t *testing.T) {
	file := filepath.Join(t.TempDir(), "master.key")
	k, err := LoadKey("", file)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	hidden := k.Encrypt("system hq", "s3cret")
	require.NotContains(t, string(hidden), "s3cret")
	require.NotEqual(t, hidden, k.Encrypt("system hq", "s3cret"), "two encryptions differ")
	again, err := LoadKey("", file)
	require.NoError(t, err)
	secret, err := again.Decrypt("system hq", hidden)
	require.NoError(t, err)
	require.Equal(t, "s3cret", secret)
	_, err = again.Decrypt("system other", hidden)
	require.Error(t, err, "a secret is bound to what it belongs to")
	hidden[len(hidden)-1] ^= 1
	_, err = again.Decrypt("system hq", hidden)
	require.Error(t, err, "a changed secret is noticed")
	_, err = LoadKey("c2hvcnQ=", file)
	require.ErrorContains(t, err, "32 bytes")

	hash := HashPassword("correct horse battery")
	require.True(t, CheckPassword(hash, "correct horse battery"))
	for _, bad := range []string{"", hash[:20], "argon2id$x$y$z$a$b"} {
		require.False(t, CheckPassword(bad, "correct horse battery"))
	}
	require.False(t, CheckPassword(hash, "correct horse batterz"))
	token, sum := NewToken()
	require.Equal(t, sum, HashToken(token))
	require.Len(t, NewPassword(), 23)
}
