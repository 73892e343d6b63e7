// Package policy decides by which provider a person may come, and whether they
// may enter. Both decisions give their reasons.
//
//	choice, err := policy.Select(snap, app, policy.Asking{Network: network}, now)
//	if choice.Ask() { … the person chooses among choice.Providers … }
package policy

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/reason"
)

// Choice is the outcome of provider selection.
type Choice struct {
	Providers []federation.Name // possible ones; exactly one means decided
	Rule      *federation.Way   // that decided; nil for none
	Address   bool              // the page asks for the address first; it may offer the providers beside
	Forced    bool              // no other way is offered
	Unclaimed bool              // an address is known, and its domain is no provider's that is possible
	Reasons   reason.Reasons
}

// Ask reports whether the person has to choose, or to give their address.
func (c Choice) Ask() bool { return len(c.Providers) > 1 || c.Address }

// Has reports whether people may come by a provider.
func (c Choice) Has(p federation.Name) bool { return slices.Contains(c.Providers, p) }

// Asking is what is known of somebody who is to come, before they have.
type Asking struct {
	Chosen  federation.Name // what they picked, "" if nothing yet; a pick that is not possible is ignored
	Network string          // of their browser
	Address string          // their e-mail address, as it was typed or as the application hints; "" for none
	Hints   []string        // what the application names: providers, contexts
	Known   *Subject        // who they are, of somebody who is known
	Typed   *Subject        // who has the address, where a rule lets that decide; nil for nobody
	In      *Subject        // who is in by a session, as far as a pilot is about them; nil for nobody
	Whole   bool            // nobody is asked for their address any more: they are known, or typed a user name
}

// Type takes what somebody typed as their address: an e-mail address, or a user name, which has no domain. It reports
// false for what is neither.
func (a *Asking) Type(text string) bool {
	if profile.DomainOf(text) != "" {
		a.Address = text
		return true
	}
	odd := func(r rune) bool { return r == '@' || r == '<' || r == '>' || !unicode.IsPrint(r) }
	a.Whole = text != "" && strings.IndexFunc(text, odd) < 0
	return a.Whole
}

// Open decides whether somebody may pass through a record, now; if nobody may, why. Whether a certain person may is
// for OpenTo. Nobody else decides it.
func Open(r federation.Record, now time.Time) error {
	b := r.Basic()
	phase, _ := b.PhaseAt(now)
	switch {
	case b.Expired(now):
		return finding.New(finding.MetadataExpired, finding.Fact("Record", string(r.Kind())+" "+string(b.Name)),
			finding.Fact("validUntil", b.Intake.ValidUntil.UTC().Format(time.RFC3339)),
			finding.Fact("Setting", "strictValidity")).From(r.Kind().Side())
	case phase.Passes():
		return nil
	case r.Kind() == federation.KindProvider:
		return finding.New(finding.ProviderDisabled, phased(r, phase, now)...)
	}
	return finding.New(finding.ApplicationDisabled, phased(r, phase, now)...)
}

// Opens labels the moment from which on a record is open to everybody.
const Opens = "Opens"

// phased is what a refusal by phase tells.
func phased(r federation.Record, phase federation.Phase, now time.Time) []finding.Evidence {
	b := r.Basic()
	out := []finding.Evidence{finding.Fact(r.Kind().Title(), string(b.Name)), finding.Fact("Phase", string(phase))}
	if phase == federation.Pilot {
		out = append(out, finding.Fact("Cohort", finding.Clip(strings.Join(b.CohortAt(now), " "))))
	}
	if b.NextPhase == federation.Live && now.Before(b.Pending()) {
		out = append(out, finding.Fact(Opens, b.NextAt))
	}
	return out
}

// OpenTo decides whether somebody may pass through a record, now, by what is known of them; if not, why. In a pilot
// its cohort does: whoever is not known to be in it is not. By tells what they are in it by; "" outside a pilot.
func OpenTo(snap *federation.Snapshot, r federation.Record, s *Subject, now time.Time) (by string, err error) {
	if err := Open(r, now); err != nil {
		return "", err
	}
	phase, cohort := r.Basic().PhaseAt(now)
	if phase != federation.Pilot {
		return "", nil
	}
	s.within(snap)
	if by = s.inCohort(r.Basic().ID, cohort); by == "" {
		return "", finding.New(finding.NotInCohort, phased(r, phase, now)...)
	}
	return by, nil
}

