package rpside

import (
	"net/url"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/oidc"
)

// Sheet is what the provider's administrator needs to register the gate as a client, in
// the order in which it is asked for there (OpenID Connect Registration §2).
func (p *Provider) Sheet(s *federation.Snapshot, r *federation.Provider) federation.Sheet {
	g := &s.Gate
	v := func(label, value, hint string, also ...string) federation.SheetValue {
		return federation.SheetValue{Label: label, Value: value, AlsoCalled: also, Hint: hint}
	}
	host := g.Base
	if u, err := url.Parse(g.Base); err == nil {
		host = u.Hostname()
	}
	kind := "code"
	if p.ResponseType != "" {
		kind = p.ResponseType
	}
	out := []federation.SheetValue{
		v("Redirect URI", RedirectURI(g, r.Name), "letter by letter; register it as that of a web application",
			"callback URL", "reply address", "redirect_uri"),
		v("Kind of application", "web, confidential", "it runs on a server and can keep a secret", "application_type"),
		v("Grant type", map[bool]string{true: "authorization_code",
			false: "authorization_code, refresh_token"}[!p.KeepTokens],
			"response type "+kind, "flow", "response_type"),
		v("Client authentication", string(p.method()), proofHint(p.method(), r.Name), "token_endpoint_auth_method",
			"credential type"),
		v("Scopes", strings.Join(p.scopes(), " "), "that the gate asks for; allow them", "permissions", "scope"),
		v("Site address", g.Base, "where some registrations want a home page", "client_uri", "website", "origin"),
		v("Domain", host, "where some registrations want a bare name", "authorized domain", "allowed host"),
	}
	if address := g.Publisher.Policy; address != "" {
		out = append(out, v("Privacy policy", address, "", "policy_uri", "policy address"))
	}
	if !p.plain() {
		out = append(out,
			v("Back-channel logout URI", own(g, r.Name, "backchannel-logout"),
				"by POST with a logout token; sid is welcome, not needed", "backchannel_logout_uri", "logout address"),
			v("Post-logout redirect URI", SignedOutURI(g, r.Name), "where people come back to after signing out there",
				"post_logout_redirect_uris", "signed-out address"),
			v("Initiate login URI", own(g, r.Name, "start"), "for a start at the provider: "+p.starts(r),
				"initiate_login_uri", "start address"))
	}
	if p.method() == oidc.SignedJWT {
		out = append(out, v("JWKS", own(g, r.Name, "jwks"),
			"keys that the gate proves with who it is, the next one ahead of time",
			"jwks_uri", "public keys"))
	}
	if p.ClientID != "" {
		out = append(out, v("Client ID", string(p.ClientID), "as the provider gave it", "client_id", "application ID"))
	}
	out = append(out, v("Not offered", "mTLS, DPoP, request objects, pushed requests, encrypted tokens",
		"the registration must not demand them", "unsupported"))
	sheet := federation.Sheet{Values: out}
	if p.method() == oidc.SignedJWT {
		sheet.Keys = federation.SheetKeys("signing", g.Keys[SignsClient])
	}
	return sheet
}

func proofHint(m oidc.Method, n federation.Name) string {
	switch m {
	case oidc.NoMethod:
		return "public: no secret, PKCE instead"
	case oidc.SignedJWT:
		return "by a key of the gate; give its JWKS address or its certificate, no secret"
	}
	return "make a client secret, and hand its value over: innergate provider update " + string(n) +
		" --client-secret-file FILE"
}

func (p *Provider) starts(r *federation.Provider) string {
	if !r.AllowUnsolicited {
		return "not allowed on the record; set allowUnsolicited"
	}
	return "with target_link_uri, an application's start address at the gate"
}
