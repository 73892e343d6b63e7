package checks

import (
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// access looks through the rules of an application, and whether anybody can enter.
func (c *Checker) access(l *List, a *federation.Application) {
	all, lets := c.rules(l, a.Name)
	if all == nil {
		lets = lets || a.Everyone != federation.EveryoneNo
	}
	if !lets {
		l.Add(finding.New(finding.AccessEmpty, finding.Fact("everyone", a.Everyone)))
	}
}

// rules finds those of an application's own rules, "" for those of the gate, that never decide. It gives the first
// of all that are looked at that is about everybody, for good, so that none behind it decides, and whether one up to
// it lets anybody in.
func (c *Checker) rules(l *List, app federation.Name) (all *federation.Rule, lets bool) {
	for _, r := range c.Snap.Book(app).Rules {
		named := finding.Fact("Rule", string(r.Name)+": "+r.Title)
		ended := !r.Until.IsZero() && !c.Now.Before(r.Until)
		switch {
		case r.App != app: // it decides on other applications, too
		case r.Broken:
			l.Add(finding.New(finding.RuleBroken, named))
		case ended:
			l.Add(finding.New(finding.RuleEnded, named, finding.Fact("Ended", r.Until.UTC().Format(time.RFC3339))))
		case all != nil:
			l.Add(finding.New(finding.RuleShadowed, named, finding.Fact("Decided before, by", string(all.Name)+": "+all.Title)))
		}
		if ended || all != nil {
			continue
		}
		lets = lets || r.Then != federation.Deny
		if r.Everybody() {
			all = r
		}
	}
	return all, lets
}
