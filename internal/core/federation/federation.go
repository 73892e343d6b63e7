// Package federation holds the domain types, Provider and Application, and the
// immutable snapshot of all configuration that a sign-in is decided on.
//
//	snap := federation.NewSnapshot(gate).WithProvider(p).WithApplication(a)
//	app, ok := snap.ApplicationByEntityID("https://roster.wrenmoor.example/saml")
//
// A snapshot is never changed. Saving something makes a new one that shares all
// unchanged objects with the old.
package federation

import (
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
)

// Name is a short name: [a-z0-9][a-z0-9-]{0,62}, chosen once, never changed.
type Name string

// ParseName reads a short name.
func ParseName(s string) (Name, error) {
	ok := len(s) >= 1 && len(s) <= 63 && s[0] != '-'
	for _, c := range s {
		ok = ok && (c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-')
	}
	if !ok {
		f := finding.New(finding.NameMalformed, finding.Fact("Given", s))
		if near := NearName(s); near != "" && near != s {
			f = f.With(finding.Fact("Near to it", near))
		}
		return "", f
	}
	return Name(s), nil
}

// NearName turns a text into a short name, if something is left of it; "" if not.
func NearName(s string) string {
	s = strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 32
		case r == ' ', r == '_', r == '.', r == '/', r == ':':
			return '-'
		}
		return -1
	}, s), "-")
	for strings.Contains(s, "--") {
		s = strings.ReplaceAll(s, "--", "-")
	}
	return s[:min(len(s), 63)]
}

// Protocols.
const ProtocolSAML = "saml"

// Face is one of the gate's own identities towards counterparts. The entity ID
// is stored when it is made and never computed again from the base address.
type Face struct {
	EntityID string
	Address  string // SSO of the IdP face, ACS of an SP face
}

// Gate is what the gate itself is.
type Gate struct {
	Base    string        // public base address: an origin, without a slash at the end
	Skew    time.Duration // allowed difference of clocks
	IDP     Face
	IDPKeys KeySet
	SPKeys  KeySet
	EncKeys KeySet // to encrypt to
	// Pairwise is the secret that persistent NameIDs are derived with. It is in
	// backups and never changes with a sealing key.
	Pairwise []byte

	// Publisher is who runs the gate, for metadata; see also SignedMetadata.
	Publisher saml.Publisher

	onlyCurrent bool   // see OnlyCurrentKeys
	signID      string // see SignedMetadata
}

// Provider is an identity provider the gate sends people to.
type Provider struct {
	Name     Name
	Protocol string
	Added    time.Time
	Revision int
	ProviderSettings
	SAML *SAMLProvider
}

// Intake is how the other side's values came in.
type Intake struct {
	// Document is the SHA-256 of the document as it was taken in, in hexadecimal;
	// empty if the values were typed by hand.
	Document      string        `json:"document,omitempty"`
	Source        string        `json:"source"` // an address, SourceDocument, SourceTyped, or SourceAggregate and a name
	ValidUntil    time.Time     `json:"validUntil,omitzero"`
	CacheDuration time.Duration `json:"cacheDuration,omitempty"` // nanoseconds
	// SignatureMethod and DigestMethod are those the document was signed with.
	SignatureMethod string `json:"signatureMethod,omitempty"`
	DigestMethod    string `json:"digestMethod,omitempty"`
	Verified        bool   `json:"verified,omitempty"`  // against the trust key
	Written         string `json:"written,omitempty"`   // the entity ID as written, if white space stands around it
	OtherRole       bool   `json:"otherRole,omitempty"` // the document also holds the entity's other role
}

// Sources that are no address.
const (
	SourceDocument  = "document"
	SourceTyped     = "typed"
	SourceAggregate = "aggregate "
)

// Address is where the metadata is fetched from, "" if it is not.
func (i Intake) Address() string {
	if i.Source == SourceDocument || i.Source == SourceTyped || strings.HasPrefix(i.Source, SourceAggregate) {
		return ""
	}
	return i.Source
}

// Aggregate is the name of the aggregate it was taken from, "" if from none.
func (i Intake) Aggregate() string {
	name, ok := strings.CutPrefix(i.Source, SourceAggregate)
	if !ok {
		return ""
	}
	return name
}

// TakenFrom says how metadata came in.
func TakenFrom(m *saml.Metadata, source, document string) Intake {
	return Intake{Document: document, Source: source, ValidUntil: m.ValidUntil, CacheDuration: m.CacheDuration, SignatureMethod: m.SignatureMethod,
		DigestMethod: m.DigestMethod, Verified: m.Verified, Written: m.Written, OtherRole: m.IDP != nil && m.SP != nil}
}

// SAMLProvider is the SAML side of a provider.
type SAMLProvider struct {
	IDP     *saml.IDP
	Intake  Intake
	Address string // assertion consumer service of the gate's own face towards it
}

// Application is what people want to reach.
type Application struct {
	Name     Name
	Protocol string
	Added    time.Time
	Revision int
	ApplicationSettings
	Keys KeySet // of its own face, if it has one
	SAML *SAMLApplication
}

// SAMLApplication is the SAML side of an application.
type SAMLApplication struct {
	SP     *saml.SP
	Intake Intake
}

// EntityID is the application's identity in its protocol, "" while a draft lacks
// it.
func (a *Application) EntityID() string { return a.SAML.SP.EntityID }

// EntityID is the provider's identity in its protocol, "" while a draft lacks it.
func (p *Provider) EntityID() string { return p.SAML.IDP.EntityID }

// Missing says which values of the other side are still to come; a record that
// lacks some is a draft.
func (a *Application) Missing() []string { return a.SAML.SP.Missing() }

// Missing says which values of the other side are still to come; a record that
// lacks some is a draft.
func (p *Provider) Missing() []string { return p.SAML.IDP.Missing() }

// OnlyCurrentKeys gives a copy of the gate without announced keys, for metadata
// that is uploaded where only one key is taken.
func (g Gate) OnlyCurrentKeys() Gate {
	for _, k := range []*KeySet{&g.IDPKeys, &g.SPKeys, &g.EncKeys} {
		k.Next = nil
	}
	g.onlyCurrent = true
	return g
}

// SignedMetadata gives a copy of the gate whose metadata is signed with the key
// of the face; id is that of the document.
func (g Gate) SignedMetadata(id string) Gate {
	g.signID = id
	return g
}

func (g *Gate) publisher(set KeySet) saml.Publisher {
	p := g.Publisher
	if g.signID != "" {
		p.Sign, p.ID = set.Current, g.signID
	}
	return p
}
