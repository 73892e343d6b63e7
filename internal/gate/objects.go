package gate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/store"
)

// providerData and applicationData are what a row holds beside its columns. The
// metadata is kept as it was taken in and read again at start.
type providerData struct {
	Metadata []byte                      `json:"metadata"`
	Source   string                      `json:"source"`
	Address  string                      `json:"address"` // ACS of the gate's own face towards it
	Settings federation.ProviderSettings `json:"settings"`
}

type applicationData struct {
	Metadata []byte                         `json:"metadata"`
	Source   string                         `json:"source"`
	Settings federation.ApplicationSettings `json:"settings"`
}

// load makes the snapshot from the store.
func (g *Gate) load(ctx context.Context, self federation.Gate) error {
	var ps []store.ProviderRow
	if err := g.store.Read.Find(&ps).Error; err != nil {
		return err
	}
	var as []store.ApplicationRow
	if err := g.store.Read.Find(&as).Error; err != nil {
		return err
	}
	var providers []*federation.Provider
	for _, r := range ps {
		var d providerData
		if err := json.Unmarshal(r.Data, &d); err != nil {
			return fmt.Errorf("provider %s: %w", r.Name, err)
		}
		m, err := saml.ReadMetadata(d.Metadata, r.Added)
		if err != nil {
			return fmt.Errorf("provider %s: %w", r.Name, err)
		}
		idp, err := m.AsProvider()
		if err != nil {
			return fmt.Errorf("provider %s: %w", r.Name, err)
		}
		providers = append(providers, &federation.Provider{Name: federation.Name(r.Name), Protocol: r.Protocol, Added: r.Added, Revision: r.Revision,
			ProviderSettings: d.Settings, SAML: &federation.SAMLProvider{IDP: idp, Metadata: d.Metadata, Source: d.Source, Address: d.Address}})
	}
	var apps []*federation.Application
	for _, r := range as {
		var d applicationData
		if err := json.Unmarshal(r.Data, &d); err != nil {
			return fmt.Errorf("application %s: %w", r.Name, err)
		}
		m, err := saml.ReadMetadata(d.Metadata, r.Added)
		if err != nil {
			return fmt.Errorf("application %s: %w", r.Name, err)
		}
		sp, err := m.AsApplication()
		if err != nil {
			return fmt.Errorf("application %s: %w", r.Name, err)
		}
		app := &federation.Application{Name: federation.Name(r.Name), Protocol: r.Protocol,
			Added: r.Added, Revision: r.Revision, ApplicationSettings: d.Settings, SAML: &federation.SAMLApplication{SP: sp, Metadata: d.Metadata, Source: d.Source}}
		if app.OwnFace {
			if app.Keys, err = g.loadKeys(ctx, purposeApp+r.Name); err != nil {
				return fmt.Errorf("application %s: %w", r.Name, err)
			}
		}
		apps = append(apps, app)
	}
	g.snapshot.Store(federation.Load(self, providers, apps))
	return nil
}

// FieldError says which field of what was given is wrong. It wraps the finding.
type FieldError struct {
	Field string
	Err   error
}

// Error gives the text of the wrapped error.
func (e *FieldError) Error() string { return e.Err.Error() }

// Unwrap gives the wrapped error.
func (e *FieldError) Unwrap() error { return e.Err }

func field(name string, err error) error { return &FieldError{Field: name, Err: err} }

// NotFoundError says that no record has a name.
type NotFoundError struct{ Kind, Name, Near string }

// Error names what was looked for, and a near name if there is one.
func (e *NotFoundError) Error() string {
	s := fmt.Sprintf("there is no %s %q", e.Kind, e.Name)
	if e.Near != "" {
		s += fmt.Sprintf("; did you mean %q?", e.Near)
	}
	return s
}

// Source is metadata as it was given: the document itself, or its address.
type Source struct {
	Document []byte
	Address  string
}

func (g *Gate) take(ctx context.Context, s Source) (document []byte, from string, err error) {
	if s.Address == "" {
		return s.Document, "document", nil
	}
	if s.Document != nil {
		return nil, "", field("address", errors.New("both a document and an address were given; give one of them"))
	}
	document, err = g.fetch.get(ctx, s.Address, 1<<20)
	if err != nil {
		return nil, "", field("address", err)
	}
	return document, s.Address, nil
}

// sourceField is the field that metadata came in.
func sourceField(s Source) string {
	if s.Address != "" {
		return "address"
	}
	return "metadata"
}

// NewProvider is what a provider is added from.
type NewProvider struct {
	Name, Title      string
	Source           Source
	AllowUnsolicited bool
}

