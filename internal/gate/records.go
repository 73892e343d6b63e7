package gate

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/store"
)

// Kinds of records.
const (
	KindProvider    = "provider"
	KindApplication = "application"
	KindAggregate   = "aggregate"
)

// providerData and applicationData are what a row holds beside its columns.
// Rows of before there were documents hold the metadata itself.
type providerData struct {
	IDP      *saml.IDP                   `json:"idp,omitempty"`
	Intake   federation.Intake           `json:"intake"`
	Metadata []byte                      `json:"metadata,omitempty"`
	Source   string                      `json:"source,omitempty"`
	Address  string                      `json:"address"` // ACS of the gate's own face towards it
	Settings federation.ProviderSettings `json:"settings"`
}

type applicationData struct {
	SP       *saml.SP                       `json:"sp,omitempty"`
	Intake   federation.Intake              `json:"intake"`
	Metadata []byte                         `json:"metadata,omitempty"`
	Source   string                         `json:"source,omitempty"`
	Settings federation.ApplicationSettings `json:"settings"`
}

// object is a provider or an application: exactly one of the two.
type object struct {
	provider *federation.Provider
	app      *federation.Application
}

func (r object) kind() string {
	if r.provider != nil {
		return KindProvider
	}
	return KindApplication
}

func (r object) name() string {
	if r.provider != nil {
		return string(r.provider.Name)
	}
	return string(r.app.Name)
}

func (r object) revision() *int {
	if r.provider != nil {
		return &r.provider.Revision
	}
	return &r.app.Revision
}

func (r object) intake() *federation.Intake {
	if r.provider != nil {
		return &r.provider.SAML.Intake
	}
	return &r.app.SAML.Intake
}

func (r object) keeping() *federation.Keeping {
	if r.provider != nil {
		return &r.provider.Keeping
	}
	return &r.app.Keeping
}

// trusting is how far a document of the record is trusted.
func (r object) trusting(now time.Time) (saml.Trusting, error) {
	keys, err := r.keeping().Trust()
	sha1 := r.provider != nil && r.provider.AllowSHA1 || r.app != nil && r.app.AllowSHA1
	return saml.Trusting{Now: now, Keys: keys, AllowSHA1: sha1}, checked(err)
}

// unproved reports whether there is a trust key that the document on record was
// not held against.
func (r object) unproved() bool { return r.keeping().TrustKey != "" && !r.intake().Verified }

func (r object) entityID() string {
	if r.provider != nil {
		return r.provider.EntityID()
	}
	return r.app.EntityID()
}

func (r object) title() string {
	if r.provider != nil {
		return r.provider.Title
	}
	return r.app.Title
}

func (r object) missing() []string {
	if r.provider != nil {
		return r.provider.Missing()
	}
	return r.app.Missing()
}

func (r object) describe() []federation.Value {
	if r.provider != nil {
		return r.provider.Describe()
	}
	return r.app.Describe()
}

// check sees whether the settings can be used with what is known of the other
// side.
func (r object) check() error {
	if r.provider != nil {
		return checked(r.provider.ProviderSettings.Check(r.provider.SAML.IDP))
	}
	return checked(r.app.ApplicationSettings.Check(r.app.SAML.SP))
}

// copied gives a copy whose own fields may be changed.
func (r object) copied() object {
	if r.provider != nil {
		p, side := *r.provider, *r.provider.SAML
		p.SAML = &side
		return object{provider: &p}
	}
	a, side := *r.app, *r.app.SAML
	a.SAML = &side
	return object{app: &a}
}

func (r object) into(s *federation.Snapshot) *federation.Snapshot {
	if r.provider != nil {
		return s.WithProvider(r.provider)
	}
	return s.WithApplication(r.app)
}

// side is who sends the documents of a record.
func (r object) side() finding.Side { return sideOf(r.kind()) }

