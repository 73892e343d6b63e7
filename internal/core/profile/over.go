package profile

import (
	"encoding/json"
	"slices"
)

// Over lays the rules of one connection over those of a set: a rule for the same target
// takes the place of the set's, one with Omit takes it away, and others come after. What
// is compiled is not compiled again. The error is a MappingError.
func Over(set, own Mapping) (Mapping, error) {
	if own.IsZero() && !own.Rest {
		return set, nil
	}
	base, err := set.ready()
	if err != nil {
		return Mapping{}, err
	}
	mine, err := own.ready()
	if err != nil {
		return Mapping{}, err
	}
	rules := slices.Clone(base)
	for _, r := range own.Rules {
		at := slices.IndexFunc(rules, func(s rule) bool { return s.To.Same(r.To) })
		with := slices.IndexFunc(mine, func(s rule) bool { return s.To.Same(r.To) }) // -1 with Omit
		switch {
		case at >= 0 && r.Omit:
			rules = slices.Delete(rules, at, at+1)
		case at >= 0:
			rules[at] = mine[with]
		case !r.Omit:
			rules = append(rules, mine[with])
		}
	}
	if len(rules) == 0 {
		return Mapping{}, &MappingError{Cause: "no rule of the set is left, and without rules everything would pass unchanged; " +
			"leave one, or name no set"}
	}
	return made(rules, set.Rest || own.Rest)
}

// ready are the rules of a mapping, ready to run.
func (m Mapping) ready() ([]rule, error) {
	if m.compiled != nil || m.IsZero() {
		return m.rules(), nil
	}
	c, err := m.Compile()
	if err != nil {
		return nil, err
	}
	return c.rules, nil
}

func (m Mapping) rules() []rule {
	if m.compiled == nil {
		return nil
	}
	return m.compiled.rules
}

// made is a mapping of rules that are ready to run.
func made(rules []rule, rest bool) (Mapping, error) {
	if len(rules) > MostRules {
		return Mapping{}, tooMany(len(rules))
	}
	c := &Compiled{rest: rest, rules: rules, reads: map[string]bool{}}
	out := Mapping{Rest: rest, compiled: c, Rules: make([]Rule, len(rules))}
	for i := range rules {
		out.Rules[i] = rules[i].Rule
		c.note(&rules[i])
	}
	c.sum()
	return out, nil
}

// Same reports whether two rules make the same.
func (t Target) Same(u Target) bool {
	return t.Name == u.Name && t.Format == u.Format && t.Subject == u.Subject
}

// Omits gives the place of the first rule that takes one of a set away, which is of use
// only over a set; -1 if there is none.
func (m Mapping) Omits() int { return slices.IndexFunc(m.Rules, func(r Rule) bool { return r.Omit }) }

// Keeps gives the place of the first rule that keeps values with the person, -1 if there
// is none.
func (m Mapping) Keeps() int {
	return slices.IndexFunc(m.Rules, func(r Rule) bool { return r.Keep != "" })
}

// Casts gives the place of the first rule that reads the role somebody enters with, -1 if there is none.
func (m Mapping) Casts() int {
	return slices.IndexFunc(m.Rules, func(r Rule) bool {
		return slices.ContainsFunc(r.From,
			func(s Source) bool { return s.Role })
	})
}

// Lasting are those of a profile's attributes that rules keep with the person, and the
// names of all that they would keep.
func (m Mapping) Lasting(attributes []Attribute) (out []Attribute, names []string) {
	for _, r := range m.Rules {
		if r.Keep == "" {
			continue
		}
		names = append(names, r.To.Name)
		for _, a := range attributes {
			if a.Name == r.To.Name && a.Format == r.To.Format {
				out = append(out, a)
			}
		}
	}
	return out, names
}

// Alike reports whether two mappings do the same.
func (m Mapping) Alike(n Mapping) bool {
	a, errA := json.Marshal(m)
	b, errB := json.Marshal(n)
	return errA == nil && errB == nil && string(a) == string(b)
}

// bare says what is wrong with a rule that takes one away and says more than that.
func (r Rule) bare(bad wrong) error {
	if len(r.From)+len(r.Steps)+len(r.Default) > 0 || r.All || r.When != "" || r.Mandatory || r.Keep != "" ||
		r.To.Type != "" {
		return bad("omit", "a rule that takes away that of the set says only which, in to; leave out the rest")
	}
	return nil
}

// ReadsOtherwise names those of some attributes that rules read which are not the same
// as those of an earlier mapping, or which pass where rules read them before. What is only
// not read any more is told for certain.
func (m Mapping) ReadsOtherwise(old Mapping, names []string) (out []string) {
	for _, name := range names {
		same := func(r Rule) bool {
			return slices.ContainsFunc(old.Rules, func(o Rule) bool { return o.like(r) })
		}
		reads := m.readers(name)
		passes := len(reads) == 0 && (m.IsZero() || m.Rest) && len(old.readers(name)) > 0
		if passes || slices.ContainsFunc(reads, func(r Rule) bool { return !same(r) }) {
			out = append(out, name)
		}
	}
	return out
}

// Makes names what is made of some attributes: by rules, or, where these let it pass, they
// themselves. The name of a rule that makes the subject is "".
func (m Mapping) Makes(names []string) (out []string) {
	for _, name := range names {
		readers := m.readers(name)
		for _, r := range readers {
			if !slices.Contains(out, r.To.Name) {
				out = append(out, r.To.Name)
			}
		}
		if (m.IsZero() || m.Rest && len(readers) == 0) && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// readers are the rules that read an attribute.
func (m Mapping) readers(name string) (out []Rule) {
	c := m.compiled
	if c == nil {
		return nil
	}
	for i := range c.rules {
		one := Compiled{rules: c.rules[i : i+1], reads: map[string]bool{}}
		one.note(&c.rules[i])
		if one.read(Attribute{Name: name}) {
			out = append(out, c.rules[i].Rule)
		}
	}
	return out
}

// like reports whether two rules do the same.
func (r Rule) like(s Rule) bool {
	r.Note, s.Note = "", ""
	return Mapping{Rules: []Rule{r}}.Alike(Mapping{Rules: []Rule{s}})
}
