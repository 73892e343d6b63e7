package rpside

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/profile"
)

// Names of the protocols on records. A provider of OAuth 2.0 has no ID tokens: who
// somebody is tells its user-info address.
const (
	OpenID = "oidc"
	OAuth2 = "oauth2"
)

// Provider is the OpenID Connect or OAuth 2.0 part of a provider.
type Provider struct {
	Doc      oidc.Discovery `json:"discovery"`
	MoreInfo []string       `json:"moreUserinfo,omitempty"` // further user-info addresses
	ClientID oidc.ClientID  `json:"clientId,omitempty"`
	Secret   *Secret        `json:"clientSecret,omitempty"`
	KeyText  string         `json:"jwks,omitempty"` // typed, where there is no address of keys

	ProviderSettings `json:"-"`

	protocol string
	given    string // the secret, until it is confided
	taken    bool   // a document was read just now
	compiled compiled
}

// Secret is what is remembered of a client secret.
type Secret struct {
	Ref    string    `json:"ref,omitempty"` // by which calls get it
	Added  time.Time `json:"added,omitzero"`
	Ends   time.Time `json:"ends,omitzero"` // as the provider's administrator said, zero if nothing was said
	UUID   bool      `json:"uuid,omitempty"`
	Spaces bool      `json:"spaces,omitempty"` // white space stood around or in it
}

// compiled is what settings and values come to, read once.
type compiled struct {
	keys     []oidc.Key
	tenants  *oidc.Tenants
	required map[string]string
	more     map[string][]string
}

// New makes the side of a new provider of one of both protocols.
func New(protocol string) *Provider { return &Provider{protocol: protocol} }

func (p *Provider) plain() bool { return p.protocol == OAuth2 }

// Protocol is OpenID Connect or OAuth 2.0.
func (p *Provider) Protocol() string { return p.protocol }

// Identity is the issuer; a provider that has none is known by its token endpoint.
func (p *Provider) Identity() string {
	if p.plain() {
		return p.Doc.Token
	}
	return string(p.Doc.Issuer)
}

// Key is issuer and client ID: one provider can know the gate as several clients.
func (p *Provider) Key() string {
	if p.Identity() == "" || p.ClientID == "" {
		return p.Identity()
	}
	return p.Identity() + " " + string(p.ClientID)
}

// Title is none: the document has no name for people.
func (*Provider) Title() string { return "" }

// Missing says what is still to come.
func (p *Provider) Missing() (out []federation.Lack) {
	lack := func(is bool, what, field string) {
		if is {
			out = append(out, federation.Lack{What: what, Field: field})
		}
	}
	lack(!p.plain() && p.Doc.Issuer == "", "issuer", "issuer")
	lack(p.Doc.Authorize == "", "authorization endpoint", "authorize")
	lack(p.Doc.Token == "" && p.ResponseType != idTokenOnly, "token endpoint", "token")
	lack(p.plain() && p.Doc.UserInfo == "", "user-info endpoint", "userinfo")
	lack(p.plain() && p.Identifier == "", "identifier member", "identifier")
	lack(!p.plain() && p.Doc.JWKS == "" && p.KeyText == "", "JWKS", "jwksUri")
	lack(p.ClientID == "", "client ID", "clientId")
	lack(p.bySecret() && p.Secret == nil, "client secret", "clientSecret")
	return out
}

// method is how the gate proves who it is. Where nothing is set it is what the
// provider offers of the two ways with a secret.
func (p *Provider) method() oidc.Method {
	switch {
	case p.AuthMethod != "":
		return oidc.Method(p.AuthMethod)
	case p.ResponseType == idTokenOnly:
		return oidc.NoMethod
	case !oidc.Offers(p.Doc.AuthMethods, string(oidc.SecretBasic), string(oidc.SecretBasic)) &&
		slices.Contains(p.Doc.AuthMethods, string(oidc.SecretPost)):
		return oidc.SecretPost
	}
	return oidc.SecretBasic
}