func sideOf(kind string) finding.Side {
	if kind == KindProvider {
		return finding.Provider
	}
	return finding.Application
}

func (r object) data() ([]byte, error) {
	if p := r.provider; p != nil {
		return json.Marshal(providerData{IDP: p.SAML.IDP, Intake: p.SAML.Intake, Address: p.SAML.Address, Settings: p.ProviderSettings})
	}
	a := r.app
	return json.Marshal(applicationData{SP: a.SAML.SP, Intake: a.SAML.Intake, Settings: a.ApplicationSettings})
}

// row gives what is stored, and its data.
func (r object) row() (row any, data []byte, err error) {
	if data, err = r.data(); err != nil {
		return nil, nil, err
	}
	if p := r.provider; p != nil {
		return &store.ProviderRow{Name: string(p.Name), Protocol: p.Protocol, EntityID: p.EntityID(), Revision: p.Revision, Added: p.Added, Data: data}, data, nil
	}
	a := r.app
	return &store.ApplicationRow{Name: string(a.Name), Protocol: a.Protocol, EntityID: a.EntityID(), Revision: a.Revision, Added: a.Added, Data: data}, data, nil
}

func readProvider(row store.ProviderRow) (*federation.Provider, error) {
	var d providerData
	if err := json.Unmarshal(row.Data, &d); err != nil {
		return nil, fmt.Errorf("provider %s: %w", row.Name, err)
	}
	if d.IDP == nil {
		m, err := saml.ReadMetadata(d.Metadata, row.Added)
		if err == nil {
			d.IDP, err = m.AsProvider()
		}
		if err != nil {
			return nil, fmt.Errorf("provider %s: %w", row.Name, err)
		}
		d.Intake = federation.TakenFrom(m, d.Source, "")
	}
	return &federation.Provider{Name: federation.Name(row.Name), Protocol: row.Protocol, Added: row.Added, Revision: row.Revision,
		ProviderSettings: d.Settings, SAML: &federation.SAMLProvider{IDP: d.IDP, Intake: d.Intake, Address: d.Address}}, nil
}

func readApplication(row store.ApplicationRow) (*federation.Application, error) {
	var d applicationData
	if err := json.Unmarshal(row.Data, &d); err != nil {
		return nil, fmt.Errorf("application %s: %w", row.Name, err)
	}
	if d.SP == nil {
		m, err := saml.ReadMetadata(d.Metadata, row.Added)
		if err == nil {
			d.SP, err = m.AsApplication()
		}
		if err != nil {
			return nil, fmt.Errorf("application %s: %w", row.Name, err)
		}
		d.Intake = federation.TakenFrom(m, d.Source, "")
	}
	return &federation.Application{Name: federation.Name(row.Name), Protocol: row.Protocol, Added: row.Added, Revision: row.Revision,
		ApplicationSettings: d.Settings, SAML: &federation.SAMLApplication{SP: d.SP, Intake: d.Intake}}, nil
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
	providers, err := each(ps, readProvider)
	if err != nil {
		return err
	}
	apps, err := each(as, readApplication)
	if err != nil {
		return err
	}
	for _, a := range apps {
		if a.OwnFace {
			if a.Keys, err = g.loadKeys(ctx, purposeApp+string(a.Name)); err != nil {
				return fmt.Errorf("application %s: %w", a.Name, err)
			}
		}
	}
	g.snapshot.Store(federation.Load(self, providers, apps))
	return nil
}

// each turns rows into records, on two processors: reading thousands of
// certificates is most of the time a start takes.
func each[R, T any](rows []R, read func(R) (T, error)) ([]T, error) {
	out, errs := make([]T, len(rows)), make([]error, 2)
	var wg sync.WaitGroup
	for half := range 2 {
		wg.Go(func() {
			for i := half; i < len(rows) && errs[half] == nil; i += 2 {
				out[i], errs[half] = read(rows[i])
			}
		})
	}
	wg.Wait()
	if errs[0] == nil {
		errs[0] = errs[1]
	}
	return out, errs[0]
}

