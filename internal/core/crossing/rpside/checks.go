package rpside

import (
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/publicsuffix"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/profile"
)

// secretAhead is how long ahead the end of a secret is told of.
const secretAhead = 30 * 24 * time.Hour

// Checks looks at what only these providers have, before anybody signs in.
func (p *Provider) Checks(c *checks.Checker, r federation.Record, l *checks.List) {
	if p.WithoutPKCE {
		l.Add(finding.New(finding.ExceptionInForce, finding.Fact("Setting", "withoutPKCE")))
	}
	if p.ResponseType == idTokenOnly || p.ResponseType == hybrid {
		l.Add(finding.New(finding.ExceptionInForce, finding.Fact("Setting", "responseType="+p.ResponseType)))
	}
	p.secretChecks(c.Now, l)
	p.identityChecks(r, l)
	p.hosts(l)
	if p.Doc.Authorize != "" && !p.plain() {
		p.offered(r, l)
	}
	c.Keys(l, p.Keys(), false)
}

// secretChecks looks at the form that the secret had, and when it ends.
func (p *Provider) secretChecks(now time.Time, l *checks.List) {
	s := p.Secret
	if s == nil || !p.bySecret() {
		return
	}
	if s.UUID {
		l.Add(finding.New(finding.SecretIsIdentifier))
	}
	if s.Spaces {
		l.Add(finding.New(finding.SecretSpace))
	}
	switch {
	case s.Ends.IsZero():
	case !now.Before(s.Ends):
		l.Add(finding.New(finding.OurSecretEnded, finding.Fact("Ended", s.Ends.Format(time.DateOnly))))
	case s.Ends.Sub(now) < secretAhead:
		l.Add(finding.New(finding.OurSecretEnding, finding.Fact("Ends", s.Ends.Format(time.DateOnly)),
			finding.Left(s.Ends.Sub(now))))
	}
}

// mutable are members that people change, or that others get after them.
var mutable = []string{"email", "mail", "login", "username", "user_name", "preferred_username", "name", "nickname",
	"screen_name", "upn", "handle"}

// identityChecks looks at what people and the provider are known by.
func (p *Provider) identityChecks(r federation.Record, l *checks.List) {
	if last := p.Identifier[strings.LastIndex(p.Identifier, ".")+1:]; p.plain() &&
		slices.Contains(mutable, strings.ToLower(last)) {
		l.Add(finding.New(finding.IdentifierMutable, finding.Fact("Member", p.Identifier)))
	}
	if strings.HasSuffix(string(p.Doc.Issuer), "/") {
		l.Add(finding.New(finding.IssuerSlash, finding.Fact("Issuer", p.Doc.Issuer)))
	}
	from := r.Basic().Intake.Address()
	if issuer, ok := oidc.IssuerOf(from); from != "" && !p.plain() && p.compiled.tenants == nil &&
		(!ok || strings.TrimSuffix(string(p.Doc.Issuer), "/") != string(issuer)) {
		l.Add(finding.New(finding.DiscoveryElsewhere, finding.Compare("Address", oidc.DiscoveryOf(p.Doc.Issuer), from)))
	}
}

// hosts looks for endpoints that lie at another host than the issuer, or, without one,
// than where people sign in.
func (p *Provider) hosts(l *checks.List) {
	home := p.Doc.Issuer
	if home == "" {
		home = oidc.Issuer(p.Doc.Authorize)
	}
	if home == "" {
		return
	}
	domain := domainOf(string(home))
	for _, e := range p.Endpoints() {
		if domainOf(e.Location) != domain {
			l.Add(finding.New(finding.EndpointElsewhere, finding.Compare(e.Use, domain, hostOf(e.Location)),
				finding.Fact("Address", e.Location)))
		}
	}
}

// domainOf is the name that somebody registered, with which a host ends; a host that
// has none stands for itself.
func domainOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	if d, err := publicsuffix.EffectiveTLDPlusOne(u.Hostname()); err == nil {
		return d
	}
	return u.Hostname()
}