func (p *Provider) bySecret() bool {
	m := p.method()
	return m == oidc.SecretBasic || m == oidc.SecretPost
}

// Purposes is the gate's key, where it proves by that who it is.
func (p *Provider) Purposes() []string {
	if p.method() == oidc.SignedJWT {
		return []string{SignsClient}
	}
	return nil
}

// VerifiesEC implements federation.Verifying.
func (p *Provider) VerifiesEC() (string, bool) {
	if p.method() != oidc.SignedJWT {
		return "", false
	}
	return SignsClient, slices.Contains(p.Doc.AuthAlgs, "ES256")
}

// infos are the user-info addresses that are asked.
func (p *Provider) infos() []string {
	if p.Doc.UserInfo == "" || p.UserInfo == infoNever && !p.plain() {
		return nil
	}
	return append([]string{p.Doc.UserInfo}, p.MoreInfo...)
}

// Endpoints are its addresses.
func (p *Provider) Endpoints() []federation.Endpoint {
	out := []federation.Endpoint{}
	add := func(use, location string) {
		if location != "" {
			out = append(out, federation.Endpoint{Use: use, Location: location})
		}
	}
	add("Authorization endpoint", p.Doc.Authorize)
	add("Token endpoint", p.Doc.Token)
	for _, info := range append([]string{p.Doc.UserInfo}, p.MoreInfo...) {
		add("User-info endpoint", info)
	}
	add("JWKS", p.Doc.JWKS)
	add("End-session endpoint", p.Doc.EndSession)
	return out
}

// Keys are those that were typed; those at an address are a copy.
func (p *Provider) Keys() []federation.Key {
	out := []federation.Key{}
	for _, k := range p.compiled.keys {
		out = append(out, federation.Key{Use: "signing", Certificate: keys.Certificate{Public: k.Public}})
	}
	return out
}

// CopyOf is where its keys are.
func (p *Provider) CopyOf() string {
	if p.plain() || p.KeyText != "" {
		return ""
	}
	return p.Doc.JWKS
}

// ReadCopy reads its keys.
func (*Provider) ReadCopy(octets []byte) (any, error) { return oidc.ReadKeys(octets) }

// DescribeCopy tells each of its keys.
func (*Provider) DescribeCopy(read any) []federation.Value { return Described(read.([]oidc.Key)) }

// Unread says that its keys cannot be had.
func (*Provider) Unread(address, cause string) *finding.Finding {
	return finding.New(finding.JWKSUnavailable, finding.Fact("Address", address), finding.Fact("Cause", cause))
}

// Described tells keys in words.
func Described(list []oidc.Key) (out []federation.Value) {
	for _, k := range list {
		text := keys.Describe(k.Public)
		if sum, err := oidc.Thumbprint(k.Public); err == nil {
			text += ", thumbprint " + sum
		}
		if k.ID != "" {
			text += ", kid " + k.ID
		}
		out = append(out, federation.Value{Label: "Key for signing", Value: text, Touches: federation.TouchKey})
	}
	return out
}

const labelAlgorithms = "Algorithms of ID tokens"

