package checks

import (
	"slices"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/policy"
)

// ways looks through the rules of provider selection, and the domains of providers.
func (c *Checker) ways(l *List) {
	var before []*federation.Way
	for _, r := range c.Snap.AllWays() {
		named := finding.Fact("Rule", string(r.Name)+": "+r.Title)
		switch {
		case r.Broken:
			l.Add(finding.New(finding.WayDead, named, finding.Fact("Cannot be read", policy.WaySentence(r))))
			continue
		case !policy.Leads(c.Snap, r, c.Now):
			l.Add(finding.New(finding.WayDead, named, finding.Fact("Its providers", federation.Listed(r.Providers))))
		}
		if len(r.Apps) > 0 && !slices.ContainsFunc(r.Apps, c.selects) {
			l.Add(finding.New(finding.WayNever, named, finding.Fact("Applications", federation.Listed(r.Apps))))
		}
		if i := slices.IndexFunc(before, func(x *federation.Way) bool {
			return x.Everybody() && (len(x.Apps) == 0 || len(r.Apps) > 0 && within(x.Apps, r.Apps, nil))
		}); i >= 0 {
			by := finding.Fact("Decided before, by", string(before[i].Name)+": "+before[i].Title)
			l.Add(finding.New(finding.WayShadowed, named, by))
		}
		before = append(before, r)
	}
	for domain, names := range c.Snap.DomainsOf() {
		if !slices.ContainsFunc(names, c.live) {
			l.Add(finding.New(finding.DomainPaused, finding.Fact("Domain", domain),
				finding.Fact("Provider", federation.Listed(names))))
		}
	}
}

// selects reports whether a provider is selected for an application.
func (c *Checker) selects(n federation.Name) bool {
	a, there := c.Snap.Application(n)
	return there && a.Attended() && a.Provider == ""
}

// passes reports whether somebody passes through a record now, as far as its phase tells.
func (c *Checker) passes(r federation.Record) bool {
	phase, _ := r.Basic().PhaseAt(c.Now)
	return phase.Passes()
}

func (c *Checker) live(n federation.Name) bool {
	p, there := c.Snap.Provider(n)
	return there && policy.Open(p, c.Now) == nil
}

// unused notes a provider that nobody is sent to, because rules give others everywhere.
func (c *Checker) unused(l *List, p *federation.Provider) {
	if !c.live(p.Name) || len(c.Snap.AllWays()) == 0 {
		return
	}
	for _, r := range c.Snap.AllWays() {
		if slices.Contains(r.Providers, p.Name) || len(r.Providers) == 0 {
			return
		}
	}
	for _, a := range c.Snap.Applications() {
		if !a.Attended() || a.Provider != "" && a.Provider != p.Name {
			continue
		}
		if a.Provider == p.Name || !slices.ContainsFunc(c.Snap.Ways(a.Name).Rules, (*federation.Way).Everybody) {
			return
		}
	}
	l.Add(finding.New(finding.WayUnused, finding.Fact("Provider", p.Name)))
}
