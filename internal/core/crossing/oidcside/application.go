package oidcside

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/rpside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/oidc"
)

// Application is the OpenID Connect part of an application. Members are named as in
// its metadata (RFC 7591 §2), as far as they are there.
type Application struct {
	ClientID    oidc.ClientID      `json:"clientId,omitempty"`
	ClientKind  oidc.ClientKind    `json:"kind,omitempty"`
	Secrets     []Secret           `json:"secrets,omitempty"` // the newest last
	RedirectURI []oidc.RedirectURI `json:"redirectUris,omitempty"`
	PostLogout  []oidc.RedirectURI `json:"postLogoutRedirectUris,omitempty"`
	BackChannel string             `json:"backchannelLogoutUri,omitempty"`
	Initiate    string             `json:"initiateLoginUri,omitempty"`
	KeyText     string             `json:"jwks,omitempty"` // as it was handed over
	KeyAddress  string             `json:"jwksUri,omitempty"`
	Name        string             `json:"clientName,omitempty"`
	Homepage    string             `json:"clientUri,omitempty"`
	Logo        string             `json:"logoUri,omitempty"`
	Policy      string             `json:"policyUri,omitempty"`
	Contacts    []string           `json:"contacts,omitempty"`
	PassedOver  []string           `json:"passedOver,omitempty"`    // members of its metadata that say nothing here
	Asked       Asked              `json:"asked,omitzero"`          // what its metadata asks to be set
	MaxAge      *int               `json:"defaultMaxAge,omitempty"` // in seconds, where a request says no other
	Timed       bool               `json:"requireAuthTime,omitempty"`
	Pushes      bool               `json:"requirePushed,omitempty"` // it never asks otherwise (RFC 9126 §6)
	Demands     []string           `json:"demands,omitempty"`       // members of its metadata that demand what is not done here

	ApplicationSettings `json:"-"`

	keys  []oidc.Key // of KeyText
	lives lives      // of the settings
}

// Asked are settings as client metadata asks for them. A setting that is still as it
// was asked for follows the metadata; one that an engineer decided otherwise stays.
type Asked struct {
	Method    string       `json:"method,omitempty"`
	Algorithm string       `json:"algorithm,omitempty"`
	Subject   string       `json:"subject,omitempty"`
	Scopes    listed.Words `json:"scopes,omitempty"`
}

// Secret is a client secret as it is kept: a sum of it.
type Secret struct {
	Sum     string    `json:"sum"` // SHA-256 in hexadecimal
	Added   time.Time `json:"added,omitzero"`
	Expires time.Time `json:"expires,omitzero"` // zero if it does not
}

// mostNamed is how many scopes or audiences an application may ask for beside the
// standard ones: each is a bit in a token that says nothing.
const mostNamed = 50

// mostSecrets are kept at once: one, and those that it follows.
const mostSecrets = 4

// ready reads once what every request would have to read again.
func (a *Application) ready() (*Application, error) {
	b := *a
	var err error
	if b.keys = nil; b.KeyText != "" {
		if b.keys, err = oidc.ReadKeys([]byte(b.KeyText)); err != nil {
			return nil, err
		}
	}
	b.lives, err = b.ApplicationSettings.lives()
	return &b, err
}

// Protocol is OpenID Connect.
func (*Application) Protocol() string { return Name }

// Identity is the client ID.
func (a *Application) Identity() string { return string(a.ClientID) }

// Lasting says that client IDs are never used again for another application.
func (*Application) Lasting() bool { return true }

// Title is the name for people in its metadata.
func (a *Application) Title() string { return a.Name }

// Presents is how its metadata presents it to people.
func (a *Application) Presents() federation.Presented {
	return federation.Presented{Logo: a.Logo, Policy: a.Policy, Contact: strings.Join(a.Contacts, ", ")}
}

// Missing says what its metadata lacks.
func (a *Application) Missing() []federation.Lack {
	var out []federation.Lack
	if a.ClientKind == "" {
		out = append(out, federation.Lack{What: "kind", Field: "kind"})
	}
	if a.ClientKind != "" && a.ClientKind != oidc.Service && len(a.RedirectURI) == 0 {
		out = append(out, federation.Lack{What: "redirect URI", Field: "redirectUris"})
	}
	if a.method() == oidc.SignedJWT && a.KeyText == "" && a.KeyAddress == "" {
		out = append(out, federation.Lack{What: "key that it signs with", Field: "jwks"})
	}
	return out
}