// inCohort says by what somebody is in a cohort, "" for not at all.
func (s *Subject) inCohort(record federation.ID, c federation.Cohort) string {
	switch {
	case s.Person != 0 && slices.Contains(c.People, s.Person):
		return "by name"
	case common(c.Organisations, s.Organisations):
		return "by their organisation"
	case slices.ContainsFunc(c.Networks, s.inside):
		return "by their network"
	}
	if i := slices.IndexFunc(c.Groups, s.in.Has); i >= 0 {
		return "as one of " + string(c.Groups[i])
	}
	if c.InShare(record, s.Person) {
		return "by the share of " + strconv.Itoa(c.Share) + " percent"
	}
	return ""
}

// Select finds the providers for an application: the one on its record; else what the first rule of provider selection
// says that is about who comes; else all that are open. The domain of a known address narrows them to those that it
// belongs to. A pick chooses among them, never beyond.
func Select(snap *federation.Snapshot, app *federation.Application, a Asking, now time.Time) (Choice, error) {
	who := a.who(snap)
	if app.Provider != "" {
		return onRecord(snap, app, a, &who, now)
	}
	domain := profile.DomainOf(a.Address)
	if name, ok := profile.Domain(domain); ok {
		domain = name
	}
	c := Choice{Rule: way(snap, app, a, domain, now)}
	switch r := c.Rule; {
	case r != nil && r.Broken:
		return c, finding.New(finding.NoProvider,
			finding.Fact("Rule that cannot be read any more", string(r.Name)+": "+r.Title))
	case r != nil:
		c.Reasons.Add(reason.ProviderByRule, string(r.Name), r.Title)
		c.Address = domain == "" && !a.Whole && asks(r)
	}
	c.Providers = offered(snap, c.Rule, &who, now)
	if c.Address && (!c.Rule.Ask || len(c.Providers) == 0) { // the rule may be about them, once their domain is known
		c.Rule, c.Providers = nil, offered(snap, nil, &who, now)
	}
	if len(c.Providers) == 0 {
		f := finding.New(finding.NoProvider, finding.Fact("Application", string(app.Name)))
		if c.Rule != nil {
			return c, f.With(finding.Fact("Rule", string(c.Rule.Name)+": "+c.Rule.Title),
				finding.Fact("Its providers that are live", "none"))
		}
		return c, f.With(finding.Fact("Providers that are live", "none"))
	}
	c.narrow(snap, domain)
	c.hinted(snap, a.Hints)
	c.pick(a.Chosen)
	c.piloted(snap, &who, now)
	return c, nil
}

// piloted tells of the provider that was found by what somebody is in its pilot.
func (c *Choice) piloted(snap *federation.Snapshot, who *Subject, now time.Time) {
	if len(c.Providers) != 1 {
		return
	}
	if p, there := snap.Provider(c.Providers[0]); there {
		if by, _ := OpenTo(snap, p, who, now); by != "" {
			c.Reasons.Add(reason.PilotOf, string(p.Name), by)
		}
	}
}

// onRecord is the provider that an application is tied to. Whoever may be in its pilot is asked for their address
// first.
func onRecord(snap *federation.Snapshot, app *federation.Application, a Asking, who *Subject, now time.Time) (c Choice,
	err error) {
	p, ok := snap.Provider(app.Provider)
	if !ok {
		return c, finding.New(finding.NoProvider, finding.Fact("Application", string(app.Name)),
			finding.Fact("Provider on its record", string(app.Provider)+", which does not exist"))
	}
	if _, err := OpenTo(snap, p, who, now); err != nil {
		if c.Address = finding.Is(err, finding.NotInCohort) && a.unknown(profile.DomainOf(a.Address)) &&
			snap.Piloting(app, now); c.Address {
			c.Forced = true
			c.Reasons.Add(reason.ProviderAddress)
			return c, nil
		}
		return c, err
	}
	c.Providers, c.Forced = []federation.Name{app.Provider}, true
	c.Reasons.Add(reason.ProviderOnRecord, string(app.Provider))
	c.piloted(snap, who, now)
	return c, nil
}

