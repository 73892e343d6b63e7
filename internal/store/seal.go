package store

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/renameio/v2"
)

// Sealer seals octets with AES-256-GCM under a key from a file.
type Sealer struct{ aead cipher.AEAD }

// OpenSealer reads the sealing key from a file. If there is none and a new one may
// be made, it makes it: 32 random octets in base64, readable by the owner only; a
// full disk leaves no file.
func OpenSealer(path string, fresh bool) (*Sealer, error) {
	text, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && fresh:
		key := make([]byte, 32)
		_, _ = rand.Read(key) // never fails (crypto/rand)
		text = []byte(base64.StdEncoding.EncodeToString(key) + "\n")
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, err
		}
		if err := renameio.WriteFile(path, text, 0o600, renameio.IgnoreUmask()); err != nil {
			return nil, fmt.Errorf("making the sealing key: %w", err)
		}
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("the sealing key %s is missing, and the database is sealed with it; restore it from a backup",
			path)
	case err != nil:
		return nil, fmt.Errorf("reading the sealing key: %w", err)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != 32 {
		return nil, fmt.Errorf("the sealing key in %s is damaged: it must be 32 octets in base64; restore the file from a backup", path)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Sealer{aead}, err
}

// Seal encrypts; label binds the result to its place.
func (s *Sealer) Seal(label string, plain []byte) []byte {
	nonce := make([]byte, s.aead.NonceSize(), s.aead.NonceSize()+len(plain)+16)
	_, _ = rand.Read(nonce) // never fails (crypto/rand)
	return s.aead.Seal(nonce, nonce, plain, []byte(label))
}

// Open decrypts what Seal gave under the same label.
func (s *Sealer) Open(label string, sealed []byte) ([]byte, error) {
	n := s.aead.NonceSize()
	if len(sealed) < n {
		return nil, errors.New("sealed data is cut off")
	}
	plain, err := s.aead.Open(nil, sealed[:n], sealed[n:], []byte(label))
	if err != nil {
		return nil, errors.New("sealed data cannot be opened: the sealing key is another one than it was sealed with; restore the key file that belongs to this database")
	}
	return plain, nil
}

// Hash is how tokens and identifiers are stored.
func Hash(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}
