package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
)

// contextCalls registers the ranking of authentication contexts.
func (s *server) contextCalls(a huma.API) {
	g := s.gate
	show := func() *body[api.Contexts] {
		ranks, revision := g.Records.Contexts()
		return &body[api.Contexts]{api.Contexts{Revision: revision, Ranks: ranks}}
	}
	call(s, a, op("GET", "/contexts", "show-contexts", "How authentication contexts rank, the weakest first"),
		func(ctx context.Context, _ *struct{}) (*body[api.Contexts], error) {
			return show(), nil
		})
	call(s, a, op("PUT", "/contexts", "change-contexts", "Replace the ranking of authentication contexts"),
		func(ctx context.Context, in *struct{ Body api.Contexts }) (*body[api.Contexts], error) {
			err := g.Records.ChangeContexts(ctx, by(ctx), in.Body.Revision, in.Body.Ranks)
			return show(), err
		})
}
