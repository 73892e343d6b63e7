package oidc

import (
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
)

// Metadata is what a client says of itself (RFC 7591 §2, OpenID Connect
// Registration §2): as handed over, with what was understood.
type Metadata struct {
	ClientID      string
	Secret        string // of an application that moves and keeps it
	Kind          ClientKind
	Method        Method
	RedirectURIs  []string
	PostLogout    []string // post_logout_redirect_uris
	BackChannel   string   // backchannel_logout_uri
	Initiate      string   // initiate_login_uri
	JWKSAddress   string
	Keys          []Key
	Title         string
	Homepage      string
	Logo          string
	Policy        string
	Contacts      []string
	Scopes        []string
	Algorithm     string   // id_token_signed_response_alg
	Pairwise      bool     // subject_type
	PassedOver    []string // members that say nothing here
	OfflineAccess bool
}

// addresses are members that hold an address a person or the gate goes to.
var addresses = []string{"client_uri", "logo_uri", "policy_uri", "jwks_uri", "backchannel_logout_uri",
	"initiate_login_uri"}

// known are members that are read.
var known = append([]string{"client_id", "client_secret", "redirect_uris", "post_logout_redirect_uris",
	"token_endpoint_auth_method", "grant_types", "response_types", "application_type", "client_name", "contacts", "scope",
	"jwks", "id_token_signed_response_alg", "subject_type"}, addresses...)

// refusedMetadata names the member that cannot be used.
func refusedMetadata(member, cause string) error {
	return finding.New(finding.ClientMetadata, finding.Fact("Member", member), finding.Fact("Cause", cause))
}

// ReadMetadata reads a client's metadata. Every error is a finding that names the
// member. The kind is told from what it wants: a public client that is said to be
// native is one, another runs in the browser; one without people is a service.
func ReadMetadata(octets []byte) (m Metadata, err error) {
	o, err := object(octets)
	if err != nil {
		return m, finding.New(finding.ClientMetadata, finding.Fact("Cause", err.Error()))
	}
	for name := range o {
		if !slices.Contains(known, strings.SplitN(name, "#", 2)[0]) {
			m.PassedOver = append(m.PassedOver, name)
		}
	}
	slices.Sort(m.PassedOver)
	for name, to := range map[string]*string{"client_id": &m.ClientID, "client_secret": &m.Secret,
		"client_name": &m.Title, "client_uri": &m.Homepage, "logo_uri": &m.Logo, "policy_uri": &m.Policy,
		"jwks_uri": &m.JWKSAddress, "backchannel_logout_uri": &m.BackChannel, "initiate_login_uri": &m.Initiate,
		"id_token_signed_response_alg": &m.Algorithm} {
		if *to, err = textOf(o, name); err != nil {
			return m, err
		}
	}
	for name, to := range map[string]*[]string{"redirect_uris": &m.RedirectURIs,
		"post_logout_redirect_uris": &m.PostLogout, "contacts": &m.Contacts} {
		list, ok := texts(o, name)
		if !ok {
			return m, refusedMetadata(name, "is no list of texts")
		}
		*to = list
	}
	m.Scopes = strings.Fields(text(o, "scope"))
	m.OfflineAccess = slices.Contains(m.Scopes, "offline_access")
	for _, step := range []func(map[string]any) error{m.readKind, m.readKeys, m.readAddresses, m.readAnswers} {
		if err := step(o); err != nil {
			return m, err
		}
	}
	return m, nil
}

func textOf(o map[string]any, name string) (string, error) {
	switch v := o[name].(type) {
	case nil:
		return "", nil
	case string:
		return strings.TrimSpace(v), nil
	}
	return "", refusedMetadata(name, "is no text")
}

