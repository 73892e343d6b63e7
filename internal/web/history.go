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
	type numbered struct {
		ID int64 `path:"id" doc:"Number of the change"`
	}
	call(s, a, op("GET", "/history", "list-history", "Changes, the newest first"),
		func(ctx context.Context, in *struct {
			Kind   string `query:"kind" maxLength:"20" doc:"provider, application, aggregate, key, token or owner"`
			Name   string `query:"name" maxLength:"200"`
			Search string `query:"search" maxLength:"200" doc:"Part of a name, of who, what or why"`
			Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
			Before int64  `query:"before" minimum:"0" doc:"Only changes with a lower number; for the next page"`
		}) (*body[api.List[api.Change]], error) {
			all, total, err := g.Records.History(ctx, records.HistoryFilter(*in))
			if err != nil {
				return nil, err
			}
			return rows(all, int(total), func(c records.Change) api.Change { return api.Change(c) }), nil
		})
	call(s, a, op("GET", "/history/{id}", "show-change", "One change: before and after"),
		func(ctx context.Context, in *numbered) (*body[api.Revision], error) {
			r, err := g.Records.Revision(ctx, in.ID)
			return &body[api.Revision]{api.Revision{Change: api.Change(r.Change), Values: r.Values, Differences: r.Differences,
				FromNow: r.FromNow, Later: r.Later}}, err
		})
	call(s, a, does("/history/{id}/restore", "restore", "Set a record back to what it was after this change"),
		func(ctx context.Context, in *numbered) (*body[api.TakenEntity], error) {
			kind, name, err := g.Records.Restore(ctx, by(ctx), in.ID)
			return &body[api.TakenEntity]{api.TakenEntity{Kind: kind, Name: name}}, err
		})
	call(s, a, does("/history/{id}/undo", "undo",
		"Take a change back: the record becomes what it was before; with it all changes that were made together"),
		func(ctx context.Context, in *numbered) (*body[api.Undone], error) {
			out, err := g.Records.Undo(ctx, by(ctx), in.ID)
			if err != nil {
				return nil, err
			}
			return &body[api.Undone]{api.Undone{Changed: some(out.Changed), Removed: some(out.Removed),
				Change: out.Number}}, nil
		})
	call(s, a, op("GET", "/jobs", "list-jobs", "Work in progress, and what ended within the hour"),
		func(ctx context.Context, _ *struct{}) (*body[api.List[api.Job]], error) {
			all := g.Jobs.All()
			return rows(all, len(all), jobShown), nil
		})
	call(s, a, op("GET", "/jobs/{name}", "show-job", "How far a job is, and how it ended"),
		func(ctx context.Context, in *named) (*body[api.Job], error) {
			j, err := g.Jobs.Job(in.Name)
			return &body[api.Job]{jobShown(j)}, err
		})
}
