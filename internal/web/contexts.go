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
	call(s, a, api.ShowContexts,
		func(ctx context.Context, _ *api.None) (*body[api.Contexts], error) {
			return show(), nil
		})
	call(s, a, api.ChangeContexts,
		func(ctx context.Context, in *api.Sent[api.Contexts]) (*body[api.Contexts], error) {
			err := g.Records.ChangeContexts(ctx, by(ctx), in.Body.Revision, in.Body.Ranks)
			return show(), err
		})
}
