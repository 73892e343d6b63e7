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

// Check sees whether the settings can be used.
func (a *Application) Check(*federation.Application) error {
	wrong := func(field, format string, args ...any) error {
		return &federation.SettingError{Field: field, Err: fmt.Errorf(format, args...)}
	}
	if !slices.Contains([]string{"", SignAssertion, SignResponse, SignBoth}, a.Sign) {
		return wrong("sign", "%q cannot be signed; use assertion, response or both", a.Sign)
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
		return idpFace(g), g.Keys[SignsAnswers]
	}
	return Face{EntityID: a.OwnEntityID, Address: g.Base + "/saml/idp/app/" + string(r.Name) + "/sso"},
		g.KeysOf(r)
}

// artifactAddress is where an application resolves artifacts of a face.
func artifactAddress(face Face) string {
	return strings.TrimSuffix(face.Address, "/sso") + "/artifact"
}
