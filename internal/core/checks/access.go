package checks

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
)

// access looks through the rules of an application, and whether anybody can enter.
func (c *Checker) access(l *List, a *federation.Application) {
	all, lets := c.rules(l, a)
	if all == nil {
		lets = lets || a.Everyone != federation.EveryoneNo || c.admits(a)
	}
	if !lets {
		l.Add(finding.New(finding.AccessEmpty, finding.Fact("everyone", a.Everyone)))
	}
	if all == nil && a.Everyone == "" {
		l.Add(finding.New(finding.AccessUndecided, finding.Fact("everyone", "not set")))
	}
	said, _ := a.Admissions.Read()
	for _, name := range a.Admissions.Groups() {
		if x := said[name]; !x.Holds(c.Now) {
			l.Add(finding.New(finding.AdmissionEnded, finding.Fact("Group", name), finding.Fact("Ended",
				x.Until.UTC().Format(time.RFC3339))))
		}
	}
}

// admits reports whether anybody is admitted by name: people, as far as that is known, or a group.
func (c *Checker) admits(a *federation.Application) bool {
	said, _ := a.Admissions.Read()
	for _, x := range said {
		if !x.Out && x.Holds(c.Now) {
			return true
		}
	}
	return c.Kept.Admitted[a.ID]
}

// rules finds those of an application's own rules, of the gate's for nil, that never decide. It gives the first
// of all that are looked at that is about everybody, for good, so that none behind it decides, and whether one up to
// it lets anybody in.
func (c *Checker) rules(l *List, a *federation.Application) (all *federation.Rule, lets bool) {
	app := federation.Name("")
	if a != nil {
		app = a.Name
	}
	var before []*federation.Rule
	for _, r := range c.Snap.Book(app).Rules {
		named := finding.Fact("Rule", string(r.Name)+": "+r.Title)
		ended := !r.Until.IsZero() && !c.Now.Before(r.Until)
		own := r.App == app // others decide on other applications, too
		switch {
		case own && r.Broken:
			l.Add(finding.New(finding.RuleBroken, named))
		case own && ended:
			l.Add(finding.New(finding.RuleEnded, named, finding.Fact("Ended", r.Until.UTC().Format(time.RFC3339))))
		case own:
			c.shadow(l, r, before, named)
			c.means(l, a, r, named)
		}
		if ended || all != nil {
			continue
		}
		lets = lets || r.Then != federation.Deny
		if before = append(before, r); r.Everybody() {
			all = r
		}
	}
	return all, lets
}

// shadow tells of a rule that never decides, because one before it is about all whom it is about.
func (c *Checker) shadow(l *List, r *federation.Rule, before []*federation.Rule, named finding.Evidence) {
	i := slices.IndexFunc(before, func(x *federation.Rule) bool { return c.covers(x, r) })
	if i < 0 {
		return
	}
	by := finding.Fact("Decided before, by", string(before[i].Name)+": "+before[i].Title)
	if before[i].Then != r.Then && c.covers(r, before[i]) {
		l.Add(finding.New(finding.RuleContradicts, named, by, finding.Fact("It says", string(r.Then)),
			finding.Fact("That one says", string(before[i].Then))))
		return
	}
	l.Add(finding.New(finding.RuleShadowed, named, by))
}

