package federation

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/nearword"
)

// Kind is a kind of configuration object.
type Kind string

// Kinds of objects. Providers and applications are records: they have a protocol's side.
const (
	KindProvider     Kind = "provider"
	KindApplication  Kind = "application"
	KindSet          Kind = "set"
	KindGroup        Kind = "group"
	KindOrganisation Kind = "organisation"
	KindRanking      Kind = "ranking"
	KindAggregate    Kind = "aggregate"
)

// Title is the kind at the beginning of a label.
func (k Kind) Title() string { return strings.ToUpper(string(k[:1])) + string(k[1:]) }

// Ref names a configuration object.
type Ref struct {
	Kind Kind
	Name Name
}

// String is the path of the object, like provider/wrenmoor-staff.
func (r Ref) String() string { return string(r.Kind) + "/" + string(r.Name) }

// Object is one object of the configuration. One that is in a snapshot is never changed.
type Object interface {
	Ref() Ref
	// At is its revision, from 1 on.
	At() int
	// Since is when it was added.
	Since() time.Time
	// Next gives a copy at another revision. It keeps what lasts of the object in whose place it
	// comes, nil for none: since when there is one, else since now.
	Next(revision int, old Object, now time.Time) Object
	// Describe gives everything it says, in the words in which people read it.
	Describe() []Value
	// Refers are the objects that it names.
	Refers() []Reference
}

// Reference is an object that another one names.
type Reference struct {
	Ref
	Field string // that names it, of the one that does
}

// References makes references of the names in a field, without empty ones.
func References(field string, k Kind, names ...Name) (out []Reference) {
	for _, n := range names {
		if n != "" {
			out = append(out, Reference{Ref{k, n}, field})
		}
	}
	return out
}

// Naming is an object that names another one.
type Naming struct {
	By    Object
	Field string
}

// Object finds an object of any kind.
func (s *Snapshot) Object(r Ref) (Object, bool) {
	switch r.Kind {
	case KindProvider:
		p, ok := s.providers[r.Name]
		return p, ok
	case KindApplication:
		a, ok := s.apps[r.Name]
		return a, ok
	case KindSet:
		x, ok := s.sets[r.Name]
		return x, ok
	case KindGroup, KindOrganisation:
		x, ok := s.units.all[r.Kind][r.Name]
		return x, ok
	}
	x, ok := s.others[r]
	return x, ok
}

// Objects are all of a kind, by name.
func (s *Snapshot) Objects(k Kind) (out []Object) {
	switch k {
	case KindProvider:
		return objects(s.Providers())
	case KindApplication:
		return objects(s.Applications())
	case KindSet:
		return objects(s.Sets())
	case KindGroup, KindOrganisation:
		return objects(s.Units(k))
	}
	for r, x := range s.others {
		if r.Kind == k {
			out = append(out, x)
		}
	}
	slices.SortFunc(out, func(a, b Object) int { return cmp.Compare(a.Ref().Name, b.Ref().Name) })
	return out
}

func objects[T Object](all []T) []Object {
	out := make([]Object, len(all))
	for i, x := range all {
		out[i] = x
	}
	return out
}

// Names are the short names of all objects of a kind.
func (s *Snapshot) Names(k Kind) []string {
	out := []string{}
	for _, x := range s.Objects(k) {
		out = append(out, string(x.Ref().Name))
	}
	return out
}

// Referring are the objects that name one, sorted by path.
func (s *Snapshot) Referring(r Ref) (out []Naming) {
	for _, k := range s.Kinds() {
		for _, x := range s.Objects(k) {
			for _, to := range x.Refers() {
				if to.Ref == r {
					out = append(out, Naming{x, to.Field})
				}
			}
		}
	}
	return out
}

// Kinds are the kinds of objects that there are, each once.
func (s *Snapshot) Kinds() []Kind {
	out := []Kind{KindProvider, KindApplication, KindSet, KindGroup, KindOrganisation}
	for _, r := range slices.SortedFunc(maps.Keys(s.others), func(a, b Ref) int { return cmp.Compare(a.Kind, b.Kind) }) {
		if !slices.Contains(out, r.Kind) {
			out = append(out, r.Kind)
		}
	}
	return out
}

