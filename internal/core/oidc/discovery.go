package oidc

import (
	"bytes"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/finding"
)

// DiscoveryPath is where an issuer describes itself, below its address (OpenID
// Connect Discovery §4), and ServerPath where an authorization server does (RFC 8414
// §3).
const (
	DiscoveryPath = "/.well-known/openid-configuration"
	ServerPath    = "/.well-known/oauth-authorization-server"
)

// Discovery is what a provider says of itself (OpenID Connect Discovery §3, RFC 8414
// §2), as far as it matters to whoever relies on it. A list that is nil was not said.
type Discovery struct {
	Issuer     Issuer `json:"issuer,omitempty"`
	Authorize  string `json:"authorizationEndpoint,omitempty"`
	Token      string `json:"tokenEndpoint,omitempty"`
	UserInfo   string `json:"userinfoEndpoint,omitempty"`
	JWKS       string `json:"jwksUri,omitempty"`
	EndSession string `json:"endSessionEndpoint,omitempty"`

	Scopes        []string `json:"scopes,omitempty"`
	ResponseTypes []string `json:"responseTypes,omitempty"`
	ResponseModes []string `json:"responseModes,omitempty"`
	Contexts      []string `json:"acrValues,omitempty"`
	IDTokenAlgs   []string `json:"idTokenAlgorithms,omitempty"`
	AuthMethods   []string `json:"authMethods,omitempty"`
	AuthAlgs      []string `json:"authAlgorithms,omitempty"`
	Challenges    []string `json:"challengeMethods,omitempty"`
	SubjectTypes  []string `json:"subjectTypes,omitempty"`
	Claims        []string `json:"claims,omitempty"`
	Prompts       []string `json:"prompts,omitempty"`

	SaysIssuer     bool   `json:"issParameter,omitempty"` // answers carry iss (RFC 9207 §3)
	ClaimsRequest  bool   `json:"claimsParameter,omitempty"`
	LogoutBack     bool   `json:"backchannelLogout,omitempty"`
	PushedOnly     bool   `json:"requirePushed,omitempty"`        // RFC 9126 §5
	RequestObjects bool   `json:"requireRequestObject,omitempty"` // RFC 9101 §10.5
	Documentation  string `json:"documentation,omitempty"`
}

// IssuerOf is the issuer whose document lies at an address; ok tells whether the
// address is one of such a document.
func IssuerOf(address string) (issuer Issuer, ok bool) {
	for _, path := range []string{DiscoveryPath, ServerPath} {
		if before, ok := strings.CutSuffix(address, path); ok {
			return Issuer(before), true
		}
	}
	// RFC 8414 §3.1 puts the path of the issuer behind.
	u, err := url.Parse(address)
	if err != nil || u.RawQuery != "" {
		return "", false
	}
	if rest, ok := strings.CutPrefix(u.Path, ServerPath); ok {
		return Issuer(u.Scheme + "://" + u.Host + rest), true
	}
	return "", false
}

// DiscoveryOf is where an issuer describes itself; a slash at its end is left out
// (OpenID Connect Discovery §4.1).
func DiscoveryOf(issuer Issuer) string {
	return strings.TrimSuffix(string(issuer), "/") + DiscoveryPath
}

// unusable says why a document is none that a provider describes itself by.
func unusable(cause string) error {
	return finding.New(finding.DiscoveryUnusable, finding.Fact("Cause", cause))
}

