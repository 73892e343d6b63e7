package gate

import (
	"context"
	"fmt"
	"strings"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/store"
)

// NewProvider is what a provider is added from.
type NewProvider struct {
	Name, Title      string
	Protocol         string // "" for the first that has providers
	Source           Source
	AllowUnsolicited bool
	federation.Keeping
	Draft bool             // keep it even if values are still missing
	Phase federation.Phase // "" for live, unless values are missing
}

// AddProvider takes in what is known of a provider. Nothing is stored unless all
// of it is in order.
func (g *Gate) AddProvider(ctx context.Context, by By, n NewProvider) (*federation.Provider, error) {
	r, err := g.newProvider(n)
	if err != nil {
		return nil, err
	}
	r, err = g.add(ctx, by, r, n.Title, n.Source, n.Draft)
	if err != nil {
		return nil, err
	}
	return r.(*federation.Provider), nil
}

func (g *Gate) newProvider(n NewProvider) (federation.Record, error) {
	by, err := g.protocol(n.Protocol, KindProvider)
	if err != nil {
		return nil, err
	}
	p := &federation.Provider{Side: by.NewProvider(&g.Snapshot().Gate, federation.Name(n.Name))}
	p.ID, p.Name, p.Added, p.Revision = federation.ID(newID()), federation.Name(n.Name), g.now().UTC(), 1
	p.AllowUnsolicited, p.Keeping, p.Phase = n.AllowUnsolicited, n.Keeping, n.Phase
	return p, nil
}

// NewApplication is what an application is added from.
type NewApplication struct {
	Name, Title string
	Protocol    string // "" for the first that has applications
	Source      Source
	Provider    string // "" leaves it to the routing
	OwnStart    string // address of its own start, if it accepts no other
	OwnHosts    string
	Settings    federation.Settings // further ones, of its protocol
	federation.Keeping
	Draft bool             // keep it even if values are still missing
	Phase federation.Phase // "" for live, unless values are missing
}

// AddApplication takes in what is known of an application.
func (g *Gate) AddApplication(ctx context.Context, by By, n NewApplication) (*federation.Application, error) {
	r, err := g.newApplication(n)
	if err != nil {
		return nil, err
	}
	r, err = g.add(ctx, by, r, n.Title, n.Source, n.Draft)
	if err != nil {
		return nil, err
	}
	return r.(*federation.Application), nil
}

func (g *Gate) newApplication(n NewApplication) (federation.Record, error) {
	by, err := g.protocol(n.Protocol, KindApplication)
	if err != nil {
		return nil, err
	}
	a := &federation.Application{Side: by.NewApplication(&g.Snapshot().Gate, federation.Name(n.Name))}
	a.ID, a.Name, a.Added, a.Revision = federation.ID(newID()), federation.Name(n.Name), g.now().UTC(), 1
	a.Provider, a.OwnStart, a.OnlyOwnStarts, a.OwnHosts, a.Keeping = federation.Name(n.Provider), n.OwnStart, n.OwnStart != "", n.OwnHosts, n.Keeping
	a.Phase = n.Phase
	if err := checked(federation.Apply(a, n.Settings)); err != nil {
		return nil, err
	}
	federation.Replace(a, a.Side.Named(&g.Snapshot().Gate, a.Name))
	return a, nil
}

// protocol finds a protocol by name, "" for the first one that has records of
// the kind.
func (g *Gate) protocol(name, kind string) (crossing.Protocol, error) {
	var names []string
	for _, p := range g.order {
		has := p.Applications()
		if kind == KindProvider {
			has = p.Providers()
		}
		if has && (name == "" || p.Name() == name) {
			return p, nil
		}
		if has {
			names = append(names, p.Name())
		}
	}
	return nil, field("protocol", fmt.Errorf("no %s can speak %q; use one of %s", kind, name, strings.Join(names, ", ")))
}

// free sees whether a name can be given to a new record.
func (g *Gate) free(snap *federation.Snapshot, kind, name string) error {
	n, err := federation.ParseName(name)
	if err != nil {
		return field("name", err)
	}
	_, taken := snap.Record(federation.Kind(kind), n)
	for _, p := range g.order {
		taken = taken || p.Reserved(federation.Kind(kind), n)
	}
	if taken {
		label := strings.ToUpper(kind[:1]) + kind[1:]
		return field("name", finding.New(finding.NameTaken, finding.Fact(label, name)))
	}
	return nil
}

