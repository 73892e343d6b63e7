package federation

import (
	"crypto"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
)

// About is what people note about an object.
type About struct {
	Title       string `json:"title" maxLength:"200" doc:"What people read"`
	Description string `json:"description" maxLength:"2000"`
	Owner       string `json:"owner" maxLength:"200" doc:"Who answers for it here"`
	Contact     string `json:"contact" maxLength:"200" doc:"Whom to ask on the other side"`
	Notes       string `json:"notes" maxLength:"20000" doc:"Why it is set up so"`
}

// ProviderSettings are what an engineer decides about a provider; everything
// else comes from its metadata.
type ProviderSettings struct {
	About
	Enabled                bool   `json:"enabled" doc:"Whether people are sent to it and its answers are taken"`
	AllowUnsolicited       bool   `json:"allowUnsolicited" doc:"Accept answers that nobody asked for"`
	RequireSignedAssertion bool   `json:"requireSignedAssertion" doc:"A signature on the Response alone is not enough"`
	AllowSHA1              bool   `json:"allowSHA1" doc:"Exception: accept signatures and digests with SHA-1; leaves a warning"`
	AllowCBC               bool   `json:"allowCBC" doc:"Exception: accept AES-CBC outside a verified Response signature"`
	StrictCertificates     bool   `json:"strictCertificates" doc:"Refuse what is signed with a key whose certificate is past its date"`
	SignRequests           bool   `json:"signRequests" doc:"Sign requests even if the metadata does not want it"`
	RequestBinding         string `json:"requestBinding" enum:",redirect,post" doc:"How requests are sent; empty prefers redirect"`
	AskNameIDFormat        string `json:"askNameIdFormat" maxLength:"200" doc:"NameID format to ask for; empty leaves it to the provider"`
	AskContext             string `json:"askContext" maxLength:"400" doc:"AuthnContextClassRef to ask for where the application asks for none"`
	OwnEntityID            string `json:"ownEntityId" maxLength:"1024" doc:"Entity ID of the gate towards it"`
	FormerEntityID         string `json:"formerEntityId" maxLength:"1024" doc:"Accepted beside it as audience, while moving"`
	UseArtifact            bool   `json:"useArtifact" doc:"Ask for answers by artifact, for providers that insist on it"`
	SharedFace             bool   `json:"sharedFace" doc:"Use the service provider face that several providers share"`
	Keeping
}

// Keeping is how metadata is kept fresh.
type Keeping struct {
	ApproveChanges bool   `json:"approveChanges" doc:"A change of keys, addresses or entity ID waits for approval; otherwise it acts at once, with a finding"`
	TrustKey       string `json:"trustKey" maxLength:"20000" doc:"Certificate in PEM whose key must have signed the metadata"`
}

// Trust gives the keys that must have signed the metadata, none if it need not
// be signed.
func (k Keeping) Trust() ([]crypto.PublicKey, error) {
	if strings.TrimSpace(k.TrustKey) == "" {
		return nil, nil
	}
	certs := keys.Read([]byte(k.TrustKey))
	if len(certs) == 0 {
		return nil, &SettingError{"trustKey", errors.New("this is no certificate; give the one the publisher signs its metadata with, in PEM")}
	}
	return saml.TrustKeys(certs...), nil
}

// enable refuses to switch a draft on.
func enable(missing []string) error {
	if len(missing) > 0 {
		return &SettingError{"enabled", fmt.Errorf("the record is a draft: %s is still missing; take it in before you enable the record", strings.Join(missing, " and "))}
	}
	return nil
}

// Signing is which parts of an answer are signed.
const (
	SignAssertion = "assertion"
	SignResponse  = "response"
	SignBoth      = "both"
)

// ApplicationSettings are what an engineer decides about an application.
type ApplicationSettings struct {
	About
	Enabled               bool   `json:"enabled" doc:"Whether people may pass to it"`
	Provider              Name   `json:"provider" maxLength:"63" doc:"Provider it is tied to; empty leaves it to the routing"`
	OwnStart              string `json:"ownStart" maxLength:"2048" doc:"Its own start address, if it accepts only sign-ins it started"`
	RequireSignedRequests bool   `json:"requireSignedRequests" doc:"Refuse requests that are not signed, even if the metadata allows them"`
	AllowSHA1             bool   `json:"allowSHA1" doc:"Exception: accept requests signed with SHA-1; leaves a warning"`
	Sign                  string `json:"sign" enum:",assertion,response,both" doc:"What is signed; empty is the assertion"`
	Encrypt               bool   `json:"encrypt" doc:"Encrypt the assertion with the application's encryption key"`
	EncryptNames          bool   `json:"encryptNames" doc:"With encrypt: encrypt NameID and attributes instead of the whole assertion"`
	NameIDFormat          string `json:"nameIdFormat" maxLength:"200" doc:"NameID format where the request names none; empty passes the provider's on"`
	OwnFace               bool   `json:"ownFace" doc:"An identity provider face of its own, with its own entity ID and keys"`
	OwnEntityID           string `json:"ownEntityId" maxLength:"1024" doc:"Entity ID of that face"`
	OnlyOwnStarts         bool   `json:"onlyOwnStarts" doc:"It refuses answers it did not ask for, so that ownStart is needed to open it at the gate"`
	OwnHosts              string `json:"ownHosts" maxLength:"1000" doc:"Hosts it owns beside that of its entity ID, separated by spaces"`
	Keeping
}

