package samlside

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Application is the SAML part of an application.
type Application struct {
	SP *saml.SP `json:"sp"`
	// Moved says that it has come by the face of its own; until then the shared one
	// answers it too.
	Moved               bool `json:"moved,omitempty"`
	ApplicationSettings `json:"-"`
}

// Signing is which parts of an answer are signed.
const (
	SignAssertion = "assertion"
	SignResponse  = "response"
	SignBoth      = "both"
)

// ApplicationSettings are what an engineer decides about a SAML application.
type ApplicationSettings struct {
	RequireSignedRequests bool              `json:"requireSignedRequests"`
	AllowSHA1             bool              `json:"allowSHA1"`
	Sign                  string            `json:"sign"`
	Algorithm             string            `json:"algorithm"`
	Encrypt               bool              `json:"encrypt"`
	EncryptNames          bool              `json:"encryptNames"`
	NameIDFormat          saml.NameIDFormat `json:"nameIdFormat"`
	OwnFace               bool              `json:"ownFace"`
	OwnEntityID           saml.EntityID     `json:"ownEntityId"`
	FormerEntityID        saml.EntityID     `json:"formerEntityId"`
}

var applicationSettings = []federation.Setting{
	{Name: "requireSignedRequests", Label: "Demand signed requests, even if its metadata allows others",
		Type: federation.Switch, Group: "Requests and answers",
		Text: "Refuse requests that are not signed, even if the metadata allows them"},
	{Name: "allowSHA1", Label: "Exception: accept SHA-1", Type: federation.Switch, Group: "Exceptions",
		Text: "Exception: accept requests signed with SHA-1; leaves a warning"},
	{Name: "sign", Label: "Signed is", Type: federation.OneOf, Group: "Requests and answers",
		Words:   map[string]string{"": "the assertion", "response": "the Response", "both": "both"},
		Choices: []string{"", "assertion", "response", "both"},
		Text:    "What is signed", Default: "the assertion"},
	{Name: "algorithm", Label: "Signed by", Type: federation.OneOf, Group: "Requests and answers",
		Words:   map[string]string{"": "the key of its face", "ecdsa-sha256": "ecdsa-sha256: a P-256 key beside it"},
		Choices: []string{"", ByECDSA}, Default: "the key of its face",
		Text: "ecdsa-sha256: by a P-256 key beside the usual one, at a twentieth of the work; first see that the application has its certificate and verifies ECDSA. The key of a face of its own is made of that kind"},
	{Name: "encrypt", Label: "Encrypt the assertion", Type: federation.Switch, Group: "Requests and answers",
		Text: "Encrypt the assertion with the application's encryption key"},
	{Name: "encryptNames", Label: "Encrypt NameID and attributes instead of the whole assertion", Type: federation.Switch,
		Group: "Requests and answers",
		Text:  "With encrypt: encrypt NameID and attributes instead of the whole assertion"},
	{Name: "nameIdFormat", Label: "NameID format", Type: federation.OneLine, Group: "Requests and answers",
		Words: map[string]string{"": "as the provider gave it",
			"urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress": "emailAddress",
			"urn:oasis:names:tc:SAML:2.0:nameid-format:persistent":   "persistent, another one for each application",
			"urn:oasis:names:tc:SAML:2.0:nameid-format:transient":    "transient",
			"urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified":  "unspecified"}, Most: 200,
		Text: "NameID format where the request names none: emailAddress, persistent, transient, unspecified; empty passes the provider's on"},
	{Name: "ownFace", Label: "A face of its own", Type: federation.Switch, Group: "Names of the gate",
		Text: "An identity provider face of its own, with its own entity ID and keys; the shared one answers until the application has come by it"},
	{Name: "ownEntityId", Label: "Entity ID of that face", Type: federation.OneLine, Group: "Names of the gate",
		Most: 1024,
		Text: "Entity ID of that face"},
	{Name: "formerEntityId", Label: "Former entity ID of that face", Type: federation.OneLine, Group: "Names of the gate",
		Most: 1024,
		Text: "The one it had before; kept by itself when ownEntityId changes, empty once the application knows the new one"},
}

// Protocol is SAML.
func (*Application) Protocol() string { return Name }

// Identity is the entity ID.
func (a *Application) Identity() string { return string(a.SP.EntityID) }

// Title is the name for people in its metadata.
func (a *Application) Title() string { return a.SP.Title }

// Missing says what its metadata lacks.
func (a *Application) Missing() []federation.Lack { return lacking(a.SP.Missing()) }

// Endpoints are its addresses.
func (a *Application) Endpoints() []federation.Endpoint { return endpoints(labelACS, a.SP.ACS) }

// Keys are its keys.
func (a *Application) Keys() []federation.Key { return keysOf(a.SP.Keys) }

// SettingList describes its settings.
func (*Application) SettingList() []federation.Setting { return applicationSettings }

// Settings are its ApplicationSettings.
func (a *Application) Settings() any { return a.ApplicationSettings }

