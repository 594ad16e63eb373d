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

// OpenBox reads the key file, making it when it is missing. A file that others
// may read is refused.
func OpenBox(path string) (*Box, error) {
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		key := make([]byte, 32)
		_, _ = rand.Read(key)
		b = []byte(hex.EncodeToString(key) + "\n")
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, fmt.Errorf("making the key file's directory: %w", err)
		}
		if err := os.WriteFile(path, b, 0o600); err != nil {
			return nil, fmt.Errorf("writing the key file: %w", err)
		}
	} else if err != nil {
		return nil, fmt.Errorf("reading the key file: %w", err)
	}
	if st, err := os.Stat(path); err == nil && st.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the key file %s may be read by others (mode %04o); run chmod 600 on it", path, st.Mode().Perm())
	}
	key, err := hex.DecodeString(strings.TrimSpace(string(b)))
	if err != nil || len(key) != 32 {
		return nil, fmt.Errorf("the key file %s does not hold 64 hexadecimal digits; restore it from a copy, the passwords cannot be opened without it", path)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Box{aead, key}, err
}

// Seal encrypts a secret.
func (b *Box) Seal(plain string) []byte {
	nonce := make([]byte, b.aead.NonceSize())
	_, _ = rand.Read(nonce)
	return b.aead.Seal(nonce, nonce, []byte(plain), nil)
}

// Derive returns a key of its own for a purpose, always the same for the same key
// file: HMAC-SHA-256 of the purpose's name.
func (b *Box) Derive(purpose string) []byte {
	h := hmac.New(sha256.New, b.key)
	_, _ = h.Write([]byte(purpose))
	return h.Sum(nil)
}

// Open decrypts what Seal made.
func (b *Box) Open(sealed []byte) (string, error) {
	n := b.aead.NonceSize()
	if len(sealed) < n {
		return "", errors.New("a sealed secret is cut short")
	}
	plain, err := b.aead.Open(nil, sealed[:n], sealed[n:], nil)
	if err != nil {
		return "", errors.New("a stored password cannot be opened with this key file; give the key file it was sealed with (--key-file), or enter the password again")
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
