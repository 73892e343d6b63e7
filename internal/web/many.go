package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/gate/records"
)

// manyCalls registers changes of many records at once.
func (s *server) manyCalls(a huma.API) {
	g := s.gate
	call(s, a, api.PreviewChanges,
		func(ctx context.Context, in *api.Sent[api.Many]) (*body[api.ManyPreview], error) {
			out, err := g.Records.PreviewMany(ctx, records.Many(in.Body))
			if err != nil {
				return nil, err
			}
			return &body[api.ManyPreview]{manyShown(out, 0)}, nil
		})
	call(s, a, api.ChangeMany,
		func(ctx context.Context, in *api.Sent[api.Many]) (*body[api.ManyPreview], error) {
			out, number, err := g.Records.ChangeMany(ctx, by(ctx), records.Many(in.Body))
			if err != nil {
				return nil, err
			}
			return &body[api.ManyPreview]{manyShown(out, number)}, nil
		})
}

func manyShown(p records.ManyPreview, number int64) api.ManyPreview {
	out := api.ManyPreview{Matched: p.Matched, Unchanged: p.Unchanged, Changes: []api.ManyChange{},
		Refused: []api.ManyRefusal{}, Digest: p.Digest, Change: number, Consequence: consequence(p.Consequence)}
	for _, c := range p.Changes {
		out.Changes = append(out.Changes, api.ManyChange(c))
	}
	for _, r := range p.Refused {
		out.Refused = append(out.Refused, api.ManyRefusal(r))
	}
	return out
}
