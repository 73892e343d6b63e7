package checks

import (
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// access looks through the rules of an application: those that never decide, and whether anybody can enter.
func (c *Checker) access(l *List, a *federation.Application) {
	var all *federation.Rule // that is about everybody, for good: none behind it decides
	lets := false
	for _, r := range c.Snap.Book(a.Name).Rules {
		named, own := finding.Fact("Rule", string(r.Name)+": "+r.Title), r.App != ""
		ended := !r.Until.IsZero() && !c.Now.Before(r.Until)
		switch {
		case !own: // it decides on other applications, too
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
	if all == nil {
		lets = lets || a.Everyone != federation.EveryoneNo
	}
	if !lets {
		l.Add(finding.New(finding.AccessEmpty, finding.Fact("everyone", a.Everyone)))
	}
}
