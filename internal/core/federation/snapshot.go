package federation

import (
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
)

// Snapshot is all configuration at one moment.
type Snapshot struct {
	Gate        Gate
	providers   map[Name]*Provider
	apps        map[Name]*Application
	providerIDs map[identity]*Provider
	appIDs      map[identity]*Application
	leaving     map[Name]*Application // those that somebody else may take the identity of
	byID        map[ID]Name           // of applications
	sets        map[Name]*Set
	units       *units           // shared, never changed
	others      map[Ref]Object   // of kinds that nothing is found by here
	rules       map[*Plain]*Rule // as they were read
	roles       map[*Plain]*Role
	ways        *waysBook      // rules of provider selection
	mail        *mailIndex     // domains of addresses
	books       map[Name]*Book // access rules by application, "" of those that have none of their own
	starts      starts
	doors       *doors

	providerList func() *Directory[*Provider]
	appList      func() *Directory[*Application]
	pilotList    func() []*Provider
}

// identity is what a record is known by in its protocol.
type identity struct{ protocol, id string }

func identityOf(s Side) identity { return identity{s.Protocol(), KeyOf(s)} }

// NewSnapshot makes an empty snapshot of a gate.
func NewSnapshot(g Gate) *Snapshot { return empty(g) }

// Load makes a snapshot of many objects at once.
func Load(g Gate, all ...Object) *Snapshot { return empty(g).Having(all, nil) }

func empty(g Gate) *Snapshot {
	s := &Snapshot{Gate: g, providers: map[Name]*Provider{}, apps: map[Name]*Application{},
		providerIDs: map[identity]*Provider{}, appIDs: map[identity]*Application{}, leaving: map[Name]*Application{},
		byID: map[ID]Name{}, sets: map[Name]*Set{}, units: newUnits(nil), others: map[Ref]Object{}}
	return s.list()
}

func (s *Snapshot) add(records []Record) {
	for _, r := range records {
		r, _ = s.Resolved(r) // one that cannot be was never saved
		switch r := r.(type) {
		case *Provider:
			s.addProvider(r)
		case *Application:
			s.addApplication(r)
		}
	}
}

// list makes the lists by name, each when it is first asked for.
func (s *Snapshot) list() *Snapshot {
	s.providerList = sync.OnceValue(func() *Directory[*Provider] {
		return NewDirectory(slices.Collect(maps.Values(s.providers)),
			func(p *Provider) []string { return []string{string(p.Name), p.Title, KnownAs(p)} })
	})
	s.appList = sync.OnceValue(func() *Directory[*Application] {
		return NewDirectory(slices.Collect(maps.Values(s.apps)),
			func(a *Application) []string { return []string{string(a.Name), a.Title, KnownAs(a)} })
	})
	s.pilotList = sync.OnceValue(func() (out []*Provider) {
		for _, p := range s.providers {
			if p.Phase == Pilot || p.NextPhase == Pilot {
				out = append(out, p)
			}
		}
		return out
	})
	return s
}

func (s *Snapshot) clone() *Snapshot {
	return (&Snapshot{Gate: s.Gate, providers: maps.Clone(s.providers), apps: maps.Clone(s.apps),
		providerIDs: maps.Clone(s.providerIDs), appIDs: maps.Clone(s.appIDs), leaving: maps.Clone(s.leaving),
		byID: maps.Clone(s.byID), sets: maps.Clone(s.sets), units: s.units, others: maps.Clone(s.others), rules: s.rules,
		roles: s.roles, books: s.books, ways: s.ways, mail: s.mail,
		starts: s.starts, doors: s.doors}).list()
}

// Piloting reports whether a provider by which people may come to an application is in its pilot now, so that it
// counts who they are before they come.
func (s *Snapshot) Piloting(app *Application, now time.Time) bool {
	return slices.ContainsFunc(s.pilotList(), func(p *Provider) bool {
		phase, c := p.PhaseAt(now)
		return phase == Pilot && (app.Provider == "" || app.Provider == p.Name) &&
			len(c.People)+len(c.Groups)+len(c.Organisations)+c.Share > 0
	})
}

func (s *Snapshot) addProvider(p *Provider) {
	if p.standing == nil {
		p.standing = p.Rollout.read()
	}
	s.dropProvider(p.Name)
	s.providers[p.Name] = p
	if id := identityOf(p.Side); id.id != "" {
		s.providerIDs[id] = p
	}
}

