package oidc

import (
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"maps"
	"slices"
	"strings"
	"time"
)

// reserved are the claims that the protocol gives a meaning to (OpenID Connect Core
// §2, RFC 9068 §2.2): no value of a person or a mapping sets them.
var reserved = []string{"iss", "sub", "aud", "exp", "iat", "nbf", "jti", "nonce", "acr", "amr", "auth_time", "sid",
	"azp", "at_hash", "c_hash", "s_hash", "client_id", "scope", "events", "cnf", "act", "may_act", "sub_jwk"}

// Reserved reports whether a claim is one of the protocol.
func Reserved(claim string) bool { return slices.Contains(reserved, claim) }

// Issue is what our tokens about one sign-in say.
type Issue struct {
	Issuer   Issuer
	ClientID ClientID
	Subject  string
	Session  string // sid, "" if there is none
	Nonce    string
	Context  string // acr, "" if it is not known
	Methods  []string
	AuthTime time.Time // zero if it is not known
	Now      time.Time
	Life     time.Duration
	ID       string         // jti, random
	Person   map[string]any // claims about the person; reserved ones are left out
}

func (i Issue) base(aud any) map[string]any {
	out := map[string]any{}
	for name, v := range i.Person {
		if !Reserved(name) {
			out[name] = v
		}
	}
	maps.Copy(out, map[string]any{"iss": string(i.Issuer), "sub": i.Subject, "aud": aud, "iat": i.Now.Unix(),
		"exp": i.Now.Add(i.Life).Unix()})
	for name, v := range map[string]string{"sid": i.Session, "acr": i.Context, "jti": i.ID} {
		if v != "" {
			out[name] = v
		}
	}
	if !i.AuthTime.IsZero() {
		out["auth_time"] = i.AuthTime.Unix()
	}
	if len(i.Methods) > 0 {
		out["amr"] = i.Methods
	}
	return out
}

// IDToken gives the claims of an ID token (OpenID Connect Core §2). algorithm is
// that of its signature, accessToken the one given with it, or "".
func (i Issue) IDToken(algorithm, accessToken string) map[string]any {
	out := i.base(string(i.ClientID))
	delete(out, "jti")
	if i.Nonce != "" {
		out["nonce"] = i.Nonce
	}
	if accessToken != "" {
		out["at_hash"] = HalfHash(algorithm, accessToken)
	}
	return out
}

// AccessToken gives the claims of an access token (RFC 9068 §2.2) for the audience
// named; none is the issuer itself, for the user-info address.
func (i Issue) AccessToken(scopes, audience []string) map[string]any {
	var aud any = string(i.Issuer)
	if len(audience) == 1 {
		aud = audience[0]
	} else if len(audience) > 1 {
		aud = audience
	}
	out := i.base(aud)
	out["client_id"] = string(i.ClientID)
	if len(scopes) > 0 {
		out["scope"] = strings.Join(scopes, " ")
	}
	return out
}

// logoutEvent is what a logout token is known by.
const logoutEvent = "http://schemas.openid.net/event/backchannel-logout"

// LogoutToken gives the claims of a logout token (OpenID Connect Back-Channel
// Logout §2.4), which must not have a nonce.
func (i Issue) LogoutToken() map[string]any {
	about := Issue{Issuer: i.Issuer, Subject: i.Subject, Session: i.Session, Now: i.Now, Life: i.Life, ID: i.ID}
	out := about.base(string(i.ClientID))
	out["events"] = map[string]any{logoutEvent: map[string]any{}}
	return out
}

// HalfHash is the left half of a token's sum by the hash of an algorithm: at_hash
// and c_hash (OpenID Connect Core §3.1.3.6, §3.3.2.11). Of Ed25519 that is SHA-512.
func HalfHash(algorithm, token string) string {
	var sum []byte
	switch {
	case strings.HasSuffix(algorithm, "384"):
		s := sha512.Sum384([]byte(token))
		sum = s[:]
	case strings.HasSuffix(algorithm, "512"), algorithm == "EdDSA":
		s := sha512.Sum512([]byte(token))
		sum = s[:]
	default:
		s := sha256.Sum256([]byte(token))
		sum = s[:]
	}
	return base64.RawURLEncoding.EncodeToString(sum[:len(sum)/2])
}