// who is somebody by what is known of them before they sign in, or once they are known.
func (a Asking) who(snap *federation.Snapshot) (s Subject) {
	switch {
	case a.Known != nil:
		s = *a.Known
	case a.Typed != nil:
		s = *a.Typed
	case a.In != nil:
		s = *a.In
	}
	s.Network = cmp.Or(a.Network, s.Network)
	s.within(snap)
	return s
}

// offered are the providers of a rule that are open to somebody, all that are for none. With nobody given, those that
// are open to anybody.
func offered(snap *federation.Snapshot, r *federation.Way, who *Subject, now time.Time) (out []federation.Name) {
	open := func(p *federation.Provider) bool {
		if who == nil {
			return Open(p, now) == nil
		}
		_, err := OpenTo(snap, p, who, now)
		return err == nil
	}
	if r != nil && len(r.Providers) > 0 {
		for _, n := range r.Providers {
			if p, ok := snap.Provider(n); ok && open(p) {
				out = append(out, n)
			}
		}
		return out
	}
	for _, p := range snap.Providers() {
		if open(p) {
			out = append(out, p.Name)
		}
	}
	return out
}

// Leads reports whether a rule leads to a provider now; nil stands for where no rule decides.
func Leads(snap *federation.Snapshot, r *federation.Way, now time.Time) bool {
	return (r == nil || !r.Broken) && len(offered(snap, r, nil, now)) > 0
}

// narrow leaves those to which a domain belongs.
func (c *Choice) narrow(snap *federation.Snapshot, domain string) {
	if domain == "" {
		return
	}
	theirs := snap.ProvidersAt(domain)
	others := func(n federation.Name) bool { return !slices.Contains(theirs, n) }
	some := slices.DeleteFunc(slices.Clone(c.Providers), others)
	if len(some) == 0 {
		if c.Unclaimed = len(snap.DomainsOf()) > 0 && (c.Rule == nil || len(c.Rule.Domains) == 0); c.Unclaimed {
			c.Reasons.Add(reason.ProviderUnknown, domain)
		}
		return
	}
	if len(some) < len(c.Providers) {
		c.Reasons.Add(reason.ProviderByDomain, domain)
	}
	c.Providers = some
}

// hinted leaves those that the application names, by short name or identity.
func (c *Choice) hinted(snap *federation.Snapshot, hints []string) {
	some := slices.DeleteFunc(slices.Clone(c.Providers), func(n federation.Name) bool {
		p, _ := snap.Provider(n)
		return !slices.Contains(hints, string(n)) && !slices.Contains(hints, federation.KnownAs(p))
	})
	if len(some) > 0 && len(some) < len(c.Providers) {
		c.Providers, c.Address = some, false
		c.Reasons.Add(reason.ProviderByHint, federation.Listed(some))
	}
}

// pick decides by what the person picked, if it is possible.
func (c *Choice) pick(chosen federation.Name) {
	switch {
	case slices.Contains(c.Providers, chosen):
		c.Providers, c.Address = []federation.Name{chosen}, false
		c.Reasons.Add(reason.ProviderChosen, string(chosen))
	case c.Address:
		c.Reasons.Add(reason.ProviderAddress)
	case len(c.Providers) == 1 && c.Rule == nil:
		c.Reasons.Add(reason.ProviderOnly, string(c.Providers[0]))
	case len(c.Providers) > 1:
		c.Reasons.Add(reason.ProviderAsked, federation.Listed(c.Providers))
	}
}