// AddProvider takes in the metadata of a provider. Nothing is stored unless all
// of it is in order.
func (g *Gate) AddProvider(ctx context.Context, who string, n NewProvider) (*federation.Provider, error) {
	name, err := federation.ParseName(n.Name)
	if err != nil {
		return nil, field("name", err)
	}
	if _, taken := g.Snapshot().Provider(name); taken || name == "acs" { // its address is the shared consumer's
		return nil, field("name", finding.New(finding.NameTaken, finding.Fact("Provider", n.Name)))
	}
	document, from, err := g.take(ctx, n.Source)
	if err != nil {
		return nil, err
	}
	m, err := saml.ReadMetadata(document, g.now())
	if err != nil {
		return nil, field(sourceField(n.Source), sender(err, finding.Provider))
	}
	idp, err := m.AsProvider()
	if err != nil {
		return nil, field(sourceField(n.Source), err)
	}
	p := &federation.Provider{Name: name, Protocol: federation.ProtocolSAML, Added: g.now().UTC(), Revision: 1,
		ProviderSettings: federation.ProviderSettings{About: federation.About{Title: firstOf(n.Title, idp.Title, n.Name)}, Enabled: true, AllowUnsolicited: n.AllowUnsolicited,
			OwnEntityID: g.base + "/saml/sp/" + n.Name},
		SAML: &federation.SAMLProvider{IDP: idp, Metadata: document, Source: from, Address: g.base + "/saml/sp/" + n.Name + "/acs"}}
	g.saving.Lock()
	defer g.saving.Unlock()
	snap := g.Snapshot()
	if other, ok := snap.ProviderByEntityID(p.EntityID()); ok {
		return nil, field(sourceField(n.Source), finding.New(finding.MetadataKnown, finding.Fact("Entity ID", p.EntityID()), finding.Fact("Provider", string(other.Name))))
	}
	if _, taken := snap.Provider(name); taken {
		return nil, field("name", finding.New(finding.NameTaken, finding.Fact("Provider", n.Name)))
	}
	row, err := providerRow(p)
	if err != nil {
		return nil, err
	}
	if err := g.save(ctx, row, g.history(who, "provider", n.Name, "added", 1, row.Data)); err != nil {
		return nil, err
	}
	g.snapshot.Store(snap.WithProvider(p))
	return p, nil
}

// NewApplication is what an application is added from.
type NewApplication struct {
	Name, Title string
	Source      Source
	Provider    string // "" leaves it to the routing
	OwnStart    string // address of its own start, if it accepts no other
	OwnFace     bool   // give it an identity provider face of its own
}

// AddApplication takes in the metadata of an application.
func (g *Gate) AddApplication(ctx context.Context, who string, n NewApplication) (*federation.Application, error) {
	name, err := federation.ParseName(n.Name)
	if err != nil {
		return nil, field("name", err)
	}
	if _, taken := g.Snapshot().Application(name); taken {
		return nil, field("name", finding.New(finding.NameTaken, finding.Fact("Application", n.Name)))
	}
	document, from, err := g.take(ctx, n.Source)
	if err != nil {
		return nil, err
	}
	m, err := saml.ReadMetadata(document, g.now())
	if err != nil {
		return nil, field(sourceField(n.Source), sender(err, finding.Application))
	}
	sp, err := m.AsApplication()
	if err != nil {
		return nil, field(sourceField(n.Source), err)
	}
	settings := federation.ApplicationSettings{About: federation.About{Title: firstOf(n.Title, sp.Title, n.Name)}, Enabled: true, Provider: federation.Name(n.Provider), OwnStart: n.OwnStart, OwnFace: n.OwnFace}
	if n.OwnFace {
		settings.OwnEntityID = g.base + "/saml/idp/app/" + n.Name
	}
	if err := checked(settings.Check(sp)); err != nil {
		return nil, err
	}
	a := &federation.Application{Name: name, Protocol: federation.ProtocolSAML, Added: g.now().UTC(), Revision: 1, ApplicationSettings: settings, SAML: &federation.SAMLApplication{SP: sp, Metadata: document, Source: from}}
	g.saving.Lock()
	defer g.saving.Unlock()
	snap := g.Snapshot()
	if n.Provider != "" {
		if _, ok := snap.Provider(a.Provider); !ok {
			return nil, field("provider", &NotFoundError{"provider", n.Provider, nearword.Of(n.Provider, providerNames(snap))})
		}
	}
	if other, ok := snap.ApplicationByEntityID(a.EntityID()); ok && !a.OwnFace {
		return nil, field(sourceField(n.Source), finding.New(finding.MetadataKnown, finding.Fact("Entity ID", a.EntityID()), finding.Fact("Application", string(other.Name))))
	}
	if _, taken := snap.Application(name); taken {
		return nil, field("name", finding.New(finding.NameTaken, finding.Fact("Application", n.Name)))
	}
	if a.OwnFace {
		if a.Keys, err = g.loadKeys(ctx, purposeApp+n.Name); err != nil {
			return nil, err
		}
	}
	row, err := applicationRow(a)
	if err != nil {
		return nil, err
	}
	if err := g.save(ctx, row, g.history(who, "application", n.Name, "added", 1, row.Data)); err != nil {
		return nil, err
	}
	g.snapshot.Store(snap.WithApplication(a))
	return a, nil
}

