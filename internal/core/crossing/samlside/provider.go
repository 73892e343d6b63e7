package samlside

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/saml"
)

// Provider is the SAML part of a provider.
type Provider struct {
	IDP              *saml.IDP `json:"idp"`
	Address          string    `json:"address"` // assertion consumer service of the gate's own face towards it
	ProviderSettings `json:"-"`
}

// ProviderSettings are what an engineer decides about a SAML provider.
type ProviderSettings struct {
	RequireSignedAssertion bool              `json:"requireSignedAssertion"`
	AllowSHA1              bool              `json:"allowSHA1"`
	AllowCBC               bool              `json:"allowCBC"`
	StrictCertificates     bool              `json:"strictCertificates"`
	SignRequests           bool              `json:"signRequests"`
	RequestBinding         string            `json:"requestBinding"`
	AskNameIDFormat        saml.NameIDFormat `json:"askNameIdFormat"`
	AskSubject             bool              `json:"askSubject"`
	OwnEntityID            saml.EntityID     `json:"ownEntityId"`
	FormerEntityID         saml.EntityID     `json:"formerEntityId"`
	UseArtifact            bool              `json:"useArtifact"`
	SharedFace             bool              `json:"sharedFace"`
}

var providerSettings = []federation.Setting{
	{Name: "requireSignedAssertion", Label: "Demand that the assertion itself is signed", Type: federation.Switch,
		Group: "Requests and answers",
		Text:  "A signature on the Response alone is not enough"},
	{Name: "allowSHA1", Label: "Exception: accept SHA-1", Type: federation.Switch, Group: "Exceptions",
		Text: "Exception: accept signatures and digests with SHA-1; leaves a warning"},
	{Name: "allowCBC", Label: "Exception: accept AES-CBC outside a signed Response", Type: federation.Switch,
		Group: "Exceptions",
		Text:  "Exception: accept AES-CBC outside a verified Response signature"},
	{Name: "strictCertificates", Label: "Refuse certificates past their date", Type: federation.Switch,
		Group: "Requests and answers",
		Text:  "Refuse what is signed with a key whose certificate is past its date"},
	{Name: "signRequests", Label: "Sign requests, even if its metadata does not want it", Type: federation.Switch,
		Group: "Requests and answers",
		Text:  "Sign requests even if the metadata does not want it"},
	{Name: "requestBinding", Label: "Requests are sent by", Type: federation.OneOf, Group: "Requests and answers",
		Words:   map[string]string{"": "Redirect if possible", "redirect": "Redirect", "post": "POST"},
		Choices: []string{"", "redirect", "post"},
		Text:    "How requests are sent; empty prefers redirect"},
	{Name: "askNameIdFormat", Label: "NameID format to ask for", Type: federation.OneLine, Group: "Requests and answers",
		Words: map[string]string{"": "left to the provider",
			"urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress": "emailAddress",
			"urn:oasis:names:tc:SAML:2.0:nameid-format:persistent":   "persistent",
			"urn:oasis:names:tc:SAML:2.0:nameid-format:transient":    "transient",
			"urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified":  "unspecified"}, Most: 200,
		Text: "NameID format to ask for: emailAddress, persistent, transient, unspecified; empty leaves it to the provider"},
	{Name: "askSubject", Label: "Name in requests whom the application expects", Type: federation.Switch,
		Group: "Requests and answers",
		Text:  "Name in requests whom the application expects; the provider may then refuse everybody else"},
	{Name: "ownEntityId", Label: "Entity ID of the gate towards it", Type: federation.OneLine, Group: "Names of the gate",
		Most: 1024,
		Text: "Entity ID of the gate towards it"},
	{Name: "formerEntityId", Label: "Former entity ID", Type: federation.OneLine, Group: "Names of the gate", Most: 1024,
		Text: "Accepted beside it as audience, while moving; kept by itself when ownEntityId changes, empty once the provider knows the new one"},
	{Name: "useArtifact", Label: "Ask for answers by artifact", Type: federation.Switch, Group: "Requests and answers",
		Text: "Ask for answers by artifact, for providers that insist on it"},
	{Name: "sharedFace", Label: "Use the face that several providers share", Type: federation.Switch,
		Group: "Names of the gate",
		Text:  "Use the service provider face that several providers share"},
}

// Protocol is SAML.
func (*Provider) Protocol() string { return Name }

// Identity is the entity ID.
func (p *Provider) Identity() string { return string(p.IDP.EntityID) }

// Title is the name for people in its metadata.
func (p *Provider) Title() string { return p.IDP.Title }

// Missing says what its metadata lacks.
func (p *Provider) Missing() []federation.Lack { return lacking(p.IDP.Missing()) }

// Endpoints are its addresses.
func (p *Provider) Endpoints() []federation.Endpoint {
	return append(endpoints(labelSSO, p.IDP.SSO), endpoints(labelArtifact, p.IDP.Artifact)...)
}