func (s *Snapshot) dropProvider(n Name) {
	if old, ok := s.providers[n]; ok && s.providerIDs[identityOf(old.Side)] == old {
		delete(s.providerIDs, identityOf(old.Side))
	}
	delete(s.providers, n)
}

func (s *Snapshot) addApplication(a *Application) {
	if a.standing == nil {
		a.standing = a.Rollout.read()
	}
	s.dropApplication(a.Name)
	s.apps[a.Name], s.byID[a.ID] = a, a.Name
	id, how := identityOf(a.Side), a.Side.Shared()
	if id.id == "" || how == Alone {
		return
	}
	if how == Leaving {
		s.leaving[a.Name] = a
	}
	if other := s.appIDs[id]; other == nil || how == Together {
		s.appIDs[id] = a
	}
}

func (s *Snapshot) dropApplication(n Name) {
	old, ok := s.apps[n]
	if ok && s.byID[old.ID] == n {
		delete(s.byID, old.ID)
	}
	delete(s.apps, n)
	delete(s.leaving, n)
	if !ok || s.appIDs[identityOf(old.Side)] != old {
		return
	}
	id := identityOf(old.Side)
	delete(s.appIDs, id)
	for _, a := range s.leaving { // one that is leaving may still be known by it
		if identityOf(a.Side) == id {
			s.appIDs[id] = a
		}
	}
}

// WithGate gives a snapshot of the same objects for a gate that has changed.
func (s *Snapshot) WithGate(g Gate) *Snapshot {
	t := *s
	t.Gate = g
	return &t
}

// With gives a snapshot that has all of these, in place of those of the same
// kinds and names.
func (s *Snapshot) With(put ...Object) *Snapshot { return s.Having(put, nil) }

// Lacking gives a snapshot without some objects.
func (s *Snapshot) Lacking(gone ...Object) *Snapshot { return s.Having(nil, gone) }

// Record finds a record by kind and name.
func (s *Snapshot) Record(k Kind, n Name) (Record, bool) {
	if k == KindProvider {
		if p, ok := s.providers[n]; ok {
			return p, true
		}
		return nil, false
	}
	if a, ok := s.apps[n]; ok {
		return a, true
	}
	return nil, false
}

// Provider finds a provider by name.
func (s *Snapshot) Provider(n Name) (*Provider, bool) { p, ok := s.providers[n]; return p, ok }

// Application finds an application by name; by PortalName the gate's own portal, if it has one.
func (s *Snapshot) Application(n Name) (*Application, bool) {
	if n == PortalName {
		return s.Gate.Portal, s.Gate.Portal != nil
	}
	a, ok := s.apps[n]
	return a, ok
}

// ProviderBy finds a provider by protocol and identity, or what it has in place of one
// (KeyOf).
func (s *Snapshot) ProviderBy(protocol, id string) (*Provider, bool) {
	p, ok := s.providerIDs[identity{protocol, id}]
	return p, ok
}

// ApplicationBy finds an application by protocol and identity, as far as it is
// shared: those with an address of their own are found by their name, because
// tenants of one service may have the same identity there.
func (s *Snapshot) ApplicationBy(protocol, id string) (*Application, bool) {
	a, ok := s.appIDs[identity{protocol, id}]
	return a, ok
}

// Rival is another record that has the identity which a record would have for itself, before or
// after a change. Applications with an address of their own may have the same one.
func Rival(before, after *Snapshot, r Record) (Record, bool) {
	id := identityOf(r.Part())
	if id.id == "" || !onItsOwn(r) {
		return nil, false
	}
	for _, s := range []*Snapshot{before, after} {
		var other Record
		if p, ok := s.providerIDs[id]; ok && r.Kind() == KindProvider {
			other = p
		} else if a, ok := s.appIDs[id]; ok && r.Kind() == KindApplication {
			other = a
		}
		if other == nil || other.Ref() == r.Ref() {
			continue
		}
		now, there := after.Record(r.Kind(), other.Basic().Name)
		if there && identityOf(now.Part()) == id && onItsOwn(now) {
			return now, true
		}
	}
	return nil, false
}

// onItsOwn reports whether a record has its identity for itself.
func onItsOwn(r Record) bool {
	a, is := r.(*Application)
	return !is || a.Side.Shared() == Together
}