// Missing is the first object that one names and that is not there, as an error of the field that
// names it; nil if all are. The error is a SettingError.
func (s *Snapshot) Missing(x Object) error {
	for _, to := range x.Refers() {
		if _, ok := s.Object(to.Ref); ok {
			continue
		}
		err := fmt.Errorf("there is no %s %q", to.Kind, to.Name)
		if near := nearword.Of(string(to.Name), s.Names(to.Kind)); near != "" {
			err = fmt.Errorf("%w; did you mean %q?", err, near)
		}
		return &SettingError{to.Field, err}
	}
	return nil
}

// Having gives a snapshot that has all of these objects, in place of those of the same kinds and
// names, and lacks others. Records that share a set follow it.
func (s *Snapshot) Having(put, gone []Object) *Snapshot {
	t := s.clone()
	var records []Record
	var sets []Name
	units := s.units.list()
	drop := func(x Object) {
		units = slices.DeleteFunc(units, func(u *Unit) bool { return u.Ref() == x.Ref() })
	}
	touched := false
	rules := slices.ContainsFunc(slices.Concat(put, gone), func(x Object) bool {
		return x.Ref().Kind == KindRule ||
			x.Ref().Kind == KindRole
	})
	ways := slices.ContainsFunc(slices.Concat(put, gone), func(x Object) bool { return x.Ref().Kind == KindSelection })
	started := slices.ContainsFunc(slices.Concat(put, gone), func(x Object) bool { return x.Ref().Kind == KindStart })
	mail, opened := false, rules
	for _, x := range gone {
		switch x := x.(type) {
		case *Provider:
			t.dropProvider(x.Name)
			mail = mail || len(x.Domains) > 0
		case *Application:
			t.dropApplication(x.Name)
			opened, rules = true, rules || len(x.Admissions) > 0
		case *Set:
			delete(t.sets, x.Name)
		case *Unit:
			drop(x)
			touched = true
		default:
			delete(t.others, x.Ref())
		}
	}
	for _, x := range put {
		switch x := x.(type) {
		case *Set:
			t.sets[x.Name] = x
			sets = append(sets, x.Name)
		case Record:
			records = append(records, x)
			if p, is := x.(*Provider); is {
				old, there := s.providers[p.Name]
				mail = mail || len(p.Domains) > 0 && !there || there && !slices.Equal(old.Domains, p.Domains)
			}
			if a, is := x.(*Application); is {
				old, there := s.apps[a.Name]
				rules = rules || len(a.Admissions) > 0 && !there || there && !slices.Equal(old.Admissions, a.Admissions)
				opened = opened || !there || !old.sameDoor(a)
			}
		case *Unit:
			drop(x)
			units, touched = append(units, x), true
		case *Contexts:
			t.Gate.Contexts, t.others[x.Ref()] = x.Ranks, x
		default:
			t.others[x.Ref()] = x
		}
	}
	if touched {
		t.units = newUnits(units)
	}
	t.add(records)
	for _, n := range sets {
		t.add(t.Using(n))
	}
	if rules {
		t.readRules()
	}
	if started {
		t.readStarts()
	}
	if rules || opened {
		t.readDoors()
	}
	if ways {
		t.readWays()
	}
	if mail {
		t.readMail()
	}
	return t.list()
}

// Ref names the provider.
func (p *Provider) Ref() Ref { return Ref{KindProvider, p.Name} }

// Ref names the application.
func (a *Application) Ref() Ref { return Ref{KindApplication, a.Name} }

// Ref names the set.
func (s *Set) Ref() Ref { return Ref{KindSet, s.Name} }

// Ref names the unit.
func (x *Unit) Ref() Ref { return Ref{x.Kind, x.Name} }

// At is the revision.
func (b *Basics) At() int { return b.Revision }

// Since is when it was added.
func (b *Basics) Since() time.Time { return b.Added }

// At is the revision.
func (s *Set) At() int { return s.Revision }

// Since is when it was added.
func (s *Set) Since() time.Time { return s.Added }

// At is the revision.
func (x *Unit) At() int { return x.Revision }

// Since is when it was added.
func (x *Unit) Since() time.Time { return x.Added }

// Next gives a copy at another revision, under the ID of the one in whose place it comes.
func (p *Provider) Next(revision int, old Object, now time.Time) Object {
	return nextRecord(p, revision, old, now)
}

