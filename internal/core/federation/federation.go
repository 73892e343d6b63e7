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
	"maps"
	"slices"
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
		if near := nearName(s); near != "" && near != s {
			f = f.With(finding.Fact("Near to it", near))
		}
		return "", f
	}
	return Name(s), nil
}

// nearName turns what was given into a short name, if something is left of it.
func nearName(s string) string {
	s = strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 32
		case r == ' ', r == '_', r == '.', r == '/':
			return '-'
		}
		return -1
	}, s), "-")
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

// SAMLProvider is the SAML side of a provider.
type SAMLProvider struct {
	IDP      *saml.IDP
	Metadata []byte // as it was taken in
	Source   string // where it came from: an address, or "document"
	Address  string // assertion consumer service of the gate's own face towards it
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
	SP       *saml.SP
	Metadata []byte
	Source   string
}

// EntityID is the application's identity in its protocol.
func (a *Application) EntityID() string { return a.SAML.SP.EntityID }

// EntityID is the provider's identity in its protocol.
func (p *Provider) EntityID() string { return p.SAML.IDP.EntityID }

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

// Snapshot is all configuration at one moment.
type Snapshot struct {
	Gate        Gate
	providers   map[Name]*Provider
	apps        map[Name]*Application
	providerIDs map[string]*Provider
	appIDs      map[string]*Application
}

// NewSnapshot makes an empty snapshot of a gate.
func NewSnapshot(g Gate) *Snapshot {
	return &Snapshot{Gate: g, providers: map[Name]*Provider{}, apps: map[Name]*Application{},
		providerIDs: map[string]*Provider{}, appIDs: map[string]*Application{}}
}

// Load makes a snapshot of many objects at once.
func Load(g Gate, providers []*Provider, apps []*Application) *Snapshot {
	s := NewSnapshot(g)
	for _, p := range providers {
		s.providers[p.Name], s.providerIDs[p.EntityID()] = p, p
	}
	for _, a := range apps {
		s.apps[a.Name] = a
		if !a.OwnFace {
			s.appIDs[a.EntityID()] = a
		}
	}
	return s
}

func (s *Snapshot) clone() *Snapshot {
	return &Snapshot{Gate: s.Gate, providers: maps.Clone(s.providers), apps: maps.Clone(s.apps),
		providerIDs: maps.Clone(s.providerIDs), appIDs: maps.Clone(s.appIDs)}
}

// WithProvider gives a snapshot that has p, in place of one of the same name.
func (s *Snapshot) WithProvider(p *Provider) *Snapshot {
	t := s.WithoutProvider(p.Name)
	t.providers[p.Name], t.providerIDs[p.EntityID()] = p, p
	return t
}

// WithoutProvider gives a snapshot that lacks the named provider.
func (s *Snapshot) WithoutProvider(n Name) *Snapshot {
	t := s.clone()
	if old, ok := t.providers[n]; ok {
		delete(t.providers, n)
		delete(t.providerIDs, old.EntityID())
	}
	return t
}

// WithApplication gives a snapshot that has a, in place of one of the same name.
func (s *Snapshot) WithApplication(a *Application) *Snapshot {
	t := s.WithoutApplication(a.Name)
	t.apps[a.Name] = a
	if !a.OwnFace {
		t.appIDs[a.EntityID()] = a
	}
	return t
}

// WithoutApplication gives a snapshot that lacks the named application.
func (s *Snapshot) WithoutApplication(n Name) *Snapshot {
	t := s.clone()
	if old, ok := t.apps[n]; ok {
		delete(t.apps, n)
		if !old.OwnFace {
			delete(t.appIDs, old.EntityID())
		}
	}
	return t
}

// Provider finds a provider by name.
func (s *Snapshot) Provider(n Name) (*Provider, bool) { p, ok := s.providers[n]; return p, ok }

// Application finds an application by name.
func (s *Snapshot) Application(n Name) (*Application, bool) { a, ok := s.apps[n]; return a, ok }

// ProviderByEntityID finds a provider by its identity.
func (s *Snapshot) ProviderByEntityID(id string) (*Provider, bool) {
	p, ok := s.providerIDs[id]
	return p, ok
}

// ApplicationByEntityID finds an application of the shared face by its identity.
// Applications with a face of their own are found by their name: tenants of one
// service may have the same identity there.
func (s *Snapshot) ApplicationByEntityID(id string) (*Application, bool) {
	a, ok := s.appIDs[id]
	return a, ok
}

// Providers gives all providers by name.
func (s *Snapshot) Providers() []*Provider {
	return slices.SortedFunc(maps.Values(s.providers), func(a, b *Provider) int { return strings.Compare(string(a.Name), string(b.Name)) })
}

// Applications gives all applications by name.
func (s *Snapshot) Applications() []*Application {
	return slices.SortedFunc(maps.Values(s.apps), func(a, b *Application) int { return strings.Compare(string(a.Name), string(b.Name)) })
}