// add fills a new record from its source and saves it.
func (g *Gate) add(ctx context.Context, by By, r federation.Record, title string, src Source, draft bool) (federation.Record, error) {
	if err := g.free(g.Snapshot(), kindOf(r), nameOf(r)); err != nil {
		return nil, err
	}
	octets, err := g.fill(ctx, r, title, src, draft)
	if err != nil {
		return nil, err
	}
	g.Lock()
	defer g.Unlock()
	snap := g.Snapshot()
	for _, err := range []error{g.free(snap, kindOf(r), nameOf(r)), g.tied(snap, r), g.fits(snap, r, src.field()), checked(federation.Check(r))} {
		if err != nil {
			return nil, err
		}
	}
	return r, g.put(ctx, by, []change{{record: r, what: "added", document: octets}}, func(tx *gorm.DB) error { return g.takenIn(tx, r) })
}

// Change lays settings over those of a record. revision is the one that the
// change was made from. What is not named stays.
func (g *Gate) Change(ctx context.Context, by By, kind, name string, revision int, s federation.Settings) (federation.Record, error) {
	g.Lock()
	defer g.Unlock()
	old, err := g.object(kind, name)
	if err != nil {
		return nil, err
	}
	if old.Basic().Revision != revision {
		return nil, stale(kind, name, old.Basic().Revision, revision)
	}
	r := old.Copy()
	if err := checked(federation.Apply(r, s)); err != nil {
		return nil, err
	}
	federation.Replace(r, r.Part().Named(&g.Snapshot().Gate, r.Basic().Name))
	if r.Basic().TrustKey != old.Basic().TrustKey {
		r.Basic().Intake.Verified = false // by the key of before; the next refresh holds it against this one
	}
	snap := g.Snapshot()
	for _, err := range []error{g.tied(snap, r), checked(federation.Check(r)), g.fits(snap, r, "ownFace")} {
		if err != nil {
			return nil, err
		}
	}
	r.Basic().Revision++
	return r, g.put(ctx, by, []change{{record: r, what: "changed"}}, nil)
}

// RemoveProvider removes a provider. It refuses while an application names it.
func (g *Gate) RemoveProvider(ctx context.Context, by By, name string) error {
	g.Lock()
	defer g.Unlock()
	snap := g.Snapshot()
	r, err := g.object(KindProvider, name)
	if err != nil {
		return err
	}
	for _, a := range snap.Applications() {
		if string(a.Provider) == name {
			return &ConflictError{fmt.Sprintf("the application %q is tied to the provider %q", a.Name, name),
				"remove the application first, or tie it to another provider"}
		}
	}
	err = g.store.Write(ctx, func(tx *gorm.DB) error {
		if err := g.remove(ctx, tx, by, r, &store.ProviderRow{Name: name}); err != nil {
			return err
		}
		return g.sessions.forgetProvider(tx, r.Basic().ID)
	})
	if err != nil {
		return err
	}
	g.sessions.clear()
	g.snapshot.Store(snap.Without(KindProvider, federation.Name(name)))
	return nil
}

// RemoveApplication removes an application.
func (g *Gate) RemoveApplication(ctx context.Context, by By, name string) error {
	g.Lock()
	defer g.Unlock()
	snap := g.Snapshot()
	r, err := g.object(KindApplication, name)
	if err != nil {
		return err
	}
	err = g.store.Write(ctx, func(tx *gorm.DB) error {
		return g.remove(ctx, tx, by, r, &store.ApplicationRow{Name: name})
	})
	if err != nil {
		return err
	}
	g.snapshot.Store(snap.Without(KindApplication, federation.Name(name)))
	return nil
}

// remove takes a row out, with what belongs to it, and notes it in the history.
func (g *Gate) remove(ctx context.Context, tx *gorm.DB, by By, r federation.Record, row any) error {
	if err := unchanged(tx, row, kindOf(r), nameOf(r), r.Basic().Revision); err != nil {
		return err
	}
	if err := forgetFresh(tx, kindOf(r), nameOf(r)); err != nil {
		return err
	}
	if err := (Note{At: g.now(), By: by, What: "removed", Revision: r.Basic().Revision + 1}).WriteOf(tx, r); err != nil {
		return err
	}
	return tx.Delete(row).Error
}

// Provider finds a provider, or tells a near name.
func (g *Gate) Provider(name string) (*federation.Provider, error) {
	r, err := g.object(KindProvider, name)
	if err != nil {
		return nil, err
	}
	return r.(*federation.Provider), nil
}

// Application finds an application, or tells a near name.
func (g *Gate) Application(name string) (*federation.Application, error) {
	r, err := g.object(KindApplication, name)
	if err != nil {
		return nil, err
	}
	return r.(*federation.Application), nil
}

// sender resolves who the sender of a document was.
func sender(err error, side finding.Side) error {
	if f := finding.Of(err); f != nil {
		return f.From(side)
	}
	return err
}
