package profile

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/expression"
)

// Mapping says what becomes of attributes: of those that a provider gave on their way
// into a profile (intake), or of a profile's on their way to an application (release).
// It is data; Compile makes of it what a sign-in runs.
//
// The zero Mapping has no rules and changes nothing. One that is read from JSON is
// compiled already.
type Mapping struct {
	Rules []Rule `json:"rules,omitempty"`
	// Rest hands on what no rule reads, unchanged.
	Rest     bool `json:"rest,omitempty"`
	compiled *Compiled
}

// UnmarshalJSON reads and compiles; what is no part of a mapping is an error.
func (m *Mapping) UnmarshalJSON(data []byte) (err error) {
	type plain Mapping
	var in plain
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	err = d.Decode(&in)
	if te := (*json.UnmarshalTypeError)(nil); errors.As(err, &te) {
		return &MappingError{Cause: fmt.Sprintf("it is no mapping: %s is a %s, which cannot stand there; see docs/mapping.md",
			te.Field, te.Value)}
	} else if err != nil {
		return &MappingError{Cause: "it is no mapping: " + strings.TrimPrefix(err.Error(), "json: ")}
	}
	*m = Mapping(in)
	m.compiled, err = m.Compile()
	return err
}

// IsZero reports whether it changes nothing.
func (m Mapping) IsZero() bool { return len(m.Rules) == 0 }

// Names reports whether a rule makes the subject.
func (m Mapping) Names() bool {
	return slices.ContainsFunc(m.Rules, func(r Rule) bool { return r.To.Subject && !r.Omit })
}

// Run makes of somebody's attributes what the rules say. With tell it says what each
// rule did. A mandatory value that is missing is a finding.
func (m Mapping) Run(p Profile, way Way, tell bool) (Mapped, error) {
	c := m.compiled
	if c == nil {
		var err error
		if c, err = m.Compile(); err != nil {
			return Mapped{}, err
		}
	}
	return c.run(p, way, tell)
}

// Reads reports whether a rule reads an attribute, by name, friendly name or the
// beginning of a claim's path.
func (m Mapping) Reads(a Attribute) bool {
	return m.Sources() == "" || m.compiled.read(a)
}

// Rule makes one attribute.
type Rule struct {
	To Target `json:"to"`
	// From are the sources in order of preference: the first that has a value counts.
	From []Source `json:"from,omitempty"`
	// All takes the values of all sources, in their order.
	All bool `json:"all,omitempty"`
	// When is a condition in CEL; where it does not hold, the rule does nothing. See
	// package expression.
	When      string   `json:"when,omitempty"`
	Steps     []Step   `json:"steps,omitempty"`
	Default   []string `json:"default,omitempty"` // taken as they are, where nothing comes of the sources
	Mandatory bool     `json:"mandatory,omitempty"`
	// Keep is KeepPerson for values that are kept with the person, so that they are there
	// also when another sign-in does not bring them; "" for the session only.
	Keep string `json:"keep,omitempty"`
	// Omit takes away the rule of a set that makes the same; see Over.
	Omit bool   `json:"omit,omitempty"`
	Note string `json:"note,omitempty"` // why, for people
}

// Source is one of: an attribute, the person's name at the provider, a constant, an
// expression, and, of a release, the roles that they enter with.
type Source struct {
	// Attribute is a name, a friendly name, or the path of a claim: address.country.
	Attribute string `json:"attribute,omitempty"`
	Format    string `json:"nameFormat,omitempty"` // that it must have (SAML core §2.7.3.1), "" for any
	Subject   bool   `json:"subject,omitempty"`    // NameID or sub
	Role      bool   `json:"role,omitempty"`       // the values that are sent for the roles that they enter with
	Constant  string `json:"constant,omitempty"`
	// Expression is CEL that gives a value or a list of them; see package expression.
	Expression string `json:"expression,omitempty"`
}

// String says it for people.
func (s Source) String() string {
	switch {
	case s.Subject:
		return "the subject"
	case s.Role:
		return "the role"
	case s.Constant != "":
		return fmt.Sprintf("%q", s.Constant)
	case s.Expression != "":
		return s.Expression
	}
	return s.Attribute
}

// Target is what a rule makes.
type Target struct {
	Name     string `json:"name,omitempty"`
	Format   string `json:"nameFormat,omitempty"`
	Friendly string `json:"friendlyName,omitempty"`
	Subject  bool   `json:"subject,omitempty"` // the person's name, in place of an attribute
	Type     Type   `json:"type,omitempty"`    // that its values must have, "" for any
}

