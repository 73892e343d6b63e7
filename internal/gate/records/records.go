// Package records holds the configuration: providers and applications, taken in,
// set, removed and restored, and the snapshot of it that everything goes by.
package records

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/freshness"
	"innergate.example/innergate/internal/gate/keyring"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/sessions"
	"innergate.example/innergate/internal/store"
)

// Room holds the configuration.
type Room struct {
	spoken    atomic.Pointer[speaking]
	isSubject func(db *gorm.DB, name string) (bool, error)
	store     *store.Store
	now       func() time.Time
	fetch     *fetch.Fetcher
	sessions  *sessions.Room
	keyring   *keyring.Room
	freshness *freshness.Room
	editions  *editions.Room
	order     []crossing.Protocol
	protocols map[string]crossing.Protocol
	snapshot  atomic.Pointer[federation.Snapshot]
	saving    sync.Mutex        // one change of configuration at a time
	swapping  sync.Mutex        // of the snapshot
	newcomers []federation.Unit // groups that sign-ins made since a change of configuration began
	touched   chan struct{}
	// consequence tells what a change does to people.
	consequence func(ctx context.Context, before, after *federation.Snapshot) (change.Consequence, error)
}

// Parts are what the room works with.
type Parts struct {
	Store     *store.Store
	Now       func() time.Time
	Fetch     *fetch.Fetcher
	Sessions  *sessions.Room
	Keys      *keyring.Room
	Freshness *freshness.Room
	Editions  *editions.Room
}

// New loads the configuration: that of the gate itself is self with what the
// protocols, the ranking of contexts and the keys add. The first of the protocols
// is that of records of before there were several.
func New(ctx context.Context, p Parts, self federation.Gate, protocols []crossing.Protocol) (*Room, error) {
	rm := &Room{store: p.Store, now: p.Now, fetch: p.Fetch, sessions: p.Sessions, keyring: p.Keys, freshness: p.Freshness,
		editions: p.Editions,
		order:    protocols, protocols: map[string]crossing.Protocol{}, touched: make(chan struct{}, 1)}
	self.Own = map[string]string{}
	for _, by := range protocols {
		if err := whole(by); err != nil {
			return nil, err
		}
		rm.protocols[by.Name()] = by
		self.Purposes = append(self.Purposes, by.Purposes()...)
		for key, value := range by.Own(self.Base) {
			own, err := rm.store.Setting(ctx, key, value)
			if err != nil {
				return nil, err
			}
			self.Own[key] = own
		}
	}
	var err error
	if self.FirstBase, err = rm.store.Setting(ctx, "first-base", self.Base); err != nil {
		return nil, err
	}
	if self.Contexts, err = rm.loadContexts(ctx); err != nil {
		return nil, err
	}
	if err = rm.keyring.Own(ctx, &self); err != nil {
		return nil, err
	}
	for name, to := range map[string]*[]byte{keyring.Pairwise: &self.Pairwise, keyring.Handles: &self.Handles} {
		if *to, err = rm.keyring.Secret(ctx, name); err != nil {
			return nil, err
		}
	}
	return rm, rm.load(ctx, self)
}

// Unproved reports whether there is a trust key that the document on record was
// not held against.
func Unproved(r federation.Record) bool {
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
		return &store.ProviderRow{Name: string(b.Name), Protocol: side.Protocol(), EntityID: federation.KeyOf(side),
			Revision: b.Revision, Added: b.Added, Data: data}, data, nil
	}
	return &store.ApplicationRow{Name: string(b.Name), Protocol: side.Protocol(), EntityID: side.Identity(),
		Revision: b.Revision, Added: b.Added, Data: data}, data, nil
}

// Read turns what is stored into a record.
func (rm *Room) Read(protocol string, s federation.Stored) (federation.Record, error) {
	by, ok := rm.protocols[protocol]
	if !ok {
		return nil, fmt.Errorf("%s %s speaks %q, which this build does not know", s.Kind, s.Name, protocol)
	}
	return federation.Unmarshal(by, s)
}

func (rm *Room) readProvider(row store.ProviderRow) (federation.Record, error) {
	return rm.Read(row.Protocol, federation.Stored{Kind: change.KindProvider, Name: row.Name, Added: row.Added,
		Revision: row.Revision, Data: row.Data})
}

func (rm *Room) readApplication(row store.ApplicationRow) (federation.Record, error) {
	return rm.Read(row.Protocol, federation.Stored{Kind: change.KindApplication, Name: row.Name, Added: row.Added,
		Revision: row.Revision, Data: row.Data})
}

