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

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/freshness"
	"innergate.example/innergate/internal/gate/keyring"
	"innergate.example/innergate/internal/gate/sessions"
	"innergate.example/innergate/internal/store"
)

// Room holds the configuration.
type Room struct {
	spoken    atomic.Pointer[speaking]
	store     *store.Store
	now       func() time.Time
	fetch     *fetch.Fetcher
	sessions  *sessions.Room
	keyring   *keyring.Room
	freshness *freshness.Room
	editions  *editions.Room
	order     []crossing.Protocol
	protocols map[string]crossing.Protocol
	kinds     map[federation.Kind]Kind
	kindOrder []federation.Kind
	described []*federation.Description
	snapshot  atomic.Pointer[federation.Snapshot]
	saving    sync.Mutex        // one change of configuration at a time
	swapping  sync.Mutex        // of the snapshot
	newcomers []federation.Unit // groups that sign-ins made since a change of configuration began
	touched   chan struct{}
	owners    func(context.Context) (int64, error)
	// weighing are the rooms that tell what a change does to people.
	weighing []Weighing
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
	Kinds     []*federation.Description // further ones
}

// New loads the configuration: that of the gate itself is self with what the
// protocols, the ranking of contexts and the keys add. The first of the protocols
// is that of records of before there were several.
func New(ctx context.Context, p Parts, self federation.Gate, protocols []crossing.Protocol) (*Room, error) {
	rm := &Room{store: p.Store, now: p.Now, fetch: p.Fetch, sessions: p.Sessions, keyring: p.Keys, freshness: p.Freshness,
		editions: p.Editions,
		order:    protocols, protocols: map[string]crossing.Protocol{}, kinds: map[federation.Kind]Kind{},
		touched: make(chan struct{}, 1),
		owners:  func(context.Context) (int64, error) { return 0, nil }}
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
	if err = rm.keyring.Own(ctx, &self); err != nil {
		return nil, err
	}
	for name, to := range map[string]*[]byte{keyring.Pairwise: &self.Pairwise, keyring.Handles: &self.Handles} {
		if *to, err = rm.keyring.Secret(ctx, name); err != nil {
			return nil, err
		}
	}
	for _, k := range append(rm.recordKinds(), rm.setKind(), rm.groupKind(), rm.organisationKind(), rm.rankingKind()) {
		rm.Register(k)
	}
	for _, d := range p.Kinds {
		k := Described(d)
		if slices.Contains([]federation.Kind{federation.KindRule, federation.KindRole, federation.KindStart}, d.Kind) {
			k.Fits = rm.namesPeople(k.Fits)
		}
		rm.Register(k)
	}
	rm.described = p.Kinds
	return rm, rm.load(ctx, self)
}

// Unproved reports whether there is a trust key that the document on record was
// not held against.
func Unproved(r federation.Record) bool {
	b := r.Basic()
	return b.TrustKey != "" && !b.Intake.Verified
}

// Read turns what is stored into a record. One of before there were several protocols is of the
// first.
func (rm *Room) Read(s federation.Stored) (federation.Record, error) {
	if s.Protocol == "" {
		s.Protocol = rm.order[0].Name()
	}
	by, ok := rm.protocols[s.Protocol]
	if !ok {
		return nil, fmt.Errorf("%s %s speaks %q, which this build does not know", s.Kind, s.Name, s.Protocol)
	}
	return federation.Unmarshal(by, s)
}

// load makes the snapshot from the store.
func (rm *Room) load(ctx context.Context, self federation.Gate) error {
	all, err := rm.loadObjects()
	if err != nil {
		return err
	}
	records, err := rm.loadRecords()
	if err != nil {
		return err
	}
	for _, o := range records {
		r := o.(federation.Record)
		if err := rm.fillKeys(ctx, r); err != nil {
			return fmt.Errorf("%s: %w", r.Ref(), err)
		}
		if self, err = rm.needed(ctx, self, r); err != nil {
			return fmt.Errorf("%s: %w", r.Ref(), err)
		}
	}
	var given []federation.Object // what there always is, unless it was changed
	for _, name := range rm.kindOrder {
		if k := rm.kinds[name]; k.Given != nil {
			given = append(given, k.Given())
		}
	}
	snap := federation.Load(self, given...).Having(append(all, records...), nil)
	for _, r := range records {
		if _, err := snap.Resolved(r.(federation.Record)); err != nil { // without its set it would say more than it may
			return fmt.Errorf("%s: %w", r.Ref(), err)
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
	side := r.Part().Can().Needing
	if side == nil {
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

// reloadKeys puts the keys as stored into a new snapshot.
func (rm *Room) reloadKeys(ctx context.Context) error {
	snap := rm.Snapshot()
	self := snap.Gate
	if err := rm.keyring.Own(ctx, &self); err != nil {
		return err
	}
	var apps []federation.Object
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
