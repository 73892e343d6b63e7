package web

import (
	"context"
	"errors"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/exchange"
	"innergate.example/innergate/internal/gate/jobs"
)

// aggregateCalls registers aggregates.
func (s *server) aggregateCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ListAggregates,
		func(ctx context.Context, _ *api.None) (*body[api.List[api.Aggregate]], error) {
			all, err := g.Exchange.Aggregates(ctx)
			if err != nil {
				return nil, err
			}
			return rows(all, len(all), s.aggregate), nil
		})
	call(s, a, api.ShowAggregate,
		func(ctx context.Context, in *api.Named) (*body[api.Aggregate], error) {
			x, err := g.Exchange.Aggregate(ctx, in.Name)
			return &body[api.Aggregate]{s.aggregate(x)}, err
		})
	act(s, a, api.ChangeAggregate,
		func(ctx context.Context, in *api.SentTo[api.AggregateChange]) error {
			return g.Exchange.ChangeAggregate(ctx, by(ctx), in.Name, in.Body.Revision,
				editions.Edit(in.Body.Settings))
		})
	act(s, a, api.RemoveAggregate, func(ctx context.Context, in *api.Named) error {
		return g.Exchange.RemoveAggregate(ctx, by(ctx), in.Name)
	})
	s.editionCalls(a)
	s.entityCalls(a)
}

// editionCalls registers the taking in of editions.
func (s *server) editionCalls(a huma.API) {
	g := s.gate
	call(s, a, api.AddAggregate,
		func(ctx context.Context, in *api.Sent[api.NewAggregate]) (*body[api.Job], error) {
			return s.begun(g.Exchange.AddAggregate(ctx, by(ctx), in.Body.Name, editions.Settings(in.Body.AggregateSettings),
				nil))
		})
	taking(s, a, api.UploadAggregate,
		func(ctx context.Context, _ string, in *upload) (*body[api.Job], error) {
			var n api.NewAggregate
			document, err := in.parts(&n)
			if err != nil {
				return nil, err
			}
			return s.begun(g.Exchange.AddAggregate(ctx, by(ctx), n.Name, editions.Settings(n.AggregateSettings), document))
		})
	taking(s, a, api.UploadEdition, func(ctx context.Context, name string, in *upload) (*body[api.Job], error) {
		document, err := in.parts(&struct{}{})
		if err != nil {
			return nil, err
		}
		return s.begun(g.Exchange.UploadAggregate(ctx, by(ctx), name, document))
	})
	call(s, a, api.RefreshAggregate,
		func(ctx context.Context, in *api.Named) (*body[api.Job], error) {
			return s.begun(g.Exchange.RefreshAggregate(ctx, by(ctx), in.Name))
		})
}

// entityCalls registers the entities of aggregates.
func (s *server) entityCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ListEntities,
		func(ctx context.Context, in *api.EntityFilter) (*body[api.List[api.Entity]], error) {
			all, total, err := g.Exchange.Entities(ctx, in.Name, editions.Filter{Search: in.Search, Role: in.Role,
				State: in.State, Limit: in.Limit, Offset: in.Offset})
			if err != nil {
				return nil, err
			}
			return rows(all, int(total), func(e exchange.Entity) api.Entity { return api.Entity(e) }), nil
		})
	call(s, a, api.PreviewTakeOver,
		func(ctx context.Context, in *api.SentTo[api.TakeOver]) (*body[api.TakePreview], error) {
			t, err := take(in.Body)
			if err != nil {
				return nil, err
			}
			out, err := g.Exchange.PreviewTake(ctx, in.Name, t)
			return &body[api.TakePreview]{api.TakePreview(out)}, err
		})
	call(s, a, api.TakeEntities,
		func(ctx context.Context, in *api.SentTo[api.TakeOver]) (*body[api.Job], error) {
			t, err := take(in.Body)
			if err != nil {
				return nil, err
			}
			return s.begun(g.Exchange.TakeEntities(ctx, by(ctx), in.Name, t))
		})
}

func take(b api.TakeOver) (exchange.Take, error) {
	if len(b.Entities) == 0 && b.Search == "" && !b.All {
		return exchange.Take{}, change.Field("entities",
			errors.New("nothing is chosen; name entities, give a search, or say all"))
	}
	return exchange.Take{Entities: b.Entities, Names: b.Names, Kind: b.Kind, Provider: b.Provider, Phase: b.Phase,
		Digest: b.Digest, Filter: editions.Filter{Search: b.Search, State: "usable"}}, nil
}

// begun answers with the job that was begun.
func (s *server) begun(j jobs.Job, err error) (*body[api.Job], error) {
	return &body[api.Job]{jobShown(j)}, err
}

func (s *server) aggregate(x exchange.Aggregate) api.Aggregate {
	out := api.Aggregate{Name: x.Name, Settings: api.AggregateSettings(x.Settings), Title: x.Title, Size: x.Size,
		ValidUntil: x.ValidUntil, SignatureMethod: x.SignatureMethod, Verified: x.Verified,
		Entities: x.Entities, Broken: x.Broken, TakenAt: x.Taken, Changes: (*api.Changes)(x.Changes),
		Fresh: api.Fresh(x.Fresh), Findings: x.Findings, Added: x.Added, Revision: x.Revision}
	if out.Title == "" {
		out.Title = x.Named()
	}
	if out.Findings == nil {
		out.Findings = []*finding.Finding{}
	}
	return out
}