// Endpoints are its addresses.
func (a *Application) Endpoints() []federation.Endpoint {
	out := []federation.Endpoint{}
	for _, u := range a.RedirectURI {
		out = append(out, federation.Endpoint{Use: "Redirect URI", Location: string(u)})
	}
	for _, u := range a.PostLogout {
		out = append(out, federation.Endpoint{Use: "Post-logout redirect URI", Location: string(u)})
	}
	for _, e := range []federation.Endpoint{{Use: "Back-channel logout URI", Location: a.BackChannel},
		{Use: "Initiate login URI", Location: a.Initiate}, {Use: "JWKS", Location: a.KeyAddress}} {
		if e.Location != "" {
			out = append(out, e)
		}
	}
	return out
}

// Keys are those it signs with, as far as they are on record.
func (a *Application) Keys() []federation.Key {
	out := []federation.Key{}
	for _, k := range a.keys {
		out = append(out, federation.Key{Use: "signing", Certificate: keys.Certificate{Public: k.Public}})
	}
	return out
}

// CopyOf is where its keys are, if they are not on record.
func (a *Application) CopyOf() string { return a.KeyAddress }

// ReadCopy reads its keys.
func (*Application) ReadCopy(octets []byte) (any, error) { return oidc.ReadKeys(octets) }

// DescribeCopy tells each of its keys.
func (*Application) DescribeCopy(read any) []federation.Value {
	return rpside.Described(read.([]oidc.Key))
}

// Unread says that its keys cannot be had.
func (*Application) Unread(address, cause string) *finding.Finding {
	return finding.New(finding.JWKSUnusable, finding.Fact("Address", address), finding.Fact("Cause", cause))
}

// Describe gives everything known of it.
func (a *Application) Describe() []federation.Value {
	out := []federation.Value{{Label: "Client ID", Value: string(a.ClientID), Touches: federation.TouchIdentity},
		{Label: "Kind", Value: string(a.ClientKind)}, {Label: "Client authentication", Value: string(a.method())}}
	for _, e := range a.Endpoints() {
		out = append(out, federation.Value{Label: e.Use, Value: e.Location, Touches: federation.TouchAddress})
	}
	for _, s := range a.Secrets {
		text := "SHA-256 " + s.Sum[:min(16, len(s.Sum))] + "…"
		if !s.Added.IsZero() {
			text += ", since " + s.Added.UTC().Format(time.DateOnly)
		}
		if !s.Expires.IsZero() {
			text += ", until " + s.Expires.UTC().Format("2006-01-02 15:04Z")
		}
		out = append(out, federation.Value{Label: "Client secret", Value: text})
	}
	out = append(out, rpside.Described(a.keys)...)
	for _, v := range []federation.Value{{Label: "Homepage", Value: a.Homepage}, {Label: "Logo", Value: a.Logo},
		{Label: "Privacy policy", Value: a.Policy}, {Label: "Contacts", Value: strings.Join(a.Contacts, ", ")},
		{Label: "Demanded in its metadata, and not done here", Value: strings.Join(a.Demands, ", ")},
		{Label: "Sign-in may be so old", Value: age(a.MaxAge)},
		{Label: "Time of the sign-in", Value: map[bool]string{true: "demanded"}[a.Timed]},
		{Label: "Requests", Value: map[bool]string{true: "pushed only"}[a.Pushes]},
		{Label: "Passed over in its metadata", Value: strings.Join(a.PassedOver, ", ")}} {
		if v.Value != "" {
			out = append(out, v)
		}
	}
	return out
}

func age(seconds *int) string {
	if seconds == nil {
		return ""
	}
	return fmt.Sprintf("%d s, unless a request says otherwise (default_max_age)", *seconds)
}

// Data is what is stored.
func (a *Application) Data() any { return a }

// Named makes nothing up: a client ID is random, see Made.
func (a *Application) Named(*federation.Gate, federation.Name) federation.Side { return a }

// Made makes up what the application does not bring: a client ID, and a secret
// where it proves who it is by one. The secret is given back once.
func (a *Application) Made(random func(octets int) string, now time.Time) (federation.Side, string) {
	b := *a
	if b.ClientID == "" {
		b.ClientID = oidc.ClientID("client-" + random(10))
	}
	if !b.bySecret() || len(b.Secrets) > 0 {
		return &b, ""
	}
	secret := oidc.MadeSecret + random(32)
	b.Secrets = []Secret{{Sum: sumOf(secret), Added: now.UTC()}}
	return &b, secret
}

func sumOf(secret string) string {
	sum := oidc.HashSecret(secret)
	return hex.EncodeToString(sum[:])
}

// OwnKeys says that there are none.
func (*Application) OwnKeys() bool { return false }

// Shared says that it is found by its client ID.
func (*Application) Shared() federation.Sharing { return federation.Together }

