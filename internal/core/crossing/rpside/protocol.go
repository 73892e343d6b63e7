package rpside

import (
	"bytes"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/oidc"
)

// SignsClient is the purpose of the key that the gate proves with who it is
// (private_key_jwt, OpenID Connect Core §9).
const SignsClient = "oidc-client"

// Purpose is what that key is for.
func Purpose() federation.Purpose {
	return federation.Purpose{Name: SignsClient, Does: "proves to providers who the gate is",
		Kinds: append(keys.RSAKinds(),
			"ec-p256", keys.Ed25519), Later: true}
}

// signerOf makes proofs with the current key.
func signerOf(g *federation.Gate) (*oidc.Signer, error) {
	pair := g.Keys[SignsClient].Current
	if pair == nil {
		return nil, errors.New("the gate has no key to prove with who it is")
	}
	return oidc.NewSigner(pair.Signer())
}

// JWKS is the set of keys that the gate proves with who it is: the current one, and one
// that is announced.
func JWKS(g *federation.Gate) ([]byte, error) {
	set := g.Keys[SignsClient]
	list := []oidc.Key{}
	for _, c := range set.Published() {
		id, err := oidc.Thumbprint(c.Public)
		if err != nil {
			return nil, err
		}
		list = append(list, oidc.Key{ID: id, Algorithm: oidc.AlgorithmOf(c.Public), Public: c.Public})
	}
	return oidc.WriteKeys(list)
}

// Read reads a side out of what a record was stored as.
func Read(protocol string, data []byte) (*Provider, error) {
	p := New(protocol)
	if err := json.Unmarshal(data, p); err != nil {
		return nil, err
	}
	var stored struct {
		Settings json.RawMessage `json:"settings"`
	}
	err := json.Unmarshal(data, &stored)
	if err == nil && len(stored.Settings) > 0 {
		err = json.Unmarshal(stored.Settings, &p.ProviderSettings)
	}
	if err != nil {
		return nil, err
	}
	return p.ready()
}

// Knows reports whether what was handed over is of a provider of the protocol.
func Knows(protocol string, document []byte, address string, t federation.Typed) bool {
	plain := t["authorize"] != "" && t["userinfo"] != "" && t["issuer"] == ""
	if protocol == OAuth2 {
		return plain
	}
	_, at := oidc.IssuerOf(strings.TrimSpace(address))
	return !plain && (at || t["issuer"] != "" || t["authorize"] != "" ||
		bytes.HasPrefix(bytes.TrimSpace(document), []byte("{")))
}

// Protocol is that of OAuth 2.0 providers; OpenID Connect is one protocol with its
// applications, see package oidcside.
type Protocol struct{}

// Name is what it is called on records.
func (Protocol) Name() string { return OAuth2 }

// Providers says that it has providers.
func (Protocol) Providers() bool { return true }

// Applications says that it has none.
func (Protocol) Applications() bool { return false }

// Fleeting implements crossing.Protocol.
func (Protocol) Fleeting() crossing.Fleeting {
	return crossing.Fleeting{Drawn: oidc.Drawn, Timed: oidc.Timed, Technical: oidc.Technical}
}

// Own is nothing.
func (Protocol) Own(string) map[string]string { return nil }

// Purposes are none of its own.
func (Protocol) Purposes() []federation.Purpose { return nil }

// Reserved is no name.
func (Protocol) Reserved(federation.Kind, federation.Name) bool { return false }

// About says nothing.
func (Protocol) About(*federation.Gate) []federation.Value { return nil }

// Contexts are none.
func (Protocol) Contexts() federation.Ranking { return nil }

// Recognizes knows endpoints without an issuer.
func (Protocol) Recognizes(k federation.Kind, document []byte, address string, t federation.Typed) bool {
	return k == federation.KindProvider && Knows(OAuth2, document, address, t)
}

// NewProvider gives the side of a new provider.
func (Protocol) NewProvider(*federation.Gate, federation.Name) federation.ProviderSide {
	return New(OAuth2)
}

// NewApplication gives nil.
func (Protocol) NewApplication(*federation.Gate, federation.Name) federation.ApplicationSide {
	return nil
}

// ReadProvider reads a provider's side.
func (Protocol) ReadProvider(data []byte, _ time.Time) (federation.ProviderSide, *federation.Intake, error) {
	p, err := Read(OAuth2, data)
	return p, nil, err
}

// ReadApplication refuses.
func (Protocol) ReadApplication([]byte, time.Time) (federation.ApplicationSide, *federation.Intake, error) {
	return nil, nil, errNoApplications
}

var errNoApplications = errors.New("the protocol oauth2 has no applications: those that speak OAuth 2.0 have the protocol oidc")

// Can says what it can do beside what every side does.
func (p *Provider) Can() federation.Abilities {
	return federation.Abilities{Locating: p, Registered: p, Keyed: p, Cautious: p, Copying: p, Confiding: p, Ending: p,
		Needing: p, Verifying: p, Offering: p, Trying: p}
}

// InCrossing says what it can do in a crossing.
func (p *Provider) InCrossing() crossing.Abilities {
	return crossing.Abilities{Unproved: p, Inquiring: p, Parting: p, Reasking: p, Covering: p}
}