// ApplicationOf finds an application by the ID of its record.
func (s *Snapshot) ApplicationOf(id ID) (*Application, bool) {
	name, ok := s.byID[id]
	if !ok {
		return nil, false
	}
	return s.Application(name)
}

// ProviderOf gives the provider of an ID.
func (s *Snapshot) ProviderOf(id ID) (*Provider, bool) {
	for _, p := range s.Providers() {
		if p.ID == id {
			return p, true
		}
	}
	return nil, false
}

// Providers gives all providers by name. The slice is shared and not to be
// changed.
func (s *Snapshot) Providers() []*Provider { return s.providerList().All }

// Applications gives all applications by name. The slice is shared and not to be
// changed.
func (s *Snapshot) Applications() []*Application { return s.appList().All }

// FindProviders gives a page of the providers that hold a text in name, title or
// identity, and how many there are in all.
func (s *Snapshot) FindProviders(text string, offset, limit int) ([]*Provider, int) {
	return s.providerList().Find(text, offset, limit)
}

// FindApplications gives a page of the applications that hold a text in name,
// title or identity, and how many there are in all.
func (s *Snapshot) FindApplications(text string, offset, limit int) ([]*Application, int) {
	return s.appList().Find(text, offset, limit)
}

// Directory is a list by name that can be searched for any part of a text. Each
// entry has a sieve: a few bits for every pair of letters in it, so that a search
// reads only entries that may match.
type Directory[T any] struct {
	All    []T
	text   string   // all texts in lower case, one behind the other
	ends   []uint32 // of each text in it
	each   int      // texts of one entry
	sieves []sieve
}

type sieve [4]uint64

func (s *sieve) add(text string) {
	for i := 1; i < len(text); i++ {
		h := uint(text[i-1])*131 + uint(text[i])*7
		s[h>>6&3] |= 1 << (h & 63)
	}
}

func (s *sieve) holds(other *sieve) bool {
	return (other[0]&^s[0])|(other[1]&^s[1])|(other[2]&^s[2])|(other[3]&^s[3]) == 0
}

// NewDirectory makes a list; of gives the texts that are searched, first the name
// to sort by.
func NewDirectory[T any](all []T, of func(T) []string) *Directory[T] {
	d := &Directory[T]{All: all, sieves: make([]sieve, len(all)), ends: []uint32{0}}
	type keyed struct {
		texts []string
		it    T
	}
	rows := make([]keyed, len(all))
	for i, x := range all {
		rows[i] = keyed{of(x), x}
	}
	slices.SortFunc(rows, func(a, b keyed) int { return strings.Compare(a.texts[0], b.texts[0]) })
	var b strings.Builder
	for i, r := range rows {
		d.All[i], d.each = r.it, len(r.texts)
		for _, text := range r.texts {
			text = strings.ToLower(text)
			d.sieves[i].add(text)
			b.WriteString(text)
			d.ends = append(d.ends, uint32(b.Len()))
		}
	}
	d.text = b.String()
	return d
}

// Find gives a page of those that hold a text, in any case, and how many there
// are in all.
func (d *Directory[T]) Find(text string, offset, limit int) ([]T, int) {
	if text == "" {
		from := min(offset, len(d.All))
		return d.All[from:min(from+limit, len(d.All))], len(d.All)
	}
	text = strings.ToLower(text)
	var want sieve
	want.add(text)
	var page []T
	total := 0
	for i := range d.sieves {
		if !d.sieves[i].holds(&want) || !d.has(i, text) {
			continue
		}
		if total >= offset && len(page) < limit {
			page = append(page, d.All[i])
		}
		total++
	}
	return page, total
}

// has reports whether one of an entry's texts holds a text.
func (d *Directory[T]) has(entry int, text string) bool {
	for k := entry * d.each; k < (entry+1)*d.each; k++ {
		if strings.Contains(d.text[d.ends[k]:d.ends[k+1]], text) {
			return true
		}
	}
	return false
}

// Records are all providers and applications.
func (s *Snapshot) Records() []Record {
	providers, apps := s.Providers(), s.Applications()
	out := make([]Record, 0, len(providers)+len(apps))
	for _, p := range providers {
		out = append(out, p)
	}
	for _, a := range apps {
		out = append(out, a)
	}
	return out
}