// Purposes are the keys that its tokens are signed with.
func (a *Application) Purposes() []string { return []string{purposes[a.algorithm()]} }

func (a *Application) algorithm() string { return cmp.Or(a.Algorithm, Algorithms[0]) }

// method is how it proves who it is.
func (a *Application) method() oidc.Method {
	switch {
	case a.AuthMethod != "":
		return oidc.Method(a.AuthMethod)
	case a.ClientKind.Public():
		return oidc.NoMethod
	case len(a.Secrets) == 0 && (a.KeyText != "" || a.KeyAddress != ""):
		return oidc.SignedJWT
	}
	return oidc.SecretBasic
}

func (a *Application) bySecret() bool {
	m := a.method()
	return m == oidc.SecretBasic || m == oidc.SecretPost
}

// Client is the application as its messages are held against it. more are keys that
// were fetched from its address.
func (a *Application) Client(more []oidc.Key) *oidc.Client {
	c := &oidc.Client{ID: a.ClientID, Kind: a.ClientKind, RedirectURIs: a.RedirectURI, Method: a.method(),
		WithoutPKCE: a.WithoutPKCE, Resources: a.Resources, Keys: append(slices.Clone(a.keys), more...),
		OfflineAccess: a.may("offline_access"), SecretID: a.SecretID}
	for _, s := range a.Secrets {
		h := oidc.SecretHash{Expires: s.Expires}
		if octets, err := hex.DecodeString(s.Sum); err == nil && len(octets) == sha256.Size {
			copy(h.Sum[:], octets)
			c.SecretHashes = append(c.SecretHashes, h)
		}
	}
	return c
}

// byName are its redirect URIs that name the machine itself by localhost.
func (a *Application) byName() (out []string) {
	for _, address := range a.RedirectURI {
		if u, err := url.Parse(string(address)); err == nil && u.Scheme == "http" && oidc.Localhost(u.Hostname()) {
			out = append(out, string(address))
		}
	}
	return out
}

