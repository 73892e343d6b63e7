package trace

import (
	"encoding/base64"

	"innergate.example/innergate/internal/core/crossing"
)

// Kept is a step in the form in which it is kept: a message once, where what travelled is nothing but its octets in
// base64 (RFC 4648, section 4), as in a form.
type Kept struct {
	crossing.TraceStep
	Posted bool `json:"posted,omitempty"` // Raw is left out, and is that
}

// Keep makes it that.
func Keep(s crossing.TraceStep) Kept {
	if s.Octets == "" || !isBase64Of(s.Raw, s.Octets) {
		return Kept{TraceStep: s}
	}
	s.Raw = ""
	return Kept{s, true}
}

// isBase64Of reports whether coded is what octets come to, looking at a piece at a time.
func isBase64Of(coded, octets string) bool {
	if len(coded) != base64.StdEncoding.EncodedLen(len(octets)) {
		return false
	}
	var piece, to [768]byte
	for len(octets) > 0 {
		n := copy(piece[:576], octets) // whole groups of three
		m := base64.StdEncoding.EncodedLen(n)
		base64.StdEncoding.Encode(to[:m], piece[:n])
		if coded[:m] != string(to[:m]) {
			return false
		}
		octets, coded = octets[n:], coded[m:]
	}
	return true
}

// Whole is the step as it was.
func (k Kept) Whole() crossing.TraceStep {
	if k.Posted {
		k.Raw = base64.StdEncoding.EncodeToString([]byte(k.Octets))
	}
	return k.TraceStep
}