// load makes the snapshot from the store.
func (rm *Room) load(ctx context.Context, self federation.Gate) error {
	var ps []store.ProviderRow
	if err := rm.store.Read.Find(&ps).Error; err != nil {
		return err
	}
	var as []store.ApplicationRow
	if err := rm.store.Read.Find(&as).Error; err != nil {
		return err
	}
	records, err := each(ps, rm.readProvider)
	if err != nil {
		return err
	}
	apps, err := each(as, rm.readApplication)
	if err != nil {
		return err
	}
	records = append(records, apps...)
	for _, r := range records {
		if err := rm.fillKeys(ctx, r); err != nil {
			return fmt.Errorf("%s: %w", federation.Path(r), err)
		}
		if self, err = rm.needed(ctx, self, r); err != nil {
			return fmt.Errorf("%s: %w", federation.Path(r), err)
		}
	}
	sets, err := rm.loadSets()
	if err != nil {
		return err
	}
	units, err := rm.loadUnits()
	if err != nil {
		return err
	}
	snap := federation.LoadWith(self, sets, records...).WithUnits(nil, units...)
	for _, r := range records {
		if _, err := snap.Resolved(r); err != nil { // without its set it would say more than it may
			return fmt.Errorf("%s: %w", federation.Path(r), err)
		}
	}
	rm.show(snap)
	return nil
}

// fillKeys gives an application that has keys of its own those keys; they are
// made the first time.
func (rm *Room) fillKeys(ctx context.Context, r federation.Record) (err error) {
	if a, ok := r.(*federation.Application); ok && a.Side.OwnKeys() && a.Keys.Current == nil {
		a.Keys, err = rm.keyring.Load(ctx, keyring.OfApplication(a))
	}
	return err
}