// Origins are those from which a program in a browser may call (CORS): that of its
// redirect URIs, and those that are set.
func (a *Application) Origins() []string {
	if a.ClientKind != oidc.Browser {
		return nil
	}
	out := slices.Clone([]string(a.AllowedOrigins))
	for _, address := range a.RedirectURI {
		if u, err := url.Parse(string(address)); err == nil && u.Host != "" {
			out = append(out, u.Scheme+"://"+strings.ToLower(u.Host))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// sector is whom a pairwise subject is made for (OpenID Connect Core §8.1): the
// host of its redirect URIs, if they have one in common, else the client itself.
func (a *Application) sector() string {
	host := ""
	for _, address := range a.RedirectURI {
		u, err := url.Parse(string(address))
		if err != nil || u.Hostname() == "" || oidc.Loopback(u.Hostname()) || oidc.Localhost(u.Hostname()) ||
			host != "" && host != u.Hostname() {
			return "client " + string(a.ClientID)
		}
		host = u.Hostname()
	}
	if host == "" {
		return "client " + string(a.ClientID)
	}
	return "sector " + host
}

// Unattended says that a service acts for itself.
func (a *Application) Unattended() bool { return a.ClientKind == oidc.Service }

// Opens says that it can be opened at the gate only where it starts sign-ins by
// itself: nobody can answer what was not asked.
func (a *Application) Opens(r *federation.Application) bool {
	return a.Initiate != "" || r.OwnStart != ""
}

// Start is where a sign-in begins that somebody opens at the gate (OpenID Connect
// Core §4); false if it has no such address.
func (a *Application) Start(g *federation.Gate, at crossing.Landing) (string, bool, error) {
	if a.Initiate == "" {
		return "", false, nil
	}
	to := oidc.WithQuery(a.Initiate, "iss", string(Issuer(g)))
	if target := at.Target; target != "" {
		if !at.OnRecord && !a.owns(target) {
			return "", false, finding.New(finding.TargetForeign, finding.Fact("target_link_uri", target),
				finding.Fact("Application", joined(a.RedirectURI)))
		}
		to = oidc.WithQuery(to, "target_link_uri", target)
	}
	return to, true, nil
}

// Lands sees that there is an address that can be told where to go on, and that the landing value is one itself
// (OpenID Connect Core §4).
func (a *Application) Lands(target string) error {
	switch {
	case a.Initiate == "":
		return errors.New("the application has no initiate_login_uri, so that it cannot be told where to land; set that first, or leave this empty")
	case !federation.IsAddress(target):
		return fmt.Errorf("%.100q is no address, as a target_link_uri is; give a whole one, like https://planner.wrenmoor.example/today", target)
	}
	return nil
}

// owns reports whether an address lies at the application: scheme, host and port of
// one of its redirect URIs.
func (a *Application) owns(target string) bool {
	t, err := url.Parse(target)
	if err != nil || t.User != nil || strings.ContainsAny(target, "\\\r\n\t ") || len(target) > 2048 {
		return false
	}
	return slices.ContainsFunc(append([]oidc.RedirectURI{oidc.RedirectURI(a.Initiate)}, a.RedirectURI...),
		func(known oidc.RedirectURI) bool {
			k, err := url.Parse(string(known))
			return err == nil && k.Scheme == t.Scheme && federation.SameHost(k.Host, t.Host) && k.Host != ""
		})
}

// Check sees whether the settings fit the kind of application, and each other.
func (a *Application) Check(r *federation.Application) error {
	wrong := func(field, format string, args ...any) error {
		return &federation.SettingError{Field: field, Err: fmt.Errorf(format, args...)}
	}
	for i, rule := range r.ReleaseMapping.Rules {
		field := fmt.Sprintf("releaseMapping.rules[%d].to", i)
		switch {
		case rule.Omit: // it takes away what a set makes for others
		case rule.To.Subject:
			return wrong(field+".subject", "sub is the gate's own, so that it lasts and is never given to somebody else; "+
				"choose public or pairwise by the setting subject, and tell another name in a claim")
		case oidc.Reserved(rule.To.Name):
			return wrong(field+".name", "%s is said by the protocol, not by a mapping; tell it under another name",
				rule.To.Name)
		}
	}
	if a.RoleParameter != "" {
		if err := oidc.CheckExtension(a.RoleParameter); err != nil {
			return wrong("roleParameter", "%w", err)
		}
	}
	m := a.method()
	switch {
	case a.ClientKind == "":
		return nil // unfinished
	case a.ClientKind.Public() && m != oidc.NoMethod:
		return wrong("authMethod",
			"%s cannot be: an application of kind %s can keep nothing secret; leave it out, or say web",
			m, a.ClientKind)
	case !a.ClientKind.Public() && m == oidc.NoMethod:
		return wrong("authMethod", "none cannot be: an application of kind %s has to prove who it is; leave it out",
			a.ClientKind)
	case a.bySecret() && len(a.Secrets) == 0 && a.ClientID != "":
		return wrong("authMethod", "%s needs a client secret, and there is none; make one, or use private_key_jwt", m)
	case len(a.byName()) > 0 && a.ClientKind != oidc.Native && !a.AllowLocalhost:
		return wrong("redirectUris", "%q names the machine by localhost, which it may resolve to another (RFC 8252 §8.3); "+
			"use http://127.0.0.1, or set allowLocalhost, which leaves a warning", a.byName()[0])
	case a.WithoutPKCE && a.ClientKind.Public():
		return wrong("withoutPKCE", "an application of kind %s always needs PKCE; leave it out", a.ClientKind)
	case len(a.AllowedOrigins) > 0 && a.ClientKind != oidc.Browser:
		return wrong("origins", "only applications of kind browser call from one; leave it out")
	case a.Subject == "pairwise" && a.ClientKind == oidc.Service:
		return wrong("subject", "a service has no person; leave it out")
	}
	for _, origin := range a.AllowedOrigins {
		if u, err := url.Parse(origin); err != nil || u.Host == "" || u.Scheme != "https" && !oidc.Loopback(u.Hostname()) ||
			u.Scheme+"://"+u.Host != origin {
			return wrong("origins", "%q is no origin; give scheme and host alone, like https://refunds.wrenmoor.example",
				origin)
		}
	}
	for _, name := range []struct {
		field string
		value listed.Words
	}{{"resources", a.Resources}, {"serves", a.Serves}} {
		for _, r := range name.value {
			if u, err := url.Parse(r); err != nil || u.Fragment != "" || strings.Contains(r, "#") {
				return wrong(name.field, "%q names no audience: an address or name without fragment (RFC 8707 §2)", r)
			}
		}
	}
	for _, name := range []struct {
		field string
		value listed.Words
	}{{"scopes", a.Scopes}, {"resources", a.Resources}} {
		if n := len(name.value); n > mostNamed {
			return wrong(name.field, "there are %d; at most %d are taken", n, mostNamed)
		}
	}
	for _, s := range a.Scopes {
		if strings.ContainsAny(s, "\"\\") || strings.ContainsFunc(s, func(r rune) bool { return r < 0x21 || r > 0x7e }) {
			return wrong("scopes", "%q is no scope (RFC 6749 §3.3)", s)
		}
	}
	return nil
}
