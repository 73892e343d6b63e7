package grant

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strconv"
	"strings"
)

// HandleKind is what a handle is for. Its letters begin the handle, so that people
// and programs that look for leaked secrets know it.
type HandleKind string

// Kinds of handles.
const (
	CodeHandle    HandleKind = "igc" // an authorization code; Number is 0
	RefreshHandle HandleKind = "igr" // a refresh token; Number is its turn
	AccessHandle  HandleKind = "iga" // an access token that says nothing to others; Number is its end, in seconds since 1970
)

// Handle is what a code or token says: which grant it is of, and which of its kind.
// A sum over that with a key of the gate proves that the gate made it; nothing of
// it is stored, so nothing can be read out of the store.
type Handle struct {
	Kind   HandleKind
	Grant  string
	Number int64
}

// longestHandle is how long one may be, in octets.
const longestHandle = 256

// Token is the handle as it travels.
func (h Handle) Token(key []byte) string {
	said := fmt.Sprintf("%s_%s.%d", h.Kind, h.Grant, h.Number)
	return said + "." + base64.RawURLEncoding.EncodeToString(sum(key, said))
}

// ReadHandle reads one; ok tells whether the gate made it, letter by letter.
func ReadHandle(key []byte, token string) (h Handle, ok bool) {
	at := strings.LastIndexByte(token, '.')
	if at < 0 || len(token) > longestHandle {
		return h, false
	}
	said := token[:at]
	// The sum is compared as it is written: base64 has several spellings of one.
	if !hmac.Equal([]byte(token[at+1:]), []byte(base64.RawURLEncoding.EncodeToString(sum(key, said)))) {
		return h, false
	}
	kind, rest, _ := strings.Cut(said, "_")
	id, number, _ := strings.Cut(rest, ".")
	n, err := strconv.ParseInt(number, 10, 64)
	return Handle{HandleKind(kind), id, n}, err == nil
}

func sum(key []byte, said string) []byte {
	m := hmac.New(sha256.New, key)
	m.Write([]byte(said))
	return m.Sum(nil)
}