// way is the first rule of provider selection that is about somebody, or that may be once their address is known.
func way(snap *federation.Snapshot, app *federation.Application, a Asking, domain string,
	now time.Time) *federation.Way {
	ways := snap.Ways(app.Name)
	if len(ways.Rules) == 0 {
		return nil
	}
	typed := a.who(snap)
	s := typed
	if (a.Typed != nil || a.In != nil) && a.Known == nil {
		s = Subject{Network: a.Network}
		s.within(snap)
	}
	for _, i := range ways.At(domain) {
		r, who, known := ways.Rules[i], &s, a.Known != nil
		if r.Typed && !known {
			who, known = &typed, a.Typed != nil || domain == "" && !a.Whole
		}
		tells := asks(r) && a.unknown(domain) // their address may tell that a pilot is for them
		if about(r, who, a, domain, known) && (tells || !piloted(snap, r, &typed, now)) {
			return r
		}
	}
	return nil
}

// asks reports whether whoever a rule may be about is asked for their address.
func asks(r *federation.Way) bool { return r.Ask || len(r.Domains) > 0 }

// unknown reports whether nothing is known yet of who somebody is, and they can still be asked.
func (a Asking) unknown(domain string) bool {
	return domain == "" && !a.Whole && a.Known == nil && a.Typed == nil && a.In == nil
}

// piloted reports whether all that a rule leads to somebody is pilots which do not include them: the next rule is for
// them.
func piloted(snap *federation.Snapshot, r *federation.Way, who *Subject, now time.Time) bool {
	pilots := 0
	for _, n := range r.Providers {
		p, there := snap.Provider(n)
		if !there {
			continue
		}
		switch _, err := OpenTo(snap, p, who, now); {
		case err == nil:
			return false
		case finding.Is(err, finding.NotInCohort):
			pilots++
		}
	}
	return pilots > 0
}

// about reports whether a rule is about somebody, its domains left aside while their address is unknown.
func about(r *federation.Way, s *Subject, a Asking, domain string, known bool) bool {
	theirs := len(r.Groups)+len(r.Organisations)+len(r.UserTypes) > 0
	if r.Typed && domain == "" && a.Known == nil && !a.Whole { // whose it is will be told by their address
		theirs = false
	}
	has := func(d federation.MailDomain) bool { return d.Has(domain) }
	return (known || !theirs) && (len(r.Domains) == 0 || domain == "" && !a.Whole ||
		slices.ContainsFunc(r.Domains, has)) &&
		(len(r.Networks) == 0 || slices.ContainsFunc(r.Networks, s.inside)) &&
		(!theirs || (len(r.Groups) == 0 || slices.ContainsFunc(r.Groups, s.in.Has)) &&
			(len(r.Organisations) == 0 || common(r.Organisations, s.Organisations)) &&
			(len(r.UserTypes) == 0 || slices.Contains(r.UserTypes, s.UserType))) &&
		(len(r.Hints) == 0 || slices.ContainsFunc(r.Hints, func(h string) bool { return slices.Contains(a.Hints, h) }))
}

// WaySentence reads a rule of provider selection aloud.
func WaySentence(r *federation.Way) string {
	var who []string
	add := func(is bool, words string) {
		if is {
			who = append(who, words)
		}
	}
	domains := make([]string, len(r.Domains))
	for i, d := range r.Domains {
		domains[i] = d.String()
	}
	add(len(r.Apps) > 0, "wants to enter "+names(r.Apps))
	add(len(domains) > 0, "has an address at "+strings.Join(domains, " or "))
	add(len(r.Networks) > 0, "is in the network "+prefixes(r.Networks))
	add(len(r.Groups) > 0, "is in "+names(r.Groups))
	add(len(r.Organisations) > 0, "belongs to "+names(r.Organisations))
	add(len(r.UserTypes) > 0, "is marked as "+strings.Join(r.UserTypes, " or "))
	add(len(r.Hints) > 0, "comes with the hint "+strings.Join(r.Hints, " or "))
	out := "Everybody"
	if len(who) > 0 {
		out = "Whoever " + strings.Join(who, " and ")
	}
	if r.Typed {
		out += " (a typed address stands for who has it)"
	}
	if r.Ask {
		out += " is asked for their address first"
		if len(r.Providers) > 0 {
			out += ", and comes by " + names(r.Providers)
		}
		return out + "."
	}
	if len(r.Providers) > 1 {
		return out + " chooses among " + federation.Listed(r.Providers) + "."
	}
	return out + " comes by " + names(r.Providers) + "."
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