func providerRow(p *federation.Provider) (*store.ProviderRow, error) {
	data, err := json.Marshal(providerData{Metadata: p.SAML.Metadata, Source: p.SAML.Source, Address: p.SAML.Address, Settings: p.ProviderSettings})
	return &store.ProviderRow{Name: string(p.Name), Protocol: p.Protocol, EntityID: p.EntityID(), Revision: p.Revision, Added: p.Added, Data: data}, err
}

func applicationRow(a *federation.Application) (*store.ApplicationRow, error) {
	data, err := json.Marshal(applicationData{Metadata: a.SAML.Metadata, Source: a.SAML.Source, Settings: a.ApplicationSettings})
	return &store.ApplicationRow{Name: string(a.Name), Protocol: a.Protocol, EntityID: a.EntityID(), Revision: a.Revision, Added: a.Added, Data: data}, err
}

// checked turns an error of settings into one that names the field.
func checked(err error) error {
	var se *federation.SettingError
	if errors.As(err, &se) {
		return field(se.Field, se.Err)
	}
	return err
}

// stale is the conflict of two people changing the same record.
func stale(kind, name string, have, given int) error {
	return &ConflictError{fmt.Sprintf("the %s %q was changed meanwhile: it is at revision %d, the change is for %d", kind, name, have, given),
		"look at it again and repeat the change"}
}

// ChangeProvider replaces the settings of a provider. revision is the one that
// the change was made from.
func (g *Gate) ChangeProvider(ctx context.Context, who, name string, revision int, s federation.ProviderSettings) (*federation.Provider, error) {
	g.saving.Lock()
	defer g.saving.Unlock()
	old, err := g.Provider(name)
	if err != nil {
		return nil, err
	}
	if old.Revision != revision {
		return nil, stale("provider", name, old.Revision, revision)
	}
	if err := checked(s.Check(old.SAML.IDP)); err != nil {
		return nil, err
	}
	p := *old
	p.ProviderSettings = s
	p.Revision++
	row, err := providerRow(&p)
	if err != nil {
		return nil, err
	}
	if err := g.save(ctx, row, g.history(who, "provider", name, "changed", p.Revision, row.Data)); err != nil {
		return nil, err
	}
	g.snapshot.Store(g.Snapshot().WithProvider(&p))
	return &p, nil
}

// ChangeApplication replaces the settings of an application.
func (g *Gate) ChangeApplication(ctx context.Context, who, name string, revision int, s federation.ApplicationSettings) (*federation.Application, error) {
	g.saving.Lock()
	defer g.saving.Unlock()
	old, err := g.Application(name)
	if err != nil {
		return nil, err
	}
	if old.Revision != revision {
		return nil, stale("application", name, old.Revision, revision)
	}
	if s.Provider != "" {
		if _, err := g.Provider(string(s.Provider)); err != nil {
			return nil, field("provider", err)
		}
	}
	if s.OwnFace && s.OwnEntityID == "" {
		s.OwnEntityID = g.base + "/saml/idp/app/" + name
	}
	if err := checked(s.Check(old.SAML.SP)); err != nil {
		return nil, err
	}
	if other, ok := g.Snapshot().ApplicationByEntityID(old.EntityID()); ok && !s.OwnFace && other.Name != old.Name {
		return nil, field("ownFace", finding.New(finding.MetadataKnown, finding.Fact("Entity ID", old.EntityID()), finding.Fact("Application of the shared face", string(other.Name))))
	}
	a := *old
	a.ApplicationSettings = s
	if s.OwnFace {
		if a.Keys, err = g.loadKeys(ctx, purposeApp+name); err != nil {
			return nil, err
		}
	}
	a.Revision++
	row, err := applicationRow(&a)
	if err != nil {
		return nil, err
	}
	if err := g.save(ctx, row, g.history(who, "application", name, "changed", a.Revision, row.Data)); err != nil {
		return nil, err
	}
	g.snapshot.Store(g.Snapshot().WithApplication(&a))
	return &a, nil
}

