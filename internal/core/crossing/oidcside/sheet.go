package oidcside

import (
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/oidc"
)

// Sheet is what the administrator of an application needs, in the order in which it
// is entered there: the gate as OpenID provider.
func (a *Application) Sheet(s *federation.Snapshot, r *federation.Application) federation.Sheet {
	g := &s.Gate
	v := func(label, value, hint string, also ...string) federation.SheetValue {
		return federation.SheetValue{Label: label, Value: value, AlsoCalled: also, Hint: hint}
	}
	values := []federation.SheetValue{
		v("Issuer", string(Issuer(g)), "compared letter by letter with iss; most programs need this and the next two only",
			"authority", "provider URL"),
		v("Discovery document", g.Base+discoveryPath, "programs that take it need no other address", "well-known address",
			"configuration endpoint"),
		v("Client ID", string(a.ClientID), "also the audience of ID tokens", "client_id", "application ID"),
		a.proof(),
	}
	if a.ClientKind != oidc.Service {
		values = append(values,
			v("Redirect URI", joined(a.RedirectURI), a.redirects(), "callback URL", "reply address"),
			v("Authorization endpoint", g.Base+AuthorizePath, "response_type code; PKCE with S256"+map[bool]string{
				true: " if it can", false: " always"}[a.WithoutPKCE], "authorize address"))
	}
	values = append(values,
		v("Token endpoint", g.Base+TokenPath, "by POST only; grant types "+a.grants(), "access token address"),
		v("Scopes", strings.Join(a.scopes(), " "), "others are passed over", "scope"),
		v("JWKS", g.Base+JWKSPath,
			"keys of the gate, the next one ahead of time; to be asked again for a kid that is not known",
			"jwks_uri", "signing keys"),
		v("Signature algorithm", a.algorithm(), "of ID tokens and of access tokens that are JWT",
			"id_token_signed_response_alg"),
		a.access())
	if a.ClientKind != oidc.Service {
		values = append(values,
			v("User-info endpoint", g.Base+UserInfoPath, "with the access token as Bearer; "+a.where(), "userinfo_endpoint"),
			v("Subject", map[bool]string{true: "pairwise", false: "public"}[a.Subject == "pairwise"],
				"sub lasts, and is opaque; never take an e-mail address for the key of a person", "subject_type"),
			v("End-session endpoint", g.Base+LogoutPath, "with id_token_hint; back to "+or(joined(a.PostLogout),
				"nowhere, as long as no post-logout redirect URI is on record"), "logout address", "RP-initiated logout"))
	}
	values = append(values,
		v("Introspection endpoint", g.Base+IntrospectPath, "for its own tokens, and those whose audience it is", "RFC 7662"),
		v("Revocation endpoint", g.Base+RevokePath, "for its own tokens", "RFC 7009"))
	if a.ClientKind != oidc.Service {
		values = append(values,
			v("Pushed authorization requests", g.Base+PushPath, "optional; request_uri is good once, for 90 seconds",
				"PAR endpoint", "RFC 9126"))
	}
	if start := r.Start(g); start != "" {
		values = append(values, v("Start at the gate", start, a.opens(r), "link for a portal"))
	}
	values = append(values, v("Not offered",
		"request objects, encrypted tokens, mTLS, DPoP, implicit and password grants",
		"discovery says so too", "unsupported"))
	return federation.Sheet{Values: values}
}

func or(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

// proof is how it proves who it is.
func (a *Application) proof() federation.SheetValue {
	v := federation.SheetValue{Label: "Client authentication", Value: string(a.method()),
		AlsoCalled: []string{"token_endpoint_auth_method", "credential type"}}
	switch a.method() {
	case oidc.NoMethod:
		v.Hint = "public: no secret, PKCE instead"
	case oidc.SignedJWT:
		v.Hint = "aud is the issuer alone, jti is used once, exp at most ten minutes ahead; no secret is given out"
	default:
		v.Hint = "the client secret was shown once when it was made; innergate app secret NAME makes the next one"
	}
	return v
}

func (a *Application) redirects() string {
	if a.ClientKind == oidc.Native {
		return "on record here; compared letter by letter, but for the port of 127.0.0.1 and [::1]"
	}
	return "on record here; compared letter by letter"
}

func (a *Application) grants() string {
	if a.ClientKind == oidc.Service {
		return "client_credentials"
	}
	if a.NoRefresh {
		return "authorization_code"
	}
	return "authorization_code, refresh_token"
}

// scopes are those it may ask for.
func (a *Application) scopes() []string {
	if a.ClientKind == oidc.Service {
		return a.Scopes
	}
	if len(a.Scopes) == 0 {
		return standardScopes
	}
	return append([]string{"openid"}, a.Scopes...)
}

func (a *Application) access() federation.SheetValue {
	v := federation.SheetValue{Label: "Access token", Value: "JWT, good for " + short(a.lives.access),
		AlsoCalled: []string{"bearer token"}, Hint: "type at+jwt (RFC 9068)"}
	if a.AccessToken == "opaque" {
		v.Value, v.Hint = "opaque, good for "+short(a.lives.access), "says nothing to others; they have it introspected"
	}
	if len(a.Resources) > 0 {
		v.Hint += "; resource can be " + a.Resources.String()
	}
	return v
}

func (a *Application) where() string {
	switch a.ClaimsIn {
	case "idToken":
		return "claims of scopes are in the ID token only"
	case "both":
		return "claims of scopes are in the ID token as well"
	}
	return "claims of scopes are told here, not in the ID token"
}

func (a *Application) opens(r *federation.Application) string {
	if r.OwnStart != "" {
		return "sends people to the application's own start address, " + r.OwnStart
	}
	return "sends people to " + a.Initiate + " with iss, and the application starts the sign-in"
}

// joined writes addresses in one line.
func joined(uris []oidc.RedirectURI) string {
	words := []string{}
	for _, u := range uris {
		words = append(words, string(u))
	}
	return strings.Join(words, " ")
}