// covers reports whether a rule is about everybody whom another one is about, whenever that holds.
func (c *Checker) covers(x, r *federation.Rule) bool {
	around := func(g federation.Name) bool {
		return slices.Contains(x.Groups, g) && (!x.Alone || r.Alone) || !x.Alone &&
			slices.ContainsFunc(c.Snap.Around([]federation.Name{g}),
				func(n federation.Name) bool { return slices.Contains(x.Groups, n) })
	}
	at := slices.MaxFunc([]time.Time{c.Now, r.From}, time.Time.Compare)
	return !x.Broken && !x.From.After(at) && (x.Until.IsZero() || !r.Until.IsZero() && !x.Until.Before(r.Until)) &&
		(x.When == "" || x.When == r.When) &&
		within(x.People, r.People, nil) && within(x.Groups, r.Groups, around) &&
		within(x.Organisations, r.Organisations, nil) &&
		within(x.UserTypes, r.UserTypes, nil) && within(x.Providers, r.Providers, nil) &&
		within(x.Contexts, r.Contexts, func(context string) bool {
			return c.Snap.Gate.Contexts.Satisfies(federation.CompareMinimum, x.Contexts, context)
		}) && (len(x.Networks) == 0 || len(r.Networks) > 0 && !slices.ContainsFunc(r.Networks, func(n netip.Prefix) bool {
		return !slices.ContainsFunc(x.Networks, func(m netip.Prefix) bool {
			return m.Bits() <= n.Bits() &&
				m.Contains(n.Addr())
		})
	}))
}

// within reports whether a condition holds for everybody for whom another one does: it is none, or has all that that
// one names.
func within[T comparable](x, r []T, holds func(T) bool) bool {
	if holds == nil {
		holds = func(v T) bool { return slices.Contains(x, v) }
	}
	return len(x) == 0 || len(r) > 0 && !slices.ContainsFunc(r, func(v T) bool { return !holds(v) })
}

// means tells of what a rule asks for that nobody can have.
func (c *Checker) means(l *List, a *federation.Application, r *federation.Rule, named finding.Evidence) {
	if a != nil && a.Provider != "" && len(r.Providers) > 0 && !slices.Contains(r.Providers, a.Provider) {
		l.Add(finding.New(finding.RuleNever, named, finding.Compare("Provider", string(a.Provider),
			federation.Listed(r.Providers))))
	}
	marks := Once(c, "marks", c.marks)
	for _, mark := range r.UserTypes {
		if !slices.Contains(marks, mark) {
			l.Add(unmeant(finding.RuleValueUnknown, named, "User type", mark, marks))
		}
	}
	if len(r.Reads()) == 0 {
		return
	}
	known := Once(c, "known attributes", c.attributes)
	for _, name := range r.Reads() {
		if !slices.ContainsFunc(known, func(n string) bool { return profile.Word(n) == profile.Word(name) }) {
			l.Add(unmeant(finding.RuleValueUnknown, named, "Attribute", name, known))
		}
	}
}

// unmeant is a finding on something that a rule names and that nobody has, with the nearest that somebody has.
func unmeant(code finding.Code, named finding.Evidence, label, name string, known []string) *finding.Finding {
	f := finding.New(code, named, finding.Fact(label, name))
	if near := nearest(name, known); near != "" && near != name {
		f = f.With(finding.Fact("Nearest", near))
	}
	return f
}

// marks are the user types that records and people are known to have.
func (c *Checker) marks() []string {
	out := slices.Clone(c.Kept.UserTypes)
	for _, p := range c.Snap.Providers() {
		out = append(out, p.UserType)
		for _, r := range p.Mapping().Rules {
			if profile.Word(r.To.Name) != profile.AttributeUserType {
				continue
			}
			for _, s := range r.From {
				out = append(out, s.Constant)
			}
			out = append(out, r.Default...)
		}
	}
	for _, k := range []federation.Kind{federation.KindGroup, federation.KindOrganisation} {
		for _, u := range c.Snap.Units(k) {
			out = append(out, u.UserType)
		}
	}
	slices.Sort(out)
	return slices.DeleteFunc(slices.Compact(out), func(s string) bool { return strings.TrimSpace(s) == "" })
}

// attributes are those that profiles are known to have, by any provider.
func (c *Checker) attributes() (out []string) {
	out = append(out, profile.AttributeGroups, profile.AttributeOrganization, profile.AttributeUserType)
	out = append(out, c.Kept.Attributes...)
	for _, p := range c.Snap.Providers() {
		made, _ := c.profileOf(p)
		for _, a := range made {
			out = append(out, a.Name)
			if a.Friendly != "" {
				out = append(out, a.Friendly)
			}
		}
	}
	return out
}