// With lays settings over. One that gets a face of its own while it is known
// already is answered by the shared one until it has moved.
func (a *Application) With(settings []byte) (federation.Side, error) {
	b := *a
	err := json.Unmarshal(settings, &b.ApplicationSettings)
	b.NameIDFormat = longFormat(string(b.NameIDFormat))
	b.FormerEntityID = former(a.OwnFace && a.SP.EntityID != "" && a.OwnEntityID != b.OwnEntityID, settings, a.OwnEntityID,
		b.FormerEntityID)
	if b.OwnFace != a.OwnFace {
		b.Moved = b.OwnFace && b.SP.EntityID == ""
	}
	return &b, err
}

// Data is what is stored.
func (a *Application) Data() any { return a }

// Named fills in the entity ID of a face of its own.
func (a *Application) Named(g *federation.Gate, n federation.Name) federation.Side {
	b := *a
	if b.OwnFace && b.OwnEntityID == "" && n != "" {
		b.OwnEntityID = saml.EntityID(g.Base + "/saml/idp/app/" + string(n))
	}
	return &b
}

// OwnKeys says that a face of its own has keys of its own.
func (a *Application) OwnKeys() bool { return a.OwnFace }

// Shared says that one with a face of its own is found there.
func (a *Application) Shared() federation.Sharing {
	switch {
	case !a.OwnFace:
		return federation.Together
	case a.Moved:
		return federation.Alone
	}
	return federation.Leaving
}

// HasMoved gives the side of an application that has come by its own face.
func (a *Application) HasMoved() federation.ApplicationSide {
	b := *a
	b.Moved = true
	return &b
}

// Requested are the attributes that its metadata asks for.
func (a *Application) Requested() (out []profile.Requested) {
	for _, r := range a.SP.Requested {
		out = append(out, profile.Requested{Name: r.Name, Format: r.NameFormat, Friendly: r.FriendlyName,
			Required: r.Required})
	}
	return out
}

// ByECDSA is the algorithm of applications whose answers are signed by a key of an elliptic curve (XML Signature 1.1,
// section 6.4.3).
const ByECDSA = "ecdsa-sha256"

// Purposes is the key beside the usual one of the shared face, where answers are signed by that.
func (a *Application) Purposes() []string {
	if a.Algorithm == ByECDSA && a.byShared() {
		return []string{SignsByECDSA}
	}
	return nil
}

// KeyKind is the kind that the first key of a face of its own is made of, "" for the usual one.
func (a *Application) KeyKind() string {
	if a.Algorithm == ByECDSA {
		return "ec-p256"
	}
	return ""
}

// VerifiesEC implements federation.Verifying.
func (a *Application) VerifiesEC() (string, bool) {
	by := SignsAnswers
	switch {
	case !a.byShared():
		by = ""
	case a.Algorithm == ByECDSA:
		by = SignsByECDSA
	}
	return by, slices.Contains(a.SP.Algorithms, xmlsec.ECDSASHA256)
}

// Check sees whether the settings can be used.
func (a *Application) Check(*federation.Application) error {
	wrong := func(field, format string, args ...any) error {
		return &federation.SettingError{Field: field, Err: fmt.Errorf(format, args...)}
	}
	if !slices.Contains([]string{"", SignAssertion, SignResponse, SignBoth}, a.Sign) {
		return wrong("sign", "%q cannot be signed; use assertion, response or both", a.Sign)
	}
	if a.Algorithm != "" && a.Algorithm != ByECDSA {
		return wrong("algorithm", "%q is not offered; use %s, or nothing for the key of its face", a.Algorithm, ByECDSA)
	}
	if !isFormat(a.NameIDFormat) {
		return wrong("nameIdFormat",
			"the format %q is not offered; use emailAddress, persistent, transient, unspecified, or nothing",
			a.NameIDFormat)
	}
	if _, err := saml.ParseEntityID(string(a.OwnEntityID)); a.OwnFace && err != nil {
		return wrong("ownEntityId", "%w", err)
	}
	if a.Encrypt && len(a.SP.EncryptionKeys()) == 0 {
		return &federation.SettingError{Field: "encrypt", Err: errNoKey}
	}
	if a.RequireSignedRequests && len(saml.SigningKeys(a.SP.Keys)) == 0 {
		return &federation.SettingError{Field: "requireSignedRequests",
			Err: errors.New("the application's metadata holds no signing key to verify requests with; take in metadata that does")}
	}
	return nil
}

// byShared reports whether the shared face answers it where nothing tells which:
// it has none of its own, or has not come by it yet.
func (a *Application) byShared() bool { return !a.OwnFace || !a.Moved }

// face is the gate as identity provider towards the application.
func (a *Application) face(g *federation.Gate, r *federation.Application, shared bool) (Face,
	federation.KeySet) {
	if shared || !a.OwnFace {
		set := g.Keys[SignsAnswers]
		if ec := g.Keys[SignsByECDSA]; a.Algorithm == ByECDSA && ec.Current != nil {
			set = ec // it is there from the moment at which the setting is stored
		}
		return idpFace(g), set
	}
	return Face{EntityID: a.OwnEntityID, Address: g.Base + "/saml/idp/app/" + string(r.Name) + "/sso"},
		g.KeysOf(r)
}

// artifactAddress is where an application resolves artifacts of a face.
func artifactAddress(face Face) string {
	return strings.TrimSuffix(face.Address, "/sso") + "/artifact"
}
