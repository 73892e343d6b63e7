package oidcside

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/profile"
)

// Bearer is an access token that came back to the gate, its signature verified.
type Bearer struct {
	Grant    string        // "" of a service whose token says everything itself
	ClientID oidc.ClientID // "" if only the grant says
	Subject  string
	ID       string // jti, by which it can be revoked
	Until    time.Time
	Issued   time.Time
	scopes   []string
	audience []string
	masks    [2]uint64
	opaque   bool
}

// ReadBearer reads an access token of ours (RFC 9068 §4). Errors are findings.
func ReadBearer(g *federation.Gate, token string, now time.Time) (b Bearer, err error) {
	if h, ok := grant.ReadHandle(g.Handles, token); ok {
		return readOpaque(h, token, now)
	}
	claims, err := oidc.Wanted{Kind: oidc.AccessToken, Algorithms: Algorithms, Keys: SigningKeys(g)}.Verify(token)
	if err != nil {
		return b, err
	}
	text := func(name string) string { s, _ := claims[name].(string); return s }
	if oidc.Issuer(text("iss")) != Issuer(g) {
		return b, finding.New(finding.TokenAltered, finding.Compare("iss", Issuer(g), text("iss")))
	}
	b = Bearer{ClientID: oidc.ClientID(text("client_id")), Subject: text("sub"), ID: text("jti"),
		scopes: strings.Fields(text("scope"))}
	b.Grant, _, _ = strings.Cut(b.ID, ".")
	switch aud := claims["aud"].(type) {
	case string:
		b.audience = []string{aud}
	case []any:
		for _, a := range aud {
			b.audience = append(b.audience, fmt.Sprint(a))
		}
	}
	b.Until, b.Issued = moment(claims["exp"]), moment(claims["iat"])
	if !now.Before(b.Until) {
		return b, ended(b.Until)
	}
	return b, nil
}

func readOpaque(h grant.Handle, token string, now time.Time) (b Bearer, err error) {
	if h.Kind != grant.AccessHandle {
		return b, finding.New(finding.TokenKind, finding.Compare("Token", "an access token", "a code or refresh token"))
	}
	// Earlier builds wrote "!" in place of "~", and nothing that tells two tokens apart.
	parts := strings.Split(strings.ReplaceAll(h.Grant, "!", "~"), "~")
	b = Bearer{Grant: parts[0], ID: token, Until: time.Unix(h.Number, 0).UTC(), opaque: true}
	if len(parts) < 3 || !mask(parts[1], &b.masks[0]) || !mask(parts[2], &b.masks[1]) {
		return b, finding.New(finding.TokenMalformed, finding.Fact("Cause", "it names no grant"))
	}
	if !now.Before(b.Until) {
		return b, ended(b.Until)
	}
	return b, nil
}

// GrantOf is the grant that a code or token is of.
func GrantOf(h grant.Handle) string {
	if at := strings.IndexAny(h.Grant, "~!"); at >= 0 {
		return h.Grant[:at]
	}
	return h.Grant
}

func mask(text string, to *uint64) (ok bool) {
	var err error
	*to, err = strconv.ParseUint(text, 16, 64)
	return err == nil
}

func ended(at time.Time) error {
	return finding.New(finding.GrantExpired, finding.Fact("Access token, until", at.Format(time.RFC3339)))
}

func moment(v any) time.Time {
	var seconds int64
	if _, err := fmt.Sscan(fmt.Sprint(v), &seconds); err != nil {
		return time.Time{}
	}
	return time.Unix(seconds, 0).UTC()
}

// Scopes are those of the token; g is its grant, empty of a service without one.
func (b Bearer) Scopes(g grant.Grant) []string {
	if b.opaque {
		return ofBits(g.Scopes, b.masks[0])
	}
	return b.scopes
}

// Audience is whom the token is for.
func (b Bearer) Audience(g grant.Grant, issuer oidc.Issuer) []string {
	if !b.opaque {
		return b.audience
	}
	out := ofBits(g.Resources, b.masks[1])
	if len(out) == 0 || slices.Contains(b.Scopes(g), "openid") {
		out = append(out, string(issuer))
	}
	return out
}

// UserInfo is what the user-info address says (OpenID Connect Core §5.3.2).
func (a *Application) UserInfo(g grant.Grant, scopes []string, attributes []profile.Attribute) map[string]any {
	out := written(a.atUserInfo(attributes, scopes, g.InfoClaims))
	out["sub"] = g.Subject
	return out
}

// Spoken is its client ID, and the audiences that it is itself.
func (a *Application) Spoken() (own string, audiences []string) {
	return string(a.ClientID), a.Serves
}

// Answers reports whether it is itself one of the audiences, so that it may have a
// token introspected that is not its own.
func (a *Application) Answers(audience []string) bool {
	own := append(slices.Clone(a.Serves), string(a.ClientID))
	return slices.ContainsFunc(audience, func(s string) bool { return slices.Contains(own, s) })
}
