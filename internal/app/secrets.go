package app

import (
	"io"

	"twinning/internal/crypt"
)

// OpenSecrets reads a file in which secrets were handed over.
func OpenSecrets(passphrase string, r io.Reader) ([]byte, error) {
	return crypt.DecryptFile(passphrase, r)
}
