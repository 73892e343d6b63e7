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

// Reference is the number under which an engineer finds a trace: 50 random bits in
// letters and digits that are not mistaken for each other.
func Reference() string {
	const alphabet = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
	b := make([]byte, 10)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	for i := range b {
		b[i] = alphabet[b[i]%32]
	}
	return string(b[:5]) + "-" + string(b[5:])
}

// Code is so many random digits, for people to type.
func Code(digits int) string {
	b := make([]byte, 0, digits)
	for one := make([]byte, 1); len(b) < digits; {
		_, _ = rand.Read(one) // never fails (crypto/rand)
		if one[0] < 250 {     // so that all digits are as likely
			b = append(b, '0'+one[0]%10)
		}
	}
	return string(b)
}
