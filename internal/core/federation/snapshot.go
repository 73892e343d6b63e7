package federation

import (
	"maps"
	"slices"
	"strings"
	"sync"
)

// Snapshot is all configuration at one moment.
type Snapshot struct {
	Gate        Gate
	providers   map[Name]*Provider
	apps        map[Name]*Application
	providerIDs map[string]*Provider
	appIDs      map[string]*Application

	providerList func() *Directory[*Provider]
	appList      func() *Directory[*Application]
}

// NewSnapshot makes an empty snapshot of a gate.
func NewSnapshot(g Gate) *Snapshot { return Load(g, nil, nil) }

// Load makes a snapshot of many objects at once.
func Load(g Gate, providers []*Provider, apps []*Application) *Snapshot {
	s := &Snapshot{Gate: g, providers: map[Name]*Provider{}, apps: map[Name]*Application{},
		providerIDs: map[string]*Provider{}, appIDs: map[string]*Application{}}
	for _, p := range providers {
		s.addProvider(p)
	}
	for _, a := range apps {
		s.addApplication(a)
	}
	return s.list()
}

// list makes the lists by name, each when it is first asked for.
func (s *Snapshot) list() *Snapshot {
	s.providerList = sync.OnceValue(func() *Directory[*Provider] {
		return NewDirectory(slices.Collect(maps.Values(s.providers)), func(p *Provider) []string { return []string{string(p.Name), p.Title, p.EntityID()} })
	})
	s.appList = sync.OnceValue(func() *Directory[*Application] {
		return NewDirectory(slices.Collect(maps.Values(s.apps)), func(a *Application) []string { return []string{string(a.Name), a.Title, a.EntityID()} })
	})
	return s
}

func (s *Snapshot) clone() *Snapshot {
	return (&Snapshot{Gate: s.Gate, providers: maps.Clone(s.providers), apps: maps.Clone(s.apps),
		providerIDs: maps.Clone(s.providerIDs), appIDs: maps.Clone(s.appIDs)}).list()
}

func (s *Snapshot) addProvider(p *Provider) {
	if old, ok := s.providers[p.Name]; ok && s.providerIDs[old.EntityID()] == old {
		delete(s.providerIDs, old.EntityID())
	}
	s.providers[p.Name] = p
	if p.EntityID() != "" {
		s.providerIDs[p.EntityID()] = p
	}
}

func (s *Snapshot) addApplication(a *Application) {
	if old, ok := s.apps[a.Name]; ok && s.appIDs[old.EntityID()] == old {
		delete(s.appIDs, old.EntityID())
	}
	s.apps[a.Name] = a
	if !a.OwnFace && a.EntityID() != "" {
		s.appIDs[a.EntityID()] = a
	}
}

// WithGate gives a snapshot of the same objects for a gate that has changed.
func (s *Snapshot) WithGate(g Gate) *Snapshot {
	t := *s
	t.Gate = g
	return &t
}

// With gives a snapshot that has all of these, in place of those of the same
// names.
func (s *Snapshot) With(providers []*Provider, apps []*Application) *Snapshot {
	t := s.clone()
	for _, p := range providers {
		t.addProvider(p)
	}
	for _, a := range apps {
		t.addApplication(a)
	}
	return t
}

// WithProvider gives a snapshot that has p, in place of one of the same name.
func (s *Snapshot) WithProvider(p *Provider) *Snapshot { return s.With([]*Provider{p}, nil) }

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
func (s *Snapshot) WithApplication(a *Application) *Snapshot { return s.With(nil, []*Application{a}) }

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

// Providers gives all providers by name. The slice is shared and not to be
// changed.
func (s *Snapshot) Providers() []*Provider { return s.providerList().All }

// Applications gives all applications by name. The slice is shared and not to be
// changed.
func (s *Snapshot) Applications() []*Application { return s.appList().All }

// FindProviders gives a page of the providers that hold a text in name, title or
// entity ID, and how many there are in all.
func (s *Snapshot) FindProviders(text string, offset, limit int) ([]*Provider, int) {
	return s.providerList().Find(text, offset, limit)
}

// FindApplications gives a page of the applications that hold a text in name,
// title or entity ID, and how many there are in all.
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
