package federation

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/profile"
)

// Unit is a group or an organisation: what people belong to. Which people do is no
// configuration.
type Unit struct {
	Kind     Kind      `json:"-"`
	Name     Name      `json:"-"`
	Revision int       `json:"-"`
	Added    time.Time `json:"-"`
	Title    string    `json:"title"`
	Notes    string    `json:"notes,omitempty"`
	// UserType marks its people, where nothing nearer to them does.
	UserType string `json:"userType,omitempty"`

	// Of a group.

	// Inside is the group that it lies in, "" for none: its people are that one's too.
	Inside Name `json:"inside,omitempty"`
	// Values are what providers call it, beside its short name.
	Values []string `json:"values,omitempty"`

	// Of an organisation.

	// Providers are those of its people, each of one organisation only.
	Providers []Name `json:"providers,omitempty"`
	// Domains are those of its e-mail addresses, each of one organisation only.
	Domains []string `json:"domains,omitempty"`
	// Groups are those in which its people land when they first come.
	Groups []Name `json:"groups,omitempty"`
}

// units are those of a snapshot, with what they are found by.
type units struct {
	all      map[Kind]map[Name]*Unit
	byValue  map[string]*Unit // groups, by what providers call them, in small letters
	ofOwner  map[Name]*Unit   // organisations, by their providers
	byDomain map[string]*Unit
	place    map[Name]int // groups by their place, with the place of the one that each lies in, -1 for none
	names    []Name
	inside   []int
}

func newUnits(list []*Unit) *units {
	u := &units{all: map[Kind]map[Name]*Unit{KindGroup: {}, KindOrganisation: {}}, byValue: map[string]*Unit{},
		ofOwner: map[Name]*Unit{}, byDomain: map[string]*Unit{}}
	for _, x := range list {
		u.all[x.Kind][x.Name] = x
		if x.Kind == KindGroup {
			u.byValue[string(x.Name)] = x
		}
		for _, p := range x.Providers {
			u.ofOwner[p] = x
		}
		for _, d := range x.Domains {
			u.byDomain[d] = x
		}
	}
	for _, x := range u.all[KindGroup] {
		for _, v := range x.Values {
			u.byValue[profile.Small(v)] = x
		}
	}
	u.number()
	return u
}

// number gives groups their places.
func (u *units) number() {
	u.place = make(map[Name]int, len(u.all[KindGroup]))
	for n := range u.all[KindGroup] {
		u.place[n], u.names = len(u.names), append(u.names, n)
	}
	for _, n := range u.names {
		at, there := u.place[u.all[KindGroup][n].Inside]
		if !there {
			at = -1
		}
		u.inside = append(u.inside, at)
	}
}

func (u *units) list() (out []*Unit) {
	for _, of := range u.all {
		out = append(out, slices.Collect(maps.Values(of))...)
	}
	return out
}

// Unit finds a group or an organisation.
func (s *Snapshot) Unit(k Kind, n Name) (*Unit, bool) {
	x, ok := s.units.all[k][n]
	return x, ok
}

// Units gives all of a kind, by name.
func (s *Snapshot) Units(k Kind) []*Unit {
	return slices.SortedFunc(maps.Values(s.units.all[k]), func(a, b *Unit) int { return cmp.Compare(a.Name, b.Name) })
}

// GroupCalled finds the group that a provider calls so, in any case.
func (s *Snapshot) GroupCalled(value string) (*Unit, bool) {
	g, ok := s.units.byValue[profile.Small(value)]
	return g, ok
}

// OwnerOf finds the organisation that a provider belongs to.
func (s *Snapshot) OwnerOf(provider Name) (*Unit, bool) {
	o, ok := s.units.ofOwner[provider]
	return o, ok
}

// OrganisationAt finds the organisation that a domain of e-mail addresses belongs to.
func (s *Snapshot) OrganisationAt(domain string) (*Unit, bool) {
	domain, ok := profile.Domain(domain)
	o, known := s.units.byDomain[domain]
	return o, ok && known
}