// ReadDiscovery reads a provider's document. Every error is a finding. Only what is
// believed is held against rules; what is missing is for the record to say.
func ReadDiscovery(octets []byte) (d Discovery, err error) {
	switch head := bytes.TrimSpace(bytes.TrimPrefix(octets, []byte("\xef\xbb\xbf"))); {
	case len(head) == 0:
		return d, unusable("the document is empty")
	case head[0] == '<':
		return d, unusable("this is a page or XML; the document of an issuer is JSON, at its address followed by " +
			DiscoveryPath)
	}
	o, err := document(octets)
	if err != nil {
		return d, unusable(err.Error())
	}
	switch {
	case o["issuer"] == nil && o["keys"] != nil:
		return d, unusable("this is a JWK Set, not the document of an issuer")
	case o["issuer"] == nil && (o["redirect_uris"] != nil || o["client_id"] != nil):
		return d, unusable("this is the metadata of a client, not of a provider")
	}
	for name, to := range map[string]*string{"issuer": (*string)(&d.Issuer), "authorization_endpoint": &d.Authorize,
		"token_endpoint": &d.Token, "userinfo_endpoint": &d.UserInfo, "jwks_uri": &d.JWKS,
		"end_session_endpoint": &d.EndSession, "service_documentation": &d.Documentation} {
		if v, given := o[name]; given && v != nil {
			s, ok := v.(string)
			if !ok {
				return d, unusable("the member " + name + " is no text")
			}
			*to = s
		}
	}
	for name, to := range map[string]*[]string{"scopes_supported": &d.Scopes,
		"response_types_supported": &d.ResponseTypes,
		"response_modes_supported": &d.ResponseModes, "acr_values_supported": &d.Contexts,
		"id_token_signing_alg_values_supported":            &d.IDTokenAlgs,
		"token_endpoint_auth_methods_supported":            &d.AuthMethods,
		"token_endpoint_auth_signing_alg_values_supported": &d.AuthAlgs,
		"code_challenge_methods_supported":                 &d.Challenges, "subject_types_supported": &d.SubjectTypes,
		"claims_supported": &d.Claims, "prompt_values_supported": &d.Prompts} {
		list, ok := texts(o, name)
		if !ok || len(list) > mostSaid {
			return d, unusable(fmt.Sprintf("the member %s is no list of at most %d texts", name, mostSaid))
		}
		*to = list
	}
	for name, to := range map[string]*bool{"authorization_response_iss_parameter_supported": &d.SaysIssuer,
		"claims_parameter_supported": &d.ClaimsRequest, "backchannel_logout_supported": &d.LogoutBack,
		"require_pushed_authorization_requests": &d.PushedOnly, "require_signed_request_object": &d.RequestObjects} {
		if v, given := o[name]; given && v != nil {
			b, ok := v.(bool)
			if !ok {
				return d, unusable("the member " + name + " is neither true nor false")
			}
			*to = b
		}
	}
	return d, d.check()
}

// mostSaid is how many values one list of the document may have.
const mostSaid = 500

// check holds issuer and addresses against what they must be.
func (d *Discovery) check() error {
	if d.Issuer == "" {
		return unusable("the member issuer is missing")
	}
	if _, err := ParseIssuer(string(d.Issuer)); err != nil {
		return unusable("issuer: " + err.Error())
	}
	for _, a := range []struct{ name, address string }{{"authorization_endpoint", d.Authorize}, {"token_endpoint",
		d.Token},
		{"userinfo_endpoint", d.UserInfo}, {"jwks_uri", d.JWKS}, {"end_session_endpoint", d.EndSession}} {
		if a.address == "" {
			continue
		}
		if err := CheckEndpoint(a.address); err != nil {
			return unusable(a.name + ": " + err.Error())
		}
	}
	return nil
}

// CheckEndpoint says why a text is no address of a provider; nil if it is one: https,
// or http on the machine itself, for trying out.
func CheckEndpoint(address string) error {
	u, err := url.Parse(address)
	switch {
	case len(address) > longestAddress:
		return fmt.Errorf("it has %d letters; at most %d are taken", len(address), longestAddress)
	case err != nil || u.Hostname() == "" || u.User != nil || strings.ContainsFunc(address, odd):
		return fmt.Errorf("%q is no address; give a whole one that begins with https://", finding.Clip(address))
	case u.Fragment != "" || strings.Contains(address, "#"):
		return fmt.Errorf("%q has a fragment; take # and what follows off", finding.Clip(address))
	case u.Scheme == "https", u.Scheme == "http" && Loopback(u.Hostname()):
		return nil
	}
	return fmt.Errorf("%q has to be https: secrets and tokens would be read on the way", finding.Clip(address))
}

// Offers reports whether a list of a document has a value; what was not said is what
// the standard gives for that.
func Offers(said []string, usual string, want string) bool {
	if said == nil {
		said = strings.Fields(usual)
	}
	return slices.Contains(said, want)
}
