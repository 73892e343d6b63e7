// Package random makes names and secrets that nobody can guess.
package random

import (
	"crypto/rand"
	"encoding/base32"
	"encoding/hex"
	"strings"
)

// Text is random octets in lower-case base32 without padding: 26 characters for 16.
func Text(octets int) string {
	b := make([]byte, octets)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b))
}

// ID is 128 random bits in hexadecimal: for what needs a name that nobody else
// has, and is no secret.
func ID() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return hex.EncodeToString(b)
}
