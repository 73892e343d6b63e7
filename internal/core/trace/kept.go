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
	n := base64.StdEncoding.EncodedLen(len(s.Octets))
	if n == 0 || len(s.Raw) != n || base64.StdEncoding.EncodeToString([]byte(s.Octets)) != s.Raw {
		return Kept{TraceStep: s}
	}
	s.Raw = ""
	return Kept{s, true}
}

// Whole is the step as it was.
func (k Kept) Whole() crossing.TraceStep {
	if k.Posted {
		k.Raw = base64.StdEncoding.EncodeToString([]byte(k.Octets))
	}
	return k.TraceStep
}
