package oidcside

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/strictjson"
)

// Take reads client metadata (RFC 7591 §2). What it does not say stays as it is, but
// for addresses and keys, which are those of the document.
func (a *Application) Take(document []byte, _ federation.Trusting) (federation.Side, federation.Intake, error) {
	if bytes.HasPrefix(bytes.TrimSpace(document), []byte("<")) {
		return nil, federation.Intake{}, finding.New(finding.ClientMetadata,
			finding.Fact("Cause", "this is XML or a page; the metadata of an OpenID Connect client is JSON (RFC 7591), or type its values"))
	}
	m, err := oidc.ReadMetadata(document)
	if err != nil {
		return nil, federation.Intake{}, err
	}
	b := *a
	if m.ClientID != "" {
		if _, err := parseClientID(string(m.ClientID)); err != nil {
			return nil, federation.Intake{}, err
		}
		b.ClientID = m.ClientID
	}
	if m.Secret != "" {
		if err := b.replaceSecret(m.Secret); err != nil {
			return nil, federation.Intake{}, err
		}
	}
	b.ClientKind, b.RedirectURI, b.PostLogout, b.PassedOver = m.Kind, m.RedirectURIs, m.PostLogout, m.PassedOver
	b.BackChannel, b.Initiate, b.KeyAddress, b.KeyText = m.BackChannel, m.Initiate, m.JWKSAddress, ""
	b.MaxAge, b.Timed, b.Pushes, b.Demands = m.MaxAge, m.AuthTime, m.Pushes, m.Demands
	b.Name, b.Homepage, b.Logo, b.Policy, b.Contacts = m.Title, m.Homepage, m.Logo, m.Policy, m.Contacts
	if len(m.Keys) > 0 {
		if b.KeyText, err = keyText(document); err != nil {
			return nil, federation.Intake{}, err
		}
	}
	b.wants(m)
	side, err := b.ready()
	return side, federation.Intake{}, err
}

// wants takes over what the metadata asks for, where the engineer has not decided
// otherwise.
func (a *Application) wants(m oidc.Metadata) {
	was := a.Asked
	a.Asked = Asked{Method: string(m.Method), Algorithm: m.Algorithm,
		Scopes: slices.DeleteFunc(m.Scopes, func(s string) bool { return s == "openid" })}
	if m.Pairwise {
		a.Asked.Subject = "pairwise"
	}
	for _, s := range []struct {
		set        *string
		was, wants string
	}{{&a.AuthMethod, was.Method, a.Asked.Method}, {&a.Algorithm, was.Algorithm, a.Asked.Algorithm},
		{&a.Subject, was.Subject, a.Asked.Subject}} {
		if *s.set == "" || *s.set == s.was {
			*s.set = s.wants
		}
	}
	if len(a.Scopes) == 0 || slices.Equal(a.Scopes, was.Scopes) {
		a.Scopes = a.Asked.Scopes
	}
}

// keyText is the member jwks of a document.
func keyText(document []byte) (string, error) {
	var d struct {
		JWKS json.RawMessage `json:"jwks"`
	}
	err := json.Unmarshal(document, &d)
	return string(d.JWKS), err
}

// Kept is a document as it is kept: without the secret in it.
func (*Application) Kept(document []byte) []byte {
	o, err := strictjson.Object(document, 32)
	if err != nil || o["client_secret"] == nil {
		return document
	}
	delete(o, "client_secret")
	delete(o, "registration_access_token")
	octets, err := json.MarshalIndent(o, "", "  ")
	if err != nil {
		return nil
	}
	return octets
}

// fields are the values that can be typed, named as in the metadata.
var fields = []federation.Setting{
	{Name: "clientId", Label: "Client ID", Type: federation.OneLine, Identifies: true,
		Text: "client ID it has already; made if absent"},
	{Name: "clientSecret", Label: "Client secret", Type: federation.Secret, Option: "client-secret-file",
		Text: "file with the client secret it has already; made if absent, and shown once"},
	{Name: "kind", Label: "Kind", Type: federation.OneLine,
		Text: "kind of an OAuth client: web, browser, native or service"},
	{Name: "redirectUris", Label: "Redirect URIs", Type: federation.List, Option: "redirect-uri",
		Text: "redirect URI of an OAuth client; several times for several, none for no more"},
	{Name: "postLogoutRedirectUris", Label: "Post-logout redirect URIs", Type: federation.List,
		Option: "post-logout-redirect-uri",
		Text:   "where it may send people after signing out; several times for several, none for no more"},
	{Name: "jwks", Label: "Keys", Type: federation.PublicKeys,
		Text: "key it signs with instead of a secret: a file with a JWK, a JWK Set, or PEM"},
	{Name: "jwksUri", Label: "JWKS address", Type: federation.Address,
		Text: "address of its JWK Set, which is kept fresh; none for no more"},
	{Name: "backchannelLogoutUri", Label: "Back-channel logout URI", Type: federation.Address,
		Text: "where it hears that somebody has signed out; none for no more"},
	{Name: "initiateLoginUri", Label: "Initiate login URI", Type: federation.Address,
		Text: "where it starts a sign-in for the gate; none for no more"},
	{Name: "certificate", Label: "Certificate of its key", Type: federation.Certificate,
		Text: "signing certificate in place of the present one: a file in PEM or DER"}}

// Fields are the values that can be typed.
func (*Application) Fields() []federation.Setting { return fields }

// least and most letters of a client secret that is brought along.
const (
	leastSecret = 16
	mostSecret  = 512
)

