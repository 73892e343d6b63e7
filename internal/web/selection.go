package web

import (
	"context"
	"errors"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/limit"
)

// selectionCalls registers what is asked about provider selection.
func (s *server) selectionCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ShowSelection, func(ctx context.Context, in *api.RuleFilter) (*body[api.Selection], error) {
		snap := g.Records.Snapshot()
		rules := snap.AllWays()
		if in.Application != "" {
			if _, err := g.Records.Application(in.Application); err != nil {
				return nil, change.Field("application", err)
			}
			rules = snap.Ways(federation.Name(in.Application)).Rules
		}
		counts, err := g.Traces.DecidedWays(ctx, in.Application)
		if err != nil {
			return nil, err
		}
		out := api.Selection{Rules: []api.SelectionRule{}, Domains: domainOwners(snap), Owners: g.Base() + "/console/"}
		for _, r := range rules {
			out.Rules = append(out.Rules, api.SelectionRule{Name: string(r.Name), Title: r.Title, Broken: r.Broken,
				Applications: plainNames(r.Apps), Sentence: policy.WaySentence(r), Providers: plainNames(r.Providers), Ask: r.Ask,
				Decided: counts[r.Name].Count, Last: counts[r.Name].Last})
		}
		return &body[api.Selection]{out}, nil
	})
	call(s, a, api.FindWay, s.findWay)
}

func (s *server) findWay(ctx context.Context, in *api.SentTo[api.WayAsked]) (*body[api.WayFound], error) {
	g, snap := s.gate, s.gate.Records.Snapshot()
	app, err := s.attended(in.Name)
	if err != nil {
		return nil, err
	}
	network := ""
	if in.Body.Network != "" {
		if _, err := netip.ParseAddr(in.Body.Network); err != nil {
			return nil, change.Field("network", errors.New("this is no address; give that of a browser, like 192.0.2.7"))
		}
		network = limit.Network(in.Body.Network)
	}
	if in.Body.Provider != "" {
		if _, err := g.Records.Provider(in.Body.Provider); err != nil {
			return nil, change.Field("provider", err)
		}
	}
	asked := policy.Asking{Network: network, Hints: in.Body.Hints, Chosen: federation.Name(in.Body.Provider)}
	if in.Body.Email != "" && !asked.Type(in.Body.Email) {
		return nil, change.Field("email",
			errors.New("this is no e-mail address; write it like ada@wrenmoor.example, or give a user name"))
	}
	var c policy.Choice
	if in.Body.Person != 0 {
		c, err = g.Traces.WayOf(ctx, snap, app, in.Body.Person, asked)
	} else {
		c, err = g.Traces.WayAt(ctx, snap, app, asked)
	}
	if err != nil {
		return nil, err
	}
	out := api.WayFound{Providers: plainNames(c.Providers), Ask: c.Address, Forced: c.Forced, Unclaimed: c.Unclaimed,
		Why: []string{}}
	if c.Rule != nil {
		out.Rule = string(c.Rule.Name)
	}
	for _, r := range c.Reasons {
		out.Why = append(out.Why, r.Text())
	}
	return &body[api.WayFound]{out}, nil
}

// domainOwners puts together whose each domain is: by which providers its people come, whose word counts for it, and
// where people land.
func domainOwners(snap *federation.Snapshot) []api.DomainOwners {
	all := map[string]*api.DomainOwners{}
	of := func(domain string) *api.DomainOwners {
		if all[domain] == nil {
			all[domain] = &api.DomainOwners{Domain: domain, Providers: []string{}, Vouching: []string{}}
		}
		return all[domain]
	}
	for _, p := range snap.Providers() {
		for _, text := range p.Domains {
			if d, err := federation.ParseMailDomain(text); err == nil {
				o := of(d.String())
				o.Providers, o.Note = append(o.Providers, string(p.Name)), strings.Trim(o.Note+"; "+p.DomainsNote, "; ")
			}
		}
		for _, text := range p.VouchesFor {
			o := of(text)
			o.Vouching = append(o.Vouching, string(p.Name))
		}
	}
	for _, u := range snap.Units(federation.KindOrganisation) {
		for _, d := range u.Domains {
			of(d).Organisation = string(u.Name)
		}
	}
	out := []api.DomainOwners{}
	for _, d := range slices.Sorted(maps.Keys(all)) {
		out = append(out, *all[d])
	}
	return out
}
