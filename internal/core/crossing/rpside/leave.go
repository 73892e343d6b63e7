package rpside

import (
	"encoding/json"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
)

// kept is what is kept of an answer beside the session: the ID token for signing out
// there, the tokens only where the record says so.
type kept struct {
	IDToken string    `json:"idToken,omitempty"`
	Access  string    `json:"access,omitempty"`
	Refresh string    `json:"refresh,omitempty"`
	Ends    time.Time `json:"ends,omitzero"` // of the access token
	// Only are claims that the ID token alone said: asking again does not tell them anew.
	Only []string `json:"only,omitempty"`
}

// upstream is what is kept of this answer, nil for nothing.
func (t *turn) upstream() (*crossing.Upstream, error) {
	k := kept{IDToken: t.h.hint}
	if t.h.said.Subject == "" {
		k.IDToken = ""
	}
	if t.p.KeepTokens {
		k.Access, k.Refresh = t.h.tokens.AccessToken, t.h.tokens.RefreshToken
		if t.h.tokens.Life > 0 {
			k.Ends = t.in.Now.Add(t.h.tokens.Life)
		}
		k.Only = t.only()
	}
	if k.IDToken == "" && k.Access == "" && k.Refresh == "" {
		return nil, nil
	}
	octets, err := json.Marshal(k)
	return &crossing.Upstream{Session: t.h.said.Session, Subject: t.h.said.Subject, Tenant: t.h.tenant, Data: octets}, err
}

// only are claims that the ID token alone said, now or when they signed in.
func (t *turn) only() []string {
	if t.h.again {
		return t.h.only
	}
	tokens := len(t.h.claims) - t.h.infos
	var out []string
	for _, c := range t.h.claims[:max(tokens, 0)] {
		for _, name := range slices.Sorted(maps.Keys(c)) {
			elsewhere := slices.ContainsFunc(t.h.claims[tokens:],
				func(o map[string]any) bool { return o[name] != nil })
			if !oidc.Reserved(name) && !elsewhere && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

// Part is where the person goes to be signed out there (OpenID Connect RP-Initiated
// Logout §2); false if the provider has no such address, or is to be left alone.
func (p *Provider) Part(g *federation.Gate, r *federation.Provider, up crossing.Upstream, state string) (string,
	bool) {
	if p.Doc.EndSession == "" || p.StaySignedIn {
		return "", false
	}
	var k kept
	if err := json.Unmarshal(up.Data, &k); err != nil {
		return "", false
	}
	q := url.Values{"client_id": {string(p.ClientID)}, "post_logout_redirect_uri": {SignedOutURI(g, r.Name)},
		"state": {state}}
	if k.IDToken != "" {
		q.Set("id_token_hint", k.IDToken)
	}
	sep := "?"
	if strings.Contains(p.Doc.EndSession, "?") {
		sep = "&"
	}
	return p.Doc.EndSession + sep + q.Encode(), true
}

// Leaving is a logout token that came in through the back channel.
type Leaving struct {
	Token string
	Keys  []oidc.Key // the copy of the provider's JWKS; those that were typed count first
	Now   time.Time
}

// Left is whom a logout token is about, and of which tenant they are.
type Left struct {
	oidc.Leaver
	Tenant string
}

// Leaves reads a logout token (OpenID Connect Back-Channel Logout §2.6). An error is a
// finding; finding.TokenKey means that the keys are too old.
func (p *Provider) Leaves(g *federation.Gate, l Leaving) (left Left, err error) {
	if p.plain() {
		return left, finding.New(finding.LogoutTokenRefused, finding.Fact("Protocol", "oauth2, which has none"))
	}
	list := l.Keys
	if p.KeyText != "" {
		list = p.compiled.keys
	}
	v, err := oidc.Wanted{Kind: oidc.LogoutToken, Algorithms: p.algorithms(), Keys: list, Lax: true}.Open(l.Token)
	if err != nil {
		return left, err
	}
	t := &turn{p: p}
	left.Leaver, err = oidc.Expected{Issuer: t.issuer, ClientID: p.ClientID, Now: l.Now, Skew: g.Skew}.Leaves(v)
	left.Tenant = t.h.tenant
	return left, err
}
