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
	call(s, a, op("GET", "/aggregates", "list-aggregates", "Aggregates by name"),
		func(ctx context.Context, _ *struct{}) (*body[api.List[api.Aggregate]], error) {
			all, err := g.Exchange.Aggregates(ctx)
			if err != nil {
				return nil, err
			}
			return rows(all, len(all), s.aggregate), nil
		})
	call(s, a, op("GET", "/aggregates/{name}", "show-aggregate", "One aggregate"),
		func(ctx context.Context, in *named) (*body[api.Aggregate], error) {
			x, err := g.Exchange.Aggregate(ctx, in.Name)
			return &body[api.Aggregate]{s.aggregate(x)}, err
		})
	call(s, a, op("PATCH", "/aggregates/{name}/settings", "change-aggregate",
		"Change settings of an aggregate; those that are absent stay"),
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"200" doc:"Short name"`
			Body api.AggregateChange
		}) (*struct{}, error) {
			return nil, g.Exchange.ChangeAggregate(ctx, by(ctx), in.Name, in.Body.Revision,
				editions.Edit(in.Body.Settings))
		})
	call(s, a, op("DELETE", "/aggregates/{name}", "remove-aggregate",
		"Remove an aggregate; records taken from it stay"), func(ctx context.Context, in *named) (*struct{}, error) {
		return nil, g.Exchange.RemoveAggregate(ctx, by(ctx), in.Name)
	})
	s.editionCalls(a)
	s.entityCalls(a)
}

// editionCalls registers the taking in of editions.
func (s *server) editionCalls(a huma.API) {
	g := s.gate
	call(s, a, starts("/aggregates", "add-aggregate",
		"Take an aggregate in from its address; a job tells how far it is"),
		func(ctx context.Context, in *struct{ Body api.NewAggregate }) (*body[api.Job], error) {
			return s.begun(g.Exchange.AddAggregate(ctx, by(ctx), in.Body.Name, editions.Settings(in.Body.AggregateSettings),
				nil))
		})
	call(s, a, starts("/aggregates/upload", "upload-aggregate", "Take an aggregate in from a document"),
		func(ctx context.Context, in *upload) (*body[api.Job], error) {
			var n api.NewAggregate
			document, err := in.parts(&n)
			if err != nil {
				return nil, err
			}
			return s.begun(g.Exchange.AddAggregate(ctx, by(ctx), n.Name, editions.Settings(n.AggregateSettings), document))
		})
	call(s, a, starts("/aggregates/{name}/upload", "upload-edition",
		"Take the next edition of an aggregate in from a document"), func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"200" doc:"Short name"`
		upload
	}) (*body[api.Job], error) {
		document, err := in.parts(&struct{}{})
		if err != nil {
			return nil, err
		}
		return s.begun(g.Exchange.UploadAggregate(ctx, by(ctx), in.Name, document))
	})
	describeUpload(a, "/aggregates/upload")
	describeUpload(a, "/aggregates/{name}/upload")
	call(s, a, starts("/aggregates/{name}/refresh", "refresh-aggregate", "Fetch an aggregate anew"),
		func(ctx context.Context, in *named) (*body[api.Job], error) {
			return s.begun(g.Exchange.RefreshAggregate(ctx, by(ctx), in.Name))
		})
}

// entityCalls registers the entities of aggregates.
func (s *server) entityCalls(a huma.API) {
	g := s.gate
	call(s, a, op("GET", "/aggregates/{name}/entities", "list-entities", "Entities of an aggregate"),
		func(ctx context.Context, in *struct {
			Name   string `path:"name" maxLength:"200" doc:"Short name"`
			Search string `query:"search" maxLength:"200" doc:"Part of an entity ID or title"`
			Role   string `query:"role" enum:"provider,application"`
			State  string `query:"state" enum:"usable,broken"`
			Limit  int    `query:"limit" minimum:"1" maximum:"20000" default:"100"`
			Offset int    `query:"offset" minimum:"0"`
		}) (*body[api.List[api.Entity]], error) {
			all, total, err := g.Exchange.Entities(ctx, in.Name, editions.Filter{Search: in.Search, Role: in.Role,
				State: in.State, Limit: in.Limit, Offset: in.Offset})
			if err != nil {
				return nil, err
			}
			return rows(all, int(total), func(e exchange.Entity) api.Entity { return api.Entity(e) }), nil
		})
	type taking struct {
		Name string `path:"name" maxLength:"200" doc:"Short name"`
		Body api.TakeOver
	}
	call(s, a, looks("/aggregates/{name}/take/preview", "preview-take-over",
		"How many records taking entities over would make, and in which phase"),
		func(ctx context.Context, in *taking) (*body[api.TakePreview], error) {
			t, err := take(in.Body)
			if err != nil {
				return nil, err
			}
			out, err := g.Exchange.PreviewTake(ctx, in.Name, t)
			return &body[api.TakePreview]{api.TakePreview(out)}, err
		})
	call(s, a, starts("/aggregates/{name}/take", "take-over",
		"Make records of entities; a job tells how far it is, and what was refused"),
		func(ctx context.Context, in *taking) (*body[api.Job], error) {
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
