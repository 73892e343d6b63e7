package gate

import (
	"crypto/rand"
	"encoding/base32"
	"encoding/hex"
	"strings"
)

// random octets in lower-case base32 without padding: 26 characters for 16.
func randomText(octets int) string {
	b := make([]byte, octets)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b))
}

// newID is 128 random bits in hexadecimal: for what needs a name that nobody else
// has, and is no secret.
func newID() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return hex.EncodeToString(b)
}
