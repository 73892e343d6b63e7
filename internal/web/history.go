package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/gate/records"
)

// historyCalls registers the history.
func (s *server) historyCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ListHistory,
		func(ctx context.Context, in *api.HistoryFilter) (*body[api.List[api.Change]], error) {
			all, total, err := g.Records.History(ctx, records.HistoryFilter(*in))
			if err != nil {
				return nil, err
			}
			return rows(all, int(total), func(c records.Change) api.Change { return api.Change(c) }), nil
		})
	call(s, a, api.ShowChange,
		func(ctx context.Context, in *api.Numbered) (*body[api.Revision], error) {
			r, err := g.Records.Revision(ctx, in.ID)
			return &body[api.Revision]{api.Revision{Change: api.Change(r.Change), Values: r.Values, Differences: r.Differences,
				FromNow: r.FromNow, Later: r.Later}}, err
		})
	call(s, a, api.Restore,
		func(ctx context.Context, in *api.Numbered) (*body[api.TakenEntity], error) {
			kind, name, err := g.Records.Restore(ctx, by(ctx), in.ID)
			return &body[api.TakenEntity]{api.TakenEntity{Kind: kind, Name: name}}, err
		})
	call(s, a, api.Undo,
		func(ctx context.Context, in *api.Numbered) (*body[api.Undone], error) {
			out, err := g.Records.Undo(ctx, by(ctx), in.ID)
			if err != nil {
				return nil, err
			}
			return &body[api.Undone]{api.Undone{Changed: some(out.Changed), Removed: some(out.Removed),
				Change: out.Number}}, nil
		})
	call(s, a, api.ListJobs,
		func(ctx context.Context, _ *api.None) (*body[api.List[api.Job]], error) {
			all := g.Jobs.All()
			return rows(all, len(all), jobShown), nil
		})
	call(s, a, api.ShowJob,
		func(ctx context.Context, in *api.Named) (*body[api.Job], error) {
			j, err := g.Jobs.Job(in.Name)
			return &body[api.Job]{jobShown(j)}, err
		})
}