// Describe gives everything known of it.
func (p *Provider) Describe() []federation.Value {
	out := []federation.Value{}
	add := func(label, value string, touches federation.Touch) {
		if value != "" {
			out = append(out, federation.Value{Label: label, Value: value, Touches: touches})
		}
	}
	add("Issuer", string(p.Doc.Issuer), federation.TouchIdentity)
	for _, e := range p.Endpoints() {
		add(e.Use, e.Location, federation.TouchAddress)
	}
	add("Client ID", string(p.ClientID), "")
	add("Client secret", p.secretInWords(), "")
	add("Client authentication", string(p.method()), "")
	out = append(out, Described(p.compiled.keys)...)
	for _, l := range []struct {
		label string
		list  []string
	}{{labelAlgorithms, p.Doc.IDTokenAlgs}, {"Scopes offered", p.Doc.Scopes},
		{"Response types offered", p.Doc.ResponseTypes}, {"Client authentication offered", p.Doc.AuthMethods},
		{"Code challenge methods", p.Doc.Challenges}, {"Authentication contexts offered", p.Doc.Contexts},
		{"Claims offered", p.Doc.Claims}} {
		sep, touches := " ", federation.Touch("")
		if l.label == labelAlgorithms {
			touches = federation.TouchAlgorithm
		}
		if l.label == "Response types offered" { // each can have several words
			sep = ", "
		}
		add(l.label, strings.Join(l.list, sep), touches)
	}
	if !p.plain() && p.Doc.Issuer != "" {
		add("Names itself in answers (iss)", yes(p.Doc.SaysIssuer), "")
		add("Back-channel logout", yes(p.Doc.LogoutBack), "")
	}
	add("Documentation", p.Doc.Documentation, "")
	return out
}

func yes(b bool) string { return map[bool]string{true: "yes", false: "no"}[b] }

func (p *Provider) secretInWords() string {
	switch s := p.Secret; {
	case s == nil:
		return ""
	case s.Ref == "":
		return "given just now"
	default:
		text := "on record, number " + s.Ref[:min(8, len(s.Ref))]
		if !s.Added.IsZero() {
			text += ", since " + s.Added.UTC().Format(time.DateOnly)
		}
		if !s.Ends.IsZero() {
			text += ", until " + s.Ends.UTC().Format(time.DateOnly)
		}
		return text
	}
}

// Data is what is stored.
func (p *Provider) Data() any { return p }

// Named makes nothing up: addresses of the gate's own follow from name and base.
func (p *Provider) Named(*federation.Gate, federation.Name) federation.Side { return p }

// Ends is when its client secret ends.
func (p *Provider) Ends() time.Time {
	if p.Secret == nil || !p.bySecret() {
		return time.Time{}
	}
	return p.Secret.Ends
}

// Confide gives the side without its new secret.
func (p *Provider) Confide(random func(octets int) string, now time.Time) (federation.Side, map[string]string) {
	q := *p
	if q.taken = false; p.given == "" {
		return &q, nil
	}
	s := *p.Secret
	s.Ref, s.Added = random(12), now.UTC()
	q.Secret, q.given = &s, ""
	return &q, map[string]string{"provider " + s.Ref: p.given}
}

// credential is the name by which calls get the secret.
func (p *Provider) credential() string {
	if p.Secret == nil {
		return ""
	}
	return "provider " + p.Secret.Ref
}

// Waits reports whether a change has to be approved: another issuer, or an address at
// another host. Secrets and tokens go to approved hosts alone.
func (p *Provider) Waits(before federation.Side) bool {
	old, ok := before.(*Provider)
	if !ok {
		return false
	}
	hosts := map[string]bool{}
	for _, e := range old.Endpoints() {
		hosts[hostOf(e.Location)] = true
	}
	for _, e := range p.Endpoints() {
		if !hosts[hostOf(e.Location)] {
			return true
		}
	}
	return cmp.Compare(p.Identity(), old.Identity()) != 0
}

// addresses of the gate's own towards it.
func own(g *federation.Gate, n federation.Name, what string) string {
	return g.Base + "/oidc/rp/" + string(n) + "/" + what
}

// RedirectURI is where its answers come in.
func RedirectURI(g *federation.Gate, n federation.Name) string { return own(g, n, "callback") }

// SignedOutURI is where it sends people whom it has signed out.
func SignedOutURI(g *federation.Gate, n federation.Name) string { return own(g, n, "signed-out") }

// Offered are the claims that the scopes stand for (OpenID Connect Core §5.4).
func (p *Provider) Offered() (out []profile.Attribute) {
	for _, s := range p.scopes() {
		for _, claim := range profile.Scoped(s) {
			out = append(out, profile.Attribute{Name: claim})
		}
	}
	return out
}
