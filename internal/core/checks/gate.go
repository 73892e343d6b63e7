package checks

import (
	"net/url"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// Gate gives the findings on the gate itself: its base address, its own keys and rules.
func (c *Checker) Gate() []*finding.Finding {
	g := &c.Snap.Gate
	l := &List{side: finding.Gate, Now: c.Now}
	if u, err := url.Parse(g.Base); err == nil && u.Scheme == "http" && !loopback(u.Hostname()) {
		l.Add(finding.New(finding.BasePlain, finding.Fact("Base address", g.Base)))
	}
	if g.FirstBase != "" && g.FirstBase != g.Base {
		l.Add(finding.New(finding.BaseChanged, finding.Compare("Base address", g.FirstBase, g.Base)))
	}
	for _, p := range g.Purposes {
		l.ownKeys(p.Name, g.Keys[p.Name])
	}
	c.rules(l, nil)
	c.ways(l)
	for _, o := range c.Snap.Units(federation.KindOrganisation) {
		for _, d := range o.Domains {
			if c.Snap.Gate.PublicMail.Has(d) {
				l.Add(finding.New(finding.DomainPublic, finding.Fact("Organisation", o.Name), finding.Fact("Domain", d)))
			}
		}
	}
	if n := c.Kept.Alike; len(n) > 0 {
		l.Add(finding.New(finding.MatchAlike, finding.Fact("People", numbers(n[:min(len(n), 50)], int64(len(n))))))
	}
	return Sort(l.all)
}

// ownKeys looks at the dates of keys of the gate's own.
func (l *List) ownKeys(purpose string, set federation.KeySet) {
	if set.Current == nil || set.Current.Certificate.X509 == nil {
		return
	}
	end := set.Current.Certificate.X509.NotAfter
	if end.Sub(l.Now) >= certificateAhead {
		return
	}
	f := finding.New(finding.OwnKeyEnding, finding.Fact("Purpose", purpose),
		finding.Fact("Not after", end.UTC().Format(time.RFC3339)), l.left(end), fingerprint(set.Current.Certificate))
	if !l.Now.Before(end) {
		f.Severity = finding.Error
	}
	if set.Next != nil {
		f = f.With(finding.Fact("Announced already", set.Next.Certificate.SHA256()))
	}
	l.Add(f)
}

// way sees whether anybody can come to a live application.
func (c *Checker) way(l *List, a *federation.Application) {
	if !c.passes(a) {
		return
	}
	if a.Provider != "" {
		if p, ok := c.Snap.Provider(a.Provider); ok && !c.passes(p) {
			l.Add(finding.New(finding.ProviderDisabled, finding.Fact("Provider", string(p.Name)),
				finding.Fact("Phase", string(p.Phase))))
		}
		return
	}
	if !Once(c, "a live provider", func() bool {
		for _, p := range c.Snap.Providers() {
			if c.passes(p) {
				return true
			}
		}
		return false
	}) {
		l.Add(finding.New(finding.NoProvider))
	}
}

// onLoopback reports whether the gate itself stands on the person's own machine,
// as in the demo.
func (c *Checker) onLoopback() bool {
	u, err := url.Parse(c.Snap.Gate.Base)
	return err == nil && loopback(u.Hostname())
}
