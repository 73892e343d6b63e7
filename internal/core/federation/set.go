package federation

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/profile"
)

// Set is a named mapping that several records share. What a record says itself is laid
// over it.
type Set struct {
	Name     Name            `json:"name"`
	Way      profile.Way     `json:"way"`
	Title    string          `json:"title"`
	Notes    string          `json:"notes,omitempty"`
	Mapping  profile.Mapping `json:"mapping"`
	Revision int             `json:"-"`
	Added    time.Time       `json:"-"`
}

// Check sees whether it can be used.
func (s *Set) Check() error {
	switch {
	case s.Way != profile.Intake && s.Way != profile.Release:
		return &SettingError{"way", fmt.Errorf("%q is no way; a set is for intake or release", s.Way)}
	case strings.TrimSpace(s.Title) == "":
		return &SettingError{"title", errors.New("the title is empty; give what people should read")}
	case len(s.Title) > 200 || len(s.Notes) > 20000:
		return &SettingError{"title", errors.New("the title has at most 200 octets, the notes have 20,000")}
	}
	for field, text := range map[string]string{"title": s.Title, "notes": s.Notes} {
		if err := CheckText(text, field == "notes"); err != nil {
			return &SettingError{field, err}
		}
	}
	if at := s.Mapping.Omits(); at >= 0 {
		return &SettingError{fmt.Sprintf("mapping.rules[%d].omit", at),
			errors.New("a set is not laid over another; leave the rule out")}
	}
	return nil
}

// kindOf is the kind of records that sets of a way are for.
func (s *Set) kind() Kind {
	if s.Way == profile.Intake {
		return KindProvider
	}
	return KindApplication
}

// Mapping is the intake mapping as it acts: its own, over that of its set.
func (p *Provider) Mapping() profile.Mapping {
	if p.IntakeSet != "" && p.shared != nil {
		return *p.shared
	}
	return p.IntakeMapping
}

// Mapping is the release mapping as it acts: its own, over that of its set.
func (a *Application) Mapping() profile.Mapping {
	if a.ReleaseSet != "" && a.shared != nil {
		return *a.shared
	}
	return a.ReleaseMapping
}

// MappingOf is the mapping of a record as it acts, and the set that it names, "" for none.
func MappingOf(r Record) (profile.Mapping, Name) {
	set, _, own := sharing(r)
	switch r := r.(type) {
	case *Provider:
		return r.Mapping(), set
	case *Application:
		return r.Mapping(), set
	}
	return own, set
}

// OwnMapping are the rules of a record itself, without those of its set.
func OwnMapping(r Record) profile.Mapping {
	_, _, own := sharing(r)
	return own
}

// sharing is the set that a record names, "" for none, the field, and its own mapping.
func sharing(r Record) (set Name, field string, own profile.Mapping) {
	switch r := r.(type) {
	case *Provider:
		return r.IntakeSet, "intake", r.IntakeMapping
	case *Application:
		return r.ReleaseSet, "release", r.ReleaseMapping
	}
	return "", "", profile.Mapping{}
}

// Resolved gives a record with the mapping as it acts, by the sets of the snapshot. The
// error is a SettingError.
func (s *Snapshot) Resolved(r Record) (Record, error) {
	name, field, own := sharing(r)
	if name == "" {
		if at := own.Omits(); at >= 0 {
			return r, &SettingError{fmt.Sprintf("%sMapping.rules[%d].omit", field, at),
				errors.New("there is no set whose rule it would take away; leave the rule out")}
		}
		return r, nil
	}
	set, ok := s.sets[name]
	switch {
	case !ok:
		say := fmt.Errorf("there is no set %q", name)
		if near := nearword.Of(string(name), s.Names(KindSet)); near != "" {
			say = fmt.Errorf("%w; did you mean %s?", say, near)
		}
		return r, &SettingError{field + "Set", say}
	case set.kind() != r.Kind():
		return r, &SettingError{field + "Set", fmt.Errorf("the set %q is for %s; name one for %s", name, set.Way, field)}
	}
	both, err := profile.Over(set.Mapping, own)
	if err != nil {
		return r, &SettingError{field + "Mapping", fmt.Errorf("over the set %q: %w", name, err)}
	}
	c := r.Copy()
	switch c := c.(type) {
	case *Provider:
		c.shared = &both
	case *Application:
		c.shared = &both
	}
	return c, nil
}

// Flat gives a record that says itself what it has of its set, to be checked as a whole.
func Flat(r Record) Record {
	c := r.Copy()
	switch c := c.(type) {
	case *Provider:
		c.IntakeMapping, c.IntakeSet = c.Mapping(), ""
	case *Application:
		c.ReleaseMapping, c.ReleaseSet = c.Mapping(), ""
	}
	return c
}

// OmitsOnlyWhatIs sees that a record leaves out no rule that its set does not have: nothing
// would come of that, and a mistyped name would be told as ever.
func (s *Snapshot) OmitsOnlyWhatIs(r Record) error {
	name, field, own := sharing(r)
	set, ok := s.sets[name]
	if !ok {
		return nil
	}
	names := []string{}
	for _, rule := range set.Mapping.Rules {
		names = append(names, rule.To.String())
	}
	for i, rule := range own.Rules {
		if !rule.Omit || slices.ContainsFunc(set.Mapping.Rules, func(x profile.Rule) bool { return x.To.Same(rule.To) }) {
			continue
		}
		way := "it makes " + strings.Join(names, ", ")
		if near := nearword.Of(rule.To.String(), names); near != "" {
			way = "did you mean " + near + "?"
		}
		return &SettingError{fmt.Sprintf("%sMapping.rules[%d].to", field, i),
			fmt.Errorf("the set %s makes no %s that could be left out; %s", name, rule.To, way)}
	}
	return nil
}

// Set finds a set by name.
func (s *Snapshot) Set(n Name) (*Set, bool) { set, ok := s.sets[n]; return set, ok }

// Sets are all sets, by name.
func (s *Snapshot) Sets() []*Set {
	return slices.SortedFunc(maps.Values(s.sets), func(a, b *Set) int {
		return strings.Compare(string(a.Name),
			string(b.Name))
	})
}

// Using are the records that share a set.
func (s *Snapshot) Using(n Name) (out []Record) {
	for _, r := range s.Records() {
		if name, _, _ := sharing(r); name == n {
			out = append(out, r)
		}
	}
	return out
}
