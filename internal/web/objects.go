package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/records"
)

// kindOf is how records of a kind are told on the wire: what adding takes, what a change takes,
// and what is shown of one.
type kindOf[New, Edit, Shown any] struct {
	kind     string
	calls    api.RecordCalls[New, Edit, Shown]
	given    func(*New) api.NewRecord
	settings func(*Edit) api.RecordChange
	list     func(search string, offset, limit int) *body[api.List[api.Row]]
	show     func(ctx context.Context, r federation.Record) (*body[Shown], error)
	sheet    func(federation.Record) federation.Sheet
}

func (s *server) providerCalls(a huma.API) {
	snap := func() *federation.Snapshot { return s.gate.Records.Snapshot() }
	objectCalls(s, a, kindOf[api.NewProvider, api.ProviderChange, api.Provider]{kind: change.KindProvider,
		calls:    api.Providers,
		given:    func(n *api.NewProvider) api.NewRecord { return n.NewRecord },
		settings: func(c *api.ProviderChange) api.RecordChange { return c.RecordChange },
		list: func(search string, offset, limit int) *body[api.List[api.Row]] {
			page, total := snap().FindProviders(search, offset, limit)
			return rows(page, total, s.providerRow)
		},
		show: s.provider,
		sheet: func(r federation.Record) federation.Sheet {
			p := r.(*federation.Provider)
			return p.Side.Sheet(snap(), p)
		}})
}

func (s *server) applicationCalls(a huma.API) {
	snap := func() *federation.Snapshot { return s.gate.Records.Snapshot() }
	objectCalls(s, a, kindOf[api.NewApplication, api.ApplicationChange, api.Application]{kind: change.KindApplication,
		calls: api.Applications, given: func(n *api.NewApplication) api.NewRecord { return n.NewRecord },
		settings: func(c *api.ApplicationChange) api.RecordChange { return c.RecordChange },
		list: func(search string, offset, limit int) *body[api.List[api.Row]] {
			page, total := snap().FindApplications(search, offset, limit)
			return rows(page, total, s.applicationRow)
		},
		show: s.application,
		sheet: func(r federation.Record) federation.Sheet {
			app := r.(*federation.Application)
			return app.Side.Sheet(snap(), app)
		}})
}

// objectCalls registers what is done with records of a kind.
func objectCalls[New, Edit, Shown any](s *server, a huma.API, k kindOf[New, Edit, Shown]) {
	g := s.gate
	fresh := func(n *New) (records.NewRecord, error) {
		in := k.given(n)
		src, err := source(in.Given)
		return records.NewRecord{Kind: federation.Kind(k.kind), Protocol: in.Protocol, Name: in.Name, Source: src,
			Settings: in.Settings, Draft: in.Draft}, err
	}
	call(s, a, k.calls.List,
		func(ctx context.Context, in *api.Listing) (*body[api.List[api.Row]], error) {
			return k.list(in.Search, in.Offset, in.Limit), nil
		})
	call(s, a, k.calls.Add,
		func(ctx context.Context, in *api.Sent[New]) (*body[Shown], error) {
			n, err := fresh(&in.Body)
			if err != nil {
				return nil, err
			}
			r, err := g.Records.Add(ctx, by(ctx), n)
			if err != nil {
				return nil, err
			}
			return k.show(ctx, r)
		})
	call(s, a, k.calls.Preview,
		func(ctx context.Context, in *api.Sent[New]) (*body[api.Preview], error) {
			n, err := fresh(&in.Body)
			if err != nil {
				return nil, err
			}
			p, err := g.Records.Preview(ctx, n)
			return &body[api.Preview]{preview(p)}, err
		})
	call(s, a, k.calls.Show,
		func(ctx context.Context, in *api.Named) (*body[Shown], error) {
			r, err := g.Records.Record(k.kind, in.Name)
			if err != nil {
				return nil, err
			}
			return k.show(ctx, r)
		})
	call(s, a, k.calls.Sheet,
		func(ctx context.Context, in *api.Named) (*body[api.Sheet], error) {
			r, err := g.Records.Record(k.kind, in.Name)
			if err != nil {
				return nil, err
			}
			out := s.sheet(in.Name, k.sheet(r))
			out.Groups = expected(g.Records.Snapshot(), r)
			return &body[api.Sheet]{out}, nil
		})
	call(s, a, k.calls.Change,
		func(ctx context.Context, in *api.SentTo[Edit]) (*body[Shown], error) {
			c := k.settings(&in.Body)
			r, err := g.Records.Configure(ctx, by(ctx), k.kind, in.Name, c.Revision, c.Settings)
			if err != nil {
				return nil, err
			}
			return k.show(ctx, r)
		})
	act(s, a, k.calls.Remove,
		func(ctx context.Context, in *api.Named) error {
			return g.Records.Remove(ctx, by(ctx), federation.Kind(k.kind), in.Name)
		})
	recordCalls(s, a, k)
}

func (s *server) provider(ctx context.Context, r federation.Record) (*body[api.Provider], error) {
	out, err := s.record(ctx, r)
	return &body[api.Provider]{api.Provider{Record: out}}, err
}

func (s *server) application(ctx context.Context, r federation.Record) (*body[api.Application], error) {
	a := r.(*federation.Application)
	shown, err := s.record(ctx, a)
	out := api.Application{Record: shown, Provider: string(a.Provider), Attended: a.Attended(),
		Open:     a.Start(&s.gate.Snapshot().Gate),
		OwnStart: a.OwnStart, ClientSecret: a.Shown}
	if a.Side.Can().Lasting != nil {
		out.ClientID = a.Identity()
	}
	return &body[api.Application]{out}, err
}
