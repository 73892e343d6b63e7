package oidcside

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/oidc"
)

// ApplicationSettings are what an engineer decides about an OpenID Connect
// application.
type ApplicationSettings struct {
	AuthMethod      string       `json:"authMethod"`
	Algorithm       string       `json:"algorithm"`
	Subject         string       `json:"subject"`
	AccessToken     string       `json:"accessToken"`
	ClaimsIn        string       `json:"claimsIn"`
	Scopes          listed.Words `json:"scopes"`
	Resources       listed.Words `json:"resources"`
	Serves          listed.Words `json:"serves"`
	AskConsent      bool         `json:"askConsent"`
	WithoutPKCE     bool         `json:"withoutPKCE"`
	AllowLocalhost  bool         `json:"allowLocalhost"`
	AllowedOrigins  listed.Words `json:"origins"`
	NoRefresh       bool         `json:"noRefresh"`
	AccessTokenLife string       `json:"accessTokenLife"`
	IDTokenLife     string       `json:"idTokenLife"`
	RefreshIdle     string       `json:"refreshIdle"`
	RefreshAbsolute string       `json:"refreshAbsolute"`
	SignInAge       string       `json:"signInAge"`
	SecretID        string       `json:"secretId"`
	// RoleParameter is the request parameter, or the claim of the parameter claims, by which it asks for a role.
	RoleParameter string `json:"roleParameter"`
}

var applicationSettings = []federation.Setting{
	{Name: "authMethod", Label: "Client authentication", Type: federation.OneOf, Group: "Requests and answers",
		Words: map[string]string{"": "by its kind: a secret in the header, or none",
			"client_secret_basic": "client_secret_basic: in the header",
			"client_secret_post":  "client_secret_post: in the form", "private_key_jwt": "private_key_jwt: it signs with a key",
			"none": "none: PKCE alone"},
		Choices: []string{"", string(oidc.SecretBasic), string(oidc.SecretPost), string(oidc.SignedJWT),
			string(oidc.NoMethod)}, Text: "How it proves who it is at the token endpoint (token_endpoint_auth_method); empty goes by its kind"},
	{Name: "algorithm", Label: "Tokens are signed with", Type: federation.OneOf, Group: "Tokens",
		Words:   map[string]string{"": "RS256", "ES256": "ES256", "EdDSA": "EdDSA"},
		Choices: append([]string{""}, Algorithms...),
		Text:    "Algorithm that its tokens are signed with (id_token_signed_response_alg)", Default: "RS256"},
	{Name: "subject", Label: "Subject", Type: federation.OneOf, Group: "Tokens",
		Words: map[string]string{"": "public: the same for all applications",
			"pairwise": "pairwise: another one for each"},
		Choices: []string{"", "public", "pairwise"},
		Text:    "pairwise: sub is of no use to compare people with other applications (subject_type)", Default: "public"},
	{Name: "accessToken", Label: "Access tokens", Type: federation.OneOf, Group: "Tokens",
		Words:   map[string]string{"": "JWT: whoever gets one can verify it", "opaque": "opaque: only by introspection"},
		Choices: []string{"", "jwt", "opaque"},
		Text:    "jwt: whoever gets it can read and verify it (RFC 9068); opaque: only by introspection", Default: "jwt"},
	{Name: "claimsIn", Label: "Claims of scopes are told", Type: federation.OneOf, Group: "Tokens",
		Words:   map[string]string{"": "at the user-info address", "idToken": "in the ID token", "both": "in both"},
		Choices: []string{"", "userInfo", "idToken", "both"},
		Text:    "Where the claims of scopes are told", Default: "userInfo, as the standard has it"},
	{Name: "scopes", Label: "Scopes it may ask for", Type: federation.List, Group: "Requests and answers", Most: 2000,
		Text: "Scopes it may ask for beside openid, separated by spaces; empty allows the standard ones"},
	{Name: "resources", Label: "Audiences its access tokens may name", Type: federation.List, Group: "Tokens", Most: 4000,
		Text: "Audiences its access tokens may name (resource), separated by spaces"},
	{Name: "serves", Label: "Audiences that it is itself", Type: federation.List, Group: "Tokens", Most: 4000,
		Text: "Audiences that it is itself, so that it may have their tokens introspected, separated by spaces"},
	{Name: "roleParameter", Label: "Parameter by which it asks for a role", Type: federation.OneLine,
		Group: "Requests and answers", Most: 60,
		Text: "Name of the request parameter, or of the claim in the parameter claims, by which it asks for one of its roles, like role; empty for none"},
	{Name: "askConsent", Label: "Ask people whether it may be told", Type: federation.Switch,
		Group: "Requests and answers",
		Text:  "The person is asked whether it may be told, once; otherwise only where the request wants it"},
	{Name: "withoutPKCE", Label: "Exception: no PKCE", Type: federation.Switch, Group: "Exceptions",
		Text: "Exception: a web application that cannot do PKCE; leaves a warning"},
	{Name: "allowLocalhost", Label: "Exception: redirect URIs at localhost", Type: federation.Switch, Group: "Exceptions",
		Text: "Exception: redirect URIs of the kinds web and browser may name the machine by localhost; leaves a warning"},
	{Name: "origins", Label: "Origins it calls from", Type: federation.List, Group: "Requests and answers", Most: 2000,
		Text: "Origins it calls from beside those of its redirect URIs, separated by spaces; of kind browser"},
	{Name: "noRefresh", Label: "No refresh tokens", Type: federation.Switch, Group: "Tokens",
		Text: "It gets no refresh tokens"},
	{Name: "accessTokenLife", Label: "An access token is good for", Type: federation.Duration, Group: "Tokens", Most: 20,
		Text: "How long an access token is good, like 10m", Default: lasts("accessTokenLife")},
	{Name: "idTokenLife", Label: "An ID token is good for", Type: federation.Duration, Group: "Tokens", Most: 20,
		Text: "How long an ID token is good, like 5m", Default: lasts("idTokenLife")},
	{Name: "refreshIdle", Label: "A refresh token may lie unused for", Type: federation.Duration, Group: "Tokens",
		Most: 20,
		Text: "How long a refresh token may lie unused, like 14d", Default: lasts("refreshIdle")},
	{Name: "refreshAbsolute", Label: "Tokens are refreshed at most for", Type: federation.Duration, Group: "Tokens",
		Most: 20,
		Text: "How long after the sign-in tokens can be refreshed, like 90d", Default: lasts("refreshAbsolute")},
	{Name: "secretId", Label: "Identifier of the client secret", Type: federation.OneLine, Group: "Requests and answers",
		Most: 200,
		Text: "Identifier of a client secret that was brought along, noted so that it is told when it is sent in place of the secret"},
	{Name: "signInAge", Label: "A sign-in may be as old as", Type: federation.Duration, Group: "Tokens", Most: 20,
		Text: "How old a sign-in at the provider may be when it enters here, like 8h", Default: lasts("signInAge")},
}