// readKind tells the kind and the method. The default is that of RFC 7591 §2.
func (m *Metadata) readKind(o map[string]any) error {
	grants, ok := texts(o, "grant_types")
	if !ok {
		return refusedMetadata("grant_types", "is no list of texts")
	}
	for _, g := range grants {
		if g == "implicit" || g == "password" {
			return refusedMetadata("grant_types", g+" is not offered; use authorization_code")
		}
	}
	responses, ok := texts(o, "response_types")
	if !ok || slices.ContainsFunc(responses, func(r string) bool { return r != "code" }) {
		return refusedMetadata("response_types", fmt.Sprintf("%s is not offered; use code", strings.Join(responses, ", ")))
	}
	method, err := textOf(o, "token_endpoint_auth_method")
	if err != nil {
		return err
	}
	if m.Method = Method(method); m.Method == "" {
		m.Method = SecretBasic
	}
	if !slices.Contains(Methods, m.Method) {
		words := make([]string, len(Methods))
		for i, w := range Methods {
			words[i] = string(w)
		}
		cause := fmt.Sprintf("%s is not offered; there are %s", m.Method, strings.Join(words, ", "))
		if near := nearword.Of(string(m.Method), words); near != "" {
			cause = fmt.Sprintf("%s is not offered; did you mean %s?", m.Method, near)
		}
		return refusedMetadata("token_endpoint_auth_method", cause)
	}
	native := text(o, "application_type") == "native" || slices.ContainsFunc(m.RedirectURIs, ownScheme)
	switch people := len(grants) == 0 || slices.Contains(grants, "authorization_code"); {
	case !people && slices.Contains(grants, "client_credentials"):
		m.Kind = Service
	case m.Method == NoMethod && !native:
		m.Kind = Browser
	case m.Method == NoMethod:
		m.Kind = Native
	default:
		m.Kind = Web
	}
	if m.Kind == Service && m.Method == NoMethod {
		return refusedMetadata("token_endpoint_auth_method", "none cannot be: a service proves who it is by nothing else")
	}
	return nil
}

func ownScheme(address string) bool {
	u, err := url.Parse(address)
	return err == nil && u.Scheme != "http" && u.Scheme != "https"
}

// readKeys reads keys that stand in the document; an address of keys is for later.
func (m *Metadata) readKeys(o map[string]any) (err error) {
	set, there := o["jwks"]
	switch {
	case there && m.JWKSAddress != "":
		return refusedMetadata("jwks", "stands beside jwks_uri; only one of them may be (RFC 7591 §2)")
	case there:
		coded, err := json.Marshal(set)
		if err != nil {
			return err
		}
		m.Keys, err = ReadKeys(coded)
		return err
	case m.Method == SignedJWT && m.JWKSAddress == "":
		return refusedMetadata("jwks", "is missing, and so is jwks_uri; private_key_jwt needs one of them")
	}
	return nil
}

// readAddresses holds all addresses against what can be registered.
func (m *Metadata) readAddresses(o map[string]any) error {
	if m.Kind != Service && len(m.RedirectURIs) == 0 {
		return refusedMetadata("redirect_uris", "is missing or empty")
	}
	for _, address := range m.RedirectURIs {
		if err := CheckRedirect(m.Kind, address); err != nil {
			return refusedMetadata("redirect_uris", err.Error())
		}
	}
	for _, address := range m.PostLogout {
		if err := CheckRedirect(m.Kind, address); err != nil {
			return refusedMetadata("post_logout_redirect_uris", err.Error())
		}
	}
	for _, name := range addresses {
		address := text(o, name)
		u, err := url.Parse(address)
		if address != "" && (err != nil || u.Hostname() == "" || u.Scheme != "https" && !Loopback(u.Hostname()) ||
			u.User != nil || strings.Contains(address, "#") || strings.ContainsFunc(address, odd)) {
			return refusedMetadata(name, fmt.Sprintf("%q is no address that is taken; give one that begins with https://",
				address))
		}
	}
	return nil
}

// readAnswers reads how the client wants its tokens.
func (m *Metadata) readAnswers(o map[string]any) error {
	if m.Algorithm != "" && !slices.Contains([]string{"RS256", "ES256", "EdDSA"}, m.Algorithm) {
		return refusedMetadata("id_token_signed_response_alg", m.Algorithm+" is not offered; use RS256, ES256 or EdDSA")
	}
	for name := range o {
		if strings.HasSuffix(name, "_encrypted_response_alg") || strings.HasSuffix(name, "_encrypted_response_enc") {
			return refusedMetadata(name, "encrypted tokens are not offered; leave it out")
		}
	}
	switch subject := text(o, "subject_type"); subject {
	case "", "public":
	case "pairwise":
		m.Pairwise = true
	default:
		return refusedMetadata("subject_type", fmt.Sprintf("%q is neither public nor pairwise", subject))
	}
	return nil
}
