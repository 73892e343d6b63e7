package web

import (
	"context"
	"errors"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/bundle"
	"innergate.example/innergate/internal/gate/bundling"
	"innergate.example/innergate/internal/gate/change"
)

// bundleCalls registers what is taken along.
func (s *server) bundleCalls(a huma.API) {
	makes := func(ctx context.Context, in *api.BundleAsk, digest string) (bundle.Bundle, string, error) {
		return s.gate.Bundles.Make(ctx, bundling.Ask{Kind: in.Kind, Name: in.Name, Run: in.Run, Whole: in.Whole,
			Version: s.version, Confirms: digest})
	}
	call(s, a, api.PreviewBundle, func(ctx context.Context, in *api.BundleAsk) (*body[api.BundlePreview], error) {
		b, digest, err := makes(ctx, in, "")
		return &body[api.BundlePreview]{api.BundlePreview{Digest: digest, File: bundling.File(b), Bundle: b}}, err
	})
	download(s, a, api.FetchBundle, func(ctx context.Context, in *api.BundleAsk) (*fileOut, error) {
		if in.Digest == "" {
			return nil, change.Field("digest", errors.New("it is missing; look at the preview, and give its digest"))
		}
		b, digest, err := makes(ctx, in, in.Digest)
		if err != nil {
			return nil, err
		}
		octets, err := bundling.Write(b, digest, s.gate.Now())
		return &fileOut{Type: "application/zip", Disposition: `attachment; filename="` + bundling.File(b) + `"`, Body: octets}, err
	})
}
