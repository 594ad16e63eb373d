// Package secret keeps database passwords: encrypted with a key file that only
// the service's user may read, and opened only to connect. AES-256-GCM (NIST SP
// 800-38D) from the standard library; the nonce stands in front.
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Box seals and opens secrets.
type Box struct {
	aead cipher.AEAD
	key  []byte
}

// ErrNoKey says that there is no key file.
var ErrNoKey = errors.New("there is no key file")

// OpenBox reads the key file, and returns [ErrNoKey] when there is none. A file that
// others may read is refused.
func OpenBox(path string) (*Box, error) {
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNoKey
	}
	if err != nil {
		return nil, fmt.Errorf("reading the key file: %w", err)
	}
	if st, err := os.Stat(path); err == nil && st.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the key file %s may be read by others (mode %04o); run chmod 600 on it", path,
			st.Mode().Perm())
	}
	key, err := hex.DecodeString(strings.TrimSpace(string(b)))
	if err != nil || len(key) != 32 {
		return nil, fmt.Errorf("the key file %s does not hold 64 hexadecimal digits; restore it from a copy, the passwords "+
			"cannot be opened without it", path)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Box{aead, key}, err
}

// MakeKey makes a key file with a random key; a file that is there is kept, and an error.
func MakeKey(path string) (*Box, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("making the key file's directory: %w", err)
	}
	key := make([]byte, 32)
	_, _ = rand.Read(key)
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, fmt.Errorf("writing the key file: %w", err)
	}
	_, err = f.WriteString(hex.EncodeToString(key) + "\n")
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return nil, fmt.Errorf("writing the key file: %w", err)
	}
	return OpenBox(path)
}

// Fingerprint names the key without telling it: the first 16 hexadecimal digits of an
// HMAC-SHA-256 by it.
func (b *Box) Fingerprint() string { return hex.EncodeToString(b.Derive("fingerprint"))[:16] }

// Seal encrypts a secret and binds it to what it is for (AES-GCM's additional data): it
// cannot be opened for anything else.
func (b *Box) Seal(plain, bound string) []byte {
	nonce := make([]byte, b.aead.NonceSize())
	_, _ = rand.Read(nonce)
	return b.aead.Seal(nonce, nonce, []byte(plain), []byte(bound))
}

// Derive returns a key of its own for a purpose, always the same for the same key
// file: HMAC-SHA-256 of the purpose's name.
func (b *Box) Derive(purpose string) []byte {
	h := hmac.New(sha256.New, b.key)
	_, _ = h.Write([]byte(purpose))
	return h.Sum(nil)
}

// Open decrypts what Seal made for the same use.
func (b *Box) Open(sealed []byte, bound string) (string, error) {
	n := b.aead.NonceSize()
	if len(sealed) < n {
		return "", errors.New("a sealed secret is cut short")
	}
	plain, err := b.aead.Open(nil, sealed[:n], sealed[n:], []byte(bound))
	if err != nil {
		return "", errors.New("a stored password cannot be opened: it was sealed with another key, or for another address; " +
			"enter the password again")
	}
	return string(plain), nil
}

// NewToken returns a random access token and the hash to store.
func NewToken() (token, hash string) {
	b := make([]byte, 24)
	_, _ = rand.Read(b)
	token = "dft_" + base64.RawURLEncoding.EncodeToString(b)
	return token, HashToken(token)
}

// HashToken returns what is stored of a token. A token is 192 random bits, so a
// plain SHA-256 cannot be searched backwards.
func HashToken(token string) string {
	h := sha256.Sum256([]byte(token))
	return hex.EncodeToString(h[:])
}
