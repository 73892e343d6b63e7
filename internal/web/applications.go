package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/records"
)

func (s *server) applicationCalls(a huma.API) {
	g := s.gate
	huma.Register(a, op("GET", "/applications", "list-applications", "Applications by name"),
		func(ctx context.Context, in *listing) (*body[api.List[api.Row]], error) {
			page, total := g.Records.Snapshot().FindApplications(in.Search, in.Offset, in.Limit)
			return rows(page, total, s.applicationRow), nil
		})
	huma.Register(a, op("POST", "/applications", "add-application",
		"Add an application from its metadata, or from typed values"),
		func(ctx context.Context, in *struct{ Body api.NewApplication }) (*body[api.Application], error) {
			n, err := newApplication(in.Body.NewRecord)
			if err != nil {
				return nil, err
			}
			app, err := g.Records.AddApplication(ctx, by(ctx), n)
			if err != nil {
				return nil, s.problem(err)
			}
			return s.application(ctx, app)
		})
	huma.Register(a, looks("/applications/preview", "preview-application",
		"What adding an application would set; for a name that is there, what would change"),
		func(ctx context.Context, in *struct{ Body api.NewApplication }) (*body[api.Preview], error) {
			n, err := newApplication(in.Body.NewRecord)
			if err != nil {
				return nil, err
			}
			p, err := g.Records.PreviewApplication(ctx, n)
			return &body[api.Preview]{preview(p)}, s.problem(err)
		})
	huma.Register(a, op("GET", "/applications/{name}", "show-application", "One application"),
		func(ctx context.Context, in *named) (*body[api.Application], error) {
			app, err := g.Records.Application(in.Name)
			if err != nil {
				return nil, s.problem(err)
			}
			return s.application(ctx, app)
		})
	huma.Register(a, op("GET", "/applications/{name}/exchange", "application-exchange",
		"What the application needs from the gate"), func(ctx context.Context, in *named) (*body[api.Sheet], error) {
		app, err := g.Records.Application(in.Name)
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[api.Sheet]{s.sheet(in.Name, app.Side.Sheet(g.Records.Snapshot(), app))}, nil
	})
	huma.Register(a, op("PATCH", "/applications/{name}/settings", "change-application",
		"Change settings of an application, one or several; those that are absent stay"),
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"200" doc:"Short name"`
			Body api.ApplicationChange
		}) (*body[api.Application], error) {
			app, err := g.Records.Configure(ctx, by(ctx), change.KindApplication, in.Name, in.Body.Revision, in.Body.Settings)
			if err != nil {
				return nil, s.problem(err)
			}
			return s.application(ctx, app.(*federation.Application))
		})
	huma.Register(a, op("DELETE", "/applications/{name}", "remove-application", "Remove an application"),
		func(ctx context.Context, in *named) (*struct{}, error) {
			return nil, s.problem(g.Records.RemoveApplication(ctx, by(ctx), in.Name))
		})
}

func newApplication(n api.NewRecord) (records.NewApplication, error) {
	src, err := source(n.Given)
	return records.NewApplication{Protocol: n.Protocol, Name: n.Name, Source: src, Settings: n.Settings, Draft: n.Draft},
		err
}

func (s *server) application(ctx context.Context, a *federation.Application) (*body[api.Application], error) {
	r, err := s.record(ctx, a)
	out := api.Application{Record: r, Provider: string(a.Provider), Attended: a.Attended(), Open: a.Start(&s.gate.Snapshot().Gate),
		OwnStart: a.OwnStart, ClientSecret: a.Shown}
	if _, client := a.Side.(federation.Lasting); client {
		out.ClientID = a.Identity()
	}
	return &body[api.Application]{out}, err
}
