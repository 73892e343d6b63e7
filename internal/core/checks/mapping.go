package checks

import (
	"fmt"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/profile"
)

// Arrived is what a provider sent in recorded sign-ins of late.
type Arrived struct {
	SignIns    int                 // that were looked at
	Attributes []profile.Attribute // each once, without values
}

// has reports whether an attribute is among them, by name, friendly name or the
// beginning of a path.
func (a Arrived) has(name string) bool {
	first, _, _ := strings.Cut(name, ".")
	return slices.ContainsFunc(a.Attributes, func(x profile.Attribute) bool {
		return x.Name == name || x.Friendly == name || x.Name == first
	})
}

func (a Arrived) names() (out []string) {
	for _, x := range a.Attributes {
		out = append(out, x.Name)
		if x.Friendly != "" {
			out = append(out, x.Friendly)
		}
	}
	return out
}

// Mapping reports whether it is of use to know what arrived: whether anything has rules.
func Mapping(snap *federation.Snapshot) bool {
	return slices.ContainsFunc(snap.Providers(), func(p *federation.Provider) bool { return !p.Mapping().IsZero() }) ||
		slices.ContainsFunc(snap.Applications(), func(a *federation.Application) bool { return !a.Mapping().IsZero() })
}

// serving are the providers by which people come to an application.
func serving(snap *federation.Snapshot, a *federation.Application) (out []*federation.Provider) {
	if p, tied := snap.Provider(a.Provider); tied {
		return []*federation.Provider{p}
	}
	for _, p := range snap.Providers() {
		if p.Phase.Passes() {
			out = append(out, p)
		}
	}
	return out
}

// ProfileFor are the attributes, without values, of the profiles that an application is
// told of, and how many sign-ins that rests on.
func (c *Checker) ProfileFor(a *federation.Application) (out []profile.Attribute, signIns int) {
	for _, p := range serving(c.Snap, a) {
		made, _ := c.profileOf(p)
		for _, x := range made {
			if !slices.ContainsFunc(out, func(y profile.Attribute) bool { return x.Name == y.Name }) {
				out = append(out, x)
			}
		}
		signIns += c.Arrived[p.Name].SignIns
	}
	return out, signIns
}

// mapping sees whether what rules read is there.
func (c *Checker) mapping(l *List, r federation.Record) {
	switch r := r.(type) {
	case *federation.Provider:
		mutable(l, r)
		c.matching(l, r)
		if came := c.Arrived[r.Name]; came.SignIns > 0 {
			unread(l, r.Mapping(), came.has, came.names(), finding.AttributeUnsent,
				finding.Passing("Sign-ins looked at", fmt.Sprint(came.SignIns)))
		}
	case *federation.Application:
		c.released(l, r)
	}
}

// mutable notes where people are recognised by what may come to be somebody else's.
func mutable(l *List, p *federation.Provider) {
	for _, r := range p.Mapping().Rules {
		for _, s := range r.From {
			known := profile.Known(s.Attribute, "")
			if r.To.Subject && known != nil && (known.Claim == "email" || known.Claim == "preferred_username" ||
				known.Claim == "name" || known.Claim == "phone_number") {
				l.Add(finding.New(finding.IdentifierMutable, finding.Fact("Member", s.Attribute)))
			}
		}
	}
}

// released looks at what an application is told of, if all providers that serve it are
// known well enough.
func (c *Checker) released(l *List, a *federation.Application) {
	if a.Mapping().IsZero() {
		return
	}
	if all, who := c.profiles(a); len(who) > 0 {
		unread(l, a.Mapping(), all.has, all.names(), finding.ProfileUnmade,
			finding.Fact("Provider", strings.Join(who, ", ")))
	}
}

// profiles are the attributes of those who may come to an application, by which providers:
// none if nobody can tell.
func (c *Checker) profiles(a *federation.Application) (all Arrived, who []string) {
	for _, p := range serving(c.Snap, a) {
		made, known := c.profileOf(p)
		if !known {
			return Arrived{}, nil
		}
		all.Attributes, who = append(all.Attributes, made...), append(who, string(p.Name))
	}
	return all, who
}

// Unmet are the mandatory rules of an application of which no profile that is known to come
// has any source.
func (c *Checker) Unmet(a *federation.Application) (out []string) {
	all, who := c.profiles(a)
	if len(who) == 0 {
		return nil
	}
	for _, r := range a.Mapping().Rules {
		met := !r.Mandatory || len(r.Default) > 0 || r.When != "" || r.Omit
		for _, s := range r.From {
			met = met || s.Attribute == "" || all.has(s.Attribute)
		}
		if !met {
			out = append(out, r.String())
		}
	}
	return out
}

// profileOf are the attributes of the profiles that come by a provider; known is false
// if nobody can tell.
func (c *Checker) profileOf(p *federation.Provider) (out []profile.Attribute, known bool) {
	came := c.Arrived[p.Name]
	for _, r := range p.Mapping().Rules {
		out = append(out, profile.Attribute{Name: r.To.Name, Friendly: r.To.Friendly})
	}
	for _, name := range c.beside(p) {
		out = append(out, profile.Attribute{Name: name})
	}
	if p.Mapping().IsZero() || p.Mapping().Rest {
		return append(out, came.Attributes...), came.SignIns > 0
	}
	return out, true
}

// beside are the attributes that people have beside what a provider says: what is kept with them
// or asked for, where they belong, how they are marked.
func (c *Checker) beside(p *federation.Provider) []string {
	out := append([]string{profile.AttributeUserType}, c.Kept.Attributes...)
	for _, a := range p.Asks() {
		out = append(out, a.Name)
	}
	if len(c.Snap.Units(federation.KindGroup)) > 0 {
		out = append(out, profile.AttributeGroups)
	}
	if len(c.Snap.Units(federation.KindOrganisation)) > 0 {
		out = append(out, profile.AttributeOrganization)
	}
	return out
}

// nearest is the name among those there that means the same, by what a standard calls it, else
// the one that is written most like it; "" for none.
func nearest(name string, names []string) string {
	for _, n := range names {
		if n != name && profile.Word(n) == profile.Word(name) {
			return n
		}
	}
	return nearword.Of(name, names)
}

// unread adds a finding for each rule that reads what is not there.
func unread(l *List, m profile.Mapping, has func(string) bool, names []string, code finding.Code,
	more finding.Evidence) {
	for i, r := range m.Rules {
		lacking, others := []string{}, len(r.Default) > 0 || r.When != ""
		for _, s := range r.From {
			if s.Attribute == "" || has(s.Attribute) {
				others = true
			} else {
				lacking = append(lacking, s.Attribute)
			}
		}
		if len(lacking) == 0 {
			continue
		}
		f := finding.New(code, finding.Fact("Rule", fmt.Sprintf("%d, %s", i+1, r.To)),
			finding.Fact("Reads", strings.Join(lacking, ", ")), more)
		for _, name := range lacking {
			if near := nearest(name, names); near != "" && near != name {
				f = f.With(finding.Fact("Nearest", near))
				break
			}
		}
		if others {
			f.Severity = finding.Note
		} else {
			f = f.With(finding.Fact("So the rule", "never applies"))
		}
		l.Add(f)
	}
}