// needed gives the gate with the keys that a record needs of it; they are made the
// first time that one does.
func (rm *Room) needed(ctx context.Context, self federation.Gate, r federation.Record) (federation.Gate, error) {
	side, ok := r.Part().(federation.Needing)
	if !ok {
		return self, nil
	}
	for _, purpose := range side.Purposes() {
		var err error
		if self, err = rm.keyring.Need(ctx, self, purpose); err != nil {
			return self, err
		}
	}
	return self, nil
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

// Record finds a provider or application, or tells a near name.
func (rm *Room) Record(kind, name string) (federation.Record, error) {
	snap := rm.Snapshot()
	if r, ok := snap.Record(federation.Kind(kind), federation.Name(name)); ok {
		return r, nil
	}
	other := map[string]string{change.KindProvider: change.KindApplication,
		change.KindApplication: change.KindProvider}[kind]
	if _, ok := snap.Record(federation.Kind(other), federation.Name(name)); ok {
		return nil, &change.NotFoundError{Kind: kind, Name: name, Other: other}
	}
	return nil, change.NotFound(kind, name, nearword.Of(name, snap.Names(federation.Kind(kind))))
}

// standingError says that another record stands where one would go.
type standingError struct {
	*finding.Finding
	by federation.Name
}

// Unwrap gives the finding.
func (e *standingError) Unwrap() error { return e.Finding }

// Fits sees whether a record may stand beside the others: its identity, where
// applications share an address.
func (rm *Room) Fits(snap *federation.Snapshot, r federation.Record, identityField string) error {
	side := r.Part()
	known := func(kind string, name federation.Name) error {
		what := finding.Fact(federation.IdentityWord(side), side.Identity())
		if key := federation.KeyOf(side); key != side.Identity() {
			what = finding.Fact("Issuer or token endpoint, and client ID", key)
		}
		f := finding.New(finding.MetadataKnown, what, finding.Fact(kind, string(name)))
		return change.Field(identityField, &standingError{f, name})
	}
	if side.Identity() == "" {
		return nil
	}
	if r.Kind() == federation.KindProvider {
		if other, ok := snap.ProviderBy(side.Protocol(), federation.KeyOf(side)); ok && other.Name != r.Basic().Name {
			return known("Provider", other.Name)
		}
		return nil
	}
	a := r.(*federation.Application)
	if err := rm.unshared(rm.store.Read, snap, a); err != nil {
		return change.Field(identityField, err)
	}
	if other, ok := snap.ApplicationBy(side.Protocol(), side.Identity()); ok && a.Side.Shared() == federation.Together &&
		other.Name != a.Name && other.Side.Shared() == federation.Together {
		return known("Application", other.Name)
	}
	return nil
}

// Subjects names who knows which subjects applications know people by.
func (rm *Room) Subjects(has func(db *gorm.DB, name string) (bool, error)) { rm.isSubject = has }

// speaking are the applications that have names of their own in tokens, of one snapshot.
type speaking struct {
	of  *federation.Snapshot
	all federation.Speakers
}

// speakers gives those of a snapshot, which many records are held against.
func (rm *Room) speakers(snap *federation.Snapshot) federation.Speakers {
	last := rm.spoken.Load()
	if last == nil || last.of != snap {
		last = &speaking{snap, snap.Speakers()}
		rm.spoken.Store(last)
	}
	return last.all
}

// unshared sees that no name of an application in tokens is a person's, the gate's or
// another application's.
func (rm *Room) unshared(db *gorm.DB, snap *federation.Snapshot, a *federation.Application) error {
	side, ok := a.Side.(federation.Speaking)
	if !ok {
		return nil
	}
	if own, _ := side.Spoken(); own != "" && rm.isSubject != nil {
		if is, err := rm.isSubject(db, own); err != nil {
			return err
		} else if is {
			return finding.New(finding.NameShared, finding.Fact("Name", own),
				finding.Fact("Is already", "the subject of a person"))
		}
	}
	return rm.speakers(snap).Clash(a)
}

// tied sees that the set that a record names is there, and the provider that an
// application names.
func (rm *Room) tied(snap *federation.Snapshot, r federation.Record) error {
	if err := rm.shares(snap, r); err != nil {
		return err
	}
	a, ok := r.(*federation.Application)
	if !ok || a.Provider == "" {
		return nil
	}
	if _, ok := snap.Provider(a.Provider); !ok {
		return change.Field("provider", change.NotFound(change.KindProvider, string(a.Provider),
			nearword.Of(string(a.Provider), snap.Names(change.KindProvider))))
	}
	return nil
}

// Edit is one record about to be saved.
type Edit struct {
	Record   federation.Record
	What     string // as history says it
	Document []byte // to be kept, if there is one
	Quiet    bool   // nothing that history should tell of
}

// Put saves changes in one transaction, with their history, and swaps the
// snapshot. more is done in the same transaction. The lock is held.
func (rm *Room) Put(ctx context.Context, by change.By, changes []Edit, more func(tx *gorm.DB) error) error {
	return rm.commit(ctx, by, plan{edits: changes, more: more})
}

// plan is what one transaction does to the configuration.
type plan struct {
	edits   []Edit
	removed []federation.Record
	more    func(tx *gorm.DB) error
}

// commit carries a plan out: all of it, or nothing. The lock is held.
func (rm *Room) commit(ctx context.Context, by change.By, p plan) error {
	writes := make([]written, len(p.edits))
	self, over := rm.Snapshot().Gate, p.over(rm.Snapshot())
	for i, c := range p.edits {
		var err error
		if self, err = rm.needed(ctx, self, c.Record); err != nil {
			return err
		}
		if writes[i], err = rm.written(ctx, c); err != nil {
			return err
		}
		writes[i].over = over
	}
	if err := rm.weigh(ctx, by, over); err != nil {
		return err
	}
	var number int64
	if by.Together != nil {
		number = by.Together.Number
	}
	err := rm.store.Write(ctx, func(tx *gorm.DB) error {
		if by.Together != nil {
			by.Together.Number = number // it may be run again
		}
		for _, r := range p.removed {
			if err := rm.remove(tx, by, r); err != nil {
				return err
			}
		}
		for _, w := range writes {
			if err := rm.putOne(tx, by, w); err != nil {
				return err
			}
		}
		if p.more != nil {
			return p.more(tx)
		}
		return nil
	})
	if err != nil {
		if by.Together != nil {
			by.Together.Number = number // what had it is not there
		}
		return err
	}
	snap := p.over(rm.Snapshot()).WithGate(self)
	if slices.ContainsFunc(p.removed, func(r federation.Record) bool { return r.Kind() == federation.KindProvider }) {
		rm.sessions.Clear()
	}
	rm.show(snap)
	select {
	case rm.touched <- struct{}{}:
	default:
	}
	return nil
}

// Changed tells that something was saved, once however often.
func (rm *Room) Changed() <-chan struct{} { return rm.touched }

// over gives a snapshot as it is after the plan.
func (p plan) over(snap *federation.Snapshot) *federation.Snapshot {
	if len(p.removed) > 0 {
		snap = snap.Lacking(p.removed...)
	}
	records := make([]federation.Record, len(p.edits))
	for i, c := range p.edits {
		records[i] = c.Record
	}
	return snap.With(records...)
}

// written is an edit in the form in which it is stored. It is made before the
// transaction, which all others wait for.
type written struct {
	Edit
	row      any
	data     []byte
	document *store.Packed
	was      int                  // revision that the edit was made from, 0 if there was none
	secrets  map[string]string    // that calls name, by name
	over     *federation.Snapshot // as it is after the plan
}

func (rm *Room) written(ctx context.Context, c Edit) (w written, err error) {
	if err := rm.fillKeys(ctx, c.Record); err != nil {
		return w, err
	}
	if side, ok := c.Record.Part().(federation.Confiding); ok {
		var without federation.Side
		without, w.secrets = side.Confide(random.Text, rm.now())
		federation.Replace(c.Record, without)
	}
	b := c.Record.Basic()
	if side, ok := c.Record.Part().(federation.Redacting); ok && c.Document != nil {
		c.Document = side.Kept(c.Document)
	}
	w.Edit = c
	if c.Document != nil {
		document, err := store.Pack(c.Document)
		if err != nil {
			return w, err
		}
		w.document, b.Intake.Document = &document, document.Hash
	}
	if now, ok := rm.Snapshot().Record(c.Record.Kind(), b.Name); ok {
		w.was = now.Basic().Revision
	}
	w.row, w.data, err = row(c.Record)
	return w, err
}

func (rm *Room) putOne(tx *gorm.DB, by change.By, w written) error {
	b := w.Record.Basic()
	if w.document != nil {
		if err := w.document.Put(tx); err != nil {
			return err
		}
	}
	if err := change.Unchanged(tx, w.row, change.KindOf(w.Record), string(b.Name), w.was); err != nil {
		return err
	}
	if err := owned(tx, w.Record, rm.now()); err != nil {
		return err
	}
	if a, ok := w.Record.(*federation.Application); ok {
		if err := rm.unshared(tx, w.over, a); err != nil {
			return change.Field("clientId", err)
		}
	}
	for name, secret := range w.secrets {
		if err := rm.keyring.Confide(tx, name, secret); err != nil {
			return err
		}
	}
	if err := tx.Save(w.row).Error; err != nil || w.Quiet {
		return err
	}
	return change.Note{At: rm.now(), By: by, What: w.What, Revision: b.Revision, Data: w.data}.WriteOf(tx, w.Record)
}

// owned sees that a lasting identity belonged to no other record before, and notes
// whose it is.
func owned(tx *gorm.DB, r federation.Record, now time.Time) error {
	side, ok := r.Part().(federation.Lasting)
	id := r.Part().Identity()
	if !ok || !side.Lasting() || id == "" {
		return nil
	}
	var rows []store.IdentifierRow // at most one; no error for none
	err := tx.Where("protocol = ? AND identifier = ?", r.Part().Protocol(), id).Limit(1).Find(&rows).Error
	switch {
	case err != nil:
		return err
	case len(rows) == 0:
		return tx.Create(&store.IdentifierRow{Protocol: r.Part().Protocol(), Identifier: id, Record: string(r.Basic().ID),
			Since: now.UTC()}).Error
	case rows[0].Record != string(r.Basic().ID):
		return change.Field("clientId", finding.New(finding.IdentifierUsed, finding.Fact("Identifier", id)))
	}
	return nil
}

// Lock keeps others from changing the configuration: one change at a time.
func (rm *Room) Lock() {
	rm.saving.Lock()
	rm.began()
}

// TryLock does so if nobody changes it right now.
func (rm *Room) TryLock() bool {
	if !rm.saving.TryLock() {
		return false
	}
	rm.began()
	return true
}

func (rm *Room) began() {
	rm.swapping.Lock()
	defer rm.swapping.Unlock()
	rm.newcomers = nil // whoever looks at the configuration from here on sees them
}

// Unlock lets others change the configuration.
func (rm *Room) Unlock() { rm.saving.Unlock() }

// ReloadKeys puts the keys as stored into a new snapshot.
func (rm *Room) ReloadKeys(ctx context.Context) error {
	snap := rm.Snapshot()
	self := snap.Gate
	if err := rm.keyring.Own(ctx, &self); err != nil {
		return err
	}
	var apps []federation.Record
	for _, a := range snap.Applications() {
		if !a.Side.OwnKeys() {
			continue
		}
		b := a.Copy().(*federation.Application)
		b.Keys = federation.KeySet{}
		if err := rm.fillKeys(ctx, b); err != nil {
			return err
		}
		apps = append(apps, b)
	}
	rm.show(snap.WithGate(self).With(apps...))
	return nil
}

// Snapshot is the configuration at this moment.
func (rm *Room) Snapshot() *federation.Snapshot { return rm.snapshot.Load() }

// About is what the gate says of itself in its protocols.
func (rm *Room) About() []federation.Value {
	snap := rm.Snapshot()
	out := []federation.Value{}
	for _, p := range rm.order {
		out = append(out, p.About(&snap.Gate)...)
	}
	return out
}

// Protocols are the names of those that records of a kind can speak.
func (rm *Room) Protocols(kind string) []string {
	out := []string{}
	for _, p := range rm.order {
		if kind == change.KindProvider && p.Providers() || kind == change.KindApplication && p.Applications() {
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

// FreeName makes a short name out of a title, or out of the host of an entity ID,
// that no record has.
func (rm *Room) FreeName(snap *federation.Snapshot, kind, title, entityID string, taken map[string]bool) string {
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
		if !taken[name] && rm.Free(snap, kind, name) == nil {
			return name
		}
	}
}