// String says it for people.
func (t Target) String() string {
	if t.Subject {
		return "the subject"
	}
	return t.Name
}

// KeepPerson keeps what an intake's rule makes with the person.
const KeepPerson = "person"

// Way is where a mapping stands.
type Way string

// Ways.
const (
	Intake  Way = "intake"
	Release Way = "release"
)

// Bounds of mappings.
const (
	MostRules   = 200
	mostSources = 20
	mostSteps   = 20
	mostPairs   = 2000  // of a look-up table
	longestText = 2000  // of a name, a constant, a pattern, in octets
	mostValues  = 10000 // that a rule may make
	longest     = 1 << 16
)

// MappingError says what is wrong with a mapping, and where.
type MappingError struct {
	Rule  int    // from 1; 0 for the mapping as a whole
	Field string // as a path in JSON, like steps[2].text, from 0
	Cause string // with the way out
}

// Error gives all of it.
func (e *MappingError) Error() string {
	if e.Rule == 0 {
		return e.Cause
	}
	return fmt.Sprintf("rule %d, %s: %s", e.Rule, e.Field, e.Cause)
}

// Sources names what the rules read, "" if it is everything: two mappings that read the
// same have the same.
func (m Mapping) Sources() string {
	if m.IsZero() || m.Rest || m.compiled == nil || m.compiled.whole {
		return ""
	}
	return m.compiled.sources
}

// String says what a rule does, in a line.
func (r Rule) String() string {
	words := []string{}
	for _, s := range r.From {
		words = append(words, s.String())
	}
	sep := " or "
	if r.All {
		sep = " and "
	}
	if r.Omit {
		return r.To.String() + ": not made, other than in the set"
	}
	out := r.To.String() + ": " + strings.Join(words, sep)
	if r.When != "" {
		out += ", when " + r.When
	}
	for _, s := range r.Steps {
		out += ", " + s.String()
	}
	if len(r.Default) > 0 {
		out += ", else " + strings.Join(r.Default, " and ")
	}
	if r.Mandatory {
		out += ", mandatory"
	}
	if r.Keep != "" {
		out += ", kept with the person"
	}
	return out
}

// Compile makes of a mapping what a sign-in runs; the error is a MappingError.
func (m Mapping) Compile() (*Compiled, error) {
	c := &Compiled{rest: m.Rest, reads: map[string]bool{}}
	if len(m.Rules) > MostRules {
		return nil, tooMany(len(m.Rules))
	}
	made := map[Target]int{}
	for i, r := range m.Rules {
		bad := func(field, cause string, args ...any) error {
			return &MappingError{i + 1, field, fmt.Sprintf(cause, args...)}
		}
		if err := r.To.check(bad); err != nil {
			return nil, err
		}
		key := Target{Name: r.To.Name, Format: r.To.Format, Subject: r.To.Subject}
		if other := made[key]; other > 0 {
			return nil, bad("to", "rule %d makes %s already and would be overwritten; give both sources to one rule",
				other, r.To)
		}
		made[key] = i + 1
		if r.Omit {
			if err := r.bare(bad); err != nil {
				return nil, err
			}
			continue
		}
		out, err := r.compile(bad)
		if err != nil {
			return nil, err
		}
		c.note(&out)
		c.rules = append(c.rules, out)
	}
	c.sum()
	return c, nil
}

func tooMany(n int) error {
	return &MappingError{Cause: fmt.Sprintf("there are %d rules; a mapping has at most %d", n, MostRules)}
}

// sum names what is read.
func (c *Compiled) sum() {
	names := slices.Sorted(maps.Keys(c.reads))
	c.sources = base64.RawURLEncoding.EncodeToString(sum(strings.Join(names, "\x1f")))
}

// note keeps what a rule reads.
func (c *Compiled) note(r *rule) {
	for _, s := range r.From {
		if s.Expression == "" {
			c.reads[s.Attribute] = true
		}
	}
	for _, e := range append(r.values, r.when) {
		if e == nil {
			continue
		}
		c.whole = c.whole || e.Everything
		for _, name := range e.Reads {
			c.reads[name] = true
		}
	}
}

func sum(s string) []byte {
	out := sha256.Sum256([]byte(s))
	return out[:12]
}

// wrong makes the error about a field.
type wrong func(field, cause string, args ...any) error

