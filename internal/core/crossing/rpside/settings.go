package rpside

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/oidc"
)

// ProviderSettings are what an engineer decides about an OpenID Connect or OAuth 2.0
// provider: those of both, and those of one of them.
type ProviderSettings struct {
	ClientSettings
	OpenIDSettings
	OAuth2Settings
}

// ClientSettings are about the gate as a client.
type ClientSettings struct {
	Scopes        listed.Words `json:"scopes"`
	AuthMethod    string       `json:"authMethod"`
	AssertionFor  string       `json:"assertionFor"`
	WithoutPKCE   bool         `json:"withoutPKCE"`
	Prompt        string       `json:"prompt"`
	Parameters    Parameters   `json:"parameters"`
	RequireClaims Parameters   `json:"requireClaims"`
	KeepTokens    bool         `json:"keepTokens"`
	SecretID      string       `json:"secretId"`
}

// OpenIDSettings are those of OpenID Connect alone.
type OpenIDSettings struct {
	Algorithms       listed.Words `json:"algorithms"`
	ResponseType     string       `json:"responseType"`
	UserInfo         string       `json:"userInfo"`
	Tenants          listed.Words `json:"tenants"`
	PersonalTenant   string       `json:"personalTenant"`
	PersonalAccounts bool         `json:"personalAccounts"`
	StaySignedIn     bool         `json:"staySignedIn"`
}

// OAuth2Settings are those of OAuth 2.0 alone.
type OAuth2Settings struct {
	Identifier string `json:"identifier"`
}

const (
	idTokenOnly = "id_token"
	hybrid      = "code id_token"
	infoNever   = "never"
)

var common = []federation.Setting{
	{Name: "scopes", Label: "Scopes that are asked for", Type: federation.List, Group: "Requests and answers", Most: 2000,
		Text: "Scopes that are asked for, separated by spaces", Default: "openid profile email, of OAuth 2.0 none"},
	{Name: "authMethod", Label: "How the gate proves who it is", Type: federation.OneOf, Group: "Requests and answers",
		Words: map[string]string{"": "with the client secret, as the provider offers it",
			"client_secret_basic": "client_secret_basic: in the header",
			"client_secret_post":  "client_secret_post: in the form",
			"private_key_jwt":     "private_key_jwt: with a key of the gate", "none": "none: PKCE alone"},
		Choices: []string{"", string(oidc.SecretBasic), string(oidc.SecretPost), string(oidc.SignedJWT),
			string(oidc.NoMethod)},
		Text:    "How the gate proves who it is (token_endpoint_auth_method)",
		Default: "with the secret, as the provider offers it"},
	{Name: "assertionFor", Label: "That proof is made for", Type: federation.OneOf, Group: "Requests and answers",
		Words:   map[string]string{"": "the issuer", "token": "the token endpoint, for providers that want that"},
		Choices: []string{"", "token"},
		Text:    "aud of its private_key_jwt: token is the token endpoint, for providers that want that",
		Default: "the issuer"},
	{Name: "secretId", Label: "Identifier of the client secret", Type: federation.OneLine, Group: "Requests and answers",
		Most: 200,
		Text: "Identifier of the client secret as the provider lists it, noted so that it is told when it is given in place of the secret"},
	{Name: "withoutPKCE", Label: "Exception: no PKCE", Type: federation.Switch, Group: "Exceptions",
		Text: "Exception: a provider that refuses PKCE; leaves a warning"},
	{Name: "prompt", Label: "Prompt", Type: federation.OneOf, Group: "Requests and answers",
		Words: map[string]string{"": "none", "login": "login: sign in anew", "consent": "consent: agree anew",
			"select_account": "select_account: choose the account"},
		Choices: []string{"", "login", "consent", "select_account"},
		Text:    "prompt of every request, unless the application wants another"},
	{Name: "parameters", Label: "Further parameters of requests", Type: federation.Pairs, Form: escaped,
		Group: "Requests and answers", Most: 2000,
		Text: "Further parameters of every request, like hd=wrenmoor.example, separated by spaces"},
	{Name: "requireClaims", Label: "Claims that must have a value", Type: federation.Pairs, Form: escaped,
		Group: "Requests and answers", Most: 4000,
		Text: "Claims that must have a value, like department=rail, separated by spaces; a list has to hold it"},
	{Name: "keepTokens", Label: "Keep its tokens, sealed", Type: federation.Switch, Group: "What is kept",
		Text: "Keep its access and refresh token, sealed, as long as the session, so that a refresh of ours asks about the person again"},
}