// save writes a row, new or in place of the old, and its history in one
// transaction.
func (g *Gate) save(ctx context.Context, row any, h *store.HistoryRow) error {
	return g.store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Save(row).Error; err != nil {
			return err
		}
		return tx.Create(h).Error
	})
}

func (g *Gate) history(who, kind, name, what string, revision int, data []byte) *store.HistoryRow {
	return &store.HistoryRow{At: g.now().UTC(), Kind: kind, Name: name, Revision: revision, Who: who, What: what, Data: data}
}

// RemoveProvider removes a provider. It refuses while an application names it.
func (g *Gate) RemoveProvider(ctx context.Context, who, name string) error {
	g.saving.Lock()
	defer g.saving.Unlock()
	snap := g.Snapshot()
	p, ok := snap.Provider(federation.Name(name))
	if !ok {
		return &NotFoundError{"provider", name, nearword.Of(name, providerNames(snap))}
	}
	for _, a := range snap.Applications() {
		if a.Provider == p.Name {
			return &ConflictError{fmt.Sprintf("the application %q is tied to the provider %q", a.Name, name),
				"remove the application first, or tie it to another provider"}
		}
	}
	err := g.store.Write(ctx, func(tx *gorm.DB) error {
		var row store.ProviderRow
		if err := tx.Where("name = ?", name).Take(&row).Error; err != nil {
			return err
		}
		if err := tx.Create(g.history(who, "provider", name, "removed", row.Revision+1, row.Data)).Error; err != nil {
			return err
		}
		if err := tx.Where("provider = ?", name).Delete(&store.SessionRow{}).Error; err != nil {
			return err
		}
		return tx.Delete(&row).Error
	})
	if err != nil {
		return err
	}
	g.sessions.dropProvider(name)
	g.snapshot.Store(snap.WithoutProvider(p.Name))
	return nil
}

// RemoveApplication removes an application.
func (g *Gate) RemoveApplication(ctx context.Context, who, name string) error {
	g.saving.Lock()
	defer g.saving.Unlock()
	snap := g.Snapshot()
	a, ok := snap.Application(federation.Name(name))
	if !ok {
		return &NotFoundError{"application", name, nearword.Of(name, applicationNames(snap))}
	}
	err := g.store.Write(ctx, func(tx *gorm.DB) error {
		var row store.ApplicationRow
		if err := tx.Where("name = ?", name).Take(&row).Error; err != nil {
			return err
		}
		if err := tx.Create(g.history(who, "application", name, "removed", row.Revision+1, row.Data)).Error; err != nil {
			return err
		}
		return tx.Delete(&row).Error
	})
	if err != nil {
		return err
	}
	g.snapshot.Store(snap.WithoutApplication(a.Name))
	return nil
}

// ConflictError says that something stands in the way, and what to do.
type ConflictError struct{ What, Do string }

// Error gives both.
func (e *ConflictError) Error() string { return e.What + "; " + e.Do }

// Provider finds a provider, or tells a near name.
func (g *Gate) Provider(name string) (*federation.Provider, error) {
	snap := g.Snapshot()
	if p, ok := snap.Provider(federation.Name(name)); ok {
		return p, nil
	}
	return nil, &NotFoundError{"provider", name, nearword.Of(name, providerNames(snap))}
}

// Application finds an application, or tells a near name.
func (g *Gate) Application(name string) (*federation.Application, error) {
	snap := g.Snapshot()
	if a, ok := snap.Application(federation.Name(name)); ok {
		return a, nil
	}
	return nil, &NotFoundError{"application", name, nearword.Of(name, applicationNames(snap))}
}

func providerNames(s *federation.Snapshot) (names []string) {
	for _, p := range s.Providers() {
		names = append(names, string(p.Name))
	}
	return names
}

func applicationNames(s *federation.Snapshot) (names []string) {
	for _, a := range s.Applications() {
		names = append(names, string(a.Name))
	}
	return names
}

func firstOf(ss ...string) string {
	for _, s := range ss {
		if s != "" {
			return s
		}
	}
	return ""
}

// sender resolves who the sender of a document was.
func sender(err error, side finding.Side) error {
	if f := finding.Of(err); f != nil {
		return f.From(side)
	}
	return err
}