func (t Target) check(bad wrong) error {
	switch {
	case t.Subject && t.Name != "":
		return bad("to", "the subject has no other name; leave out %q, or the subject", t.Name)
	case !t.Subject && strings.TrimSpace(t.Name) == "":
		return bad("to.name", "it is empty; name the attribute that the rule makes")
	case len(t.Name) > longestText || len(t.Format) > longestText || len(t.Friendly) > longestText:
		return bad("to", "a name has more than %d octets", longestText)
	case strings.ContainsFunc(t.Name+t.Format+t.Friendly, control):
		return bad("to", "a name has control characters; leave them out")
	case !slices.Contains([]Type{"", Text, Number, Boolean, Time, Structure}, t.Type):
		return bad("to.type", "there is no type %q; use text, number, boolean, time or structure", t.Type)
	}
	return nil
}

func (s Source) check(field string, bad wrong) error {
	given := 0
	for _, is := range []bool{s.Attribute != "", s.Subject, s.Role, s.Constant != "", s.Expression != ""} {
		if is {
			given++
		}
	}
	switch {
	case given != 1:
		return bad(field, "it is to be one of an attribute, the subject, the role, a constant and an expression; %d are given", given)
	case s.Format != "" && s.Attribute == "":
		return bad(field+".nameFormat", "only an attribute has one; leave it out")
	case len(s.Attribute)+len(s.Format) > longestText || len(s.Constant) > longestText:
		return bad(field, "it has more than %d octets", longestText)
	case strings.ContainsFunc(s.Attribute+s.Format+s.Constant, control):
		return bad(field, "it has control characters; leave them out")
	}
	return nil
}

func control(r rune) bool { return r < 0x20 || r == 0x7f || r == 0xfffe || r == 0xffff }

func (r Rule) compile(bad wrong) (out rule, err error) {
	out = rule{Rule: r}
	switch {
	case len(r.From) == 0 && len(r.Default) == 0:
		return out, bad("from", "it has no source and no default, so nothing can come of it; name an attribute")
	case len(r.From) > mostSources:
		return out, bad("from", "there are %d sources; a rule has at most %d", len(r.From), mostSources)
	case len(r.Steps) > mostSteps:
		return out, bad("steps", "there are %d steps; a rule has at most %d", len(r.Steps), mostSteps)
	case r.Mandatory && len(r.Default) > 0:
		return out, bad("mandatory", "with a default it can never be missing; leave out one of the two")
	case r.Keep != "" && r.Keep != KeepPerson:
		return out, bad("keep", "%q is no way to keep a value; say person, or leave it out for the session only", r.Keep)
	case len(r.Note) > longestText:
		return out, bad("note", "it has more than %d octets", longestText)
	}
	for i, s := range r.From {
		field := fmt.Sprintf("from[%d]", i)
		if err := s.check(field, bad); err != nil {
			return out, err
		}
		if i > 0 && !r.All && r.From[i-1].Constant != "" {
			return out, bad(field, "it is never reached: %s before it always has a value", r.From[i-1])
		}
		out.paths = append(out.paths, strings.Split(s.Attribute, "."))
		e, err := celOf(field+".expression", s.Expression, expression.Values, bad)
		if err != nil {
			return out, err
		}
		out.values = append(out.values, e)
	}
	if out.when, err = celOf("when", r.When, expression.Condition, bad); err != nil {
		return out, err
	}
	for i, s := range r.Steps {
		do, err := s.compile(fmt.Sprintf("steps[%d]", i), bad)
		if err != nil {
			return out, err
		}
		out.do = append(out.do, do)
	}
	for _, d := range r.Default {
		v, ok := TextOf(d).as(r.To.kind())
		if !ok || len(d) > longestText || strings.ContainsFunc(d, control) {
			return out, bad("default", "%.60q is no %s that can be told", d, r.To.kind())
		}
		out.otherwise = append(out.otherwise, v)
	}
	return out, nil
}

// celOf compiles an expression, nil for none.
func celOf(field, text string, kind expression.Kind, bad wrong) (*expression.Expression, error) {
	if text == "" {
		return nil, nil
	}
	e, err := expression.Compile(text, kind)
	if err != nil {
		return nil, bad(field, "%v", err)
	}
	return e, nil
}

// kind is the type that a default has.
func (t Target) kind() Type {
	if t.Type == "" {
		return Text
	}
	return t.Type
}
