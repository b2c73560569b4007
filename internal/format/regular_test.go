package format_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/format"
)

// What is no file is refused at once, and waits for nobody who writes.
func TestRegular(t *testing.T) {
	dir := t.TempDir()
	pipe, file, link := filepath.Join(dir, "pipe"), filepath.Join(dir, "file"), filepath.Join(dir, "link")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	require.NoError(t, os.WriteFile(file, []byte("x"), 0o600))
	require.NoError(t, os.Symlink(pipe, link))
	for path, want := range map[string]error{pipe: format.ErrNoFile, link: format.ErrNoFile, "/dev/zero": format.ErrNoFile, dir: syscall.EISDIR, filepath.Join(dir, "none"): os.ErrNotExist} {
		_, err := format.RegularAt(path)
		require.ErrorIs(t, err, want, path)
		require.ErrorContains(t, err, path)
	}
	f, err := format.RegularAt(file)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}
