package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/records"
)

func (s *server) providerCalls(a huma.API) {
	g := s.gate
	huma.Register(a, op("GET", "/providers", "list-providers", "Providers by name"),
		func(ctx context.Context, in *listing) (*body[api.List[api.Row]], error) {
			page, total := g.Records.Snapshot().FindProviders(in.Search, in.Offset, in.Limit)
			return rows(page, total, s.providerRow), nil
		})
	huma.Register(a, op("POST", "/providers", "add-provider", "Add a provider from its metadata, or from typed values"),
		func(ctx context.Context, in *struct{ Body api.NewProvider }) (*body[api.Provider], error) {
			n, err := newProvider(in.Body.NewRecord)
			if err != nil {
				return nil, err
			}
			p, err := g.Records.AddProvider(ctx, by(ctx), n)
			if err != nil {
				return nil, s.problem(err)
			}
			return s.provider(ctx, p)
		})
	huma.Register(a, looks("/providers/preview", "preview-provider",
		"What adding a provider would set; for a name that is there, what would change"),
		func(ctx context.Context, in *struct{ Body api.NewProvider }) (*body[api.Preview], error) {
			n, err := newProvider(in.Body.NewRecord)
			if err != nil {
				return nil, err
			}
			p, err := g.Records.PreviewProvider(ctx, n)
			return &body[api.Preview]{preview(p)}, s.problem(err)
		})
	huma.Register(a, op("GET", "/providers/{name}", "show-provider", "One provider"),
		func(ctx context.Context, in *named) (*body[api.Provider], error) {
			p, err := g.Records.Provider(in.Name)
			if err != nil {
				return nil, s.problem(err)
			}
			return s.provider(ctx, p)
		})
	huma.Register(a, op("GET", "/providers/{name}/exchange", "provider-exchange",
		"What the provider needs from the gate"), func(ctx context.Context, in *named) (*body[api.Sheet], error) {
		p, err := g.Records.Provider(in.Name)
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[api.Sheet]{s.sheet(in.Name, p.Side.Sheet(g.Records.Snapshot(), p))}, nil
	})
	huma.Register(a, op("PATCH", "/providers/{name}/settings", "change-provider",
		"Change settings of a provider, one or several; those that are absent stay"),
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"200" doc:"Short name"`
			Body api.ProviderChange
		}) (*body[api.Provider], error) {
			p, err := g.Records.Configure(ctx, by(ctx), change.KindProvider, in.Name, in.Body.Revision, in.Body.Settings)
			if err != nil {
				return nil, s.problem(err)
			}
			return s.provider(ctx, p.(*federation.Provider))
		})
	huma.Register(a, op("DELETE", "/providers/{name}", "remove-provider", "Remove a provider"),
		func(ctx context.Context, in *named) (*struct{}, error) {
			return nil, s.problem(g.Records.RemoveProvider(ctx, by(ctx), in.Name))
		})
}

func newProvider(n api.NewRecord) (records.NewProvider, error) {
	src, err := source(n.Given)
	return records.NewProvider{Protocol: n.Protocol, Name: n.Name, Source: src, Settings: n.Settings, Draft: n.Draft}, err
}

func (s *server) provider(ctx context.Context, p *federation.Provider) (*body[api.Provider], error) {
	r, err := s.record(ctx, p)
	return &body[api.Provider]{api.Provider{Record: r}}, err
}
