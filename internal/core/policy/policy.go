// Package policy decides by which provider a person may come, and whether they
// may enter. Both decisions give their reasons.
//
//	choice, err := policy.Select(snap, app, "", now)
//	if choice.Ask() { … the person chooses among choice.Providers … }
package policy

import (
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/reason"
)

// Choice is the outcome of provider selection.
type Choice struct {
	Providers []federation.Name // possible ones; exactly one means decided
	Reasons   reason.Reasons
}

// Ask reports whether the person has to choose.
func (c Choice) Ask() bool { return len(c.Providers) > 1 }

// Open decides whether people may pass through a record, now; if not, why. Nobody
// else decides it.
func Open(r federation.Record, now time.Time) error {
	b := r.Basic()
	switch {
	case b.Expired(now):
		return finding.New(finding.MetadataExpired, finding.Fact("Record", string(r.Kind())+" "+string(b.Name)),
			finding.Fact("validUntil", b.Intake.ValidUntil.UTC().Format(time.RFC3339)),
			finding.Fact("Setting", "strictValidity")).From(r.Kind().Side())
	case b.Phase == federation.Live:
		return nil
	case r.Kind() == federation.KindProvider:
		return finding.New(finding.ProviderDisabled, finding.Fact("Provider", string(b.Name)))
	}
	return finding.New(finding.ApplicationDisabled, finding.Fact("Application", string(b.Name)))
}

// Select finds the providers for an application: the one on its record, else
// all that are open. chosen is what the person picked, "" if nothing yet; a pick
// that is not possible is ignored.
func Select(snap *federation.Snapshot, app *federation.Application, chosen federation.Name, now time.Time) (Choice,
	error) {
	var c Choice
	if app.Provider != "" {
		p, ok := snap.Provider(app.Provider)
		if !ok {
			return c, finding.New(finding.NoProvider, finding.Fact("Application", string(app.Name)),
				finding.Fact("Provider on its record", string(app.Provider)+", which does not exist"))
		}
		if err := Open(p, now); err != nil {
			return c, err
		}
		c.Providers = []federation.Name{app.Provider}
		c.Reasons.Add(reason.ProviderOnRecord, string(app.Provider))
		return c, nil
	}
	for _, p := range snap.Providers() {
		if Open(p, now) == nil {
			c.Providers = append(c.Providers, p.Name)
		}
	}
	switch {
	case len(c.Providers) == 0:
		return c, finding.New(finding.NoProvider, finding.Fact("Providers that are live", "none"))
	case len(c.Providers) == 1:
		c.Reasons.Add(reason.ProviderOnly, string(c.Providers[0]))
	case slices.Contains(c.Providers, chosen):
		c.Providers = []federation.Name{chosen}
		c.Reasons.Add(reason.ProviderChosen, string(chosen))
	default:
		names := make([]string, len(c.Providers))
		for i, n := range c.Providers {
			names[i] = string(n)
		}
		c.Reasons.Add(reason.ProviderAsked, strings.Join(names, ", "))
	}
	return c, nil
}

// Still decides whether what a provider vouched for earlier still counts at an application,
// by the configuration of now: it is the one on its record, or the record names none. What
// older sign-ins gave may run out by a date that the record names.
func Still(app *federation.Application, p *federation.Provider, now time.Time) error {
	if app.Provider == "" || app.Provider == p.Name || now.Before(app.OldGrants()) {
		return nil
	}
	return finding.New(finding.GrantProvider, finding.Compare("Provider", string(app.Provider), string(p.Name)))
}

// Passing is what access to an application is judged by.
type Passing struct {
	NoProxy        bool     `json:"noProxy,omitempty"`        // the provider forbids passing the sign-in on
	ProxyAudiences []string `json:"proxyAudiences,omitempty"` // if any, the only applications it may be passed on to
}

// Passed sees whether providers let their word be passed on to an application (SAML core §2.5.1.6).
func Passed(app *federation.Application, words []Passing) error {
	for _, p := range words {
		if p.NoProxy {
			return finding.New(finding.ProxyForbidden, finding.Fact("Count", "0"))
		}
		if len(p.ProxyAudiences) > 0 && !slices.Contains(p.ProxyAudiences, app.Identity()) {
			return finding.New(finding.ProxyForbidden, finding.Compare("Audience", app.Identity(),
				strings.Join(p.ProxyAudiences, ", ")))
		}
	}
	return nil
}
