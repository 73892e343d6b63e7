package web

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
)

// body wraps what an operation returns.
type body[T any] struct{ Body T }

// rows shows a page of a list.
func rows[T, U any](page []T, total int, show func(T) U) *body[api.List[U]] {
	out := &body[api.List[U]]{api.List[U]{Items: []U{}, Total: int64(total)}}
	for _, x := range page {
		out.Body.Items = append(out.Body.Items, show(x))
	}
	return out
}

// describe is an operation as huma has it.
func describe(c api.Call) huma.Operation {
	o := huma.Operation{Method: c.Method, Path: "/api/v1" + c.Path, OperationID: c.ID, Summary: c.Summary,
		DefaultStatus: c.Status,
		Security:      []map[string][]string{{"token": {}}, {"console": {}}}}
	if c.Public {
		o.Security = nil
	}
	if c.Large {
		o.MaxBodyBytes = maxBody
	}
	if c.Method == http.MethodGet {
		return o
	}
	o.Parameters = []*huma.Param{{Name: "Innergate-Console", In: "header",
		Description: "1, if the call is made by a console session; calls with a token need it not",
		Schema:      &huma.Schema{Type: "string", Enum: []any{"1"}}}}
	if limit := maxRemark; !c.Looks {
		o.Parameters = append(o.Parameters, &huma.Param{Name: "remark", In: "query",
			Description: "Why: kept with the change in the history",
			Schema:      &huma.Schema{Type: "string", MaxLength: &limit}}, &huma.Param{Name: "confirm", In: "query",
			Description: "Digest of a consequence that was looked at, as the finding names-change gives it",
			Schema:      &huma.Schema{Type: "string"}})
	}
	return o
}

// register has the API answer a call; an error of the gate becomes a problem that names the field, the
// cause and the way out.
func register[In, Out any](s *server, a huma.API, c api.Call, do func(context.Context, *In) (*Out, error)) {
	huma.Register(a, describe(c), func(ctx context.Context, in *In) (*Out, error) {
		out, err := do(ctx, in)
		if err != nil {
			return nil, s.problem(err)
		}
		return out, nil
	})
}

// call registers an operation.
func call[In, Out any](s *server, a huma.API, o api.Operation[In, Out], do func(context.Context, *In) (*body[Out],
	error)) {
	register(s, a, o.Call, do)
}

// act registers an operation that answers nothing.
func act[In any](s *server, a huma.API, o api.Operation[In, api.None], do func(context.Context, *In) error) {
	register(s, a, o.Call, func(ctx context.Context, in *In) (*struct{}, error) { return nil, do(ctx, in) })
}

// download registers an operation that answers with a file.
func download[In any](s *server, a huma.API, o api.Operation[In, []byte], do func(context.Context, *In) (*fileOut,
	error)) {
	register(s, a, o.Call, do)
}

// taking registers an operation that takes a document too large to be held.
func taking[In any](s *server, a huma.API, o api.Operation[In, api.Job],
	do func(ctx context.Context, name string, in *upload) (*body[api.Job], error)) {
	if strings.Contains(o.Path, "{name}") {
		register(s, a, o.Call, func(ctx context.Context, in *struct {
			api.Named
			upload
		}) (*body[api.Job], error) {
			return do(ctx, in.Name, &in.upload)
		})
	} else {
		register(s, a, o.Call, func(ctx context.Context, in *upload) (*body[api.Job], error) { return do(ctx, "", in) })
	}
	describeUpload(a, o.Path)
}

// calls registers all operations of the API.
func (s *server) calls(a huma.API) {
	g := s.gate
	call(s, a, api.ShowGate,
		func(ctx context.Context, _ *api.None) (*body[api.About], error) {
			snap := g.Records.Snapshot()
			return &body[api.About]{api.About{Base: g.Base(), Version: s.version, Own: g.Records.About(),
				Protocols: map[string][]string{"provider": g.Records.Protocols(change.KindProvider),
					"application": g.Records.Protocols(change.KindApplication)},
				Providers: len(snap.Providers()), Apps: len(snap.Applications())}}, nil
		})
	call(s, a, api.ListFindings,
		func(ctx context.Context, _ *api.None) (*body[[]finding.Entry], error) {
			return &body[[]finding.Entry]{finding.Catalogue()}, nil
		})
	s.providerCalls(a)
	s.applicationCalls(a)
	s.manyCalls(a)
	s.connectionCalls(a)
	s.checkCalls(a)
	s.historyCalls(a)
	s.aggregateCalls(a)
	s.ownerCalls(a)
	s.keyCalls(a)
	s.contextCalls(a)
	s.kindCalls(a)
	s.setCalls(a)
	s.peopleCalls(a)
	s.unitCalls(a)
	s.comparisonCalls(a)
	s.clientCalls(a)
	s.linkCalls(a)
	s.traceCalls(a)
	s.accessCalls(a)
	s.mappingCalls(a)
	s.tokenCalls(a)
}
