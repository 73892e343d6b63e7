package gate

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"sync"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/store"
)

// unproved reports whether there is a trust key that the document on record was
// not held against.
func unproved(r federation.Record) bool {
	b := r.Basic()
	return b.TrustKey != "" && !b.Intake.Verified
}

// row gives what is stored of a record, and its data.
func row(r federation.Record) (any, []byte, error) {
	data, err := federation.Marshal(r)
	if err != nil {
		return nil, nil, err
	}
	b, side := r.Basic(), r.Part()
	if r.Kind() == federation.KindProvider {
		return &store.ProviderRow{Name: string(b.Name), Protocol: side.Protocol(), EntityID: side.Identity(), Revision: b.Revision, Added: b.Added, Data: data}, data, nil
	}
	return &store.ApplicationRow{Name: string(b.Name), Protocol: side.Protocol(), EntityID: side.Identity(), Revision: b.Revision, Added: b.Added, Data: data}, data, nil
}

// read turns what is stored into a record.
func (g *Gate) read(protocol string, s federation.Stored) (federation.Record, error) {
	by, ok := g.protocols[protocol]
	if !ok {
		return nil, fmt.Errorf("%s %s speaks %q, which this build does not know", s.Kind, s.Name, protocol)
	}
	return federation.Unmarshal(by, s)
}

func (g *Gate) readProvider(row store.ProviderRow) (federation.Record, error) {
	return g.read(row.Protocol, federation.Stored{Kind: KindProvider, Name: row.Name, Added: row.Added, Revision: row.Revision, Data: row.Data})
}

func (g *Gate) readApplication(row store.ApplicationRow) (federation.Record, error) {
	return g.read(row.Protocol, federation.Stored{Kind: KindApplication, Name: row.Name, Added: row.Added, Revision: row.Revision, Data: row.Data})
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
	records, err := each(ps, g.readProvider)
	if err != nil {
		return err
	}
	apps, err := each(as, g.readApplication)
	if err != nil {
		return err
	}
	for _, r := range apps {
		if err := g.fillKeys(ctx, r); err != nil {
			return fmt.Errorf("application %s: %w", nameOf(r), err)
		}
	}
	g.snapshot.Store(federation.Load(self, append(records, apps...)...))
	return nil
}

