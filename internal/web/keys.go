package web

import (
	"context"

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
		return rows(all, len(all), func(k keyring.Key) api.Key {
			return api.Key{ID: k.ID, Purpose: k.Purpose, State: k.State, Added: k.Added,
				Certificate: s.certificate(k.Certificate, "")}
		}), nil
	}
	type purpose struct {
		Body struct {
			Purpose string `json:"purpose" maxLength:"80" doc:"idp, sp, enc, or app/NAME"`
			Kind    string `json:"kind,omitempty" maxLength:"20" doc:"rsa-2048, rsa-3072, rsa-4096, ec-p256 or ec-p384; of a key to be announced"`
		}
	}
	call(s, a, op("GET", "/keys", "list-keys", "The gate's own keys"),
		func(ctx context.Context, _ *struct{}) (*body[api.List[api.Key]], error) {
			return list(ctx)
		})
	call(s, a, op("POST", "/keys", "announce-key", "Make the next key for a purpose and announce it in metadata"),
		func(ctx context.Context, in *purpose) (*body[api.List[api.Key]], error) {
			if err := g.Rollover.Announce(ctx, by(ctx), in.Body.Purpose, in.Body.Kind); err != nil {
				return nil, err
			}
			return list(ctx)
		})
	call(s, a, op("POST", "/keys/switch", "switch-key", "Make the announced key the current one"),
		func(ctx context.Context, in *purpose) (*body[api.List[api.Key]], error) {
			if err := g.Rollover.Switch(ctx, by(ctx), in.Body.Purpose); err != nil {
				return nil, err
			}
			return list(ctx)
		})
	call(s, a, op("DELETE", "/keys/{id}", "remove-key", "Remove a key that is not the current one"),
		func(ctx context.Context, in *struct {
			ID int64 `path:"id"`
		}) (*struct{}, error) {
			return nil, g.Rollover.Remove(ctx, by(ctx), in.ID)
		})
}
