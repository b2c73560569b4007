package connector

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"twinning/internal/format"
)

// Within finds the declared folder that a path is in, and the path from there. It
// looks at the names alone; opening goes through os.Root, which no symbolic link
// leads out of.
func (c Config) Within(path string) (folder, rest string, err error) {
	if c.Folders == nil {
		return filepath.Dir(path), filepath.Base(path), nil
	}
	for _, folder := range c.Folders {
		if rest, err := filepath.Rel(folder, path); err == nil && filepath.IsLocal(rest) {
			return folder, rest, nil
		}
	}
	return "", "", fmt.Errorf("%q is in none of the folders that files may be in (%s); put it there, or have the folder declared (--files)", path, strings.Join(c.Folders, ", "))
}

// Open opens a file in the declared folders.
func (c Config) Open(path string) (*os.File, error) {
	folder, rest, err := c.Within(path)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	defer root.Close() // what was opened stays open
	return format.Regular(func(flag int) (*os.File, error) { return root.OpenFile(rest, flag, 0) })
}

// maxPEM bounds a file of certificates.
const maxPEM = 4 << 20

// ReadFile reads a small file, of certificates say, in the declared folders.
func (c Config) ReadFile(path string) ([]byte, error) {
	f, err := c.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close() // only read
	b, err := io.ReadAll(io.LimitReader(f, maxPEM+1))
	if err == nil && len(b) > maxPEM {
		err = errors.New("the file is too large")
	}
	return b, err
}