// fillKeys gives an application that has keys of its own those keys; they are
// made the first time.
func (g *Gate) fillKeys(ctx context.Context, r federation.Record) (err error) {
	if a, ok := r.(*federation.Application); ok && a.Side.OwnKeys() && a.Keys.Current == nil {
		a.Keys, err = g.loadKeys(ctx, purposeApp+string(a.Name))
	}
	return err
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
func (g *Gate) object(kind, name string) (federation.Record, error) {
	snap := g.Snapshot()
	if r, ok := snap.Record(federation.Kind(kind), federation.Name(name)); ok {
		return r, nil
	}
	return nil, &NotFoundError{kind, name, nearword.Of(name, snap.Names(federation.Kind(kind)))}
}

// named finds the records of a name: a provider, an application or both.
func (g *Gate) named(name string) ([]federation.Record, error) {
	snap := g.Snapshot()
	var out []federation.Record
	for _, kind := range []federation.Kind{KindProvider, KindApplication} {
		if r, ok := snap.Record(kind, federation.Name(name)); ok {
			out = append(out, r)
		}
	}
	if out == nil {
		return nil, &NotFoundError{"provider or application", name, nearword.Of(name, append(snap.Names(KindProvider), snap.Names(KindApplication)...))}
	}
	return out, nil
}

// standingError says that another record stands where one would go.
type standingError struct {
	*finding.Finding
	by federation.Name
}

// Unwrap gives the finding.
func (e *standingError) Unwrap() error { return e.Finding }

// fits sees whether a record may stand beside the others: its identity, where
// applications share an address.
func (g *Gate) fits(snap *federation.Snapshot, r federation.Record, identityField string) error {
	side := r.Part()
	known := func(kind string, name federation.Name) error {
		f := finding.New(finding.MetadataKnown, finding.Fact("Entity ID", side.Identity()), finding.Fact(kind, string(name)))
		return field(identityField, &standingError{f, name})
	}
	if side.Identity() == "" {
		return nil
	}
	if r.Kind() == federation.KindProvider {
		if other, ok := snap.ProviderBy(side.Protocol(), side.Identity()); ok && other.Name != r.Basic().Name {
			return known("Provider", other.Name)
		}
		return nil
	}
	a := r.(*federation.Application)
	if other, ok := snap.ApplicationBy(side.Protocol(), side.Identity()); ok && a.Side.Shared() == federation.Together &&
		other.Name != a.Name && other.Side.Shared() == federation.Together {
		return known("Application", other.Name)
	}
	return nil
}

// tied sees that the provider an application names is there.
func (g *Gate) tied(snap *federation.Snapshot, r federation.Record) error {
	a, ok := r.(*federation.Application)
	if !ok || a.Provider == "" {
		return nil
	}
	if _, ok := snap.Provider(a.Provider); !ok {
		return field("provider", &NotFoundError{KindProvider, string(a.Provider), nearword.Of(string(a.Provider), snap.Names(KindProvider))})
	}
	return nil
}

// change is one record about to be saved.
type change struct {
	record   federation.Record
	what     string // as history says it
	document []byte // to be kept, if there is one
	quiet    bool   // nothing that history should tell of
}

// put saves changes in one transaction, with their history, and swaps the
// snapshot. more is done in the same transaction. The lock is held.
func (g *Gate) put(ctx context.Context, by By, changes []change, more func(tx *gorm.DB) error) error {
	for _, c := range changes {
		if err := g.fillKeys(ctx, c.record); err != nil {
			return err
		}
	}
	err := g.store.Write(ctx, func(tx *gorm.DB) error {
		for _, c := range changes {
			if err := g.putOne(ctx, tx, by, c); err != nil {
				return err
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
	records := make([]federation.Record, len(changes))
	for i, c := range changes {
		records[i] = c.record
	}
	g.snapshot.Store(g.Snapshot().With(records...))
	return nil
}

func (g *Gate) putOne(ctx context.Context, tx *gorm.DB, by By, c change) error {
	b := c.record.Basic()
	if c.document != nil {
		hash, err := store.PutDocument(tx, c.document)
		if err != nil {
			return err
		}
		b.Intake.Document = hash
	}
	row, data, err := row(c.record)
	if err != nil {
		return err
	}
	was := 0
	if now, ok := g.Snapshot().Record(c.record.Kind(), b.Name); ok {
		was = now.Basic().Revision
	}
	if err := unchanged(tx, row, kindOf(c.record), string(b.Name), was); err != nil {
		return err
	}
	if err := tx.Save(row).Error; err != nil || c.quiet {
		return err
	}
	return Note{At: g.now(), By: by, What: c.what, Revision: b.Revision, Data: data}.WriteOf(tx, c.record)
}

// Lock keeps others from changing the configuration: one change at a time.
func (g *Gate) Lock() { g.saving.Lock() }

// Unlock lets others change the configuration.
func (g *Gate) Unlock() { g.saving.Unlock() }

// reloadKeys puts the keys as stored into a new snapshot.
func (g *Gate) reloadKeys(ctx context.Context) error {
	snap := g.Snapshot()
	self := snap.Gate
	if err := g.ownKeys(ctx, &self); err != nil {
		return err
	}
	var apps []federation.Record
	for _, a := range snap.Applications() {
		if !a.Side.OwnKeys() {
			continue
		}
		b := a.Copy().(*federation.Application)
		b.Keys = federation.KeySet{}
		if err := g.fillKeys(ctx, b); err != nil {
			return err
		}
		apps = append(apps, b)
	}
	g.snapshot.Store(snap.WithGate(self).With(apps...))
	return nil
}

// Snapshot is the configuration at this moment.
func (g *Gate) Snapshot() *federation.Snapshot { return g.snapshot.Load() }

// About is what the gate says of itself in its protocols.
func (g *Gate) About() []federation.Value {
	snap := g.Snapshot()
	out := []federation.Value{}
	for _, p := range g.order {
		out = append(out, p.About(&snap.Gate)...)
	}
	return out
}

// Protocols are the names of those that records of a kind can speak.
func (g *Gate) Protocols(kind string) []string {
	out := []string{}
	for _, p := range g.order {
		if kind == KindProvider && p.Providers() || kind == KindApplication && p.Applications() {
			out = append(out, p.Name())
		}
	}
	return out
}

// whole sees that a protocol's sides take part in crossings.
func whole(p crossing.Protocol) error {
	_, provides := p.NewProvider(&federation.Gate{}, "").(crossing.ProviderSide)
	_, applies := p.NewApplication(&federation.Gate{}, "").(crossing.ApplicationSide)
	if p.Providers() && !provides || p.Applications() && !applies {
		return fmt.Errorf("a side of the protocol %q takes no part in crossings", p.Name())
	}
	return nil
}

// freeName makes a short name out of a title, or out of the host of an entity ID,
// that no record has.
func (g *Gate) freeName(snap *federation.Snapshot, kind, title, entityID string, taken map[string]bool) string {
	base := federation.NearName(title)
	if u, err := url.Parse(entityID); len(base) < 2 && err == nil && u.Hostname() != "" {
		base = federation.NearName(u.Hostname())
	}
	if len(base) < 2 {
		base = kind
	}
	base = strings.Trim(base[:min(len(base), 58)], "-")
	for n := 1; ; n++ {
		name := base
		if n > 1 {
			name = fmt.Sprintf("%s-%d", base, n)
		}
		if !taken[name] && g.free(snap, kind, name) == nil {
			return name
		}
	}
}
