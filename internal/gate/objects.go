package gate

import (
	"context"
	"errors"
	"fmt"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/store"
)

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

// NewProvider is what a provider is added from.
type NewProvider struct {
	Name, Title      string
	Source           Source
	AllowUnsolicited bool
	federation.Keeping
	Draft bool // keep it even if values are still missing
}

// AddProvider takes in what is known of a provider. Nothing is stored unless all
// of it is in order.
func (g *Gate) AddProvider(ctx context.Context, who string, n NewProvider) (*federation.Provider, error) {
	r := g.newProvider(n)
	if err := g.add(ctx, who, r, n.Title, n.Source, n.Draft); err != nil {
		return nil, err
	}
	return r.provider, nil
}

func (g *Gate) newProvider(n NewProvider) object {
	return object{provider: &federation.Provider{Name: federation.Name(n.Name), Protocol: federation.ProtocolSAML, Added: g.now().UTC(), Revision: 1,
		ProviderSettings: federation.ProviderSettings{AllowUnsolicited: n.AllowUnsolicited, Keeping: n.Keeping, OwnEntityID: g.base + "/saml/sp/" + n.Name},
		SAML:             &federation.SAMLProvider{IDP: &saml.IDP{}, Address: g.base + "/saml/sp/" + n.Name + "/acs"}}}
}

// NewApplication is what an application is added from.
type NewApplication struct {
	Name, Title string
	Source      Source
	Provider    string // "" leaves it to the routing
	OwnStart    string // address of its own start, if it accepts no other
	OwnHosts    string
	OwnFace     bool // give it an identity provider face of its own
	federation.Keeping
	Draft bool // keep it even if values are still missing
}

// AddApplication takes in what is known of an application.
func (g *Gate) AddApplication(ctx context.Context, who string, n NewApplication) (*federation.Application, error) {
	r := g.newApplication(n)
	if err := g.add(ctx, who, r, n.Title, n.Source, n.Draft); err != nil {
		return nil, err
	}
	return r.app, nil
}

func (g *Gate) newApplication(n NewApplication) object {
	settings := federation.ApplicationSettings{Provider: federation.Name(n.Provider), OwnStart: n.OwnStart, OnlyOwnStarts: n.OwnStart != "", OwnHosts: n.OwnHosts, OwnFace: n.OwnFace, Keeping: n.Keeping}
	if n.OwnFace {
		settings.OwnEntityID = g.base + "/saml/idp/app/" + n.Name
	}
	return object{app: &federation.Application{Name: federation.Name(n.Name), Protocol: federation.ProtocolSAML, Added: g.now().UTC(), Revision: 1,
		ApplicationSettings: settings, SAML: &federation.SAMLApplication{SP: &saml.SP{}}}}
}

// free sees whether a name can be given to a new record.
func free(snap *federation.Snapshot, kind, name string) error {
	if _, err := federation.ParseName(name); err != nil {
		return field("name", err)
	}
	_, taken := snap.Application(federation.Name(name))
	label := "Application"
	if kind == KindProvider {
		label = "Provider"
		_, taken = snap.Provider(federation.Name(name))
		taken = taken || name == "acs" // its address is the shared consumer's
	}
	if taken {
		return field("name", finding.New(finding.NameTaken, finding.Fact(label, name)))
	}
	return nil
}

// add fills a new record from its source and saves it.
func (g *Gate) add(ctx context.Context, who string, r object, title string, src Source, draft bool) error {
	if err := free(g.Snapshot(), r.kind(), r.name()); err != nil {
		return err
	}
	octets, err := g.fill(ctx, r, title, src, draft)
	if err != nil {
		return err
	}
	g.saving.Lock()
	defer g.saving.Unlock()
	snap := g.Snapshot()
	for _, err := range []error{free(snap, r.kind(), r.name()), g.tied(snap, r), g.fits(snap, r, src.field()), r.check()} {
		if err != nil {
			return err
		}
	}
	return g.put(ctx, who, []change{{object: r, what: "added", document: octets}}, g.dueAt(r, g.now().Add(g.interval(*r.intake()))))
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
	r, err := g.change(ctx, who, KindProvider, name, revision, func(r object) { r.provider.ProviderSettings = s })
	return r.provider, err
}

// ChangeApplication replaces the settings of an application.
func (g *Gate) ChangeApplication(ctx context.Context, who, name string, revision int, s federation.ApplicationSettings) (*federation.Application, error) {
	if s.OwnFace && s.OwnEntityID == "" {
		s.OwnEntityID = g.base + "/saml/idp/app/" + name
	}
	r, err := g.change(ctx, who, KindApplication, name, revision, func(r object) { r.app.ApplicationSettings = s })
	return r.app, err
}

func (g *Gate) change(ctx context.Context, who, kind, name string, revision int, edit func(object)) (object, error) {
	g.saving.Lock()
	defer g.saving.Unlock()
	old, err := g.object(kind, name)
	if err != nil {
		return object{}, err
	}
	if *old.revision() != revision {
		return object{}, stale(kind, name, *old.revision(), revision)
	}
	r := old.copied()
	edit(r)
	if r.keeping().TrustKey != old.keeping().TrustKey {
		r.intake().Verified = false // by the key of before; the next refresh holds it against this one
	}
	snap := g.Snapshot()
	for _, err := range []error{g.tied(snap, r), r.check(), g.fits(snap, r, "ownFace")} {
		if err != nil {
			return object{}, err
		}
	}
	*r.revision()++
	return r, g.put(ctx, who, []change{{object: r, what: "changed"}}, nil)
}

func (g *Gate) history(ctx context.Context, who, kind, name, what string, revision int, data []byte) *store.HistoryRow {
	return &store.HistoryRow{At: g.now().UTC(), Kind: kind, Name: name, Revision: revision, Who: who, What: what, Why: remark(ctx), Data: data}
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
		if err := g.remove(ctx, tx, who, object{provider: p}, &store.ProviderRow{Name: name}); err != nil {
			return err
		}
		return tx.Where("provider = ?", name).Delete(&store.SessionRow{}).Error
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
		return g.remove(ctx, tx, who, object{app: a}, &store.ApplicationRow{Name: name})
	})
	if err != nil {
		return err
	}
	g.snapshot.Store(snap.WithoutApplication(a.Name))
	return nil
}

// remove takes a row out, with what belongs to it, and notes it in the history.
func (g *Gate) remove(ctx context.Context, tx *gorm.DB, who string, r object, row any) error {
	data, err := r.data()
	if err != nil {
		return err
	}
	for _, of := range []any{&store.FreshRow{}, &store.PendingRow{}} {
		if err := tx.Where("kind = ? AND name = ?", r.kind(), r.name()).Delete(of).Error; err != nil {
			return err
		}
	}
	if err := tx.Create(g.history(ctx, who, r.kind(), r.name(), "removed", *r.revision()+1, data)).Error; err != nil {
		return err
	}
	return tx.Delete(row).Error
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