// Around gives groups with all that these lie in, each once, the nearest first.
func (s *Snapshot) Around(groups []Name) []Name {
	out, _ := s.Surround(groups)
	return out
}

// GroupSet is a set of groups of a snapshot.
type GroupSet struct {
	at   map[Name]int
	bits []uint64
}

// Has reports whether a group is in it.
func (g GroupSet) Has(n Name) bool {
	i, there := g.at[n]
	return there && g.bits[i>>6]&(1<<(i&63)) != 0
}

// Surround gives them as a set, too.
func (s *Snapshot) Surround(groups []Name) (out []Name, set GroupSet) {
	u := s.units
	out, set = make([]Name, 0, len(groups)+8), GroupSet{u.place, make([]uint64, len(u.inside)/64+1)}
	for _, n := range groups {
		i, there := u.place[n]
		for there && set.bits[i>>6]&(1<<(i&63)) == 0 {
			set.bits[i>>6] |= 1 << (i & 63)
			out = append(out, u.names[i])
			i = u.inside[i]
			there = i >= 0
		}
	}
	return out, set
}

// Within gives a group with all that lie in it.
func (s *Snapshot) Within(group Name) (out []Name) {
	for _, x := range s.Units(KindGroup) {
		if slices.Contains(s.Around([]Name{x.Name}), group) {
			out = append(out, x.Name)
		}
	}
	return out
}

// Inside are the groups that lie in one, without those that lie deeper.
func (s *Snapshot) Inside(group Name) (out []Name) {
	for _, x := range s.Units(KindGroup) {
		if x.Inside == group {
			out = append(out, x.Name)
		}
	}
	return out
}

// LandingIn are the organisations whose people land in a group.
func (s *Snapshot) LandingIn(group Name) (out []Name) {
	for _, o := range s.Units(KindOrganisation) {
		if slices.Contains(o.Groups, group) {
			out = append(out, o.Name)
		}
	}
	return out
}

// MostUnits is how many groups, and how many organisations, there can be.
const MostUnits = 20000

// CheckUnit sees whether a unit can be used in a snapshot. The error is a SettingError.
func (s *Snapshot) CheckUnit(x *Unit) error {
	if strings.TrimSpace(x.Title) == "" {
		return &SettingError{"title", errors.New("the title is empty; give what people should read")}
	}
	for _, f := range []struct {
		field, text string
		most        int
	}{{"title", x.Title, 200}, {"notes", x.Notes, 20000}, {"userType", x.UserType, 100}} {
		if len(f.text) > f.most {
			return &SettingError{f.field, fmt.Errorf("it has %d octets; use at most %d", len(f.text), f.most)}
		}
		if err := CheckText(f.text, f.field == "notes"); err != nil {
			return &SettingError{f.field, err}
		}
	}
	if x.Kind == KindGroup {
		return s.checkGroup(x)
	}
	return s.checkOrganisation(x)
}

func (s *Snapshot) checkGroup(x *Unit) error {
	if len(x.Providers)+len(x.Domains)+len(x.Groups) > 0 {
		return &SettingError{"providers", errors.New("providers, domains and landing groups are those of an organisation")}
	}
	if err := s.names("inside", KindGroup, x.Inside); err != nil {
		return err
	}
	if x.Inside == x.Name || slices.Contains(s.Around([]Name{x.Inside}), x.Name) {
		path := []string{string(x.Name)}
		for _, n := range s.Around([]Name{x.Inside}) {
			if path = append(path, string(n)); n == x.Name {
				break
			}
		}
		return &SettingError{"inside", fmt.Errorf("it would lie inside itself: %s; have it lie in another group, or in none",
			strings.Join(path, " in "))}
	}
	if depth := len(s.Around([]Name{x.Inside})); depth >= deepest {
		return &SettingError{"inside", fmt.Errorf("groups would lie %d deep; at most %d", depth+1, deepest)}
	}
	if len(x.Values) > 100 {
		return &SettingError{"values", fmt.Errorf("%d values; use at most 100", len(x.Values))}
	}
	for i, v := range x.Values {
		field := fmt.Sprintf("values[%d]", i)
		if strings.TrimSpace(v) == "" || len(v) > 500 || CheckText(v, false) != nil {
			return &SettingError{field, errors.New("it is empty, or has more than 500 octets, or control characters")}
		}
		if g, ok := s.GroupCalled(v); ok && g.Name != x.Name {
			return &SettingError{field, fmt.Errorf("%q means the group %s already", v, g.Name)}
		}
	}
	if g, ok := s.GroupCalled(string(x.Name)); ok && g.Name != x.Name {
		return &SettingError{"name", fmt.Errorf("%q means the group %s already", x.Name, g.Name)}
	}
	return nil
}