// Overlay lays typed values over what is known. Addresses of one field are separated
// by spaces, and "none" takes out what is there.
func (a *Application) Overlay(t federation.Typed) (federation.Side, error) {
	if err := t.Only(fields); err != nil {
		return nil, err
	}
	b := *a
	bad := func(field, format string, args ...any) error {
		return &federation.SettingError{Field: field, Err: fmt.Errorf(format, args...)}
	}
	if id := strings.TrimSpace(t["clientId"]); id != "" {
		parsed, err := parseClientID(id)
		if err != nil {
			return nil, bad("clientId", "%w", err)
		}
		b.ClientID = parsed
	}
	if kind := oidc.ClientKind(strings.TrimSpace(t["kind"])); kind != "" {
		if !slices.Contains(oidc.ClientKinds, kind) {
			return nil, bad("kind", "%s", unknownKind(string(kind)))
		}
		b.ClientKind = kind
	}
	for _, f := range []struct {
		field string
		to    *[]oidc.RedirectURI
	}{{"redirectUris", &b.RedirectURI}, {"postLogoutRedirectUris", &b.PostLogout}} {
		if err := b.addresses(f.field, t[f.field], f.to); err != nil {
			return nil, err
		}
	}
	for _, f := range []struct {
		field string
		to    *string
	}{{"backchannelLogoutUri", &b.BackChannel}, {"initiateLoginUri", &b.Initiate}, {"jwksUri", &b.KeyAddress}} {
		if err := address(f.field, t[f.field], f.to); err != nil {
			return nil, err
		}
	}
	if err := b.typedKeys(t); err != nil {
		return nil, err
	}
	if s := strings.TrimSpace(t["clientSecret"]); s != "" {
		if err := b.replaceSecret(s); err != nil {
			return nil, bad("clientSecret", "%w", err)
		}
	}
	side, err := b.ready()
	return side, err
}

func unknownKind(kind string) string {
	words := make([]string, len(oidc.ClientKinds))
	for i, k := range oidc.ClientKinds {
		words[i] = string(k)
	}
	if near := nearword.Of(kind, words); near != "" {
		return fmt.Sprintf("there is no kind %q; did you mean %s?", kind, near)
	}
	return fmt.Sprintf("there is no kind %q; use one of %s", kind, strings.Join(words, ", "))
}

// typedKeys takes keys: those that stand there, or the address of some.
func (a *Application) typedKeys(t federation.Typed) error {
	field := "jwks"
	if t["certificate"] != "" {
		field = "certificate"
	}
	text := strings.TrimSpace(t[field])
	switch {
	case text != "" && t["jwksUri"] != "":
		return &federation.SettingError{Field: field,
			Err: errors.New("keys and an address of keys were given; give one of both (RFC 7591 §2)")}
	case text == "none":
		a.KeyText = ""
	case text != "":
		if _, err := oidc.ReadKeys([]byte(text)); err != nil {
			return &federation.SettingError{Field: field, Err: err}
		}
		a.KeyText, a.KeyAddress = text, ""
	case t["jwksUri"] != "" && a.KeyAddress != "":
		a.KeyText = ""
	}
	return nil
}

// addresses reads addresses that people are sent to.
func (a *Application) addresses(field, text string, to *[]oidc.RedirectURI) error {
	list := strings.Fields(text)
	if len(list) == 0 {
		return nil
	}
	if *to = nil; len(list) == 1 && list[0] == "none" {
		return nil
	}
	for _, u := range list {
		uri, err := oidc.ParseRedirectURI(a.ClientKind, u)
		if err != nil {
			return &federation.SettingError{Field: field, Err: err}
		}
		if !slices.Contains(*to, uri) {
			*to = append(*to, uri)
		}
	}
	return nil
}

// address reads an address that the gate calls, or sends people to.
func address(field, text string, to *string) error {
	if text = strings.TrimSpace(text); text == "" {
		return nil
	}
	if *to = ""; text == "none" {
		return nil
	}
	u, err := url.Parse(text)
	if err != nil || u.Hostname() == "" || u.User != nil || strings.ContainsAny(text, "#\\ ") ||
		u.Scheme != "https" && (u.Scheme != "http" || !oidc.Loopback(u.Hostname())) {
		return &federation.SettingError{Field: field,
			Err: fmt.Errorf("%q is no address that is taken; give a whole one that begins with https://", text)}
	}
	*to = text
	return nil
}

// longestClientID is how long a client ID may be, in letters.
const longestClientID = 255

// parseClientID takes a client ID that is brought along.
func parseClientID(text string) (oidc.ClientID, error) {
	if len(text) > longestClientID {
		return "", fmt.Errorf("the client ID has %d letters; at most %d are taken", len(text), longestClientID)
	}
	return oidc.ParseClientID(text)
}

// replaceSecret puts a secret that is brought along in place of those there are.
func (a *Application) replaceSecret(secret string) error {
	if len(secret) < leastSecret || len(secret) > mostSecret {
		return fmt.Errorf("the client secret has %d letters; %d to %d are taken, or give none and have one made",
			len(secret),
			leastSecret, mostSecret)
	}
	if a.ClientKind.Public() {
		return fmt.Errorf("an application of kind %s can keep no secret; leave it out", a.ClientKind)
	}
	if sum := sumOf(secret); len(a.Secrets) != 1 || a.Secrets[0].Sum != sum {
		a.Secrets = []Secret{{Sum: sum}}
	}
	return nil
}