// Settings are its ApplicationSettings.
func (a *Application) Settings() any { return a.ApplicationSettings }

// SettingList describes its settings.
func (*Application) SettingList() []federation.Setting { return applicationSettings }

// With lays settings over.
func (a *Application) With(settings []byte) (federation.Side, error) {
	b := *a
	if err := json.Unmarshal(settings, &b.ApplicationSettings); err != nil {
		return nil, err
	}
	return b.ready()
}

// lives are the lifetimes of the settings.
type lives struct {
	access, id time.Duration
	refresh    grant.Lifetimes
	signIn     time.Duration
}

// bounds of lifetimes, and what they are where nothing is set.
var bounds = []struct {
	field              string
	usual, least, most time.Duration
}{
	{"accessTokenLife", 10 * time.Minute, time.Minute, 24 * time.Hour},
	{"idTokenLife", 5 * time.Minute, time.Minute, 24 * time.Hour},
	{"refreshIdle", 14 * day, time.Minute, 400 * day},
	{"refreshAbsolute", 90 * day, time.Minute, 400 * day},
	{"signInAge", 0, time.Minute, 30 * day},
}

const day = 24 * time.Hour

// lasts is what a lifetime is where nothing is set.
func lasts(field string) string {
	for _, b := range bounds {
		if b.field == field && b.usual > 0 {
			return short(b.usual)
		}
	}
	return "any age"
}

func (s ApplicationSettings) lives() (l lives, err error) {
	texts := []string{s.AccessTokenLife, s.IDTokenLife, s.RefreshIdle, s.RefreshAbsolute, s.SignInAge}
	for i, to := range []*time.Duration{&l.access, &l.id, &l.refresh.Idle, &l.refresh.Absolute, &l.signIn} {
		b := bounds[i]
		if *to = b.usual; texts[i] == "" {
			continue
		}
		d, ok := duration(texts[i])
		if !ok || d < b.least || d > b.most {
			return l, &federation.SettingError{Field: b.field,
				Err: fmt.Errorf("%q is no time that is taken; give one from %s to %s, like 10m, 8h or 14d", texts[i],
					short(b.least),
					short(b.most))}
		}
		*to = d
	}
	return l, nil
}

// duration reads a time like 10m, 8h or 14d.
func duration(s string) (time.Duration, bool) {
	if n, ok := strings.CutSuffix(s, "d"); ok {
		days, err := strconv.Atoi(n)
		return time.Duration(days) * day, err == nil && days >= 0 && days < 10000
	}
	d, err := time.ParseDuration(s)
	return d, err == nil
}

// short writes a time as duration reads it.
func short(d time.Duration) string {
	switch {
	case d%day == 0:
		return fmt.Sprintf("%dd", d/day)
	case d%time.Hour == 0:
		return fmt.Sprintf("%dh", d/time.Hour)
	}
	return fmt.Sprintf("%dm", d/time.Minute)
}

// standardScopes are those that an application may ask for where nothing is set.
var standardScopes = []string{"openid", "profile", "email", "address", "phone", "groups", "offline_access"}

// may reports whether it may ask for a scope.
func (a *Application) may(scope string) bool {
	if scope == "openid" {
		return a.ClientKind != oidc.Service
	}
	if len(a.Scopes) == 0 {
		return a.ClientKind != oidc.Service && slices.Contains(standardScopes, scope)
	}
	return slices.Contains(a.Scopes, scope)
}