// Keys are its keys.
func (p *Provider) Keys() []federation.Key { return keysOf(p.IDP.Keys) }

// SettingList describes its settings.
func (*Provider) SettingList() []federation.Setting { return providerSettings }

// Settings are its ProviderSettings.
func (p *Provider) Settings() any { return p.ProviderSettings }

// With lays settings over. Another entity ID of ours keeps the former one beside it.
func (p *Provider) With(settings []byte) (federation.Side, error) {
	q := *p
	if err := json.Unmarshal(settings, &q.ProviderSettings); err != nil {
		return nil, err
	}
	q.AskNameIDFormat = longFormat(string(q.AskNameIDFormat))
	q.FormerEntityID = former(p.IDP.EntityID != "" && p.OwnEntityID != q.OwnEntityID, settings, p.OwnEntityID,
		q.FormerEntityID)
	return &q, nil
}

// former is the entity ID of ours that was given out before: while a counterpart
// has one, changing it keeps the former, unless something else is said.
func former(moves bool, settings []byte, was, now saml.EntityID) saml.EntityID {
	var said struct {
		FormerEntityID *string `json:"formerEntityId"`
	}
	if moves && json.Unmarshal(settings, &said) == nil && said.FormerEntityID == nil {
		return was
	}
	return now
}

// Data is what is stored.
func (p *Provider) Data() any { return p }

// Named fills in our entity ID and address towards it.
func (p *Provider) Named(g *federation.Gate, n federation.Name) federation.Side { return p.named(g, n) }

func (p *Provider) named(g *federation.Gate, n federation.Name) *Provider {
	q := *p
	if q.OwnEntityID == "" && n != "" {
		q.OwnEntityID = saml.EntityID(g.Base + "/saml/sp/" + string(n))
	}
	if q.Address == "" && n != "" {
		q.Address = g.Base + "/saml/sp/" + string(n) + "/acs"
	}
	return &q
}

// binding is that of requests as the record wants it, "" for no matter; false if
// there is no such.
func (s ProviderSettings) binding() (string, bool) {
	b, ok := map[string]string{"": "", "redirect": saml.BindingRedirect, "post": saml.BindingPOST}[s.RequestBinding]
	return b, ok
}

// Check sees whether the settings can be used.
func (p *Provider) Check(*federation.Provider) error {
	wrong := func(field, format string, args ...any) error {
		return &federation.SettingError{Field: field, Err: fmt.Errorf(format, args...)}
	}
	binding, ok := p.binding()
	if !ok {
		return wrong("requestBinding", "there is no binding %q; use redirect, post or nothing", p.RequestBinding)
	}
	if !isFormat(p.AskNameIDFormat) {
		return wrong("askNameIdFormat",
			"the format %q is unknown; use emailAddress, persistent, transient, unspecified, or nothing", p.AskNameIDFormat)
	}
	if _, err := saml.ParseEntityID(string(p.OwnEntityID)); err != nil {
		return wrong("ownEntityId", "%w", err)
	}
	if _, ok := p.IDP.SSOBy(binding); !ok && len(p.IDP.SSO) > 0 {
		return wrong("requestBinding", "the provider's metadata has no address for %s; use another binding",
			p.RequestBinding)
	}
	return nil
}

// face is the gate as service provider towards the provider: a face of its own,
// or the one that several share.
func (p *Provider) face(g *federation.Gate) Face {
	if p.SharedFace {
		return spFace(g)
	}
	return Face{EntityID: p.OwnEntityID, Address: rebased(g.Base, p.Address)}
}

// rebased gives an address of the gate's own at its present base: what stood at
// another one is not there any more.
func rebased(base, address string) string {
	if u, err := url.Parse(address); err == nil && u.Host != "" {
		return base + u.EscapedPath()
	}
	return address
}

// entityIDs are the identities under which its answers are taken: the current
// one, and the former one while moving.
func (p *Provider) entityIDs(g *federation.Gate) []saml.EntityID {
	ids := []saml.EntityID{p.face(g).EntityID}
	if p.FormerEntityID != "" {
		ids = append(ids, p.FormerEntityID)
	}
	return ids
}

// spFace is the face that several providers share.
// Face is one of the gate's own identities towards counterparts. The entity ID is stored when it is made
// and never computed again from the base address.
type Face struct {
	EntityID saml.EntityID
	Address  string // where its messages arrive
}

func spFace(g *federation.Gate) Face {
	return Face{EntityID: saml.EntityID(g.Own[ownSP]), Address: g.Base + "/saml/sp/acs"}
}

// idpFace is the face that applications share.
func idpFace(g *federation.Gate) Face {
	return Face{EntityID: saml.EntityID(g.Own[ownIDP]), Address: g.Base + "/saml/idp/sso"}
}

var errNoKey = errors.New("the application's metadata holds no key for encryption; take in metadata that does, or leave encryption off")
