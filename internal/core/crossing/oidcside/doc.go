// Package oidcside plugs OpenID Connect and OAuth 2.0 into the gate, as far as
// applications speak them (providers are in package rpside): what records hold of an
// application, how that comes in, what is checked about it, and what the
// protocol does at the end of a crossing and after it. The messages themselves are
// in package oidc, codes and refresh tokens in package grant.
//
// application.go holds the part of a record and settings.go what an engineer
// decides; taking.go says how it is filled, sheet.go what the other side needs from
// us, checks.go what can be found before a sign-in. arrive.go takes an
// authorization request in, answer.go plans the answer and what it grants,
// consent.go what the person is asked, claims.go what is told of them. tokens.go
// makes tokens of a grant, bearer.go reads them when they come back, and signout.go
// is how an application hears that somebody has left.
package oidcside

import (
	"bytes"
	"encoding/json"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/rpside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/oidc"
)

// Name is what the protocol is called on records.
const Name = "oidc"

// Purposes of the keys that tokens are signed with, one for each algorithm.
const (
	SignsRS256 = "oidc-rs256"
	SignsES256 = "oidc-es256"
	SignsEdDSA = "oidc-eddsa"
)

// Algorithms that tokens can be signed with, by default the first (OpenID Connect
// Core §15.1), and the keys for each.
var Algorithms = []string{"RS256", "ES256", "EdDSA"}

var purposes = map[string]string{"RS256": SignsRS256, "ES256": SignsES256, "EdDSA": SignsEdDSA}

// ownIssuer is the value of the gate's own that is stored when it is made.
const ownIssuer = "oidc-issuer"

// Issuer is the gate as OpenID provider.
func Issuer(g *federation.Gate) oidc.Issuer { return oidc.Issuer(g.Own[ownIssuer]) }

// Protocol is OpenID Connect.
type Protocol struct{}

// Name is what it is called on records.
func (Protocol) Name() string { return Name }

// Providers says that it has providers, whose side is in package rpside.
func (Protocol) Providers() bool { return true }

// Applications says that it has applications.
func (Protocol) Applications() bool { return true }

// Fleeting implements crossing.Protocol.
func (Protocol) Fleeting() crossing.Fleeting {
	return crossing.Fleeting{Drawn: oidc.Drawn, Timed: oidc.Timed, Technical: oidc.Technical}
}

// Own is our issuer.
func (Protocol) Own(base string) map[string]string { return map[string]string{ownIssuer: base} }

// Purposes are the keys it needs, once an application does.
func (Protocol) Purposes() []federation.Purpose {
	return []federation.Purpose{{Name: SignsRS256, Does: "signs tokens with RS256", Kinds: keys.RSAKinds(), Later: true},
		{Name: SignsES256, Does: "signs tokens with ES256", Kinds: []string{"ec-p256"}, Later: true},
		{Name: SignsEdDSA, Does: "signs tokens with EdDSA", Kinds: []string{keys.Ed25519}, Later: true}, rpside.Purpose()}
}

// Reserved is no name.
func (Protocol) Reserved(federation.Kind, federation.Name) bool { return false }

// About gives the issuer and where it describes itself.
func (Protocol) About(g *federation.Gate) []federation.Value {
	return []federation.Value{{Label: "OpenID issuer", Value: string(Issuer(g))},
		{Label: "OpenID discovery", Value: g.Base + discoveryPath}}
}

// Recognizes knows the document of an issuer and the metadata of clients, and values that only they have.
func (Protocol) Recognizes(k federation.Kind, document []byte, address string, t federation.Typed) bool {
	if k == federation.KindProvider {
		return rpside.Knows(rpside.OpenID, document, address, t)
	}
	for _, field := range fields {
		if field.Name != "certificate" && t[field.Name] != "" {
			return true
		}
	}
	return bytes.HasPrefix(bytes.TrimSpace(document), []byte("{"))
}

// Contexts are none: the protocol names none of its own.
func (Protocol) Contexts() federation.Ranking { return nil }

// NewProvider gives the side of a new provider.
func (Protocol) NewProvider(*federation.Gate, federation.Name) federation.ProviderSide {
	return rpside.New(rpside.OpenID)
}

// NewApplication gives the side of a new application.
func (Protocol) NewApplication(*federation.Gate, federation.Name) federation.ApplicationSide {
	return &Application{}
}

// ReadProvider reads a provider's side.
func (Protocol) ReadProvider(data []byte, _ time.Time) (federation.ProviderSide, *federation.Intake, error) {
	p, err := rpside.Read(rpside.OpenID, data)
	return p, nil, err
}

// ReadApplication reads an application's side.
func (Protocol) ReadApplication(data []byte, _ time.Time) (federation.ApplicationSide, *federation.Intake, error) {
	a := &Application{}
	if err := json.Unmarshal(data, a); err != nil {
		return nil, nil, err
	}
	var stored struct {
		Settings json.RawMessage `json:"settings"`
	}
	err := json.Unmarshal(data, &stored)
	if err == nil && len(stored.Settings) > 0 {
		err = json.Unmarshal(stored.Settings, &a.ApplicationSettings)
	}
	if err == nil {
		a, err = a.ready()
	}
	return a, nil, err
}

// Can says what it can do beside what every side does.
func (a *Application) Can() federation.Abilities {
	return federation.Abilities{Making: a, Lasting: a, Presenting: a, Redacting: a, Copying: a, Ending: a, Rotating: a,
		Needing: a, Speaking: a, Requesting: a, Opening: a, Unattended: a, Landing: a}
}

// Cover covers values in a message of OpenID Connect or OAuth 2.0.
func (*Application) Cover(message string, by crossing.Cover) (string, bool) {
	return rpside.Covered(message, by)
}

// InCrossing says what it can do in a crossing.
func (a *Application) InCrossing() crossing.Abilities {
	return crossing.Abilities{Consenting: a, Hearing: a, Starting: a, Covering: a}
}