// offered holds what the record asks for against what the provider says it offers.
func (p *Provider) offered(r federation.Record, l *checks.List) {
	d := p.Doc
	if !slices.Contains(p.scopes(), "openid") {
		l.Add(finding.New(finding.ScopeWithoutOpenID, finding.Fact("Scopes", strings.Join(p.scopes(), " "))))
	}
	p.needed(r, l)
	for _, s := range p.scopes() {
		if d.Scopes != nil && !slices.Contains(d.Scopes, s) {
			l.Add(finding.New(finding.ScopeUnknown, finding.Compare("Scope", strings.Join(d.Scopes, " "), s)))
		}
	}
	if d.IDTokenAlgs != nil && !slices.ContainsFunc(d.IDTokenAlgs, func(a string) bool {
		return slices.Contains(p.algorithms(), a)
	}) {
		l.Add(finding.New(finding.AlgorithmUnoffered, finding.Compare("Algorithms", strings.Join(p.algorithms(), " "),
			strings.Join(d.IDTokenAlgs, " "))))
	}
	if !p.WithoutPKCE && !slices.Contains(d.Challenges, "S256") {
		l.Add(finding.New(finding.PKCEUnoffered, finding.Fact("code_challenge_methods_supported",
			strings.Join(d.Challenges, " "))))
	}
	p.methods(l)
	if d.ResponseTypes != nil && !slices.ContainsFunc(d.ResponseTypes, func(t string) bool {
		return sameWords(t, p.responseType())
	}) {
		l.Add(finding.New(finding.ResponseUnoffered, finding.Compare("Response type", strings.Join(d.ResponseTypes, ", "),
			p.responseType())))
	}
	if d.RequestObjects {
		l.Add(finding.New(finding.RequiresUnoffered, finding.Fact("require_signed_request_object", "true")))
	}
	if d.PushedOnly {
		l.Add(finding.New(finding.RequiresUnoffered, finding.Fact("require_pushed_authorization_requests", "true")))
	}
}

// methods sees whether the provider takes the way in which the gate proves who it is.
func (p *Provider) methods(l *checks.List) {
	d, m := p.Doc, p.method()
	onlyTLS := len(d.AuthMethods) > 0 && !slices.ContainsFunc(d.AuthMethods, func(s string) bool {
		return !strings.HasSuffix(s, "tls_client_auth")
	})
	switch {
	case p.ResponseType == idTokenOnly:
	case onlyTLS:
		l.Add(finding.New(finding.RequiresUnoffered, finding.Fact("token_endpoint_auth_methods_supported",
			strings.Join(d.AuthMethods, " "))))
	case !oidc.Offers(d.AuthMethods, string(oidc.SecretBasic)+" "+string(m), string(m)):
		l.Add(finding.New(finding.MethodUnoffered, finding.Compare("Client authentication",
			strings.Join(d.AuthMethods, " "), string(m))))
	}
}

// sameWords compares response types, in which the order says nothing (OAuth 2.0
// Multiple Response Types §5).
func sameWords(a, b string) bool {
	x, y := strings.Fields(a), strings.Fields(b)
	slices.Sort(x)
	slices.Sort(y)
	return slices.Equal(x, y)
}

// misspelt reports whether a name that no scope stands for may be a claim of one, written
// otherwise.
func misspelt(name, scope string) bool {
	near := nearword.Of(name, profile.Scoped(scope))
	return name != "" && near != "" || profile.Known(name, "") != nil && profile.Known(name, "").Scope == scope
}

// needed compares the scopes that are asked for with what the mapping reads.
func (p *Provider) needed(r federation.Record, l *checks.List) {
	mapping := r.(*federation.Provider).Mapping()
	if mapping.Sources() == "" {
		return // it reads everything
	}
	read := map[string][]string{} // by scope
	var unknown []string
	for _, q := range mapping.Requests() {
		claim, _, _ := strings.Cut(q.Name, ".")
		if s := profile.ScopeOf(claim); s != "" && !slices.Contains(read[s], claim) {
			read[s] = append(read[s], claim)
		} else if s == "" {
			unknown = append(unknown, claim)
		}
	}
	for _, s := range []string{profile.ScopeProfile, profile.ScopeEmail, profile.ScopeAddress, profile.ScopePhone,
		profile.ScopeGroups} {
		asked := slices.Contains(p.scopes(), s)
		switch {
		case asked && read[s] == nil && slices.ContainsFunc(unknown, func(name string) bool { return misspelt(name, s) }):
			// A rule means a claim of it, and does not find it under that name.
		case asked && read[s] == nil:
			l.Add(finding.New(finding.ScopeUnneeded, finding.Fact("Scope", s),
				finding.Fact("It stands for", strings.Join(profile.Scoped(s), ", "))))
		case !asked && read[s] != nil && (s != profile.ScopeGroups || slices.Contains(p.Doc.Scopes, s)):
			l.Add(finding.New(finding.ScopeNeeded, finding.Fact("Scope", s),
				finding.Fact("The mapping reads", strings.Join(read[s], ", "))))
		}
	}
}