// deepest is how deep groups may lie in each other.
const deepest = 12

func (s *Snapshot) checkOrganisation(x *Unit) error {
	if x.Inside != "" || len(x.Values) > 0 {
		return &SettingError{"inside", errors.New("only groups lie in each other, and have values")}
	}
	if len(x.Providers) > 1000 || len(x.Domains) > 1000 || len(x.Groups) > 100 {
		return &SettingError{"domains", errors.New("there are more than 1000 providers or domains, or 100 groups")}
	}
	for i, n := range x.Providers {
		field := fmt.Sprintf("providers[%d]", i)
		if _, ok := s.Provider(n); !ok {
			return &SettingError{field, missing("provider", string(n), s.Names(KindProvider))}
		}
		if o, ok := s.OwnerOf(n); ok && o.Name != x.Name {
			return &SettingError{field, fmt.Errorf("the provider %s is the organisation %s's already", n, o.Name)}
		}
		if d := s.public(n); d != "" {
			return &SettingError{field,
				fmt.Errorf("the provider %s names the domain %s, at which anybody can have an address; take it from "+
					"the provider's setting domains first", n, d)}
		}
	}
	for i, d := range x.Domains {
		field := fmt.Sprintf("domains[%d]", i)
		if err := CheckDomain(d); err != nil {
			return &SettingError{field, err}
		}
		if s.Gate.PublicMail.Has(d) {
			return &SettingError{field,
				fmt.Errorf("anybody can have an address at %s, so no organisation is known by it; leave it out, "+
					"and have its people land by their provider or by name", d)}
		}
		if o, ok := s.OrganisationAt(d); ok && o.Name != x.Name {
			return &SettingError{field, fmt.Errorf("the domain %s is the organisation %s's already", d, o.Name)}
		}
	}
	for i, n := range x.Groups {
		if err := s.names(fmt.Sprintf("groups[%d]", i), KindGroup, n); err != nil {
			return err
		}
	}
	return nil
}

// public is a domain of a provider at which anybody can have an address.
func (s *Snapshot) public(provider Name) string {
	p, there := s.Provider(provider)
	if !there {
		return ""
	}
	for _, text := range p.Domains {
		if d, err := ParseMailDomain(text); err == nil && s.Gate.PublicMail.Has(d.Domain) {
			return d.String()
		}
	}
	return ""
}

// CheckMail sees that no organisation's provider names a domain at which anybody can have an address.
func (s *Snapshot) CheckMail(r Record) error {
	d, name := s.public(r.Basic().Name), r.Basic().Name
	if o, owned := s.OwnerOf(name); owned && d != "" && r.Kind() == KindProvider {
		return &SettingError{"domains",
			fmt.Errorf("anybody can have an address at %s, and the provider is the organisation %s's; leave it out", d, o.Name)}
	}
	return nil
}

// names sees that a unit exists, unless none is named.
func (s *Snapshot) names(field string, k Kind, n Name) error {
	if _, ok := s.Unit(k, n); n == "" || ok {
		return nil
	}
	return &SettingError{field, missing(string(k), string(n), s.Names(k))}
}

func missing(kind, name string, names []string) error {
	err := fmt.Errorf("there is no %s %q", kind, name)
	if near := nearword.Of(name, names); near != "" {
		return fmt.Errorf("%w; did you mean %s?", err, near)
	}
	return err
}
