package crypt

import (
	"bytes"
	"crypto/rand"
	"fmt"
	"io"
	"math/big"
	"slices"
	"strings"

	"filippo.io/age"
)

// NewSecret makes a secret of so many letters, one at least of each kind, in which nothing of
// the words that its holder is known by shows.
func NewSecret(length int, kinds []string, words ...string) string {
	all := strings.Join(kinds, "")
	for {
		letters := make([]byte, 0, length)
		for _, kind := range kinds {
			letters = append(letters, pick(kind))
		}
		for len(letters) < length {
			letters = append(letters, pick(all))
		}
		for i := range slices.Backward(letters) {
			j := below(i + 1)
			letters[i], letters[j] = letters[j], letters[i]
		}
		if secret := string(letters); !shows(secret, words) {
			return secret
		}
	}
}

func pick(letters string) byte { return letters[below(len(letters))] }

func below(n int) int {
	i, err := rand.Int(rand.Reader, big.NewInt(int64(n)))
	if err != nil {
		panic(err) // the system has no randomness: nothing safe can be done
	}
	return int(i.Int64())
}

// part is how many letters of a word are told from chance: systems refuse secrets with as much
// of a login.
const part = 3

func shows(secret string, words []string) bool {
	secret = strings.ToLower(secret)
	for _, w := range words {
		w = strings.ToLower(w)
		for i := 0; i+part <= len(w); i++ {
			if strings.Contains(secret, w[i:i+part]) {
				return true
			}
		}
	}
	return false
}

// EncryptFile encrypts to a passphrase, in the format of age-encryption.org/v1: many programs
// read it.
func EncryptFile(passphrase string, content []byte) ([]byte, error) {
	to, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	w, err := age.Encrypt(&b, to)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(content); err != nil {
		return nil, err
	}
	err = w.Close() // it ends the text, too
	return b.Bytes(), err
}

// DecryptFile reads one back.
func DecryptFile(passphrase string, r io.Reader) ([]byte, error) {
	by, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return nil, err
	}
	content, err := age.Decrypt(r, by)
	if err != nil {
		return nil, fmt.Errorf("the file can't be opened: %w; is the passphrase right, and the file whole?", err)
	}
	return io.ReadAll(content)
}