// SettingError says which setting is wrong.
type SettingError struct {
	Field string
	Err   error
}

// Error gives the field and the cause.
func (e *SettingError) Error() string { return e.Field + ": " + e.Err.Error() }

// Unwrap gives the cause.
func (e *SettingError) Unwrap() error { return e.Err }

// NameIDFormats are those that can be asked for or set.
var NameIDFormats = []string{saml.FormatEmail, saml.FormatPersistent, saml.FormatTransient, saml.FormatUnspecified}

// Check sees whether the settings can be used.
func (s ProviderSettings) Check(idp *saml.IDP) error {
	if s.Title == "" {
		return &SettingError{"title", errors.New("the title is empty; give what people should read")}
	}
	binding, ok := map[string]string{"": "", "redirect": saml.BindingRedirect, "post": saml.BindingPOST}[s.RequestBinding]
	if !ok {
		return &SettingError{"requestBinding", fmt.Errorf("there is no binding %q; use redirect, post or nothing", s.RequestBinding)}
	}
	if s.AskNameIDFormat != "" && !slices.Contains(NameIDFormats, s.AskNameIDFormat) {
		return &SettingError{"askNameIdFormat", fmt.Errorf("the format %q is unknown; use one of the four of SAML core §8.3 that are in use, or nothing", s.AskNameIDFormat)}
	}
	if n := len([]rune(s.OwnEntityID)); n < 1 || n > 1024 {
		return &SettingError{"ownEntityId", fmt.Errorf("the entity ID has %d characters; use 1 to 1024", n)}
	}
	if _, err := s.Trust(); err != nil {
		return err
	}
	if s.Enabled {
		if err := enable(idp.Missing()); err != nil {
			return err
		}
	}
	if _, ok := idp.SSOBy(binding); !ok && len(idp.SSO) > 0 {
		return &SettingError{"requestBinding", fmt.Errorf("the provider's metadata has no address for %s; use another binding", s.RequestBinding)}
	}
	return nil
}

// Check sees whether the settings can be used.
func (s ApplicationSettings) Check(sp *saml.SP) error {
	if s.Title == "" {
		return &SettingError{"title", errors.New("the title is empty; give what people should read")}
	}
	if s.OwnStart != "" && !isAddress(s.OwnStart) {
		return &SettingError{"ownStart", fmt.Errorf("%q is no address; give a whole one, like https://lost.wrenmoor.example/start", s.OwnStart)}
	}
	if !slices.Contains([]string{"", SignAssertion, SignResponse, SignBoth}, s.Sign) {
		return &SettingError{"sign", fmt.Errorf("%q cannot be signed; use assertion, response or both", s.Sign)}
	}
	if s.NameIDFormat != "" && !slices.Contains(NameIDFormats, s.NameIDFormat) {
		return &SettingError{"nameIdFormat", fmt.Errorf("the format %q is not offered; use one of the four in the exchange sheet, or nothing", s.NameIDFormat)}
	}
	if n := len([]rune(s.OwnEntityID)); s.OwnFace && (n < 1 || n > 1024) {
		return &SettingError{"ownEntityId", fmt.Errorf("the entity ID has %d characters; use 1 to 1024", n)}
	}
	if _, err := s.Trust(); err != nil {
		return err
	}
	if s.Enabled {
		if err := enable(sp.Missing()); err != nil {
			return err
		}
	}
	if s.Encrypt && len(sp.EncryptionKeys()) == 0 {
		return &SettingError{"encrypt", errors.New("the application's metadata holds no key for encryption; take in metadata that does, or leave encryption off")}
	}
	if s.RequireSignedRequests && len(saml.SigningKeys(sp.Keys)) == 0 {
		return &SettingError{"requireSignedRequests", errors.New("the application's metadata holds no signing key to verify requests with; take in metadata that does")}
	}
	return nil
}

func isAddress(s string) bool {
	u, err := url.Parse(s)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" && u.User == nil
}
