package web

import (
	"context"
	"crypto/rsa"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/gate/keyring"
)

// keyCalls registers the roll-over of the gate's own keys.
func (s *server) keyCalls(a huma.API) {
	g := s.gate
	list := func(ctx context.Context) (*body[api.List[api.Key]], error) {
		all, err := g.Rollover.Keys(ctx)
		if err != nil {
			return nil, err
		}
		verifiers := g.Rollover.Verifiers()
		return rows(all, len(all), func(k keyring.Key) api.Key {
			out := api.Key{ID: k.ID, Purpose: k.Purpose, State: k.State, Added: k.Added,
				Certificate: s.certificate(k.Certificate, "")}
			if _, is := k.Certificate.Public.(*rsa.PublicKey); is && k.State == keyring.Current {
				out.Verifiers = verifiers[k.Purpose]
			}
			return out
		}), nil
	}
	call(s, a, api.ListKeys,
		func(ctx context.Context, _ *api.None) (*body[api.List[api.Key]], error) {
			return list(ctx)
		})
	call(s, a, api.AnnounceKey,
		func(ctx context.Context, in *api.Sent[api.KeyChange]) (*body[api.List[api.Key]], error) {
			if err := g.Rollover.Announce(ctx, by(ctx), in.Body.Purpose, in.Body.Kind); err != nil {
				return nil, err
			}
			return list(ctx)
		})
	call(s, a, api.SwitchKey,
		func(ctx context.Context, in *api.Sent[api.KeyChange]) (*body[api.List[api.Key]], error) {
			if err := g.Rollover.Switch(ctx, by(ctx), in.Body.Purpose); err != nil {
				return nil, err
			}
			return list(ctx)
		})
	act(s, a, api.RemoveKey,
		func(ctx context.Context, in *api.Numbered) error {
			return g.Rollover.Remove(ctx, by(ctx), in.ID)
		})
}
