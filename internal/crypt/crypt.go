// Package crypt keeps secrets: those of systems encrypted at rest under one
// master key (AES-256-GCM, bound to what they belong to), passwords as
// argon2id, tokens as SHA-256 of 256 random bits.
package crypt

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"golang.org/x/crypto/argon2"
)

// Keeper encrypts and decrypts under the master key, and derives keys from it.
type Keeper struct {
	aead cipher.AEAD
	key  []byte
}

const keySize = 32

// LoadKey reads the master key from env (base64, when not empty) or from file,
// which is made with mode 0600 at the first start.
func LoadKey(env, file string) (*Keeper, error) {
	text := []byte(env)
	if env == "" {
		var err error
		text, err = os.ReadFile(file)
		if errors.Is(err, fs.ErrNotExist) {
			text = []byte(base64.StdEncoding.EncodeToString(random(keySize)))
			f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return nil, err
			}
			_, err = f.Write(text)
			if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
				return nil, err
			}
		} else if err != nil {
			return nil, err
		}
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != keySize {
		return nil, fmt.Errorf("the master key must be %d bytes in base64", keySize)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Keeper{aead, key}, err
}

// Derive makes a key for one purpose from the master key (HKDF, RFC 5869).
func (k *Keeper) Derive(purpose string) []byte {
	key, err := hkdf.Key(sha256.New, k.key, nil, "twinning "+purpose, 32)
	if err != nil {
		panic(err) // the length is a constant that it can give
	}
	return key
}

// Vouch makes something that only this house can have made for a purpose.
func (k *Keeper) Vouch(purpose string) string {
	nonce := random(12)
	return base64.RawURLEncoding.EncodeToString(append(nonce, k.vouched(purpose, nonce)...))
}

// Vouches tells whether Vouch made it, for this purpose.
func (k *Keeper) Vouches(purpose, text string) bool {
	raw, err := base64.RawURLEncoding.DecodeString(text)
	return err == nil && len(raw) == 12+sha256.Size && hmac.Equal(raw[12:], k.vouched(purpose, raw[:12]))
}

func (k *Keeper) vouched(purpose string, nonce []byte) []byte {
	mac := hmac.New(sha256.New, k.Derive("voucher"))
	fmt.Fprintf(mac, "%d:%s", len(purpose), purpose)
	mac.Write(nonce)
	return mac.Sum(nil)
}

func random(n int) []byte {
	b := make([]byte, n)
	if _, err := rand.Read(b); err != nil {
		panic(err) // the system has no randomness: nothing safe can be done
	}
	return b
}

// Encrypt hides a secret; it can be read back only under the same label.
func (k *Keeper) Encrypt(label, secret string) []byte {
	nonce := random(k.aead.NonceSize())
	return k.aead.Seal(nonce, nonce, []byte(secret), []byte(label))
}

// Decrypt reads a secret back.
func (k *Keeper) Decrypt(label string, hidden []byte) (string, error) {
	n := k.aead.NonceSize()
	if len(hidden) < n {
		return "", errors.New("the secret is damaged")
	}
	secret, err := k.aead.Open(nil, hidden[:n], hidden[n:], []byte(label))
	if err != nil {
		return "", fmt.Errorf("the secret of %q can't be decrypted: was the master key replaced? set the secret anew", label)
	}
	return string(secret), nil
}

// NewID names something that happened, so that it is found again in a log.
func NewID() string { return base64.RawURLEncoding.EncodeToString(random(9)) }

// NewToken makes a secret of 256 bits and the hash to keep of it.
func NewToken() (secret string, hash []byte) {
	secret = "tw_" + base64.RawURLEncoding.EncodeToString(random(32))
	return secret, HashToken(secret)
}

// HashToken is what is kept of a token. It has 256 random bits, so a plain
// hash can't be guessed back.
func HashToken(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// argon2id parameters of RFC 9106 section 4, second recommended option.
const (
	argonTime, argonMemory, argonThreads = 3, 64 << 10, 4
)

// HashPassword hashes a password with a salt of its own.
func HashPassword(password string) string {
	salt := random(16)
	sum := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, 32)
	return fmt.Sprintf("argon2id$%d$%d$%d$%s$%s", argonTime, argonMemory, argonThreads, base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(sum))
}

// CheckPassword tells whether the password is the hashed one. An empty hash
// takes as long as any, so that a stranger can't tell which names exist.
func CheckPassword(hash, password string) bool {
	var time, memory, threads uint32
	salt, want := make([]byte, 16), make([]byte, 32)
	known := false
	if parts := strings.Split(hash, "$"); len(parts) == 6 {
		_, err := fmt.Sscan(parts[1]+" "+parts[2]+" "+parts[3], &time, &memory, &threads)
		s, err1 := base64.RawStdEncoding.DecodeString(parts[4])
		w, err2 := base64.RawStdEncoding.DecodeString(parts[5])
		if err == nil && err1 == nil && err2 == nil && threads < 256 {
			salt, want, known = s, w, true
		}
	}
	if !known {
		time, memory, threads = argonTime, argonMemory, argonThreads
	}
	got := argon2.IDKey([]byte(password), salt, time, memory, uint8(threads), 32) // bounded above
	return subtle.ConstantTimeCompare(got, want) == 1 && known
}

// NewPassword makes a password that is easy to read aloud: 100 bits in groups.
func NewPassword() string {
	const letters = "abcdefghjkmnpqrstuvwxyz23456789"
	var b strings.Builder
	for i, c := range random(20) {
		if i > 0 && i%5 == 0 {
			b.WriteByte('-')
		}
		b.WriteByte(letters[int(c)%len(letters)])
	}
	return b.String()
}