var openIDSettings = append([]federation.Setting{
	{Name: "algorithms", Label: "Its tokens may be signed with", Type: federation.List, Group: "Requests and answers",
		Most: 200,
		Text: "Algorithms that its tokens may be signed with, separated by spaces", Default: "every one that is taken"},
	{Name: "responseType", Label: "Exception: the answer", Type: federation.OneOf, Group: "Exceptions",
		Words: map[string]string{"": "code", "code": "code", "id_token": "id_token, by form_post",
			"code id_token": "code id_token, by form_post"},
		Choices: []string{"", "code", idTokenOnly, hybrid},
		Text:    "Exception: id_token or code id_token, by form_post", Default: "code"},
	{Name: "userInfo", Label: "Its user-info address", Type: federation.OneOf, Group: "Requests and answers",
		Words: map[string]string{"": "is asked at every sign-in",
			"never": "is never asked: the ID token tells everything"},
		Choices: []string{"", infoNever},
		Text:    "never: its user-info address is not asked"},
	{Name: "tenants", Label: "Tenants whose people may come", Type: federation.List, Group: "Requests and answers",
		Most: 20000,
		Text: "Of an issuer with a place in braces: tenants whose people may come, separated by spaces; * is every one"},
	{Name: "personalTenant", Label: "Tenant of personal accounts", Type: federation.OneLine,
		Group: "Requests and answers", Most: 200,
		Text: "The tenant that personal accounts have, which belong to no company"},
	{Name: "personalAccounts", Label: "Personal accounts may come too", Type: federation.Switch,
		Group: "Requests and answers",
		Text:  "Personal accounts may come too"},
	{Name: "staySignedIn", Label: "Signing out here does not sign out there", Type: federation.Switch,
		Group: "Requests and answers",
		Text:  "Signing out here does not sign the person out there"},
}, common...)

var oauth2Settings = append([]federation.Setting{
	{Name: "identifier", Label: "Identifier member", Type: federation.OneLine, Group: "Requests and answers", Most: 200,
		Text: "Member of what the user-info address says that identifies the person, like id; a path with dots for one further in"},
}, common...)

// Settings are those that its protocol has.
func (p *Provider) Settings() any {
	if p.plain() {
		return struct {
			ClientSettings
			OAuth2Settings
		}{p.ClientSettings, p.OAuth2Settings}
	}
	return struct {
		ClientSettings
		OpenIDSettings
	}{p.ClientSettings, p.OpenIDSettings}
}

// Inquires are the scopes and parameters that it is asked with, and whether its user-info
// address is asked.
func (p *Provider) Inquires() string {
	return strings.Join([]string{"scopes " + strings.Join(p.scopes(), " "), escaped.Line(listed.Pairs(p.Parameters)),
		p.UserInfo, p.ResponseType}, "; ")
}

// SettingList describes its settings.
func (p *Provider) SettingList() []federation.Setting {
	if p.plain() {
		return oauth2Settings
	}
	return openIDSettings
}

// With lays settings over.
func (p *Provider) With(settings []byte) (federation.Side, error) {
	q := *p
	if err := json.Unmarshal(settings, &q.ProviderSettings); err != nil {
		return nil, err
	}
	return q.ready()
}

// ready reads once what every sign-in would have to read again.
func (p *Provider) ready() (*Provider, error) {
	q := *p
	q.compiled = compiled{}
	var err error
	if q.KeyText != "" {
		if q.compiled.keys, err = oidc.ReadKeys([]byte(q.KeyText)); err != nil {
			return nil, &federation.SettingError{Field: "jwks", Err: err}
		}
	}
	if oidc.IsPattern(q.Doc.Issuer) {
		t, err := oidc.ReadTenants(string(q.Doc.Issuer))
		if err != nil {
			return nil, &federation.SettingError{Field: "issuer", Err: err}
		}
		t.Allowed, t.Personal, t.People = q.Tenants, q.PersonalTenant, q.PersonalAccounts
		q.compiled.tenants = &t
	}
	if q.compiled.required, err = q.RequireClaims.once("requireClaims"); err != nil {
		return nil, err
	}
	more, err := q.Parameters.once("parameters")
	q.compiled.more = map[string][]string{}
	for name, v := range more {
		if slices.Contains(ours, name) {
			return nil, &federation.SettingError{Field: "parameters",
				Err: fmt.Errorf("%s is a parameter of the protocol, which the gate sets itself; take it out", name)}
		}
		q.compiled.more[name] = []string{v}
	}
	return &q, err
}