// Next gives a copy at another revision, under the ID of the one in whose place it comes.
func (a *Application) Next(revision int, old Object, now time.Time) Object {
	return nextRecord(a, revision, old, now)
}

func nextRecord(r Record, revision int, old Object, now time.Time) Object {
	c := r.Copy()
	c.Basic().Revision, c.Basic().Added = revision, since(old, c.Since(), now)
	if was, ok := old.(Record); ok {
		c.Basic().ID = was.Basic().ID
	}
	return c
}

// Next gives a copy at another revision.
func (s *Set) Next(revision int, old Object, now time.Time) Object {
	t := *s
	t.Revision, t.Added = revision, since(old, s.Added, now)
	return &t
}

// Next gives a copy at another revision.
func (x *Unit) Next(revision int, old Object, now time.Time) Object {
	y := *x
	y.Revision, y.Added = revision, since(old, x.Added, now)
	return &y
}

// since is when an object was added that comes in the place of another.
func since(old Object, own, now time.Time) time.Time {
	if old != nil {
		return old.Since()
	}
	if own.IsZero() {
		return now
	}
	return own
}

// Describe gives everything the record says, the other side's values first.
func (p *Provider) Describe() []Value { return describe(p) }

// Describe gives everything the record says, the other side's values first.
func (a *Application) Describe() []Value { return describe(a) }

// Describe gives title, way, notes and rules.
func (s *Set) Describe() []Value {
	return append([]Value{{Label: "Title", Value: s.Title}, {Label: "Way", Value: string(s.Way)},
		{Label: "Notes", Value: s.Notes}}, RuleValues("mapping", s.Mapping)...)
}

// Describe gives its settings under their labels.
func (x *Unit) Describe() []Value { return describeSettings(kindSettings[x.Kind], x.Settings()) }

// Refers are the set whose rules it shares, and whom its pilot includes.
func (p *Provider) Refers() []Reference {
	return append(References("intakeSet", KindSet, p.IntakeSet), p.cohorts()...)
}

// cohorts are the groups and organisations that cohorts of a record name.
func (b *Basics) cohorts() []Reference {
	groups, organisations, _ := b.CohortNames()
	return append(References("cohort", KindGroup, groups...), References("cohort", KindOrganisation, organisations...)...)
}

// Refers are the provider that it is tied to, the set whose rules it shares, its default role, and the groups that it
// admits.
func (a *Application) Refers() []Reference {
	return slices.Concat(References("provider", KindProvider, a.Provider), References("releaseSet", KindSet,
		a.ReleaseSet),
		References("defaultRole", KindRole, a.DefaultRole), References("admissions", KindGroup, a.Admissions.Groups()...),
		a.cohorts())
}

// Refers is nothing.
func (s *Set) Refers() []Reference { return nil }

// Refers are the group that a group lies in; of an organisation its providers and landing groups.
func (x *Unit) Refers() []Reference { return refers(kindSettings[x.Kind], x.Settings()) }

// Listed puts names into one text.
func Listed(names []Name) string {
	words := make([]string, len(names))
	for i, n := range names {
		words[i] = string(n)
	}
	return strings.Join(words, ", ")
}

// ContextsName is the short name of the one ranking of authentication contexts.
const ContextsName Name = "contexts"

// Contexts is the ranking of authentication contexts as an object of the configuration.
type Contexts struct {
	Revision int       `json:"revision"`
	Added    time.Time `json:"-"`
	Ranks    Ranking   `json:"ranks"`
}

// Ref names the one that there is.
func (c *Contexts) Ref() Ref { return Ref{KindRanking, ContextsName} }

// At is the revision.
func (c *Contexts) At() int { return c.Revision }

// Since is when the ranking was changed first.
func (c *Contexts) Since() time.Time { return c.Added }

// Next gives a copy at another revision.
func (c *Contexts) Next(revision int, old Object, now time.Time) Object {
	d := *c
	d.Revision, d.Added = revision, since(old, c.Added, now)
	return &d
}

// Describe gives a value for each context, under its rank.
func (c *Contexts) Describe() []Value {
	out := []Value{}
	for i, rank := range c.Ranks {
		for _, context := range rank {
			out = append(out, Value{Label: fmt.Sprintf("Rank %d", i+1), Value: context})
		}
	}
	return out
}

// Refers is nothing.
func (c *Contexts) Refers() []Reference { return nil }
