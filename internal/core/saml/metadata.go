package saml

import (
	"net/url"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/keys"
)

// Endpoint is an address with its binding (SAML metadata §2.2.2, §2.2.3).
type Endpoint struct {
	Binding  string `json:"binding"`
	Location string `json:"location"`
	Index    int    `json:"index,omitempty"`   // of indexed endpoints
	Default  *bool  `json:"default,omitempty"` // isDefault as written, nil if absent
}

// Key is a KeyDescriptor (SAML metadata §2.4.1.1).
type Key struct {
	Use         string // "signing", "encryption", or "" for both
	Certificate keys.Certificate
	Methods     []string // md:EncryptionMethod, in the order of preference
}

// IDP is what is known of an identity provider (SAML metadata §2.4.3).
type IDP struct {
	EntityID                string
	Title                   string
	SSO                     []Endpoint
	Artifact                []Endpoint // ArtifactResolutionService
	Keys                    []Key
	NameIDFormats           []string
	WantAuthnRequestsSigned bool
}

// SP is what is known of a service provider (SAML metadata §2.4.4).
type SP struct {
	EntityID             string
	Title                string
	ACS                  []Endpoint
	Keys                 []Key
	NameIDFormats        []string
	AuthnRequestsSigned  bool
	WantAssertionsSigned bool
}

// Metadata is one entity with the roles it has.
type Metadata struct {
	EntityID   string
	ValidUntil time.Time // zero if not given
	IDP        *IDP
	SP         *SP
}

// EncryptionKeys are those that may be encrypted to: use "encryption" or none
// (SAML metadata §2.4.1.1).
func (s *SP) EncryptionKeys() []Key {
	return slices.DeleteFunc(slices.Clone(s.Keys), func(k Key) bool { return k.Use != "" && k.Use != "encryption" })
}

// SigningKeys are those that may verify: use "signing" or none (SAML metadata
// §2.4.1.1).
func SigningKeys(all []Key) []Key {
	return slices.DeleteFunc(slices.Clone(all), func(k Key) bool { return k.Use != "" && k.Use != "signing" })
}

// SSOBy gives the provider's address for a binding, Redirect first if binding
// is empty.
func (p *IDP) SSOBy(binding string) (Endpoint, bool) {
	for _, b := range []string{BindingRedirect, BindingPOST} {
		if binding != "" && b != binding {
			continue
		}
		for _, e := range p.SSO {
			if e.Binding == b {
				return e, true
			}
		}
	}
	return Endpoint{}, false
}

// DefaultACS is the consumer address when a request names none: the first with
// isDefault true, else the first without isDefault false, else the first (SAML
// metadata §2.2.3), among those by POST.
func (s *SP) DefaultACS() (Endpoint, bool) {
	var first, open *Endpoint
	for i := range s.ACS {
		e := &s.ACS[i]
		if e.Binding != BindingPOST {
			continue
		}
		if e.Default != nil && *e.Default {
			return *e, true
		}
		if open == nil && e.Default == nil {
			open = e
		}
		if first == nil {
			first = e
		}
	}
	switch {
	case open != nil:
		return *open, true
	case first != nil:
		return *first, true
	}
	return Endpoint{}, false
}

// usableAddress reports whether an address can be sent a browser to.
func usableAddress(s string) bool {
	u, err := url.Parse(s)
	return err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "" && u.User == nil && !strings.ContainsAny(s, " \t\r\n\"<>")
}