// ours are parameters that no setting may replace.
var ours = []string{"client_id", "redirect_uri", "response_type", "response_mode", "scope", "state", "nonce",
	"code_challenge", "code_challenge_method", "prompt", "max_age", "acr_values", "claims", "login_hint", "request",
	"request_uri", "client_secret", "id_token_hint"}

// Parameters are names with values. In a line they are NAME=VALUE, and a space in a value is %20.
type Parameters listed.Pairs

var escaped = listed.Form{Sign: "=", Escaped: true}

// MarshalJSON writes an object.
func (p Parameters) MarshalJSON() ([]byte, error) { return escaped.Marshal(listed.Pairs(p)) }

// UnmarshalJSON reads an object, or a line.
func (p *Parameters) UnmarshalJSON(octets []byte) error {
	pairs, err := escaped.Unmarshal(octets)
	*p = Parameters(pairs)
	return err
}

// once has each name once, with a value.
func (p Parameters) once(field string) (map[string]string, error) {
	out := map[string]string{}
	for _, one := range p {
		if _, twice := out[one.Name]; one.Name == "" || one.Value == "" || twice {
			return nil, &federation.SettingError{Field: field, Err: fmt.Errorf(
				"%q is not NAME=VALUE, or its name comes twice; write each once, and a space within a value as %%20",
				escaped.Line(listed.Pairs{one}))}
		}
		out[one.Name] = one.Value
	}
	return out, nil
}

// scopes are those that are asked for.
func (p *Provider) scopes() []string {
	if len(p.Scopes) == 0 && !p.plain() {
		return []string{"openid", "profile", "email"}
	}
	return p.Scopes
}

// algorithms are those that its tokens may be signed with.
func (p *Provider) algorithms() []string {
	if len(p.Algorithms) > 0 {
		return p.Algorithms
	}
	return oidc.Algorithms
}

func (p *Provider) responseType() string {
	if p.ResponseType == "" {
		return "code"
	}
	return p.ResponseType
}

// Check sees whether the settings can be used.
func (p *Provider) Check(r *federation.Provider) error {
	wrong := func(field, format string, args ...any) error {
		return &federation.SettingError{Field: field, Err: fmt.Errorf(format, args...)}
	}
	for _, alg := range p.Algorithms {
		if slices.Contains(oidc.Algorithms, alg) {
			continue
		}
		if near := nearword.Of(alg, oidc.Algorithms); near != "" {
			return wrong("algorithms", "%s is not taken; did you mean %s?", alg, near)
		}
		return wrong("algorithms", "%s is not taken; there are %s", alg, strings.Join(oidc.Algorithms, " "))
	}
	for _, s := range p.Scopes {
		if strings.ContainsAny(s, "\"\\") || strings.ContainsFunc(s, func(r rune) bool { return r < 0x21 || r > 0x7e }) {
			return wrong("scopes", "%q is no scope (RFC 6749 §3.3)", s)
		}
	}
	switch {
	case strings.TrimSpace(r.TrustKey) != "":
		return wrong("trustKey", "documents of issuers are not signed; leave it out")
	case p.plain() && r.AllowUnsolicited:
		return wrong("allowUnsolicited", "a provider of OAuth 2.0 cannot start a sign-in here; leave it out")
	case p.ResponseType == idTokenOnly && p.KeepTokens:
		return wrong("keepTokens", "the answer id_token brings no tokens to keep; leave one of both out")
	case p.compiled.tenants != nil && len(p.Tenants) == 0 && len(p.Missing()) == 0 && !p.PersonalAccounts:
		return wrong("tenants", "the issuer is one of many tenants; name those whose people may come, or * for every one")
	case p.compiled.tenants == nil && p.Doc.Issuer != "" && (len(p.Tenants) > 0 || p.PersonalTenant != ""):
		return wrong("tenants", "the issuer %s has no place for a tenant in braces; leave it out", p.Doc.Issuer)
	case p.PersonalAccounts && p.PersonalTenant == "":
		return wrong("personalTenant", "name the tenant that personal accounts have, so that they can be told apart")
	}
	return nil
}
