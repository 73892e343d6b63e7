// Package policy decides by which provider a person may come, and whether they
// may enter. Both decisions give their reasons.
//
//	choice := policy.Select(snap, app, "")
//	if choice.Ask() { … the person chooses among choice.Providers … }
package policy

import (
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// Choice is the outcome of provider selection.
type Choice struct {
	Providers []federation.Name // possible ones; exactly one means decided
	Reasons   finding.Checks
}

// Ask reports whether the person has to choose.
func (c Choice) Ask() bool { return len(c.Providers) > 1 }

// Select finds the providers for an application: the one on its record, else
// all that are enabled. chosen is what the person picked, "" if nothing yet; a pick
// that is not possible is ignored.
func Select(snap *federation.Snapshot, app *federation.Application, chosen federation.Name) (Choice, error) {
	var c Choice
	if app.Provider != "" {
		if p, ok := snap.Provider(app.Provider); ok {
			if !p.Enabled {
				return c, c.Reasons.Fail("Provider", finding.New(finding.ProviderDisabled, finding.Fact("Provider", string(app.Provider))))
			}
			c.Providers = []federation.Name{app.Provider}
			c.Reasons.Pass("Provider", string(app.Provider)+", named on the application's record")
			return c, nil
		}
		return c, c.Reasons.Fail("Provider", finding.New(finding.NoProvider,
			finding.Fact("Application", string(app.Name)), finding.Fact("Provider on its record", string(app.Provider)+", which does not exist")))
	}
	for _, p := range snap.Providers() {
		if p.Enabled {
			c.Providers = append(c.Providers, p.Name)
		}
	}
	switch {
	case len(c.Providers) == 0:
		return c, c.Reasons.Fail("Provider", finding.New(finding.NoProvider, finding.Fact("Providers that are enabled", "none")))
	case len(c.Providers) == 1:
		c.Reasons.Pass("Provider", string(c.Providers[0])+", the only one")
	case slices.Contains(c.Providers, chosen):
		c.Providers = []federation.Name{chosen}
		c.Reasons.Pass("Provider", string(chosen)+", chosen by the person")
	default:
		names := make([]string, len(c.Providers))
		for i, n := range c.Providers {
			names[i] = string(n)
		}
		c.Reasons.Pass("Provider", "the person chooses among "+strings.Join(names, ", "))
	}
	return c, nil
}

// Passing is what access to an application is judged by.
type Passing struct {
	NoProxy        bool     // the provider forbids passing the sign-in on
	ProxyAudiences []string // if any, the only applications it may be passed on to
}

// Access decides whether a person whom the provider vouches for may enter.
// Everybody may, unless the provider restricts where its word is passed on (SAML
// core §2.5.1.6).
func Access(app *federation.Application, p Passing) (finding.Checks, error) {
	var reasons finding.Checks
	if p.NoProxy {
		return reasons, reasons.Fail("ProxyRestriction", finding.New(finding.ProxyForbidden, finding.Fact("Count", "0")))
	}
	if len(p.ProxyAudiences) > 0 && !slices.Contains(p.ProxyAudiences, app.EntityID()) {
		return reasons, reasons.Fail("ProxyRestriction", finding.New(finding.ProxyForbidden,
			finding.Compare("Audience", app.EntityID(), strings.Join(p.ProxyAudiences, ", "))))
	}
	reasons.Pass("Access", "everybody with a valid answer from the provider may enter")
	return reasons, nil
}