// object finds a provider or application, or tells a near name.
func (g *Gate) object(kind, name string) (object, error) {
	if kind == KindProvider {
		p, err := g.Provider(name)
		return object{provider: p}, err
	}
	a, err := g.Application(name)
	return object{app: a}, err
}

// named finds the records of a name: a provider, an application or both.
func (g *Gate) named(name string) ([]object, error) {
	snap := g.Snapshot()
	var out []object
	if p, ok := snap.Provider(federation.Name(name)); ok {
		out = append(out, object{provider: p})
	}
	if a, ok := snap.Application(federation.Name(name)); ok {
		out = append(out, object{app: a})
	}
	if out == nil {
		return nil, &NotFoundError{"provider or application", name, nearword.Of(name, append(providerNames(snap), applicationNames(snap)...))}
	}
	return out, nil
}

// fits sees whether a record may stand beside the others: its entity ID, on the
// shared face, and the provider it is tied to.
func (g *Gate) fits(snap *federation.Snapshot, r object, entityField string) error {
	known := func(kind, name string) error {
		return field(entityField, finding.New(finding.MetadataKnown, finding.Fact("Entity ID", r.entityID()), finding.Fact(kind, name)))
	}
	if r.entityID() == "" {
		return nil
	}
	if p := r.provider; p != nil {
		if other, ok := snap.ProviderByEntityID(p.EntityID()); ok && other.Name != p.Name {
			return known("Provider", string(other.Name))
		}
		return nil
	}
	if other, ok := snap.ApplicationByEntityID(r.app.EntityID()); ok && !r.app.OwnFace && other.Name != r.app.Name {
		return known("Application", string(other.Name))
	}
	return nil
}

// tied sees that the provider an application names is there.
func (g *Gate) tied(snap *federation.Snapshot, r object) error {
	if r.app == nil || r.app.Provider == "" {
		return nil
	}
	if _, ok := snap.Provider(r.app.Provider); !ok {
		return field("provider", &NotFoundError{KindProvider, string(r.app.Provider), nearword.Of(string(r.app.Provider), providerNames(snap))})
	}
	return nil
}

// change is one record about to be saved.
type change struct {
	object
	what     string // as history says it
	document []byte // to be kept, if there is one
	quiet    bool   // nothing that history should tell of
}

// put saves changes in one transaction, with their history, and swaps the
// snapshot. more is done in the same transaction. g.saving is held.
func (g *Gate) put(ctx context.Context, who string, changes []change, more func(tx *gorm.DB) error) error {
	for _, c := range changes {
		if a := c.app; a != nil && a.OwnFace && a.Keys.Current == nil {
			var err error
			if a.Keys, err = g.loadKeys(ctx, purposeApp+c.name()); err != nil {
				return err
			}
		}
	}
	err := g.store.Write(ctx, func(tx *gorm.DB) error {
		for _, c := range changes {
			if c.document != nil {
				hash, err := store.PutDocument(tx, c.document)
				if err != nil {
					return err
				}
				c.intake().Document = hash
			}
			row, data, err := c.row()
			if err != nil {
				return err
			}
			if err := tx.Save(row).Error; err != nil {
				return err
			}
			if !c.quiet {
				if err := tx.Create(g.history(ctx, who, c.kind(), c.name(), c.what, *c.revision(), data)).Error; err != nil {
					return err
				}
			}
		}
		if more != nil {
			return more(tx)
		}
		return nil
	})
	if err != nil {
		return err
	}
	var providers []*federation.Provider
	var apps []*federation.Application
	for _, c := range changes {
		if c.provider != nil {
			providers = append(providers, c.provider)
		} else {
			apps = append(apps, c.app)
		}
	}
	g.snapshot.Store(g.Snapshot().With(providers, apps))
	return nil
}
