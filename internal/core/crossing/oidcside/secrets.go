package oidcside

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/oidc"
)

// longest times of a rotation.
const (
	longestOverlap = 90 * day
	longestLife    = 1200 * day
)

// Rotate gives the application with another secret, the newest; those of before end
// after the overlap, and those that ended are dropped. The secret is given back
// once, if it was made here.
func (a *Application) Rotate(r federation.Rotation, random func(octets int) string,
	now time.Time) (federation.ApplicationSide,
	string, error) {
	bad := func(field, format string, args ...any) (federation.ApplicationSide, string, error) {
		return nil, "", &federation.SettingError{Field: field, Err: fmt.Errorf(format, args...)}
	}
	switch {
	case !a.bySecret():
		return bad("authMethod", "the application proves who it is by %s, not by a secret", a.method())
	case r.Overlap < 0 || r.Overlap > longestOverlap:
		return bad("overlap", "the overlap is %s; give at most 90 days", r.Overlap)
	case r.Life < 0 || r.Life > longestLife || r.Life > 0 && r.Life <= r.Overlap && !r.OnlyEnd:
		return bad("life", "the secret would live for %s; give more than the overlap, and at most 1200 days", r.Life)
	case r.OnlyEnd && len(a.Secrets) < 2:
		return nil, "", &federation.SettingError{Field: "secret",
			Err: errors.New("there is one secret only; make the next one, then end this one")}
	}
	b := *a
	b.Secrets = slices.DeleteFunc(slices.Clone(a.Secrets), func(s Secret) bool {
		return !s.Expires.IsZero() && !now.Before(s.Expires)
	})
	if r.OnlyEnd {
		b.Secrets = b.Secrets[max(0, len(b.Secrets)-1):]
		return &b, "", nil
	}
	end := now.Add(r.Overlap).UTC()
	for i, s := range b.Secrets {
		if s.Expires.IsZero() || s.Expires.After(end) {
			b.Secrets[i].Expires = end
		}
	}
	if r.Overlap == 0 {
		b.Secrets = nil
	}
	secret, made := r.Given, ""
	if secret == "" {
		secret = oidc.MadeSecret + random(32)
		made = secret
	}
	if n := len(secret); n < leastSecret || n > mostSecret {
		return bad("clientSecret", "the client secret has %d letters; %d to %d are taken, or give none and have one made", n,
			leastSecret, mostSecret)
	}
	next := Secret{Sum: sumOf(secret), Added: now.UTC()}
	if r.Life > 0 {
		next.Expires = now.Add(r.Life).UTC()
	}
	if b.Secrets = append(b.Secrets, next); len(b.Secrets) > mostSecrets {
		return bad("secret", "%d secrets are good already; end those of before first", mostSecrets)
	}
	return &b, made, nil
}
