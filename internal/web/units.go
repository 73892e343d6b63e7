package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/policy"
)

// unitCalls registers groups and organisations.
func (s *server) unitCalls(a huma.API) {
	for _, k := range []federation.Kind{federation.KindGroup, federation.KindOrganisation} {
		s.unitKind(a, k)
	}
}

func (s *server) unitKind(a huma.API, k federation.Kind) {
	g, calls := s.gate, api.UnitsOf(string(k))
	call(s, a, calls.List,
		func(ctx context.Context, _ *api.None) (*body[api.List[api.Unit]], error) {
			counts, err := g.People.Members(ctx, k)
			if err != nil {
				return nil, err
			}
			all := g.Records.Snapshot().Units(k)
			return rows(all, len(all), func(x *federation.Unit) api.Unit { return s.unit(x, counts[x.Name]) }), nil
		})
	show := func(ctx context.Context, x *federation.Unit, err error) (*body[api.Unit], error) {
		if err != nil {
			return nil, err
		}
		use, err := g.Records.Use(ctx, x)
		out := s.unit(x, use.Members)
		if snap := g.Records.Snapshot(); x.Kind == federation.KindGroup {
			out.Effects = policy.Effects(snap, x.Name)
			out.Called = append([]string{string(x.Name)}, x.Values...)
			for _, p := range snap.Providers() {
				if p.GroupValues != "" {
					out.PutIn = append(out.PutIn, string(p.Name))
				}
			}
		}
		return &body[api.Unit]{out}, err
	}
	call(s, a, calls.Show,
		func(ctx context.Context, in *api.Named) (*body[api.Unit], error) {
			x, err := g.Records.Unit(k, in.Name)
			return show(ctx, x, err)
		})
	call(s, a, calls.Put, func(ctx context.Context, in *api.SentTo[api.UnitChange]) (*body[api.Unit], error) {
		x, err := g.Records.PutUnit(ctx, by(ctx), unitOf(k, in.Name, in.Body))
		return show(ctx, x, err)
	})
	act(s, a, calls.Remove,
		func(ctx context.Context, in *api.Named) error {
			return g.Records.RemoveUnit(ctx, by(ctx), k, in.Name)
		})
}

func unitOf(k federation.Kind, name string, in api.UnitChange) federation.Unit {
	return federation.Unit{Kind: k, Name: federation.Name(name), Title: in.Title, Notes: in.Notes, UserType: in.UserType,
		Inside: federation.Name(in.Inside), Values: in.Values, Providers: namesOf(in.Providers), Domains: in.Domains,
		Groups: namesOf(in.Groups), Revision: in.Revision}
}

func namesOf(in []string) (out []federation.Name) {
	for _, n := range in {
		out = append(out, federation.Name(n))
	}
	return out
}

func wordsOf(in []federation.Name) []string {
	out := []string{}
	for _, n := range in {
		out = append(out, string(n))
	}
	return out
}

// unit shows a group or an organisation.
func (s *server) unit(x *federation.Unit, members int64) api.Unit {
	out := api.Unit{Kind: string(x.Kind), Name: string(x.Name), Added: x.Added, Members: members, Holds: []string{},
		Landing: []string{},
		UnitChange: api.UnitChange{Title: x.Title, Notes: x.Notes, UserType: x.UserType, Inside: string(x.Inside),
			Values:    some(x.Values),
			Providers: wordsOf(x.Providers), Domains: some(x.Domains), Groups: wordsOf(x.Groups), Revision: x.Revision}}
	snap := s.gate.Records.Snapshot()
	if x.Kind == federation.KindGroup {
		for _, g := range snap.Inside(x.Name) {
			out.Holds = append(out.Holds, string(g))
		}
		for _, o := range snap.LandingIn(x.Name) {
			out.Landing = append(out.Landing, string(o))
		}
	}
	return out
}
