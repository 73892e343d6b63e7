package saml

import (
	"net/url"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
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
	Use         string           `json:"use,omitempty"` // "signing", "encryption", or "" for both
	Certificate keys.Certificate `json:"certificate"`
	Methods     []string         `json:"methods,omitempty"` // md:EncryptionMethod, in the order of preference
}

// IDP is what is known of an identity provider (SAML metadata §2.4.3).
type IDP struct {
	EntityID                EntityID       `json:"entityId"`
	Title                   string         `json:"title,omitempty"`
	SSO                     []Endpoint     `json:"sso,omitempty"`
	Artifact                []Endpoint     `json:"artifact,omitempty"` // ArtifactResolutionService
	Keys                    []Key          `json:"keys,omitempty"`
	NameIDFormats           []NameIDFormat `json:"nameIdFormats,omitempty"`
	Algorithms              []string       `json:"algorithms,omitempty"` // signature and digest methods it announces
	WantAuthnRequestsSigned bool           `json:"wantAuthnRequestsSigned,omitempty"`
}

// SP is what is known of a service provider (SAML metadata §2.4.4).
type SP struct {
	EntityID             EntityID       `json:"entityId"`
	Title                string         `json:"title,omitempty"`
	ACS                  []Endpoint     `json:"acs,omitempty"`
	Start                string         `json:"start,omitempty"` // RequestInitiator: where it can be told to start a sign-in
	Keys                 []Key          `json:"keys,omitempty"`
	NameIDFormats        []NameIDFormat `json:"nameIdFormats,omitempty"`
	Algorithms           []string       `json:"algorithms,omitempty"` // signature and digest methods it announces
	AuthnRequestsSigned  bool           `json:"authnRequestsSigned,omitempty"`
	WantAssertionsSigned bool           `json:"wantAssertionsSigned,omitempty"`
	// Requested are the attributes that it asks for, of all its services.
	Requested []RequestedAttribute `json:"requested,omitempty"`
}

// RequestedAttribute is an attribute that a service provider asks for (SAML metadata
// §2.4.4.2).
type RequestedAttribute struct {
	Name         string `json:"name"`
	NameFormat   string `json:"nameFormat,omitempty"`
	FriendlyName string `json:"friendlyName,omitempty"`
	Required     bool   `json:"required,omitempty"`
}

// Metadata is one entity with the roles it has.
type Metadata struct {
	EntityID      EntityID
	Written       string        // entityID as written, if white space stands around it
	ValidUntil    time.Time     // the earliest that applies, zero if not given
	CacheDuration time.Duration // the shortest that applies, 0 if not given
	IDP           *IDP
	SP            *SP

	// How the document was signed, empty if it was not; Verified tells whether
	// the signature was held against a trust key.
	SignatureMethod, DigestMethod string
	SignedBy                      string // whose key its signature names, in words
	Verified                      bool
	Trimmed                       []Trimmed // values as written, if white space stands around them
	Warnings                      []*finding.Finding
}

// Trimmed is a value of metadata as it was written, with white space around it.
type Trimmed struct{ Label, Written string }

// Missing says what the provider's side still has to give before people can be
// sent to it: the standard's terms.
func (p *IDP) Missing() []string {
	var out []string
	if p.EntityID == "" {
		out = append(out, "entity ID")
	}
	if _, ok := p.SSOBy(""); !ok {
		out = append(out, "SingleSignOnService by HTTP-Redirect or HTTP-POST")
	}
	if len(SigningKeys(p.Keys)) == 0 {
		out = append(out, "signing certificate")
	}
	return out
}

// Missing says what the application's side still has to give before people can
// pass to it.
func (s *SP) Missing() []string {
	var out []string
	if s.EntityID == "" {
		out = append(out, "entity ID")
	}
	if _, ok := s.DefaultACS(); !ok {
		out = append(out, "AssertionConsumerService by HTTP-POST or HTTP-Artifact")
	}
	return out
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
// metadata §2.2.3), among those by POST; among those by artifact, if there is none.
func (s *SP) DefaultACS() (Endpoint, bool) {
	if e, ok := s.defaultBy(BindingPOST); ok {
		return e, true
	}
	return s.defaultBy(BindingArtifact)
}

func (s *SP) defaultBy(binding string) (Endpoint, bool) {
	var first, open *Endpoint
	for i := range s.ACS {
		e := &s.ACS[i]
		if e.Binding != binding {
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
	return err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "" && u.User == nil &&
		!strings.ContainsAny(s, " \t\r\n\"<>")
}
